//! What several targets need.

use std::fs::{self, File};

use vshelf_core::definition::ArchiveLayout;
use vshelf_shelf::unpack::{Bounds, unpack_file};

/// Unpacks an archive in a folder between two others, which must stay as they are.
pub fn unpack_in_own_folder(archive: &[u8]) {
    let around = tempfile::tempdir().expect("there is a folder for temporary files");
    let into = around.path().join("into");
    fs::create_dir(&into).expect("it is new");
    let path = around.path().join("archive");
    fs::write(&path, archive).expect("it can be written");
    let bounds = Bounds {
        entries: 1_000,
        bytes: 1 << 20,
    };
    let mut file = File::open(&path).expect("it was written");
    unpack_file(&mut file, &ArchiveLayout::default(), &into, bounds)
        .map(drop)
        .unwrap_or_default();
    let beside = fs::read_dir(around.path()).expect("it is there").count();
    assert_eq!(beside, 2, "something was written outside the folder");
}
