//! Requests are read and written.

#![no_main]

use libfuzzer_sys::fuzz_target;
use vshelf_core::Request;

fuzz_target!(|text: &str| {
    if let Ok(request) = text.parse::<Request>() {
        let again: Request = request
            .to_string()
            .parse()
            .expect("what was read can be read again");
        assert_eq!(request, again);
    }
});
