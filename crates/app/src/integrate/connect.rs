//! Connecting shells: the files that they source, and one guarded block in their start-up files.

use std::fs;
use std::path::{Path, PathBuf};

use vshelf_files::action::FileAction;
use vshelf_shelf::processes::calling_program;
use vshelf_shell::start_up::{self, Connection, Opened};
use vshelf_shell::{Dialect, connection};

use super::files::{functions_path, integration_path, integration_text, source_line};
use super::login::{connect_login, connected_files, is_connected, login_file};
use super::renewal::write_integrations;
use super::start_up_files::{read_or_empty, start_up_file, write_start_up_file};
use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use crate::outcome::{Connected, WayToConnect};

/// Connects a shell; safe to repeat.
pub fn connect(environment: &Environment, dialect: Dialect) -> Result<Connected, Error> {
    let file = start_up_file(environment, dialect)?;
    let text = read_or_empty(&file)?;
    let renewed = write_integrations(environment, Some(dialect))?;
    let integration = integration_path(environment, dialect)?;
    let with_block = start_up::with_block(&text, dialect, Opened::Usually, &integration);
    let changed = with_block != text;
    if changed {
        write_start_up_file(&file, &with_block)?;
    }
    let login = connect_login(environment, dialect, &integration)?;
    // A connected shell of another kind cannot source this integration.
    let open = environment.shell.dialect().is_none();
    let names_completion = text.contains("compinit");
    Ok(Connected {
        dialect,
        completion_line: match dialect {
            Dialect::Zsh if !names_completion => Some("autoload -Uz compinit && compinit"),
            _ => None,
        },
        start_up_file: file,
        new_lines: changed.then(|| start_up::block(dialect, Opened::Usually, &integration)),
        login,
        renewed,
        source_line: open
            .then(|| source_line(environment, dialect))
            .transpose()?,
    })
}

/// Takes the block out of a shell's start-up file; gives back the file, and whether there was one.
pub fn disconnect(environment: &Environment, dialect: Dialect) -> Result<(PathBuf, bool), Error> {
    let file = start_up_file(environment, dialect)?;
    for (login, without) in connected_files(environment, dialect)? {
        if without.is_empty() {
            // It was made for the block, or is empty as before.
            fs::remove_file(&login).map_err(file_error(&login, FileAction::Remove))?;
        } else {
            write_start_up_file(&login, &without)?;
        }
    }
    match start_up::without_block(&read_or_empty(&file)?, Opened::Usually) {
        Some(without) => {
            write_start_up_file(&file, &without)?;
            Ok((file, true))
        }
        None => Ok((file, false)),
    }
}

/// The shell with this name.
pub fn read_shell(name: &str) -> Result<Dialect, Error> {
    Ok(name.parse()?)
}

/// The person's own shell, as SHELL says; where that is not set, as in containers, the shell that
/// called.
pub fn own_shell(environment: &Environment) -> Result<Dialect, Error> {
    let shell = environment.variables().text("SHELL");
    let unknown = || Error::OwnShell {
        shell: shell.to_owned(),
    };
    match shell.is_empty() {
        false => shell.parse().map_err(|_| unknown()),
        true => {
            let caller = calling_program().and_then(|program| program.parse().ok());
            caller.ok_or_else(unknown)
        }
    }
}

/// The start-up file of the person's shell, where something behind our block in it names this folder.
pub fn start_up_file_naming(environment: &Environment, folder: &Path) -> Option<PathBuf> {
    let dialect = own_shell(environment).ok()?;
    let file = start_up_file(environment, dialect).ok()?;
    let text = read_or_empty(&file).ok()?;
    let home = environment.variables().home();
    let below_home = home.and_then(|home| Some(folder.strip_prefix(home).ok()?.to_owned()));
    let behind = start_up::behind_block(&text);
    let names = |path: &Path| behind.contains(&*path.to_string_lossy());
    let is_named = names(folder) || below_home.is_some_and(|path| names(&path));
    is_named.then_some(file)
}

/// Fails where a command cannot change the shell that called it, with the way to connect it.
pub fn require_connection(environment: &Environment) -> Done {
    if environment.shell.can_change() {
        return Ok(());
    }
    Err(Error::NotConnected {
        source_line: line_for_this_shell(environment)?,
    })
}

