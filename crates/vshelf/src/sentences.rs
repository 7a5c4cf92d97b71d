//! Sentences and hints, broken at words where the terminal is narrower.

use vshelf_view::Palette;
use vshelf_view::words::at_words;

/// Text broken at words, each line behind this indent; in one piece where no width is known.
pub fn wrapped(text: &str, columns: Option<usize>, indent: &str) -> String {
    let columns = columns.map(|columns| columns.saturating_sub(indent.len()).max(1));
    let lines = text.lines().flat_map(|line| match columns {
        Some(columns) => at_words(line, columns),
        None => vec![line.to_owned()],
    });
    let lines: Vec<String> = lines.map(|line| format!("{indent}{line}")).collect();
    lines.join("\n")
}

/// What to type next, with why. A command that does not fit stands on a line of its own, whole: it is
/// meant for copying.
pub fn hint(why: &str, command: &str, columns: Option<usize>, indent: &str) -> String {
    let style = Palette::COMMAND;
    let length = indent.len() + why.chars().count() + command.chars().count() + 2;
    let command = format!("{style}{command}{style:#}");
    match columns.is_some_and(|columns| length > columns) {
        true => {
            let why = wrapped(&format!("{why}:"), columns, indent);
            format!("{why}\n{indent}  {command}")
        }
        false => format!("{indent}{why}: {command}"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sentences_break_at_words_and_commands_nowhere() {
        let text = "one two three\nfour";
        assert_eq!(wrapped(text, None, "  "), "  one two three\n  four");
        assert_eq!(wrapped(text, Some(9), "  "), "  one two\n  three\n  four");
        assert_eq!(
            wrapped("see /a/long/path", Some(5), ""),
            "see\n/a/long/path"
        );
        let plain = |columns| {
            anstream::adapter::strip_str(&hint("To see it", "vshelf list", columns, "")).to_string()
        };
        assert_eq!(plain(None), "To see it: vshelf list");
        assert_eq!(plain(Some(22)), "To see it: vshelf list");
        assert_eq!(plain(Some(21)), "To see it:\n  vshelf list");
    }

    #[test]
    fn styles_take_no_room() {
        let style = Palette::STRONG;
        let text = format!("{style}one{style:#} two");
        assert_eq!(wrapped(&text, Some(7), ""), text);
    }
}
