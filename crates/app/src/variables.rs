//! The environment variables of one command, taken once: tests bring their own.

use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

/// Environment variables by name.
#[derive(Clone, Debug, Default)]
pub struct Variables(BTreeMap<OsString, OsString>);

impl Variables {
    /// Those of this process. What starts it with none, such as a service or an editor, has a home folder all the
    /// same: that of the user, as the system knows it.
    pub fn of_process() -> Variables {
        Variables(std::env::vars_os().collect()).with_home(std::env::home_dir)
    }

    fn with_home(mut self, home: impl FnOnce() -> Option<PathBuf>) -> Variables {
        if self.get("HOME").is_none()
            && let Some(home) = home()
        {
            self.0.insert("HOME".into(), home.into());
        }
        self
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

    /// All variables, by name.
    pub fn all(&self) -> impl Iterator<Item = (&OsString, &OsString)> {
        self.0.iter()
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_system_knows_the_home_folder_where_nobody_says_it() {
        let known = || Some(PathBuf::from("/home/keeper"));
        let none = Variables::from_iter::<[(&str, &str); 0]>([]).with_home(known);
        assert_eq!(none.home(), known());
        let said = Variables::from_iter([("HOME", "/home/visitor")]).with_home(known);
        assert_eq!(said.home(), Some("/home/visitor".into()));
    }
}
