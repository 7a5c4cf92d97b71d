//! What the project here wants, for a shell that follows it.
//!
//! The hook walks upward with builtins alone. A stamp for each pin file says what it came to, and has
//! the pin file's own time, so that a shell sees without starting anything whether it changed.

use std::collections::BTreeMap;
use std::ffi::OsStr;
use std::fs::{self, File};
use std::io;
use std::os::unix::ffi::OsStrExt;
use std::path::{Path, PathBuf};

use vshelf_core::Selector;
use vshelf_core::pin;
use vshelf_shelf::{Shelf, atomic};
use vshelf_shell::hook::Following;
use vshelf_shell::quote;

use crate::context::Context;
use crate::failure::{Failure, file_failure};
use crate::project;
use crate::runtime::Runtime;
use crate::ui::Ui;

/// What the project here came to.
#[derive(Debug, Default)]
pub struct Followed {
    /// The key, `system`, or `?` where nothing meets the wish, by runtime.
    pub keys: BTreeMap<String, String>,
    /// What a person should know, a line each.
    pub notices: Vec<String>,
}

/// What one pin file came to.
#[derive(Default)]
struct Stamp {
    words: Vec<String>,
    /// Whether it has to be asked for again when its folder is entered.
    again: bool,
}

/// The folder of stamps.
pub fn stamps(context: &Context) -> Result<PathBuf, Failure> {
    Ok(context.folders()?.cache.join("pins"))
}

/// Throws all stamps away, after something that wishes depend on was changed.
pub fn forget(context: &Context) -> Result<(), Failure> {
    let folder = stamps(context)?;
    match fs::remove_dir_all(&folder) {
        Err(error) if error.kind() != io::ErrorKind::NotFound => {
            Err(file_failure(&folder, "removed", error))
        }
        _ => Ok(()),
    }
}

/// The runtimes that shells enter: those on the shelf, and the main one.
pub fn entered_runtimes(context: &Context) -> Result<Vec<String>, Failure> {
    let mut names = Shelf::runtimes(context.folders()?)?;
    names.extend(context.settings()?.main_runtime.clone());
    names.sort();
    names.dedup();
    Ok(names)
}

/// Reads every pin file from this folder upward, and leaves a stamp for each. Where the settings say
/// so, the person is asked before a wish is followed; the stamp keeps the answer.
pub fn look(ui: &Ui, context: &Context) -> Result<Followed, Failure> {
    let asks = context.settings()?.following == Following::Ask;
    let mut followed = Followed::default();
    let mut found: BTreeMap<PathBuf, Stamp> = BTreeMap::new();
    for name in entered_runtimes(context)? {
        let runtime = context.runtime(Some(&name))?;
        for (path, file) in project::pin_files(&runtime) {
            let stamp = found.entry(path.clone()).or_default();
            let wish = match project::read_wish(&runtime, &path, &file) {
                Ok(wish) => wish,
                Err(failure) => {
                    stamp.again = true;
                    followed
                        .notices
                        .push(format!("vshelf: {}", failure.message));
                    continue;
                }
            };
            let Some(wish) = wish else {
                continue;
            };
            project::note(context, &path);
            let key = runtime.key_meeting(&wish.request);
            // What a range or version stands for changes with the shelf alone; a word may mean
            // another version tomorrow.
            let lasting = matches!(
                wish.request.selector,
                Selector::Version(_) | Selector::Range(_)
            );
            stamp.again |= key.is_none() || !lasting;
            if let Some(key) = key
                .as_deref()
                .filter(|_| asks && !followed.keys.contains_key(&name))
            {
                let agreed = ui.can_ask() && ui.ask(&question(&runtime, &path, key))?;
                // An answer holds until the file or the shelf changes.
                stamp.again = !ui.can_ask();
                if !agreed {
                    continue;
                }
            }
            let word = key.unwrap_or_else(|| "?".to_owned());
            stamp.words.push(format!("{name}={word}"));
            // The nearest file decides.
            if !followed.keys.contains_key(&name) {
                match word.as_str() {
                    "?" => followed.notices.push(unmet(&runtime, &path, &wish)?),
                    key => runtime.note_use(key),
                }
                followed.keys.insert(name.clone(), word);
            }
        }
    }
    let folder = stamps(context)?;
    for (path, stamp) in &found {
        // Without a stamp the shell only asks more often.
        write_stamp(&folder, path, stamp).unwrap_or_default();
    }
    Ok(followed)
}

fn question(runtime: &Runtime<'_>, path: &Path, key: &str) -> String {
    let title = &runtime.definition.title;
    format!("{} wants {title} {key}. Use it here?", project::name(path))
}

fn unmet(runtime: &Runtime<'_>, path: &Path, wish: &pin::Wish) -> Result<String, Failure> {
    let prefix = runtime.context().prefix(runtime.name())?;
    let selector = format!("{prefix}{}", wish.request);
    let selector = quote::posix_where_needed(&selector, "@./-");
    Ok(format!(
        "vshelf: {} wants {} {}, which is not on the shelf; to get it: vshelf install {selector}",
        project::name(path),
        runtime.definition.title,
        wish.request,
    ))
}

/// One line: what the pin file came to. The stamp's name is the file's whole path, `/` and `%` told
/// apart from what stands for them.
fn write_stamp(folder: &Path, pin: &Path, stamp: &Stamp) -> io::Result<()> {
    let modified = fs::metadata(pin)?.modified()?;
    let again = if stamp.again { "again " } else { "" };
    let mut name = Vec::new();
    for byte in pin.as_os_str().as_bytes() {
        match byte {
            b'/' => name.extend(b"%s"),
            b'%' => name.extend(b"%p"),
            byte => name.push(*byte),
        }
    }
    let path = folder.join(OsStr::from_bytes(&name));
    let line = format!("{again}{}\n", stamp.words.join(" "));
    atomic::write_quickly(&path, line.as_bytes())?;
    File::options()
        .write(true)
        .open(&path)?
        .set_modified(modified)
}
