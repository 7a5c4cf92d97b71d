//! Versions are read and written.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vshelf_core::Version;

fuzz_target!(|text: &str| {
    let Ok(version) = text.parse::<Version>() else {
        return;
    };
    let again: Version = version
        .as_str()
        .parse()
        .expect("what was read can be read again");
    assert_eq!(version.cmp(&again), std::cmp::Ordering::Equal);
});
