//! Quoting by each shell's own rules.

/// `text` as one word of a POSIX shell: POSIX.1-2024, Shell Command Language, §2.2.2.
pub fn posix(text: &str) -> String {
    format!("'{}'", text.replace('\'', r"'\''"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::process::Command;

    #[test]
    fn a_real_shell_reads_back_what_was_quoted() {
        for text in [
            "plain",
            "",
            "it's",
            "a b\tc",
            "$(id);`id`",
            "new\nline",
            "\\",
            "*?[a]~",
            "Dünenhafer",
        ] {
            let script = format!("printf %s {}", posix(text));
            let output = Command::new("sh").args(["-c", &script]).output().unwrap();
            assert_eq!(String::from_utf8(output.stdout).unwrap(), text);
        }
    }
}
