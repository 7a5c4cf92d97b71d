//! Packing an install as an archive that can be published: the same install gives the same bytes.

use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::Path;

use tar::{Builder, HeaderMode};
use zstd::Encoder;

use crate::manifest::Manifest;

/// How hard is tried to make it small, of 1 to 22: more makes it slower, and hardly smaller.
const LEVEL: i32 = 12;

/// Writes what the manifest lists of `tree` into `file`: a tar archive with zstd, whose entries are in one
/// folder named `root`. What came later into the tree, such as packages, is not in it.
pub fn pack(tree: &Path, manifest: &Manifest, root: &str, file: &File) -> io::Result<()> {
    let mut archive = Builder::new(Encoder::new(BufWriter::new(file), LEVEL)?);
    archive.follow_symlinks(false);
    // Owners and times are those of this machine and of nobody's interest.
    archive.mode(HeaderMode::Deterministic);
    for path in manifest.paths() {
        archive.append_path_with_name(tree.join(path), Path::new(root).join(path))?;
    }
    archive.into_inner()?.finish()?.flush()
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::{PermissionsExt, symlink};

    use vshelf_core::definition::ArchiveLayout;

    use crate::unpack::{Bounds, unpack_file};

    #[test]
    fn what_is_packed_unpacks_as_it_was_and_packs_to_the_same_bytes() {
        let place = tempfile::tempdir().unwrap();
        let tree = place.path().join("tree");
        fs::create_dir_all(tree.join("bin")).unwrap();
        fs::write(tree.join("bin/orache"), "#!/bin/sh\n").unwrap();
        fs::set_permissions(tree.join("bin/orache"), fs::Permissions::from_mode(0o755)).unwrap();
        symlink("orache", tree.join("bin/send")).unwrap();
        fs::write(tree.join("README"), "Orache\n").unwrap();
        let manifest = Manifest::of(&tree).unwrap();
        fs::write(tree.join("package"), "it came later").unwrap();
        let packed = |tree: &Path, name: &str| {
            let path = place.path().join(name);
            pack(tree, &manifest, "orache", &File::create(&path).unwrap()).unwrap();
            path
        };
        let archive = packed(&tree, "one");
        let other = place.path().join("other");
        fs::create_dir(&other).unwrap();
        let layout = ArchiveLayout::below(1);
        let mut file = File::open(&archive).unwrap();
        let unpacked = unpack_file(&mut file, &layout, &other, Bounds::default()).unwrap();
        assert_eq!(unpacked.compare(&tree).unwrap(), []);
        assert_eq!(manifest.compare(&other).unwrap(), []);
        assert!(!other.join("package").exists());
        let again = packed(&other, "two");
        assert_eq!(fs::read(archive).unwrap(), fs::read(again).unwrap());
    }
}
