//! Exit codes, documented in `docs/exit-codes.md`.

use vshelf_core::diagnosis::Class;

/// The exit code of a class of failure.
pub fn code(class: Class) -> u8 {
    match class {
        Class::Other => 1,
        Class::Usage => 2,
        Class::NoMatch => 3,
        Class::Source => 4,
        Class::Verification => 5,
        Class::Disk => 6,
        Class::Refused => 7,
    }
}
