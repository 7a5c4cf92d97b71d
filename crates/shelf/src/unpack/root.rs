//! The folder of an unpacked archive that becomes the install, found by a file that it contains.

use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};

use super::limits::{MOST_NAMED, UnpackError};
use crate::manifest::Manifest;

/// The only folder that contains `file`, which may end in `.exe`, as a path below the root of the archive.
pub(super) fn find(manifest: &Manifest, file: &str) -> Result<PathBuf, UnpackError> {
    let names = [PathBuf::from(file), PathBuf::from(format!("{file}.exe"))];
    let mut folders: Vec<PathBuf> = Vec::new();
    for path in manifest.paths() {
        let depth = names[0].components().count();
        let is_it = names.iter().any(|name| path.ends_with(name));
        let folder = path.ancestors().nth(depth).filter(|_| is_it);
        folders.extend(folder.map(Path::to_owned));
    }
    match &mut folders[..] {
        [one] => Ok(std::mem::take(one)),
        [] => Err(UnpackError::NoRoot {
            file: file.to_owned(),
            others: (manifest.paths().take(MOST_NAMED))
                .map(|path| path.display().to_string())
                .collect(),
        }),
        several => Err(UnpackError::SeveralRoots {
            file: file.to_owned(),
            folders: several
                .iter()
                .map(|folder| folder.display().to_string())
                .collect(),
        }),
    }
}

/// Makes the folder `root` of the tree at `tree` the whole tree.
pub(super) fn raise(tree: &Path, root: &Path) -> Result<(), UnpackError> {
    if root.as_os_str().is_empty() {
        return Ok(());
    }
    let beside = tree.with_extension("root");
    let failed = |source| UnpackError::Write {
        path: tree.to_owned(),
        source,
    };
    fs::rename(tree.join(root), &beside).map_err(failed)?;
    fs::remove_dir_all(tree).map_err(failed)?;
    fs::rename(&beside, tree).map_err(failed)
}

/// The links below `root`, by their paths from there.
pub(super) fn links_below(
    links: &BTreeMap<PathBuf, PathBuf>,
    root: &Path,
) -> BTreeMap<PathBuf, PathBuf> {
    let below = |(link, target): (&PathBuf, &PathBuf)| {
        let link = link.strip_prefix(root).ok()?;
        Some((link.to_owned(), target.clone()))
    };
    links.iter().filter_map(below).collect()
}
