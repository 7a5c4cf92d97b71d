//! Counted things, lists and foreign text, as parts of sentences.

use std::fmt;

/// A number of things, spelled with the right form of the word.
#[derive(Clone, Copy, Debug)]
pub struct Count<'a>(pub usize, pub &'a str);

impl fmt::Display for Count<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let Count(count, word) = self;
        match (count, word.strip_suffix('y')) {
            (1, _) => write!(f, "1 {word}"),
            (_, Some(stem)) if !stem.ends_with(['a', 'e', 'o', 'u']) => {
                write!(f, "{count} {stem}ies")
            }
            _ => write!(f, "{count} {word}s"),
        }
    }
}

/// The items joined as in a sentence: `8`, `8 and 6`, `9, 8 and 6`.
pub fn listed<T: fmt::Display>(items: &[T], last_word: &str) -> String {
    match items {
        [] => String::new(),
        [one] => one.to_string(),
        [most @ .., last] => {
            let most: Vec<String> = most.iter().map(T::to_string).collect();
            format!("{} {last_word} {last}", most.join(", "))
        }
    }
}

/// Text from a network or file as a terminal may see it: control characters are spelled out.
pub fn printable(text: &str) -> String {
    let mut safe = String::with_capacity(text.len());
    for c in text.chars() {
        // Beside the control characters, those that turn the direction of text.
        let turns = matches!(c, '\u{202a}'..='\u{202e}' | '\u{2066}'..='\u{2069}');
        if c.is_control() || turns {
            safe.extend(c.escape_default());
        } else {
            safe.push(c);
        }
    }
    safe
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn foreign_text_cannot_drive_the_terminal() {
        assert_eq!(printable("8\u{1b}[2J\u{202e}x"), "8\\u{1b}[2J\\u{202e}x");
    }

    #[test]
    fn counted_words_take_their_plural() {
        let counted = [
            Count(1, "install"),
            Count(3, "install"),
            Count(2, "entry"),
            Count(2, "day"),
        ];
        assert_eq!(
            listed(&counted, "and"),
            "1 install, 3 installs, 2 entries and 2 days"
        );
    }
}
