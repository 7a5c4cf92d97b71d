//! Exit codes, documented in `docs/exit-codes.md`.

use vshelf_app::Class;

/// The classes of failure that a script can tell apart.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// Something that should work did not.
    Other = 1,
    /// The command line is not understood.
    Usage = 2,
    /// A name or version that nothing has.
    NoMatch = 3,
    /// A source does not answer, or not with what it should.
    Source = 4,
    /// What came is not what was promised; nothing of it was kept.
    Verification = 5,
    /// The shelf, the cache or the settings cannot be read or written.
    Disk = 6,
    /// Refused as long as something else is not said or done first.
    Refused = 7,
}

impl From<Class> for Kind {
    fn from(class: Class) -> Kind {
        match class {
            Class::Other => Kind::Other,
            Class::Usage => Kind::Usage,
            Class::NoMatch => Kind::NoMatch,
            Class::Source => Kind::Source,
            Class::Verification => Kind::Verification,
            Class::Disk => Kind::Disk,
            Class::Refused => Kind::Refused,
        }
    }
}
