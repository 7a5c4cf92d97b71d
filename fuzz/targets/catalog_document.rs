//! Catalogs in our own format.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vshelf_sources::{Address, document};

fuzz_target!(|bytes: &[u8]| {
    let address = Address::read("https://tide.example/catalog.json").expect("it is an address");
    if let Ok(published) = document::read(bytes, "marram", &address) {
        assert_eq!(published.catalog.runtime, "marram");
    }
});
