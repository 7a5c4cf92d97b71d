//! What a person types for a version: `[runtime@][publisher/]selector`.

use std::fmt;
use std::str::FromStr;

use crate::range::{Range, RangeError};
use crate::version::{Version, VersionError};

/// The longest name (label, channel, code name, runtime, publisher) that is read, in bytes.
pub const LONGEST_NAME: usize = 64;

/// A selector with the runtime and publisher it was asked of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Request {
    /// The runtime in front of `@`.
    pub runtime: Option<String>,
    /// The publisher in front of `/`.
    pub publisher: Option<String>,
    /// The rest.
    pub selector: Selector,
}

impl Request {
    /// The same, asked of no runtime by name.
    pub fn without_runtime(&self) -> Request {
        Request {
            runtime: None,
            ..self.clone()
        }
    }
}

/// One way to say which version is meant.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Selector {
    /// A version or the beginning of one: `8.3.1`, `8.3`, `8`.
    Version(Version),
    /// A range: `>=6 <8`, `^8.1`.
    Range(Range),
    /// The highest final version.
    Latest,
    /// The newest release of the newest line in long-term support.
    Lts,
    /// The publisher's stable channel, else the newest supported release.
    Stable,
    /// The newest release of all, pre-releases included.
    Preview,
    /// The first copy on PATH that is not on the shelf.
    System,
    /// What new shells get.
    Default,
    /// What this shell used before.
    Previous,
    /// A label, a channel or a code name.
    Name(String),
}

/// Words that are selectors by themselves; no label may take one.
pub const KEYWORDS: [&str; 7] = [
    "latest", "lts", "stable", "preview", "system", "default", "previous",
];

/// Why a text is not a selector.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum SelectorError {
    /// Nothing was typed.
    #[error("an empty text is not a selector")]
    Empty,
    /// It begins like a version and is none.
    #[error("{text:?} is not a version")]
    Version {
        /// What was typed.
        text: String,
        /// What is wrong with it.
        #[source]
        source: VersionError,
    },
    /// It looks like a range and is none.
    #[error("{text:?} is not a range")]
    Range {
        /// What was typed.
        text: String,
        /// What is wrong with it.
        #[source]
        source: RangeError,
    },
    /// A name with a character that names do not have, or one that is too long.
    #[error(
        "{0:?} is not a name; names have letters, digits, '.', '_' and '-', and begin with a letter"
    )]
    Name(String),
}

/// Whether `text` can be the name of a label, channel, runtime or publisher.
pub fn is_name(text: &str) -> bool {
    text.len() <= LONGEST_NAME
        && text.starts_with(|c: char| c.is_ascii_alphabetic())
        && text
            .chars()
            .all(|c| c.is_ascii_alphanumeric() || "._-".contains(c))
}

/// Whether `text` can be what people call a line, such as `8` or `Eelgrass`: letters, digits and what
/// joins words, nothing that a terminal or a shell understands.
pub fn is_line_name(text: &str) -> bool {
    let is_part = |c: char| c.is_alphanumeric() || "._+- ".contains(c);
    text.starts_with(char::is_alphanumeric)
        && text.len() <= LONGEST_NAME
        && text.chars().all(is_part)
}

/// Whether `text` can be the id of a publisher: a name in which no digit follows a `-`, so that a key
/// such as `gull-point-8.3.1` says where its version begins.
pub fn is_publisher(text: &str) -> bool {
    let splits = text.split('-').skip(1);
    let has_digit = splits
        .into_iter()
        .any(|part| part.starts_with(|c: char| c.is_ascii_digit()));
    is_name(text) && !has_digit
}

impl Selector {
    /// Whether what it stands for can change without anyone changing the selector, when something
    /// new is published or a line enters another phase.
    pub fn is_moving(&self) -> bool {
        match self {
            Selector::Version(version) => version.numbers().len() < 3 && !version.is_pre_release(),
            Selector::System | Selector::Previous => false,
            _ => true,
        }
    }
}

impl FromStr for Selector {
    type Err = SelectorError;

    fn from_str(text: &str) -> Result<Self, SelectorError> {
        let text = text.trim();
        match text.to_ascii_lowercase().as_str() {
            "" => return Err(SelectorError::Empty),
            "latest" => return Ok(Selector::Latest),
            "lts" => return Ok(Selector::Lts),
            "stable" => return Ok(Selector::Stable),
            "preview" => return Ok(Selector::Preview),
            "system" => return Ok(Selector::System),
            "default" => return Ok(Selector::Default),
            "previous" | "-" => return Ok(Selector::Previous),
            _ => {}
        }
        if Range::looks_like_one(text) {
            return text
                .parse()
                .map(Selector::Range)
                .map_err(|source| SelectorError::Range {
                    text: text.to_owned(),
                    source,
                });
        }
        match text.parse() {
            Ok(version) => Ok(Selector::Version(version)),
            Err(VersionError::NoNumber) if is_name(text) => Ok(Selector::Name(text.to_owned())),
            Err(source) if text.starts_with(|c: char| c.is_ascii_digit()) => {
                Err(SelectorError::Version {
                    text: text.to_owned(),
                    source,
                })
            }
            Err(_) => Err(SelectorError::Name(text.to_owned())),
        }
    }
}

