//! Start-up files: one guarded block, added once and taken out again without a trace.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use crate::Dialect;

const LAST: &str = "# vivid-shelf ends here";

/// The two kinds of interactive shells, which can read different start-up files.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Opened {
    /// By a terminal or another shell.
    Usually,
    /// At a login: by ssh, `su -`, WSL, and by terminals on macOS.
    AtLogin,
}

impl Opened {
    /// The first line of the block. The kinds differ, because `.profile` is also the file of another shell.
    fn first_line(self) -> &'static str {
        match self {
            Opened::Usually => {
                "# vivid-shelf begins here; `vshelf connect --remove` takes these lines out"
            }
            Opened::AtLogin => {
                "# vivid-shelf for login shells begins here; `vshelf connect --remove` takes these lines out"
            }
        }
    }
}

/// The start-up files of login shells, of which a shell of this kind reads the first that exists (Bash Reference Manual,
/// "Bash Startup Files"). Other shells read the file of all interactive shells at a login too.
pub fn login_files(dialect: Dialect) -> &'static [&'static str] {
    match dialect {
        Dialect::Bash => &[".bash_profile", ".bash_login", ".profile"],
        _ => &[],
    }
}

/// Whether the text of a login shell's start-up file mentions the file that other interactive shells read.
pub fn mentions_usual_file(text: &str) -> bool {
    let mut lines = text.lines().map(str::trim_start);
    lines.any(|line| !line.starts_with('#') && line.contains("bashrc"))
}

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
pub fn block(dialect: Dialect, opened: Opened, integration: &Path) -> String {
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
        // Other shells read the same file.
        Dialect::Bash if opened == Opened::AtLogin => {
            format!("if [ -n \"${{BASH_VERSION-}}\" ] && [ -r {quoted} ]; then\n  . {quoted}\nfi")
        }
        Dialect::Bash | Dialect::Zsh | Dialect::Sh | Dialect::Ksh | Dialect::Mksh => {
            format!("if [ -r {quoted} ]; then\n  {line}\nfi")
        }
    };
    let first = opened.first_line();
    format!("{first}\n{lines}\n{LAST}\n")
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
pub fn connection(text: &str, dialect: Dialect, opened: Opened, integration: &Path) -> Connection {
    match (
        text.matches(opened.first_line()).count(),
        find_block(text, opened),
    ) {
        (0, _) => Connection::Absent,
        (1, None) => Connection::Unfinished,
        (1, Some((start, end))) if text[start..end] == block(dialect, opened, integration) => {
            Connection::Right
        }
        (1, Some(_)) => Connection::Other,
        _ => Connection::Doubled,
    }
}

/// The text of a start-up file with our block in it: where it was, or else at the end.
pub fn with_block(text: &str, dialect: Dialect, opened: Opened, integration: &Path) -> String {
    let block = block(dialect, opened, integration);
    // Twice, or without an end: begun again.
    let once = text.matches(opened.first_line()).count() == 1;
    let cleaned = without_block(text, opened);
    let cleaned = cleaned.filter(|_| !(once && find_block(text, opened).is_some()));
    let text = cleaned.as_deref().unwrap_or(text);
    match find_block(text, opened) {
        Some((start, end)) => format!("{}{block}{}", &text[..start], &text[end..]),
        None if text.is_empty() || text.ends_with('\n') => format!("{text}{block}"),
        None => format!("{text}\n{block}"),
    }
}

/// The text without our block, however often it is there, and every other byte as it was; `None` if there is none. A
/// block without its end loses its first line alone.
pub fn without_block(text: &str, opened: Opened) -> Option<String> {
    let first = opened.first_line();
    let start = text.find(first)?;
    let end = match find_block(text, opened) {
        Some((_, end)) => end,
        None => {
            let end = start + first.len();
            end + usize::from(text[end..].starts_with('\n'))
        }
    };
    let without = format!("{}{}", &text[..start], &text[end..]);
    Some(without_block(&without, opened).unwrap_or(without))
}

