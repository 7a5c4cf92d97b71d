//! What a command changes in the shell that called it.

use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

use crate::Dialect;
use crate::quote;

/// Variables to set or unset, in order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Changes {
    variables: Vec<(String, Option<String>)>,
}

impl Changes {
    /// Sets a variable and exports it.
    pub fn set(&mut self, name: &str, value: &str) {
        self.variables
            .push((name.to_owned(), Some(value.to_owned())));
    }

    /// Takes a variable away.
    pub fn unset(&mut self, name: &str) {
        self.variables.push((name.to_owned(), None));
    }

    /// The value that a variable will have: nothing where it is not changed, `Some(None)` where it
    /// goes.
    pub fn value(&self, name: &str) -> Option<Option<&str>> {
        let (_, value) = self
            .variables
            .iter()
            .rev()
            .find(|(known, _)| known == name)?;
        Some(value.as_deref())
    }

    /// The changes as text for a shell: code to evaluate, or an object of JSON where the shell reads
    /// it, with the value of each variable, or null where it goes.
    ///
    /// All of these shells forget where they found programs when PATH is set; only bash has to be
    /// told where PATH stays as it is.
    pub fn render(&self, dialect: Dialect) -> String {
        if dialect.reads_json() {
            let values: BTreeMap<&String, &Option<String>> = self
                .variables
                .iter()
                .map(|(name, value)| (name, value))
                .collect();
            return serde_json::json!(values).to_string() + "\n";
        }
        let mut text = String::new();
        for (name, value) in &self.variables {
            text.push_str(&match (dialect, value) {
                // PATH is a list there, and its parts are told apart as in the environment.
                (Dialect::Fish, Some(value)) if name == "PATH" => {
                    format!("set -gx PATH (string split : -- {})\n", quote::fish(value))
                }
                (Dialect::Fish, Some(value)) => {
                    format!("set -gx {name} {}\n", quote::fish(value))
                }
                (Dialect::Fish, None) => format!("set -e {name}\n"),
                (Dialect::Tcsh, Some(value)) => format!("setenv {name} {}\n", quote::tcsh(value)),
                (Dialect::Tcsh, None) => format!("unsetenv {name}\n"),
                (_, Some(value)) => format!("export {name}={}\n", quote::posix(value)),
                (_, None) => format!("unset {name}\n"),
            });
        }
        if dialect == Dialect::Bash {
            text.push_str("builtin hash -r\n");
        }
        text
    }
}

/// PATH with `folders` in front and without any entry in or below `ours`: where the runtime's installs
/// are, and its launchers. Other entries keep their order, empty ones too.
pub fn path_with(path: &OsStr, ours: &[PathBuf], folders: &[PathBuf]) -> OsString {
    let is_ours = |entry: &PathBuf| ours.iter().any(|folder| entry.starts_with(folder));
    let others = std::env::split_paths(path).filter(|entry| !is_ours(entry));
    let entries: Vec<PathBuf> = folders.iter().cloned().chain(others).collect();
    // No folder of ours holds a colon (connecting refuses that), and those of PATH cannot.
    std::env::join_paths(entries).unwrap_or_else(|_| path.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("/usr/bin:/bin", "/s/shelf/m/8/bin:/usr/bin:/bin")]
    #[case(
        "/s/default/m/bin:/usr/bin:/s/shelf/m/6/bin",
        "/s/shelf/m/8/bin:/usr/bin"
    )]
    #[case("/s/shelf/more:/bin", "/s/shelf/m/8/bin:/s/shelf/more:/bin")]
    #[case("/s/launchers:/bin", "/s/shelf/m/8/bin:/bin")]
    #[case("/bin::/sbin", "/s/shelf/m/8/bin:/bin::/sbin")]
    fn our_folders_come_first_and_only_once(#[case] before: &str, #[case] after: &str) {
        let path = path_with(
            OsStr::new(before),
            &[
                "/s/default/m".into(),
                "/s/shelf/m".into(),
                "/s/launchers".into(),
            ],
            &["/s/shelf/m/8/bin".into()],
        );
        assert_eq!(path, OsStr::new(after));
    }

    #[test]
    fn values_are_data_and_not_code() {
        let mut changes = Changes::default();
        changes.set("MARRAM_HOME", "/it's $(id)");
        changes.unset("VSHELF_SWITCHED");
        assert_eq!(
            changes.render(Dialect::Bash),
            "export MARRAM_HOME='/it'\\''s $(id)'\nunset VSHELF_SWITCHED\nbuiltin hash -r\n"
        );
        assert_eq!(
            changes.render(Dialect::Fish),
            "set -gx MARRAM_HOME '/it\\'s $(id)'\nset -e VSHELF_SWITCHED\n"
        );
        assert_eq!(
            changes.render(Dialect::Tcsh),
            "setenv MARRAM_HOME '/it'\\''s $(id)'\nunsetenv VSHELF_SWITCHED\n"
        );
        assert_eq!(
            changes.render(Dialect::Nu),
            "{\"MARRAM_HOME\":\"/it's $(id)\",\"VSHELF_SWITCHED\":null}\n"
        );
    }
}
