//! Taking over what is on this machine already: a copy of a folder, or the place of a runtime in an
//! unpacked archive.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use vshelf_core::Definition;
use vshelf_files::system;

use crate::store::program_in;
use crate::unpack::DEEPEST;

/// How far below a folder the runtime's own folder may lie.
const ROOT_DEEPEST: usize = 3;

/// The folder at or below `folder` that holds the runtime's program where its definition says;
/// the highest, and of those the first by name.
pub fn find_root(folder: &Path, definition: &Definition) -> io::Result<Option<PathBuf>> {
    let mut level = vec![folder.to_owned()];
    for _ in 0..=ROOT_DEEPEST {
        if let Some(found) = level.iter().find(|at| program_in(at, definition).is_file()) {
            return Ok(Some(found.clone()));
        }
        let mut below = Vec::new();
        for folder in level {
            for entry in fs::read_dir(folder)? {
                let entry = entry?;
                if entry.file_type()?.is_dir() {
                    below.push(entry.path());
                }
            }
        }
        below.sort();
        level = below;
    }
    Ok(None)
}

/// Copies a folder with all it holds: files with their permissions and times, links as they are.
/// What is neither, such as a socket, is an error of kind `Unsupported`.
/// So is what lies deeper than an archive may hold.
pub fn copy_tree(from: &Path, to: &Path) -> io::Result<()> {
    copy_level(from, to, 0)
}

fn copy_level(from: &Path, to: &Path, level: usize) -> io::Result<()> {
    if level > DEEPEST {
        let text = format!("{} lies more than {DEEPEST} folders deep", from.display());
        return Err(io::Error::new(io::ErrorKind::Unsupported, text));
    }
    fs::create_dir(to)?;
    for entry in fs::read_dir(from)? {
        let entry = entry?;
        let kind = entry.file_type()?;
        let target = to.join(entry.file_name());
        if kind.is_dir() {
            copy_level(&entry.path(), &target, level + 1)?;
        } else if kind.is_symlink() {
            system::symlink(&fs::read_link(entry.path())?, &target)?;
        } else if kind.is_file() {
            fs::copy(entry.path(), &target)?;
            let modified = entry.metadata()?.modified()?;
            fs::File::open(&target)?.set_modified(modified)?;
        } else {
            let path = entry.path();
            let text = format!(
                "{} is neither a file nor a folder nor a link",
                path.display()
            );
            return Err(io::Error::new(io::ErrorKind::Unsupported, text));
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt, symlink};

    #[test]
    fn a_copy_has_permissions_times_and_links_of_its_own() {
        let folder = tempfile::tempdir().unwrap();
        let from = folder.path().join("from");
        fs::create_dir_all(from.join("bin")).unwrap();
        fs::write(from.join("bin/marram"), "#!/bin/sh\n").unwrap();
        fs::set_permissions(from.join("bin/marram"), PermissionsExt::from_mode(0o755)).unwrap();
        symlink("marram", from.join("bin/m")).unwrap();
        let to = folder.path().join("to");
        copy_tree(&from, &to).unwrap();
        let [one, other] = [&from, &to].map(|root| fs::metadata(root.join("bin/marram")).unwrap());
        assert_eq!(one.permissions(), other.permissions());
        assert_eq!(one.modified().unwrap(), other.modified().unwrap());
        assert_eq!(
            fs::read_link(to.join("bin/m")).unwrap(),
            Path::new("marram")
        );
        assert!(copy_tree(&from, &to).is_err(), "nothing is written over");
    }

    #[test]
    fn something_else_than_files_is_named() {
        let folder = tempfile::tempdir().unwrap();
        let from = folder.path().join("from");
        fs::create_dir(&from).unwrap();
        let _socket = std::os::unix::net::UnixListener::bind(from.join("bell")).unwrap();
        let error = copy_tree(&from, &folder.path().join("to")).unwrap_err();
        assert!(
            error.to_string().contains("from/bell is neither"),
            "{error}"
        );
    }

    #[test]
    fn the_runtimes_folder_is_found_below_others() {
        let text = r#"
            name = "marram"
            title = "Marram"
            program = "marram"
            probe = { arguments = [], answer = "{version}" }
            [[sources]]
            name = "s"
            kind = "catalog"
            address = "c.json"
        "#;
        let definition = Definition::read(text).unwrap();
        let folder = tempfile::tempdir().unwrap();
        let root = folder.path();
        assert_eq!(find_root(root, &definition).unwrap(), None);
        let deep = root.join("a/marram-8");
        fs::create_dir_all(deep.join("bin")).unwrap();
        fs::write(deep.join("bin/marram"), "").unwrap();
        assert_eq!(find_root(root, &definition).unwrap(), Some(deep.clone()));
        assert_eq!(find_root(&deep, &definition).unwrap(), Some(deep));
    }
}