/// How the calling shell becomes connected.
pub fn way_to_connect(environment: &Environment) -> WayToConnect {
    match line_for_this_shell(environment) {
        Ok(Some(line)) => WayToConnect::Source(line),
        // What is wrong is told by the command that connects.
        Ok(None) | Err(_) => WayToConnect::Connect,
    }
}

/// The line that connects the calling shell where new ones are connected already.
fn line_for_this_shell(environment: &Environment) -> Result<Option<String>, Error> {
    let dialect = own_shell(environment).unwrap_or(Dialect::Bash);
    match integration_path(environment, dialect)?.exists() {
        true => Ok(Some(source_line(environment, dialect)?)),
        false => Ok(None),
    }
}

/// What is wrong with how new shells, or the calling one, are connected.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ConnectionProblem {
    /// The start-up file is not as it should be.
    StartUpFile(PathBuf, Connection),
    /// The integration is gone.
    Gone(PathBuf),
    /// The integration is of another version of this program.
    Outdated(PathBuf),
    /// Login shells read this file, which does not lead to the one of other interactive shells.
    Login(PathBuf),
    /// A new shell of this kind is not connected although its file, this one, has the block or leads to it.
    NotReached(Opened, PathBuf),
    /// This shell was opened before it was connected; the line connects it.
    OpenedBefore(String),
}

/// How the person's own shell is connected; nothing where that is as it should be. What is wrong with
/// the calling shell alone is looked for where `of_calling_shell` says so.
pub fn problem(
    environment: &Environment,
    of_calling_shell: bool,
) -> Result<Option<ConnectionProblem>, Error> {
    let Ok(dialect) = own_shell(environment) else {
        // A shell that cannot be connected is no mistake.
        return Ok(None);
    };
    let file = start_up_file(environment, dialect)?;
    let integration = integration_path(environment, dialect)?;
    let functions = functions_path(environment, dialect)?;
    let state = start_up::connection(
        &read_or_empty(&file)?,
        dialect,
        Opened::Usually,
        &integration,
    );
    if state != Connection::Right {
        return Ok(Some(ConnectionProblem::StartUpFile(file, state)));
    }
    if !integration.exists() || functions.as_deref().is_some_and(|file| !file.exists()) {
        return Ok(Some(ConnectionProblem::Gone(integration)));
    }
    let same_functions = match &functions {
        Some(file) => read_or_empty(file)? == connection::render_functions(dialect),
        None => true,
    };
    let same_text = read_or_empty(&integration)? == integration_text(environment, dialect)?;
    if !(same_functions && same_text) {
        return Ok(Some(ConnectionProblem::Outdated(integration)));
    }
    if let Some(problem) = new_shell_problem(environment, dialect, &file)? {
        return Ok(Some(problem));
    }
    match environment.shell.dialect() {
        None if of_calling_shell => {
            let line = source_line(environment, dialect)?;
            Ok(Some(ConnectionProblem::OpenedBefore(line)))
        }
        _ => Ok(None),
    }
}

/// The problem of new shells whose start-up file is as it should be. Each kind is opened once.
fn new_shell_problem(
    environment: &Environment,
    dialect: Dialect,
    file: &Path,
) -> Result<Option<ConnectionProblem>, Error> {
    let reaches = |opened| is_connected(environment, dialect, opened) != Some(false);
    if !reaches(Opened::Usually) {
        let problem = ConnectionProblem::NotReached(Opened::Usually, file.to_owned());
        return Ok(Some(problem));
    }
    let Some(login) = login_file(environment, dialect)? else {
        return Ok(None);
    };
    let text = read_or_empty(&login)?;
    let has_block = start_up::without_block(&text, Opened::AtLogin).is_some();
    if !(has_block || start_up::mentions_usual_file(&text)) {
        return Ok(Some(ConnectionProblem::Login(login)));
    }
    let problem = ConnectionProblem::NotReached(Opened::AtLogin, login);
    Ok((!reaches(Opened::AtLogin)).then_some(problem))
}
