//! The environment variables of one command, taken once: tests bring their own.

use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

/// Environment variables by name.
#[derive(Clone, Debug, Default)]
pub struct Variables(BTreeMap<OsString, OsString>);

impl Variables {
    /// Those of this process.
    pub fn of_process() -> Variables {
        Variables(std::env::vars_os().collect())
    }

    /// The value of a variable.
    pub fn get(&self, name: &str) -> Option<&OsStr> {
        self.0.get(OsStr::new(name)).map(OsString::as_os_str)
    }

    /// The value of a variable as text; empty where it is not set or not UTF-8.
    pub fn text(&self, name: &str) -> &str {
        self.get(name).and_then(OsStr::to_str).unwrap_or_default()
    }

    /// The home folder, where HOME is an absolute path.
    pub fn home(&self) -> Option<PathBuf> {
        let home = self.get("HOME").map(PathBuf::from);
        home.filter(|home| home.is_absolute())
    }

    /// All whose names and values are UTF-8.
    pub fn texts(&self) -> BTreeMap<String, String> {
        let text = |text: &OsString| text.to_str().map(str::to_owned);
        self.0
            .iter()
            .filter_map(|(name, value)| Some((text(name)?, text(value)?)))
            .collect()
    }
}

impl<N: Into<OsString>, V: Into<OsString>> FromIterator<(N, V)> for Variables {
    fn from_iter<I: IntoIterator<Item = (N, V)>>(pairs: I) -> Variables {
        let pairs = pairs.into_iter();
        Variables(
            pairs
                .map(|(name, value)| (name.into(), value.into()))
                .collect(),
        )
    }
}
