//! Zip archives.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vshelf_fuzz::unpack_in_own_folder;

fuzz_target!(|bytes: &[u8]| unpack_in_own_folder(bytes));
