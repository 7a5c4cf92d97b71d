//! The project here: the nearest folder whose files say what it wants.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};

use vshelf_core::definition::PinFile;
use vshelf_core::pin::{self, Wish};
use vshelf_shelf::journal;
use vshelf_view::words::printable;

use crate::context::Context;
use crate::failure::file_failure;
use crate::failure::{Failure, Kind, shown};
use crate::runtime::Runtime;

/// A wish and the file that says it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FoundWish {
    /// The file.
    pub file: PathBuf,
    /// The wish.
    pub wish: Wish,
}

/// The pin files of a runtime that there are from this folder upward, nearest first.
pub fn pin_files(runtime: &Runtime<'_>) -> Vec<(PathBuf, PinFile)> {
    let Ok(here) = std::env::current_dir() else {
        // A folder that is gone belongs to no project.
        return Vec::new();
    };
    let files = pin::files(runtime.name(), &runtime.definition.pins);
    let mut found = Vec::new();
    for folder in here.ancestors() {
        for file in &files {
            let path = folder.join(&file.file);
            // A pipe or device by that name would make the command wait for ever.
            if path.metadata().is_ok_and(|found| found.is_file()) {
                found.push((path, file.clone()));
            }
        }
    }
    found
}

/// What a pin file wants of a runtime.
pub fn read_wish(
    runtime: &Runtime<'_>,
    path: &Path,
    file: &PinFile,
) -> Result<Option<Wish>, Failure> {
    let Some(contents) = read_start(path, pin::limit(file))? else {
        return Ok(None);
    };
    pin::read(runtime.name(), file, &contents).map_err(|error| {
        Failure::new(
            Kind::NoMatch,
            format!("{}, line {}: {}", shown(path), error.line, error.problem),
        )
        .run("To write it anew", "vshelf pin SELECTOR")
    })
}

/// The wish of the project here: that of the nearest folder, from this one upward, in which a file
/// says one.
pub fn find_wish(runtime: &Runtime<'_>) -> Result<Option<FoundWish>, Failure> {
    for (path, file) in pin_files(runtime) {
        if let Some(wish) = read_wish(runtime, &path, &file)? {
            return Ok(Some(FoundWish { file: path, wish }));
        }
    }
    Ok(None)
}

/// Notes that a project's pin file was seen on this machine: it keeps what it asks for.
pub fn note(context: &Context, file: &Path) {
    // Where that cannot be noted, a clean-up only knows less of who wants what.
    if let Ok(folders) = context.folders() {
        journal::note_project(folders, file).unwrap_or_default();
    }
}

/// The wish of the project here, or a failure that says how to make one.
pub fn need_wish(runtime: &Runtime<'_>) -> Result<FoundWish, Failure> {
    find_wish(runtime)?.ok_or_else(|| {
        let names: Vec<String> = pin::files(runtime.name(), &runtime.definition.pins)
            .into_iter()
            .map(|f| f.file)
            .collect();
        Failure::new(
            Kind::Usage,
            "no selector is given, and no project here wants a version",
        )
        .say(format!(
            "Looked for {} from this folder upward.",
            names.join(", ")
        ))
        .run("To write the project's wish", "vshelf pin SELECTOR")
    })
}

/// The name of the project that a pin file belongs to: that of its folder.
pub fn name(file: &Path) -> String {
    let folder = file.parent().and_then(Path::file_name);
    folder.map_or("the project here".to_owned(), |name| {
        printable(&name.to_string_lossy())
    })
}

/// The plain file that `vshelf pin` writes.
pub fn plain_file(files: &[PinFile]) -> Option<&PinFile> {
    files.iter().find(|file| file.value.is_none())
}

/// The first `limit` bytes of a file; nothing where it went away or is none of ours to read.
fn read_start(path: &Path, limit: usize) -> Result<Option<Vec<u8>>, Failure> {
    let mut contents = Vec::new();
    let read = File::open(path).and_then(|file| file.take(limit as u64).read_to_end(&mut contents));
    match read {
        Ok(_) => Ok(Some(contents)),
        Err(error) => match error.kind() {
            io::ErrorKind::NotFound
            | io::ErrorKind::NotADirectory
            | io::ErrorKind::PermissionDenied => Ok(None),
            _ => Err(file_failure(path, "read", error)),
        },
    }
}
