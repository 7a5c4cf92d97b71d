//! Files in which projects require a version.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vshelf_core::definition::RequirementFile;
use vshelf_core::requirement::read;

fuzz_target!(|contents: &[u8]| {
    for (file, value) in [
        (".marram-version", None),
        ("station.json", Some("engines.marram")),
        ("station.toml", Some("engines.marram")),
    ] {
        let file = RequirementFile {
            file: file.to_owned(),
            value: value.map(str::to_owned),
        };
        // Whether it is understood is not the question: it must not stop the shell that asks.
        read("marram", &file, contents)
            .map(drop)
            .unwrap_or_default();
    }
});