/// The text behind our block, which can undo it in each new shell.
pub fn behind_block(text: &str) -> &str {
    find_block(text, Opened::Usually).map_or("", |(_, end)| &text[end..])
}

/// Where the block begins and ends, its last line break included.
fn find_block(text: &str, opened: Opened) -> Option<(usize, usize)> {
    let start = text.find(opened.first_line())?;
    let last = start + text[start..].find(LAST)? + LAST.len();
    let end = last + usize::from(text[last..].starts_with('\n'));
    Some((start, end))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const OPENED: Opened = Opened::Usually;

    #[rstest]
    #[case("")]
    #[case("alias l=ls\n")]
    #[case("alias l=ls")]
    #[case("# one\r\n# two\r\n")]
    fn the_block_goes_in_once_and_comes_out_without_a_trace(#[case] before: &str) {
        let integration = Path::new("/home/gull point/it's/shelf.bash");
        let with = with_block(before, Dialect::Bash, OPENED, integration);
        assert_eq!(with_block(&with, Dialect::Bash, OPENED, integration), with);
        assert_eq!(with.matches("vivid-shelf begins here").count(), 1);
        let moved = with_block(
            &(with.clone() + "# behind\n"),
            Dialect::Bash,
            OPENED,
            Path::new("/new"),
        );
        assert!(moved.contains("source '/new'") && moved.ends_with("# behind\n"));
        // A last line without a line break gets one; all else comes back as it was.
        let back = without_block(&with, OPENED).unwrap();
        assert_eq!(back.trim_end_matches('\n'), before.trim_end_matches('\n'));
        assert_eq!(without_block(before, OPENED), None);
    }

    #[test]
    fn a_doubled_or_unfinished_block_is_told_and_mended() {
        let integration = Path::new("/shelf.bash");
        let right = with_block("# mine\n", Dialect::Bash, OPENED, integration);
        let block = right.strip_prefix("# mine\n").unwrap();
        for (text, expected) in [
            ("# mine\n".to_owned(), Connection::Absent),
            (right.clone(), Connection::Right),
            (right.replace("/shelf.bash", "/old.bash"), Connection::Other),
            (format!("{block}{right}"), Connection::Doubled),
            (
                format!("{}\n# mine\n", OPENED.first_line()),
                Connection::Unfinished,
            ),
        ] {
            assert_eq!(
                connection(&text, Dialect::Bash, OPENED, integration),
                expected
            );
            let repaired = with_block(&text, Dialect::Bash, OPENED, integration);
            assert_eq!(repaired, right, "{expected:?}");
            assert_eq!(
                without_block(&repaired, OPENED).as_deref(),
                Some("# mine\n")
            );
        }
    }

    #[test]
    fn the_blocks_of_one_file_do_not_disturb_each_other() {
        let [bash, sh] = ["/shelf.bash", "/shelf.sh"].map(Path::new);
        let both = with_block("# mine\n", Dialect::Sh, OPENED, sh);
        let both = with_block(&both, Dialect::Bash, Opened::AtLogin, bash);
        assert_eq!(
            connection(&both, Dialect::Sh, OPENED, sh),
            Connection::Right
        );
        let at_login = connection(&both, Dialect::Bash, Opened::AtLogin, bash);
        assert_eq!(at_login, Connection::Right);
        let without = without_block(&both, Opened::AtLogin).unwrap();
        assert_eq!(
            connection(&without, Dialect::Sh, OPENED, sh),
            Connection::Right
        );
    }

    #[rstest]
    #[case(". ~/.bashrc\n", true)]
    #[case("if [ -n \"$BASH_VERSION\" ]; then\n\t. \"$HOME/.bashrc\"\nfi\n", true)]
    #[case("  # . ~/.bashrc\nPATH=/x\n", false)]
    #[case("", false)]
    fn comments_lead_nowhere(#[case] text: &str, #[case] mentions: bool) {
        assert_eq!(mentions_usual_file(text), mentions);
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