impl fmt::Display for Selector {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Selector::Version(version) => version.fmt(f),
            Selector::Range(range) => range.fmt(f),
            Selector::Latest => f.pad("latest"),
            Selector::Lts => f.pad("lts"),
            Selector::Stable => f.pad("stable"),
            Selector::Preview => f.pad("preview"),
            Selector::System => f.pad("system"),
            Selector::Default => f.pad("default"),
            Selector::Previous => f.pad("previous"),
            Selector::Name(name) => f.pad(name),
        }
    }
}

impl FromStr for Request {
    type Err = SelectorError;

    fn from_str(text: &str) -> Result<Self, SelectorError> {
        let text = text.trim();
        let (runtime, rest) = match text.split_once('@') {
            Some((runtime, rest)) => (Some(read_name(runtime)?), rest),
            None => (None, text),
        };
        let (publisher, rest) = match rest.split_once('/') {
            Some((publisher, rest)) => (Some(read_name(publisher)?), rest),
            None => (None, rest),
        };
        Ok(Request {
            selector: match (&runtime, rest) {
                // `deno@` is `deno@stable`, as the bare name is.
                (Some(_), "") if publisher.is_none() => Selector::Stable,
                _ => rest.parse()?,
            },
            runtime,
            publisher,
        })
    }
}

fn read_name(text: &str) -> Result<String, SelectorError> {
    if is_name(text) {
        Ok(text.to_owned())
    } else {
        Err(SelectorError::Name(text.to_owned()))
    }
}

impl fmt::Display for Request {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        if let Some(runtime) = &self.runtime {
            write!(f, "{runtime}@")?;
        }
        if let Some(publisher) = &self.publisher {
            write!(f, "{publisher}/")?;
        }
        self.selector.fmt(f)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn version(text: &str) -> Selector {
        Selector::Version(text.parse().unwrap())
    }

    #[rstest]
    #[case("8.3.1", version("8.3.1"))]
    #[case("v8", version("8"))]
    #[case("LTS", Selector::Lts)]
    #[case("-", Selector::Previous)]
    #[case("Eelgrass", Selector::Name("Eelgrass".into()))]
    #[case("gull-point", Selector::Name("gull-point".into()))]
    #[case(">=6 <8", Selector::Range(">=6 <8".parse().unwrap()))]
    #[case("8.x", Selector::Range("8.x".parse().unwrap()))]
    #[case("v8.X", Selector::Range("v8.X".parse().unwrap()))]
    #[case("6 || 8", Selector::Range("6 || 8".parse().unwrap()))]
    fn reads_every_form(#[case] text: &str, #[case] expected: Selector) {
        assert_eq!(text.parse(), Ok(expected));
    }

    #[rstest]
    #[case("marram@8", Some("marram"), None)]
    #[case("dunefield/8", None, Some("dunefield"))]
    #[case("marram@dunefield/8", Some("marram"), Some("dunefield"))]
    fn reads_runtime_and_publisher(
        #[case] text: &str,
        #[case] runtime: Option<&str>,
        #[case] publisher: Option<&str>,
    ) {
        let request: Request = text.parse().unwrap();
        assert_eq!(request.runtime.as_deref(), runtime);
        assert_eq!(request.publisher.as_deref(), publisher);
        assert_eq!(request.selector, version("8"));
        assert_eq!(request.to_string(), text);
    }

    #[rstest]
    #[case("", "an empty text is not a selector")]
    #[case("8..3", "\"8..3\" is not a version")]
    #[case("8.3.$(id)", "\"8.3.$(id)\" is not a version")]
    #[case(">=", "\">=\" is not a range")]
    #[case(
        "../../etc",
        "\"..\" is not a name; names have letters, digits, '.', '_' and '-', and begin with a letter"
    )]
    #[case(
        "gull;point",
        "\"gull;point\" is not a name; names have letters, digits, '.', '_' and '-', and begin with a letter"
    )]
    fn malformed_text_is_refused_by_name(#[case] text: &str, #[case] message: &str) {
        assert_eq!(text.parse::<Request>().unwrap_err().to_string(), message);
    }

    #[rstest]
    #[case("8", true)]
    #[case("8.3", true)]
    #[case("8.3.1", false)]
    #[case("lts", true)]
    #[case("^8.1", true)]
    #[case("system", false)]
    fn moving_selectors_are_told_from_fixed_ones(#[case] text: &str, #[case] moving: bool) {
        assert_eq!(text.parse::<Selector>().unwrap().is_moving(), moving);
    }

    proptest! {
        #[test]
        fn what_is_printed_reads_back_the_same(text in "[a-z]{0,3}@?[a-z]{0,3}/?[a-z0-9.<>=^~ -]{1,12}") {
            if let Ok(request) = text.parse::<Request>() {
                prop_assert_eq!(request.to_string().parse::<Request>(), Ok(request));
            }
        }
    }
}
