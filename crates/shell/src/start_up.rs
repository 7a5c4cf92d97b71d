//! Start-up files: one guarded block, added once and taken out again without a trace.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use crate::Dialect;

const FIRST: &str = "# vivid-shelf begins here; `vshelf connect --remove` takes these lines out";
const LAST: &str = "# vivid-shelf ends here";

/// The start-up file that an interactive shell of this kind reads; `variable` is the environment.
pub fn start_up_file(
    dialect: Dialect,
    home: &Path,
    variable: impl Fn(&str) -> Option<OsString>,
) -> PathBuf {
    let folder = |name: &str| {
        let folder = variable(name).map(PathBuf::from);
        folder.filter(|folder| folder.is_absolute())
    };
    let config = || folder("XDG_CONFIG_HOME").unwrap_or_else(|| home.join(".config"));
    match dialect {
        // Terminals on macOS open login shells, which read another file.
        Dialect::Bash if cfg!(target_os = "macos") => home.join(".bash_profile"),
        Dialect::Bash => home.join(".bashrc"),
        Dialect::Zsh => {
            let folder = folder("ZDOTDIR");
            folder.unwrap_or_else(|| home.to_owned()).join(".zshrc")
        }
        Dialect::Fish => config().join("fish/config.fish"),
        Dialect::Elvish => config().join("elvish/rc.elv"),
        Dialect::Xonsh => config().join("xonsh/rc.xsh"),
        Dialect::Nu if cfg!(target_os = "macos") && folder("XDG_CONFIG_HOME").is_none() => {
            home.join("Library/Application Support/nushell/config.nu")
        }
        Dialect::Nu => config().join("nushell/config.nu"),
        // The profile of all its hosts.
        Dialect::PowerShell => config().join("powershell/profile.ps1"),
        // It reads the second file only where there is no first (tcsh manual, "Startup and shutdown").
        Dialect::Tcsh => {
            let file = home.join(".tcshrc");
            let exists = file.exists();
            if exists { file } else { home.join(".cshrc") }
        }
        // Interactive POSIX shells read the file that ENV names (POSIX.1-2024, sh, "ENV").
        Dialect::Sh => folder("ENV").unwrap_or_else(|| home.join(".profile")),
        Dialect::Ksh => folder("ENV").unwrap_or_else(|| home.join(".kshrc")),
        Dialect::Mksh => folder("ENV").unwrap_or_else(|| home.join(".mkshrc")),
    }
}

/// The line that makes a shell source the file whose path is this, quoted already.
pub fn source_line(dialect: Dialect, quoted: &str) -> String {
    match dialect {
        Dialect::Bash | Dialect::Zsh | Dialect::Fish | Dialect::Tcsh | Dialect::Nu => {
            format!("source {quoted}")
        }
        Dialect::Sh | Dialect::Ksh | Dialect::Mksh | Dialect::PowerShell => {
            format!(". {quoted}")
        }
        // A file has names of its own there, and only the function is for the shell.
        Dialect::Elvish => elvish_line(&format!("(slurp < {quoted})")),
        // Read by Python itself, which takes a fraction of the time.
        Dialect::Xonsh => format!("exec(open({quoted}, encoding=\"utf-8\").read(), {{}})"),
    }
}

fn elvish_line(code: &str) -> String {
    format!("eval &on-end={{|names| edit:add-var vshelf~ $names[vshelf~] }} {code}")
}

/// The lines that connect a shell of this kind by this file.
pub fn block(dialect: Dialect, integration: &Path) -> String {
    let quoted = dialect.quote(&integration.to_string_lossy());
    let line = source_line(dialect, &quoted);
    let lines = match dialect {
        Dialect::Fish => format!("if test -r {quoted}\n    {line}\nend"),
        // Without a process: a file that cannot be read gives nothing to evaluate.
        Dialect::Elvish => format!(
            "try {{ slurp < {quoted} }} catch {{ }} | each {{|code|\n  {}\n}}",
            elvish_line("$code")
        ),
        Dialect::Tcsh => format!("if ( -r {quoted} ) {line}"),
        Dialect::Xonsh => {
            format!("if __import__(\"os\").access({quoted}, 4):\n    {line}")
        }
        // What is sourced has to be known before anything runs.
        Dialect::Nu => {
            format!("source (if ({quoted} | path exists) {{ {quoted} }} else {{ null }})")
        }
        Dialect::PowerShell => {
            format!("if (Test-Path -LiteralPath {quoted}) {{\n  {line}\n}}")
        }
        Dialect::Bash | Dialect::Zsh | Dialect::Sh | Dialect::Ksh | Dialect::Mksh => {
            format!("if [ -r {quoted} ]; then\n  {line}\nfi")
        }
    };
    format!("{FIRST}\n{lines}\n{LAST}\n")
}

/// How a start-up file stands to our block.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Connection {
    /// It has none.
    Absent,
    /// It has the block, as it should be.
    Right,
    /// It has a block for another file, or one that was changed by hand.
    Other,
    /// It has the block more than once.
    Doubled,
    /// It has the beginning of a block and not its end.
    Unfinished,
}

/// How the text of a start-up file stands to the block for this file.
pub fn connection(text: &str, dialect: Dialect, integration: &Path) -> Connection {
    match (text.matches(FIRST).count(), find_block(text)) {
        (0, _) => Connection::Absent,
        (1, None) => Connection::Unfinished,
        (1, Some((start, end))) if text[start..end] == block(dialect, integration) => {
            Connection::Right
        }
        (1, Some(_)) => Connection::Other,
        _ => Connection::Doubled,
    }
}

