//! Definitions of runtimes.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vshelf_core::Definition;

fuzz_target!(|text: &str| {
    if let Ok(definition) = Definition::read(text) {
        assert!(!definition.name.is_empty() && !definition.sources.is_empty());
    }
});
