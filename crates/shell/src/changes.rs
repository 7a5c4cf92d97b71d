//! What a command changes in the shell that called it.

use std::collections::BTreeMap;
use std::ffi::{OsStr, OsString};
use std::path::PathBuf;

use crate::Dialect;

/// Variables to set or unset, in order.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Changes {
    variables: Vec<(String, Option<OsString>)>,
}

impl Changes {
    /// Sets a variable and exports it.
    pub fn set(&mut self, name: &str, value: impl AsRef<OsStr>) {
        self.variables
            .push((name.to_owned(), Some(value.as_ref().to_owned())));
    }

    /// Takes a variable away.
    pub fn unset(&mut self, name: &str) {
        self.variables.push((name.to_owned(), None));
    }

    /// The value that a variable will have: nothing where it is not changed, `Some(None)` where it
    /// goes.
    pub fn value(&self, name: &str) -> Option<Option<&OsStr>> {
        let (_, value) = self
            .variables
            .iter()
            .rev()
            .find(|(known, _)| known == name)?;
        Some(value.as_deref())
    }

    /// The changes for a shell: code to evaluate, or a JSON object if the shell reads that, with the value
    /// of each variable, or null to unset it. Values that are not UTF-8 pass through byte for byte, but for
    /// Elvish, Nushell and PowerShell, whose strings hold only text.
    ///
    /// All of these shells forget where they found programs when PATH is set; only bash has to be
    /// told where PATH stays as it is.
    pub fn render(&self, dialect: Dialect) -> Vec<u8> {
        if dialect.reads_json() {
            return self.render_json(dialect).into_bytes();
        }
        let mut code = Vec::new();
        for (name, value) in &self.variables {
            let (before, after) = match (dialect, value) {
                // PATH is a list there, and its parts are told apart as in the environment.
                (Dialect::Fish, Some(_)) if name == "PATH" => {
                    ("set -gx PATH (string split : -- ".to_owned(), ")\n")
                }
                (Dialect::Fish, Some(_)) => (format!("set -gx {name} "), "\n"),
                (Dialect::Fish, None) => (format!("set -e {name}"), "\n"),
                (Dialect::Tcsh, Some(_)) => (format!("setenv {name} "), "\n"),
                (Dialect::Tcsh, None) => (format!("unsetenv {name}"), "\n"),
                (_, Some(_)) => (format!("export {name}="), "\n"),
                (_, None) => (format!("unset {name}"), "\n"),
            };
            code.extend(before.into_bytes());
            code.extend(value.iter().flat_map(|value| quoted(value, dialect)));
            code.extend(after.as_bytes());
        }
        if dialect == Dialect::Bash {
            code.extend(b"builtin hash -r\n");
        }
        code
    }

    fn render_json(&self, dialect: Dialect) -> String {
        // Of several values of one variable, the last counts.
        let values: BTreeMap<&String, String> = (self.variables.iter())
            .map(|(name, value)| {
                let null = || "null".to_owned();
                let json = value
                    .as_ref()
                    .map_or_else(null, |value| json_string(value, dialect));
                (name, json)
            })
            .collect();
        let members = values
            .iter()
            .map(|(name, json)| format!("{}:{json}", serde_json::json!(name)));
        format!("{{{}}}\n", members.collect::<Vec<_>>().join(","))
    }
}

/// A value as one word of a shell's code. Bytes that are not UTF-8 are quoted in between unchanged: only ASCII characters
/// mean something to these shells, and quoted pieces side by side are one word.
fn quoted(value: &OsStr, dialect: Dialect) -> Vec<u8> {
    let mut code = Vec::new();
    for chunk in value.as_encoded_bytes().utf8_chunks() {
        code.extend(dialect.quote(chunk.valid()).into_bytes());
        if !chunk.invalid().is_empty() {
            code.push(b'\'');
            code.extend(chunk.invalid());
            code.push(b'\'');
        }
    }
    if code.is_empty() {
        code.extend(b"''");
    }
    code
}

/// A value as a JSON string. Python reads a byte that is not UTF-8 from a lone surrogate (PEP 383).
fn json_string(value: &OsStr, dialect: Dialect) -> String {
    let mut text = String::from("\"");
    for chunk in value.as_encoded_bytes().utf8_chunks() {
        let valid = serde_json::json!(chunk.valid()).to_string();
        text.push_str(&valid[1..valid.len() - 1]);
        for byte in chunk.invalid() {
            match dialect {
                Dialect::Xonsh => text.push_str(&format!("\\udc{byte:02x}")),
                _ => text.push(char::REPLACEMENT_CHARACTER),
            }
        }
    }
    text + "\""
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
        let text = |dialect| String::from_utf8(changes.render(dialect)).unwrap();
        assert_eq!(
            text(Dialect::Bash),
            "export MARRAM_HOME='/it'\\''s $(id)'\nunset VSHELF_SWITCHED\nbuiltin hash -r\n"
        );
        assert_eq!(
            text(Dialect::Fish),
            "set -gx MARRAM_HOME '/it\\'s $(id)'\nset -e VSHELF_SWITCHED\n"
        );
        assert_eq!(
            text(Dialect::Tcsh),
            "setenv MARRAM_HOME '/it'\\''s $(id)'\nunsetenv VSHELF_SWITCHED\n"
        );
        assert_eq!(
            text(Dialect::Nu),
            "{\"MARRAM_HOME\":\"/it's $(id)\",\"VSHELF_SWITCHED\":null}\n"
        );
    }
    #[test]
    #[cfg(unix)]
    fn bytes_that_are_no_text_pass_through() {
        use std::os::unix::ffi::OsStrExt;

        let mut changes = Changes::default();
        changes.set("PATH", OsStr::from_bytes(b"/it's \xff/bin:/bin"));
        changes.set("EMPTY", "");
        let sh = b"export PATH='/it'\\''s ''\xff''/bin:/bin'\nexport EMPTY=''\n";
        assert_eq!(changes.render(Dialect::Sh), sh);
        let fish =
            b"set -gx PATH (string split : -- '/it\\'s ''\xff''/bin:/bin')\nset -gx EMPTY ''\n";
        assert_eq!(changes.render(Dialect::Fish), fish);
        let json = b"{\"EMPTY\":\"\",\"PATH\":\"/it's \\udcff/bin:/bin\"}\n";
        assert_eq!(changes.render(Dialect::Xonsh), json);
    }
}
