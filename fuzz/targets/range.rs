//! Ranges are read and written.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vshelf_core::Version;
use vshelf_core::range::Range;

fuzz_target!(|text: &str| {
    if let Ok(range) = text.parse::<Range>() {
        let again: Range = range
            .as_str()
            .parse()
            .expect("what was read can be read again");
        for version in ["0", "6.20.2", "8.3.1-rc.1", "8.3.1", "99"] {
            let version: Version = version.parse().expect("these are versions");
            assert_eq!(range.contains(&version), again.contains(&version));
        }
    }
});
