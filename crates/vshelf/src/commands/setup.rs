//! `vshelf setup`: connect the shell, choose the main runtime.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use clap::Args;
use vshelf_shelf::atomic;
use vshelf_shell::{Dialect, start_up};
use vshelf_view::Palette;

use crate::commands::CommandArgs;
use crate::commands::hook::read_shell;
use crate::context::Context;
use crate::failure::file_failure;
use crate::failure::{Failure, Kind, Outcome, shown};
use crate::hooks;
use crate::settings::settings_file;
use crate::ui::{Ui, styled};

/// Connect your shell, and choose the main runtime
///
/// It writes the hook file and one guarded block into your shell's start-up file, and is safe to
/// repeat. The block sources the hook and starts no program.
#[derive(Debug, Args)]
pub struct Setup {
    /// The shell to connect, if it is not the one in SHELL
    #[arg(long, value_name = "SHELL")]
    shell: Option<String>,
    /// The runtime that selectors mean when they name none
    #[arg(long, value_name = "RUNTIME")]
    main: Option<String>,
    /// Take the block out of the start-up file again
    #[arg(long, conflicts_with = "main")]
    undo: bool,
}

impl CommandArgs for Setup {
    const NAME: &'static str = "setup";
    const GROUP: &'static str = "Connect";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        if let Some(main) = &self.main {
            set_main(context, main)?;
            ui.result(format!("Selectors without a runtime mean {main} now."))?;
        }
        let dialect = self.find_shell()?;
        let file = start_up_file(dialect)?;
        let text = read_or_empty(&file)?;
        if self.undo {
            return match start_up::without_block(&text) {
                Some(without) => {
                    write_start_up(&file, &without)?;
                    ui.result(format!(
                        "{} no longer connects {} to the shelf.",
                        shown(&file),
                        dialect.name()
                    ))
                }
                None => ui.result(format!(
                    "{} holds nothing of ours; nothing was changed.",
                    shown(&file)
                )),
            };
        }
        let hook_changed = hooks::write_hook(context, dialect)?;
        let hook = hooks::hook_path(context, dialect)?;
        let with_block = start_up::with_block(&text, dialect, &hook);
        let start_up_changed = with_block != text;
        if start_up_changed {
            if ui.is_terminal() {
                ui.note(format!("These lines go into {}:", shown(&file)));
                for line in start_up::block(dialect, &hook).lines() {
                    ui.note(format!("  {}", styled(Palette::QUIET, line)));
                }
            }
            write_start_up(&file, &with_block)?;
        }
        let name = dialect.name();
        match (start_up_changed, hook_changed) {
            (true, _) => ui.result(format!(
                "New {name} shells are connected: {} sources the hook.",
                shown(&file)
            ))?,
            (false, true) => ui.result(format!(
                "The hook of {name} is renewed; {} was right already.",
                shown(&file)
            ))?,
            (false, false) => {
                ui.result(format!("{name} is connected already; nothing was changed."))?
            }
        }
        // A connected shell of another kind cannot source this hook.
        if context.shell.dialect().is_none() {
            ui.next(
                "To connect this shell too",
                &hooks::source_line(context, dialect)?,
            );
        }
        Ok(())
    }
}

impl Setup {
    fn find_shell(&self) -> Result<Dialect, Failure> {
        match &self.shell {
            Some(name) => read_shell(name),
            None => own_shell(),
        }
    }
}

/// The person's own shell, as SHELL says.
pub fn own_shell() -> Result<Dialect, Failure> {
    let shell = std::env::var("SHELL").unwrap_or_default();
    shell.parse().map_err(|_| {
        Failure::new(
            Kind::Usage,
            format!("SHELL is {shell:?}, which is not a shell that setup knows"),
        )
        .run("To name yours", "vshelf setup --shell bash")
    })
}

/// The start-up file of a shell, through every link.
pub fn start_up_file(dialect: Dialect) -> Result<PathBuf, Failure> {
    let home = std::env::home_dir()
        .ok_or_else(|| Failure::new(Kind::Disk, "HOME is not set, so there is no start-up file"))?;
    let file = start_up::start_up_file(dialect, &home, |name| std::env::var_os(name));
    Ok(resolved(&file))
}

/// The file that a start-up file really is, through every link, so that a link stays one.
fn resolved(file: &Path) -> PathBuf {
    fs::canonicalize(file).unwrap_or_else(|_| file.to_owned())
}

pub fn read_or_empty(file: &Path) -> Result<String, Failure> {
    match fs::read_to_string(file) {
        Ok(text) => Ok(text),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(String::new()),
        Err(error) => Err(file_failure(file, "read", error)),
    }
}

/// Writes a start-up file in one step, with the permissions that it had.
fn write_start_up(file: &Path, text: &str) -> Outcome {
    let permissions = fs::metadata(file).map(|found| found.permissions());
    atomic::write_file(file, text.as_bytes()).map_err(|e| file_failure(file, "written", e))?;
    match permissions {
        Ok(permissions) => fs::set_permissions(file, permissions),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            use std::os::unix::fs::PermissionsExt;
            fs::set_permissions(file, fs::Permissions::from_mode(0o644))
        }
        Err(error) => Err(error),
    }
    .map_err(|e| file_failure(file, "written", e))
}

/// Writes the main runtime into the settings, whose other lines stay as they are.
fn set_main(context: &Context, main: &str) -> Outcome {
    context.definition(main)?;
    context.settings()?;
    let file = settings_file(&context.folders()?.config);
    let text = read_or_empty(&file)?;
    let mut document: toml_edit::DocumentMut = text.parse().map_err(|error| {
        Failure::new(
            Kind::Disk,
            format!("{} is not understood: {error}", shown(&file)),
        )
    })?;
    document["main-runtime"] = toml_edit::value(main);
    atomic::write_file(&file, document.to_string().as_bytes())
        .map_err(|e| file_failure(&file, "written", e))
}
