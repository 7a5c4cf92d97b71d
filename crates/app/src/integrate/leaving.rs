//! What is left of the program where a shell is no longer connected.

use std::path::PathBuf;

use vshelf_files::tree::bytes_in;
use vshelf_shell::Dialect;
use vshelf_shell::start_up::{self, Opened};

use super::desktop;
use super::login::connected_files;
use super::start_up_files::{read_or_empty, start_up_file};
use crate::environment::Environment;
use crate::error::{Error, file_error};
use vshelf_files::action::FileAction;

/// What is left.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Remains {
    /// Shells that are connected still, and the start-up file of each.
    pub connected: Vec<(Dialect, PathBuf)>,
    /// The file that gives the default to programs of the desktop still.
    pub desktop: Option<PathBuf>,
    /// The folders that are there: what is kept in each, and its bytes.
    pub folders: Vec<(PathBuf, Kept, u64)>,
}

/// What is kept in a folder.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kept {
    /// Installs, and all that is known of them.
    Installs,
    /// Catalogs and archives, which can be fetched again.
    Catalogs,
    /// Settings, and definitions of the person's own.
    Settings,
}

/// What is left of the program on this machine.
pub fn remains(environment: &Environment) -> Result<Remains, Error> {
    let mut connected = Vec::new();
    for dialect in Dialect::ALL {
        let file = start_up_file(environment, dialect)?;
        // One that cannot be read says nothing of a connection.
        let text = read_or_empty(&file).unwrap_or_default();
        if start_up::without_block(&text, Opened::Usually).is_some() {
            connected.push((dialect, file));
        } else if let Some((file, _)) = connected_files(environment, dialect)?.pop() {
            connected.push((dialect, file));
        }
    }
    let folders = environment.folders()?;
    let all = [
        (&folders.data, Kept::Installs),
        (&folders.cache, Kept::Catalogs),
        (&folders.config, Kept::Settings),
    ];
    let mut left = Vec::new();
    for (folder, kept) in all {
        if folder.exists() {
            let bytes = bytes_in(folder).map_err(file_error(folder, FileAction::Read))?;
            left.push((folder.clone(), kept, bytes));
        }
    }
    let desktop = desktop::file(environment)?;
    Ok(Remains {
        connected,
        desktop: desktop.exists().then_some(desktop),
        folders: left,
    })
}
