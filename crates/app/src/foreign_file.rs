//! Reading the files of a project, which somebody else may have put there.

use std::io::{self, Read};
use std::path::Path;

use vshelf_core::file_trust::{Distrust, Ownership};
use vshelf_files::system;

use crate::environment::Environment;
use crate::error::{Error, file_error};

/// A file of a project, as far as it counts.
#[derive(Debug)]
pub enum ForeignFile {
    /// There is no file, or not a plain one.
    Missing,
    /// It may be somebody else's, and does not count.
    Distrusted(Distrust),
    /// The first bytes of a file that counts.
    Contents(Vec<u8>),
}

/// Reads the first `limit` bytes of a file if it counts: because of who owns it, or because it is in one
/// of the person's `trusted-folders`.
pub fn read(environment: &Environment, path: &Path, limit: usize) -> Result<ForeignFile, Error> {
    let failed = |error| file_error(path, "read")(error);
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
    Ok(ForeignFile::Contents(contents))
}

fn is_in_trusted_folder(environment: &Environment, path: &Path) -> Result<bool, Error> {
    let mut folders = environment.settings()?.trusted_folders.iter();
    Ok(folders.any(|folder| path.starts_with(folder)))
}
