//! Quoting by each shell's own rules.

/// `text` as one word of a POSIX shell: POSIX.1-2024, Shell Command Language, §2.2.2.
pub fn posix(text: &str) -> String {
    format!("'{}'", text.replace('\'', r"'\''"))
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
