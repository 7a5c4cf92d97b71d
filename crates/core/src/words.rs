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

/// A message and its causes, outermost first, as a sentence without its period. A cause that the sentence has already is
/// left out.
pub fn with_causes(message: &str, causes: impl IntoIterator<Item = String>) -> String {
    let mut sentence = message.to_owned();
    for cause in causes {
        if !sentence.contains(&cause) {
            sentence = format!("{sentence}: {cause}");
        }
    }
    sentence
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
    fn a_cause_that_was_said_is_not_said_again() {
        let causes = ["the disk is full", "full"].map(str::to_owned);
        let sentence = with_causes("it cannot be written", causes);
        assert_eq!(sentence, "it cannot be written: the disk is full");
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
