//! Files and folders that need not exist: a missing one is an answer, every other failure an error.

use std::ffi::OsString;
use std::fs::{self, DirEntry};
use std::io::{self, Read};
use std::path::Path;

use crate::system;
use crate::tree::remove_tree;

/// The value of `result`, or nothing where what it is about does not exist.
fn existing<T>(result: io::Result<T>) -> io::Result<Option<T>> {
    match result {
        Ok(value) => Ok(Some(value)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

/// The entries of a folder in no order; none where there is no folder.
pub fn entries(folder: &Path) -> io::Result<Vec<DirEntry>> {
    match existing(fs::read_dir(folder))? {
        Some(entries) => entries.collect(),
        None => Ok(Vec::new()),
    }
}

/// The names of a folder's entries in order; none where there is no folder. Those that are not
/// UTF-8 are left out.
pub fn names(folder: &Path) -> io::Result<Vec<String>> {
    let names = existing(system::names(folder))?.unwrap_or_default();
    let names = names.into_iter().map(OsString::into_string);
    let mut names: Vec<String> = names.filter_map(Result::ok).collect();
    names.sort();
    Ok(names)
}

/// How much of a file is read at a time: most have less.
const PIECE: usize = 4 << 10;

/// The bytes of a file; nothing where there is none.
pub fn read(file: &Path) -> io::Result<Option<Vec<u8>>> {
    existing(system::read_by(PIECE, file))
}

/// The text of a file; nothing where there is none.
pub fn read_text(file: &Path) -> io::Result<Option<String>> {
    existing(fs::read_to_string(file))
}

/// The text of a file of at most `limit` bytes: `None` if there is no file. A larger one is an error of kind
/// `FileTooLarge` and is not read further: no file that a person writes is that large.
pub fn read_text_within(file: &Path, limit: u64) -> io::Result<Option<String>> {
    let Some(mut opened) = open(file)? else {
        return Ok(None);
    };
    let mut text = String::new();
    opened.by_ref().take(limit).read_to_string(&mut text)?;
    if opened.read(&mut [0])? > 0 {
        let problem = format!("it is larger than {} MB", limit >> 20);
        return Err(io::Error::new(io::ErrorKind::FileTooLarge, problem));
    }
    Ok(Some(text))
}

/// What is known of a file or folder, behind any link; nothing where there is none.
pub fn metadata(path: &Path) -> io::Result<Option<fs::Metadata>> {
    existing(fs::metadata(path))
}

/// An open file; nothing where there is none.
pub fn open(file: &Path) -> io::Result<Option<fs::File>> {
    existing(fs::File::open(file))
}

/// An error where a folder is there and nothing can be written in it.
pub fn check_writable(folder: &Path) -> io::Result<()> {
    match fs::metadata(folder) {
        Ok(found) if !found.is_dir() => return Err(io::ErrorKind::NotADirectory.into()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
        found => found?,
    };
    system::check_writable(folder)
}

/// Removes a file; says whether there was one.
pub fn remove(file: &Path) -> io::Result<bool> {
    Ok(existing(fs::remove_file(file))?.is_some())
}

/// Removes a folder with all it holds; says whether there was one.
pub fn remove_folder(folder: &Path) -> io::Result<bool> {
    let was_there = folder.symlink_metadata().is_ok();
    remove_tree(folder).whole().map(|_| was_there)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_missing_is_nothing_and_what_fails_is_an_error() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("board");
        assert_eq!(read_text(&file).unwrap(), None);
        assert!(names(&file).unwrap().is_empty() && !remove(&file).unwrap());
        fs::write(&file, "8").unwrap();
        assert_eq!(read(&file).unwrap().as_deref(), Some(&b"8"[..]));
        assert_eq!(names(folder.path()).unwrap(), ["board"]);
        assert!(entries(&file).is_err(), "a file is not a folder");
        assert_eq!(read_text_within(&file, 1).unwrap().as_deref(), Some("8"));
        assert!(read_text_within(&file, 0).is_err(), "it is larger");
        assert!(remove(&file).unwrap() && remove_folder(folder.path()).unwrap());
        assert!(!remove_folder(folder.path()).unwrap());
    }
}
