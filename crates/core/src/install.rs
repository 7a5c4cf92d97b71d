//! What names an install: its key on the shelf, and what a person or rule can pick.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::selector::is_publisher;
use crate::version::Version;

/// The name of an install among those of its runtime, written as the selector that means just it: the
/// version, or `publisher/version`. Folders and environment variables have it with `-` for the `/`,
/// which is read too; it is never `system`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(
    feature = "schemas",
    derive(schemars::JsonSchema),
    schemars(with = "String")
)]
#[serde(try_from = "String", into = "String")]
pub struct Key(String);

/// How the system's own copy is written where a key could stand.
const SYSTEM: &str = "system";

/// A text that cannot be a key.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not the key of an install")]
pub struct KeyError(String);

impl Key {
    /// The key of `version`: alone for the main publisher, else with the `publisher` in front.
    pub fn new(version: &Version, publisher: Option<&str>) -> Key {
        Key(match publisher {
            Some(publisher) => format!("{publisher}-{version}"),
            None => version.to_string(),
        })
    }

    /// The publisher, where it is not the main one, and the version, where it is written as one.
    pub fn parts(&self) -> (Option<&str>, Option<Version>) {
        let at = self.version_at();
        let publisher = at.map(|at| &self.0[..at - 1]);
        (publisher, self.0[at.unwrap_or(0)..].parse().ok())
    }

    /// The selector of it: `dunefield/8.3.1` for `dunefield-8.3.1`.
    pub fn shown(&self) -> String {
        match self.version_at() {
            Some(at) => format!("{}/{}", &self.0[..at - 1], &self.0[at..]),
            None => self.0.clone(),
        }
    }

    /// The key as the name of a folder, and in environment variables.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// Where the version begins: behind the first `-` that a digit follows, which no publisher's id
    /// has.
    fn version_at(&self) -> Option<usize> {
        let starts_with_digit = |text: &str| text.starts_with(|c: char| c.is_ascii_digit());
        if starts_with_digit(&self.0) {
            return None;
        }
        let dashes = self.0.match_indices('-').map(|(at, _)| at + 1);
        dashes
            .into_iter()
            .find(|at| starts_with_digit(&self.0[*at..]))
    }
}

impl FromStr for Key {
    type Err = KeyError;

    fn from_str(text: &str) -> Result<Self, KeyError> {
        let is_one = !matches!(text, "" | "." | ".." | SYSTEM)
            && !text.contains(|c: char| c.is_control() || c.is_whitespace() || c == '=');
        let key = match text.split_once('/') {
            _ if !is_one => None,
            None => Some(Key(text.to_owned())),
            Some((publisher, version)) => {
                let key = Key(format!("{publisher}-{version}"));
                let is_split = key.version_at() == Some(publisher.len() + 1);
                (is_split && is_publisher(publisher) && !version.contains('/')).then_some(key)
            }
        };
        key.ok_or_else(|| KeyError(text.to_owned()))
    }
}

impl TryFrom<String> for Key {
    type Error = KeyError;

    fn try_from(text: String) -> Result<Self, KeyError> {
        text.parse()
    }
}

impl From<Key> for String {
    fn from(key: Key) -> String {
        key.to_string()
    }
}

impl fmt::Display for Key {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.version_at() {
            Some(at) => f.pad(&format!("{}/{}", &self.0[..at - 1], &self.0[at..])),
            None => f.pad(&self.0),
        }
    }
}

/// What can be active: the system's own copy, or an install. Written `system`, or as the key.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(
    feature = "schemas",
    derive(schemars::JsonSchema),
    schemars(with = "String")
)]
#[serde(try_from = "String", into = "String")]
pub enum Pick {
    /// The first copy on PATH that is not on the shelf.
    System,
    /// The install with this key.
    Install(Key),
}

impl Pick {
    /// The pick as environment variables have it.
    pub fn as_str(&self) -> &str {
        self.key().map_or(SYSTEM, Key::as_str)
    }

    /// The key, unless it is the system's copy.
    pub fn key(&self) -> Option<&Key> {
        match self {
            Pick::System => None,
            Pick::Install(key) => Some(key),
        }
    }

    /// Whether it is the install with this key.
    pub fn is(&self, key: &Key) -> bool {
        self.key() == Some(key)
    }
}

impl From<Key> for Pick {
    fn from(key: Key) -> Pick {
        Pick::Install(key)
    }
}

impl FromStr for Pick {
    type Err = KeyError;

    fn from_str(text: &str) -> Result<Self, KeyError> {
        match text {
            SYSTEM => Ok(Pick::System),
            key => Ok(Pick::Install(key.parse()?)),
        }
    }
}

impl TryFrom<String> for Pick {
    type Error = KeyError;

    fn try_from(text: String) -> Result<Self, KeyError> {
        text.parse()
    }
}

impl From<Pick> for String {
    fn from(pick: Pick) -> String {
        pick.to_string()
    }
}

impl fmt::Display for Pick {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Pick::System => f.pad(SYSTEM),
            Pick::Install(key) => key.fmt(f),
        }
    }
}

/// An install as choosing sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InstallId {
    /// Its key on the shelf.
    pub key: Key,
    /// Its version.
    pub version: Version,
    /// The id of its publisher.
    pub publisher: String,
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("8.3.1", true)]
    #[case("dunefield-8.3.1", true)]
    #[case("10.0.0-rc.1+b", true)]
    #[case("", false)]
    #[case("..", false)]
    #[case("dunefield/8.3.1", true)]
    #[case("gull-point/8.3.1-rc.1", true)]
    #[case("a/b", false)]
    #[case("a/8/1", false)]
    #[case("/8.3.1", false)]
    #[case("../8", false)]
    #[case("8 9", false)]
    #[case("marram=8", false)]
    #[case("system", false)]
    fn a_key_is_one_name_of_a_folder(#[case] text: &str, #[case] is_one: bool) {
        assert_eq!(text.parse::<Key>().is_ok(), is_one);
    }

    #[test]
    fn a_pick_is_written_as_it_is_read() {
        for (text, pick) in [
            ("system", Pick::System),
            ("8.3.1", Pick::Install("8.3.1".parse().unwrap())),
            (
                "gull-point/8.3.1-rc.1",
                Pick::Install("gull-point-8.3.1-rc.1".parse().unwrap()),
            ),
        ] {
            assert_eq!(text.parse::<Pick>().unwrap(), pick);
            assert_eq!(pick.to_string(), text);
            let json = format!("{text:?}");
            assert_eq!(serde_json::to_string(&pick).unwrap(), json);
            assert_eq!(serde_json::from_str::<Pick>(&json).unwrap(), pick);
        }
        assert!(serde_json::from_str::<Pick>("\"\"").is_err());
    }
}
