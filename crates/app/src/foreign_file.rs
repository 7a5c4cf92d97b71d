//! Reading the files of a project, which somebody else may have put there.

use std::fs;
use std::io::{self, Read};
use std::path::Path;
use std::rc::Rc;

use vshelf_core::file_trust::{Distrust, Ownership};
use vshelf_files::action::FileAction;
use vshelf_files::{atomic, system};

use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
pub use crate::snapshot::ForeignFile;

/// The first `limit` bytes of a file if it counts: because of who owns it, or because it is in one of the person's
/// `trusted-folders`. A command reads each file once.
pub fn read(environment: &Environment, path: &Path, limit: usize) -> Result<ForeignFile, Error> {
    if let Some(known) = environment.snapshots().file(path, limit) {
        return Ok(known);
    }
    let file = read_now(environment, path, limit)?;
    environment.snapshots().keep_file(path, limit, &file);
    Ok(file)
}

/// Writes a file of a project, as others can read it.
pub fn write(environment: &Environment, path: &Path, text: &str) -> Done {
    environment.snapshots().forget_files();
    atomic::write_shared(path, text.as_bytes()).map_err(file_error(path, FileAction::Write))
}

/// Removes a file of a project.
pub fn remove(environment: &Environment, path: &Path) -> Done {
    environment.snapshots().forget_files();
    fs::remove_file(path).map_err(file_error(path, FileAction::Remove))
}

fn read_now(environment: &Environment, path: &Path, limit: usize) -> Result<ForeignFile, Error> {
    let failed = |error| file_error(path, FileAction::Read)(error);
    let opened = match system::open_foreign(path, false) {
        Ok(None) if !is_in_trusted_folder(environment, path)? => {
            return Ok(ForeignFile::Distrusted(Distrust::Symlink));
        }
        Ok(None) => system::open_foreign(path, true),
        opened => opened,
    };
    let file = match opened {
        Ok(Some(file)) => file,
        Ok(None) => return Ok(ForeignFile::Missing),
        Err(error) => {
            return match error.kind() {
                io::ErrorKind::NotFound | io::ErrorKind::NotADirectory => Ok(ForeignFile::Missing),
                _ => Err(failed(error)),
            };
        }
    };
    if !file.metadata().map_err(failed)?.is_file() {
        return Ok(ForeignFile::Missing);
    }
    let folder = path.parent().unwrap_or(path);
    let (owner, folder, folder_mode) = system::owners(&file, folder).map_err(failed)?;
    let ownership = Ownership {
        file: owner,
        folder,
        folder_mode,
    };
    if let Some(distrust) = ownership.distrust(system::user_id())
        && !is_in_trusted_folder(environment, path)?
    {
        return Ok(ForeignFile::Distrusted(distrust));
    }
    let mut contents = Vec::new();
    file.take(limit as u64)
        .read_to_end(&mut contents)
        .map_err(failed)?;
    Ok(ForeignFile::Contents(Rc::new(contents.into())))
}

fn is_in_trusted_folder(environment: &Environment, path: &Path) -> Result<bool, Error> {
    let mut folders = environment.settings()?.trusted_folders.iter();
    Ok(folders.any(|folder| path.starts_with(folder)))
}
