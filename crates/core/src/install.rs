//! What names an install: its key on the shelf, and what a person or rule can pick.

use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::selector::is_publisher;
use crate::version::Version;

/// The name of an install among those of its runtime: its publisher and version.
///
/// It is written `saltmarsh/8.3.1`, which is also the selector that means exactly this install, or
/// `saltmarsh-8.3.1` in names of folders and in environment variables. It always names the publisher, so
/// that a definition with another main publisher never changes what an install is.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[cfg_attr(
    feature = "schemas",
    derive(schemars::JsonSchema),
    schemars(with = "String")
)]
#[serde(try_from = "String", into = "String")]
pub struct Key(String);

/// How the system's own copy is written in the place of a key.
const SYSTEM: &str = "system";

/// A text that is not a key.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not the key of an install")]
pub struct KeyError(String);

impl Key {
    /// The key of a publisher's `version`.
    pub fn new(version: &Version, publisher: &str) -> Key {
        Key(format!("{publisher}-{version}"))
    }

    /// The publisher's id.
    pub fn publisher(&self) -> &str {
        &self.0[..self.dash()]
    }

    /// The version as text.
    pub fn version_text(&self) -> &str {
        &self.0[self.dash() + 1..]
    }

    /// The version, or `None` if the text after the publisher is not one.
    pub fn version(&self) -> Option<Version> {
        self.version_text().parse().ok()
    }

    /// The selector that means exactly this install: `saltmarsh/8.3.1`.
    pub fn selector(&self) -> String {
        format!("{}/{}", self.publisher(), self.version_text())
    }

    /// The shortest selector that means exactly this install if selectors without a publisher mean `main`:
    /// `8.3.1` for the main publisher's.
    pub fn short_selector(&self, main: Option<&str>) -> String {
        if main == Some(self.publisher()) {
            self.version_text().to_owned()
        } else {
            self.selector()
        }
    }

    /// The key as the name of a folder, and in environment variables.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    fn dash(&self) -> usize {
        version_dash(&self.0).expect("a key without a version is not made")
    }
}

/// The index of the `-` between publisher and version: the first that a digit follows, which no
/// publisher's id contains. `None` if there is no publisher in front.
fn version_dash(text: &str) -> Option<usize> {
    let mut dashes = text.match_indices('-').map(|(at, _)| at);
    dashes.find(|at| text[at + 1..].starts_with(|c: char| c.is_ascii_digit()))
}

impl FromStr for Key {
    type Err = KeyError;

    fn from_str(text: &str) -> Result<Self, KeyError> {
        let folder = text.replacen('/', "-", 1);
        let has_parts = version_dash(&folder).is_some_and(|dash| {
            let is_split = text.find('/').is_none_or(|slash| slash == dash);
            is_split && is_publisher(&folder[..dash])
        });
        let is_odd = |c: char| c.is_control() || c.is_whitespace() || matches!(c, '=' | '/');
        if has_parts && !folder.contains(is_odd) {
            Ok(Key(folder))
        } else {
            Err(KeyError(text.to_owned()))
        }
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
        key.selector()
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

    /// The shortest selector that means exactly this, as [`Key::short_selector`] does.
    pub fn short_selector(&self, main: Option<&str>) -> String {
        match self {
            Pick::System => SYSTEM.to_owned(),
            Pick::Install(key) => key.short_selector(main),
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
        pick.key().map_or_else(|| SYSTEM.to_owned(), Key::selector)
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

impl InstallId {
    /// The install of a publisher's version.
    pub fn new(version: Version, publisher: &str) -> InstallId {
        InstallId {
            key: Key::new(&version, publisher),
            version,
            publisher: publisher.to_owned(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("saltmarsh-8.3.1", true)]
    #[case("gull-point-10.0.0-rc.1+b", true)]
    #[case("8.3.1", false)]
    #[case("10.0.0-rc.1", false)]
    #[case("-8", false)]
    #[case("saltmarsh", false)]
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
            (
                "saltmarsh/8.3.1",
                Pick::Install("saltmarsh-8.3.1".parse().unwrap()),
            ),
            (
                "gull-point/8.3.1-rc.1",
                Pick::Install("gull-point-8.3.1-rc.1".parse().unwrap()),
            ),
        ] {
            assert_eq!(text.parse::<Pick>().unwrap(), pick);
            assert_eq!(String::from(pick.clone()), text);
            let json = format!("{text:?}");
            assert_eq!(serde_json::to_string(&pick).unwrap(), json);
            assert_eq!(serde_json::from_str::<Pick>(&json).unwrap(), pick);
        }
        assert!(serde_json::from_str::<Pick>("\"\"").is_err());
    }
}
