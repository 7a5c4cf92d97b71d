//! Files in which projects require a version.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vshelf_core::definition::RequirementFile;
use vshelf_core::requirement::Contents;

fuzz_target!(|contents: &[u8]| {
    for (file, value, line) in [
        (".marram-version", None, None),
        ("station.json", Some("engines.marram"), None),
        ("station.toml", Some("engines.marram"), None),
        ("tide.mod", None, Some("marram {selector}")),
    ] {
        let file = RequirementFile {
            value: value.map(str::to_owned),
            line: line.map(|line| line.parse().expect("it is a template")),
            ..RequirementFile::plain(file)
        };
        // Whether it is understood is not the question: it must not stop the shell that asks.
        let contents = Contents::from(contents.to_vec());
        let read = contents.requirement("marram", &file);
        read.map(drop).unwrap_or_default();
    }
});