/// The text of a start-up file with our block in it: where it was, or else at the end.
pub fn with_block(text: &str, dialect: Dialect, integration: &Path) -> String {
    let block = block(dialect, integration);
    // Twice, or without an end: begun again.
    let once = text.matches(FIRST).count() == 1;
    let cleaned = without_block(text).filter(|_| !(once && find_block(text).is_some()));
    let text = cleaned.as_deref().unwrap_or(text);
    match find_block(text) {
        Some((start, end)) => format!("{}{block}{}", &text[..start], &text[end..]),
        None if text.is_empty() || text.ends_with('\n') => format!("{text}{block}"),
        None => format!("{text}\n{block}"),
    }
}

/// The text without our block, however often it is there, and every other byte as it was; nothing
/// where there is none. A block without its end loses its first line alone.
pub fn without_block(text: &str) -> Option<String> {
    let start = text.find(FIRST)?;
    let end = match find_block(text) {
        Some((_, end)) => end,
        None => {
            let end = start + FIRST.len();
            end + usize::from(text[end..].starts_with('\n'))
        }
    };
    let without = format!("{}{}", &text[..start], &text[end..]);
    Some(without_block(&without).unwrap_or(without))
}

/// What stands behind our block: what can undo it in each new shell.
pub fn behind_block(text: &str) -> &str {
    find_block(text).map_or("", |(_, end)| &text[end..])
}

/// Where the block begins and ends, its last line break included.
fn find_block(text: &str) -> Option<(usize, usize)> {
    let start = text.find(FIRST)?;
    let last = start + text[start..].find(LAST)? + LAST.len();
    let end = last + usize::from(text[last..].starts_with('\n'));
    Some((start, end))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("")]
    #[case("alias l=ls\n")]
    #[case("alias l=ls")]
    #[case("# one\r\n# two\r\n")]
    fn the_block_goes_in_once_and_comes_out_without_a_trace(#[case] before: &str) {
        let integration = Path::new("/home/gull point/it's/shelf.bash");
        let with = with_block(before, Dialect::Bash, integration);
        assert_eq!(with_block(&with, Dialect::Bash, integration), with);
        assert_eq!(with.matches("vivid-shelf begins here").count(), 1);
        let moved = with_block(
            &(with.clone() + "# behind\n"),
            Dialect::Bash,
            Path::new("/new"),
        );
        assert!(moved.contains("source '/new'") && moved.ends_with("# behind\n"));
        // A last line without a line break gets one; all else comes back as it was.
        let back = without_block(&with).unwrap();
        assert_eq!(back.trim_end_matches('\n'), before.trim_end_matches('\n'));
        assert_eq!(without_block(before), None);
    }

    #[test]
    fn a_doubled_or_unfinished_block_is_told_and_mended() {
        let integration = Path::new("/shelf.bash");
        let right = with_block("# mine\n", Dialect::Bash, integration);
        let block = right.strip_prefix("# mine\n").unwrap();
        for (text, expected) in [
            ("# mine\n".to_owned(), Connection::Absent),
            (right.clone(), Connection::Right),
            (right.replace("/shelf.bash", "/old.bash"), Connection::Other),
            (format!("{block}{right}"), Connection::Doubled),
            (format!("{FIRST}\n# mine\n"), Connection::Unfinished),
        ] {
            assert_eq!(connection(&text, Dialect::Bash, integration), expected);
            let repaired = with_block(&text, Dialect::Bash, integration);
            assert_eq!(repaired, right, "{expected:?}");
            assert_eq!(without_block(&repaired).as_deref(), Some("# mine\n"));
        }
    }

    #[rstest]
    #[case(Dialect::Zsh, &[], "/home/gull/.zshrc")]
    #[case(Dialect::Zsh, &[("ZDOTDIR", "/home/gull/z")], "/home/gull/z/.zshrc")]
    #[case(Dialect::Zsh, &[("ZDOTDIR", "relative")], "/home/gull/.zshrc")]
    #[case(Dialect::Fish, &[], "/home/gull/.config/fish/config.fish")]
    #[case(Dialect::Fish, &[("XDG_CONFIG_HOME", "/c")], "/c/fish/config.fish")]
    #[case(Dialect::Sh, &[], "/home/gull/.profile")]
    #[case(Dialect::Sh, &[("ENV", "/home/gull/.shrc")], "/home/gull/.shrc")]
    #[case(Dialect::Ksh, &[], "/home/gull/.kshrc")]
    #[case(Dialect::Mksh, &[], "/home/gull/.mkshrc")]
    #[case(Dialect::Elvish, &[], "/home/gull/.config/elvish/rc.elv")]
    #[case(Dialect::Tcsh, &[], "/home/gull/.cshrc")]
    #[case(Dialect::Xonsh, &[("XDG_CONFIG_HOME", "/c")], "/c/xonsh/rc.xsh")]
    #[case(Dialect::Nu, &[("XDG_CONFIG_HOME", "/c")], "/c/nushell/config.nu")]
    #[case(Dialect::PowerShell, &[], "/home/gull/.config/powershell/profile.ps1")]
    fn the_start_up_file_is_the_one_that_the_shell_reads(
        #[case] dialect: Dialect,
        #[case] variables: &[(&str, &str)],
        #[case] file: &str,
    ) {
        let variable = |name: &str| {
            let found = variables.iter().find(|(known, _)| *known == name);
            found.map(|(_, value)| value.into())
        };
        let found = start_up_file(dialect, Path::new("/home/gull"), variable);
        assert_eq!(found, Path::new(file));
    }
}
