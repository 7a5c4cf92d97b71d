//! The names of entries in the trash: `<key>=<time>-<random>`. A `=` is in no key, and a name is never used twice.

use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use vshelf_core::Key;

use crate::random::random_name;

/// How the time of a removal is written in names: legal on every file system.
const TIME: &str = "%Y%m%dT%H%M%SZ";

/// The name of an entry in the trash.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct EntryName {
    pub(crate) key: Key,
    pub(crate) at: Timestamp,
    random: String,
}

impl EntryName {
    /// A new name for an install that is removed at this time.
    pub(crate) fn new(key: &Key, at: Timestamp) -> EntryName {
        EntryName {
            key: key.clone(),
            at,
            random: random_name(4),
        }
    }
}

impl fmt::Display for EntryName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let at = self.at.to_zoned(TimeZone::UTC).strftime(TIME);
        write!(f, "{}={at}-{}", self.key.as_str(), self.random)
    }
}

impl FromStr for EntryName {
    type Err = ();

    fn from_str(text: &str) -> Result<EntryName, ()> {
        let (key, rest) = text.split_once('=').ok_or(())?;
        let (at, random) = rest.split_once('-').ok_or(())?;
        let at = jiff::civil::DateTime::strptime(TIME, at).map_err(drop)?;
        Ok(EntryName {
            key: key.parse().map_err(drop)?,
            at: at.to_zoned(TimeZone::UTC).map_err(drop)?.timestamp(),
            random: random.to_owned(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_name_of_an_entry_reads_as_it_is_written() {
        let key: Key = "gull-point/8.3.1-rc.1+b".parse().unwrap();
        let name = EntryName::new(&key, "2026-11-30T03:47:00Z".parse().unwrap());
        let text = name.to_string();
        assert!(
            text.starts_with("gull-point-8.3.1-rc.1+b=20261130T034700Z-"),
            "{text}"
        );
        assert_eq!(text.parse(), Ok(name));
        for other in [
            "saltmarsh-8.3.1",
            "8.3.1=20261130T034700Z-a",
            "saltmarsh-8.3.1=yesterday-a",
        ] {
            assert_eq!(other.parse::<EntryName>(), Err(()), "{other}");
        }
    }
}
