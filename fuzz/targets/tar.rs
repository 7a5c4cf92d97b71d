//! Tar archives.

#![no_main]

use std::io::Write;

use flate2::Compression;
use flate2::write::GzEncoder;
use libfuzzer_sys::fuzz_target;
use vshelf_fuzz::unpack_in_own_folder;

fuzz_target!(|bytes: &[u8]| {
    let mut packed = GzEncoder::new(Vec::new(), Compression::none());
    packed.write_all(bytes).expect("memory takes all");
    unpack_in_own_folder(&packed.finish().expect("memory takes all"));
});
