//! Quoting by each shell's own rules.

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

/// `text` as one word of fish: within single quotes only `\\` and `\'` mean something (fish
/// documentation, "Quotes").
pub fn fish(text: &str) -> String {
    format!("'{}'", text.replace('\\', r"\\").replace('\'', r"\'"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::Command;

    const TEXTS: [&str; 9] = [
        "plain",
        "",
        "it's",
        "a b\tc",
        "$(id);`id`",
        "new\nline",
        "\\",
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

    #[test]
    fn fish_reads_back_what_was_quoted() {
        for text in TEXTS {
            let script = format!("printf %s {}", fish(text));
            // Where there is no fish, what it would read is known from its documentation alone.
            if let Ok(output) = Command::new("fish").args(["-c", &script]).output() {
                assert_eq!(String::from_utf8(output.stdout).unwrap(), text);
            }
        }
        assert_eq!(fish(r"it's \ that"), r"'it\'s \\ that'");
    }
}
