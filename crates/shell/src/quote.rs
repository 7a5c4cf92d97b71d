//! Quoting by each shell's own rules.

use std::path::Path;

/// `text` as one word of a POSIX shell: POSIX.1-2024, Shell Command Language, §2.2.2.
pub fn posix(text: &str) -> String {
    format!("'{}'", text.replace('\'', r"'\''"))
}

/// Whether `text` has only letters, digits and characters of `plain`.
pub fn is_bare(text: &str, plain: &str) -> bool {
    (text.chars()).all(|c| c.is_ascii_alphanumeric() || plain.contains(c))
}

/// `text` as one word of a POSIX shell, left bare where it has only letters, digits and characters of
/// `plain`, which mean nothing to a shell.
pub fn posix_where_needed(text: &str, plain: &str) -> String {
    match is_bare(text, plain) {
        true => text.to_owned(),
        false => posix(text),
    }
}

/// A path as a POSIX shell, and most others, can be given it, beginning with `~` where it is in the home
/// folder and nothing in it has to be quoted.
pub fn path(path: &Path, home: Option<&Path>) -> String {
    const PLAIN: &str = "/._-+";
    let below = home.and_then(|home| path.strip_prefix(home).ok());
    match below.map(Path::to_string_lossy) {
        Some(rest) if is_bare(&rest, PLAIN) => format!("~/{rest}"),
        _ => posix_where_needed(&path.to_string_lossy(), PLAIN),
    }
}

/// `text` as one word of fish: within single quotes only `\\` and `\'` mean something (fish
/// documentation, "Quotes").
pub fn fish(text: &str) -> String {
    format!("'{}'", text.replace('\\', r"\\").replace('\'', r"\'"))
}

/// `text` as one word of tcsh: within single quotes a line break and `!` still mean something (tcsh
/// manual, "Lexical structure").
pub fn tcsh(text: &str) -> String {
    let mut quoted = String::from("'");
    for c in text.chars() {
        match c {
            '\'' => quoted.push_str(r"'\''"),
            '!' => quoted.push_str(r"\!"),
            '\n' => quoted.push_str("\\\n"),
            c => quoted.push(c),
        }
    }
    quoted + "'"
}

/// A pattern of tcsh that only `text` matches (tcsh manual, "Filename substitution").
pub fn tcsh_pattern(text: &str) -> String {
    let mut pattern = String::new();
    for c in text.chars() {
        match c {
            '*' | '?' | '[' | '\\' | '{' => pattern.extend(['[', c, ']']),
            c => pattern.push(c),
        }
    }
    pattern
}

/// A pattern of fish's `string match` that only `text` matches (fish documentation, "string-match").
pub fn wildcard(text: &str) -> String {
    let mut pattern = String::new();
    for c in text.chars() {
        if matches!(c, '*' | '?' | '\\') {
            pattern.push('\\');
        }
        pattern.push(c);
    }
    pattern
}

/// `text` within double quotes, with escapes that Python and Nushell share.
pub fn escaped(text: &str) -> String {
    let mut quoted = String::from("\"");
    for c in text.chars() {
        match c {
            '\\' | '"' => quoted.extend(['\\', c]),
            '\n' => quoted.push_str(r"\n"),
            '\r' => quoted.push_str(r"\r"),
            '\t' => quoted.push_str(r"\t"),
            c => quoted.push(c),
        }
    }
    quoted + "\""
}

/// `text` within single quotes, where each of the `special` characters is written twice.
pub fn doubled(text: &str, special: &str) -> String {
    let mut quoted = String::from("'");
    for c in text.chars() {
        quoted.extend(std::iter::repeat_n(c, 1 + usize::from(special.contains(c))));
    }
    quoted + "'"
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Dialect;
    use rstest::rstest;
    use std::process::Command;

    const TEXTS: [&str; 10] = [
        "plain",
        "",
        "it's",
        "a b\tc",
        "$(id);`id`",
        "new\nline",
        "\\",
        "!ls \"!\"",
        "*?[a]~",
        "Dünenhafer",
    ];

    #[test]
    fn a_real_shell_reads_back_what_was_quoted() {
        for text in TEXTS {
            let script = format!("printf %s {}", posix(text));
            let output = Command::new("sh").args(["-c", &script]).output().unwrap();
            assert_eq!(String::from_utf8(output.stdout).unwrap(), text);
        }
    }

    #[test]
    fn only_what_needs_it_is_quoted() {
        assert_eq!(posix_where_needed("marram@8.3", "@."), "marram@8.3");
        assert_eq!(posix_where_needed(">=6 <8", "@."), "'>=6 <8'");
    }

    #[rstest]
    #[case("/home/gull/shelf/8.3", "~/shelf/8.3")]
    #[case("/home/gull/tide board", "'/home/gull/tide board'")]
    #[case("/srv/gull", "/srv/gull")]
    fn a_path_begins_at_home_where_it_can(#[case] text: &str, #[case] expected: &str) {
        let home = Path::new("/home/gull");
        assert_eq!(path(Path::new(text), Some(home)), expected);
    }

    #[rstest]
    #[case(Dialect::Fish, "fish", "printf %s")]
    #[case(Dialect::Tcsh, "tcsh", "printf %s")]
    #[case(Dialect::Elvish, "elvish", "print")]
    #[case(Dialect::Xonsh, "python3", "import sys; sys.stdout.write")]
    fn other_shells_read_back_what_was_quoted(
        #[case] dialect: Dialect,
        #[case] program: &str,
        #[case] print: &str,
    ) {
        for text in TEXTS {
            let script = match dialect {
                Dialect::Xonsh => format!("{print}({})", dialect.quote(text)),
                _ => format!("{print} {}", dialect.quote(text)),
            };
            // Where a shell is not there, what it would read is known from its documentation alone.
            if let Ok(output) = Command::new(program).args(["-c", &script]).output() {
                assert_eq!(String::from_utf8(output.stdout).unwrap(), text, "{script}");
            }
        }
    }

    #[rstest]
    #[case(Dialect::Fish, r"'it\'s \\ “that’!'")]
    #[case(Dialect::Tcsh, r"'it'\''s \ “that’\!'")]
    #[case(Dialect::Elvish, r"'it''s \ “that’!'")]
    #[case(Dialect::Nu, "\"it's \\\\ “that’!\"")]
    #[case(Dialect::PowerShell, r"'it''s \ “that’’!'")]
    fn each_shell_has_its_own_rules(#[case] dialect: Dialect, #[case] quoted: &str) {
        assert_eq!(dialect.quote(r"it's \ “that’!"), quoted);
    }
}
