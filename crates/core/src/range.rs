//! Version ranges as the npm registry's package format defines them.
//!
//! The grammar is the "Range Grammar" of that format's documentation: comparators, hyphen ranges,
//! x-ranges, tilde and caret, joined by spaces (and) and `||` (or). Versions may have any number of
//! numeric parts; three of them make a comparator exact, as in the original.

use std::fmt;
use std::str::FromStr;

use serde::{Deserialize, Serialize};

use crate::version::{Version, VersionError, compare_numbers};

/// The longest range text that is read, in bytes.
pub const LONGEST_RANGE: usize = 256;

/// A set of versions: satisfied when every comparator of one of its alternatives is.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(
    feature = "schemas",
    derive(schemars::JsonSchema),
    schemars(with = "String")
)]
#[serde(try_from = "String", into = "String")]
pub struct Range {
    text: Box<str>,
    alternatives: Vec<Vec<Comparator>>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
struct Comparator {
    operator: Operator,
    version: Version,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Operator {
    /// Below every version that begins with these numbers, whatever stands behind them.
    Before,
    Less,
    LessOrEqual,
    Equal,
    GreaterOrEqual,
    Greater,
}

/// Why a text is not a range.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum RangeError {
    /// The text is longer than [`LONGEST_RANGE`].
    #[error("a range has at most {LONGEST_RANGE} characters")]
    TooLong,
    /// An operator with no version behind it.
    #[error("{0:?} has no version behind it")]
    Dangling(String),
    /// A piece that should be a version and is not.
    #[error("{piece:?} in the range is not a version")]
    Piece {
        /// What stands there.
        piece: String,
        /// What is wrong with it.
        #[source]
        source: VersionError,
    },
    /// A part behind an x, as in `1.x.3-rc.1`.
    #[error("{0:?} in the range has more behind its x")]
    BehindX(String),
}

impl Range {
    /// The range as it was typed.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// Whether `text` is written as a range rather than as a version or a name.
    pub fn looks_like_one(text: &str) -> bool {
        let numbers = text.strip_prefix(['v', 'V']).unwrap_or(text);
        text.contains(['<', '>', '=', '^', '~', '|', '*', ' '])
            || (numbers.starts_with(|c: char| c.is_ascii_digit())
                && numbers
                    .split('.')
                    .any(|part| part.eq_ignore_ascii_case("x")))
    }

    /// Whether `version` is in the range.
    ///
    /// A pre-release is in it only where the same alternative names a pre-release of the same
    /// numbers ("Prerelease Tags" in the format's documentation).
    pub fn contains(&self, version: &Version) -> bool {
        self.alternatives.iter().any(|comparators| {
            comparators.iter().all(|c| c.admits(version))
                && (!version.is_pre_release()
                    || comparators
                        .iter()
                        .any(|c| c.version.is_pre_release() && c.version.same_numbers(version)))
        })
    }
}

impl TryFrom<String> for Range {
    type Error = RangeError;

    fn try_from(text: String) -> Result<Range, RangeError> {
        text.parse()
    }
}

impl From<Range> for String {
    fn from(range: Range) -> String {
        range.text.into()
    }
}

impl Comparator {
    fn admits(&self, version: &Version) -> bool {
        if self.operator == Operator::Before {
            return compare_numbers(version.numbers(), self.version.numbers()).is_lt();
        }
        let order = version.precedence(&self.version);
        match self.operator {
            Operator::Before | Operator::Less => order.is_lt(),
            Operator::LessOrEqual => order.is_le(),
            Operator::Equal => order.is_eq(),
            Operator::GreaterOrEqual => order.is_ge(),
            Operator::Greater => order.is_gt(),
        }
    }
}

impl fmt::Display for Range {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

impl FromStr for Range {
    type Err = RangeError;

    fn from_str(text: &str) -> Result<Self, RangeError> {
        let text = text.trim();
        if text.len() > LONGEST_RANGE {
            return Err(RangeError::TooLong);
        }
        let alternatives = text
            .split("||")
            .map(read_alternative)
            .collect::<Result<_, _>>()?;
        Ok(Range {
            text: text.into(),
            alternatives,
        })
    }
}

/// One side of `||`: a hyphen range, or comparators joined by spaces.
fn read_alternative(text: &str) -> Result<Vec<Comparator>, RangeError> {
    if let Some((low, high)) = text.split_once(" - ") {
        let (low, high) = (Partial::read(low.trim())?, Partial::read(high.trim())?);
        let mut comparators = low.at_least();
        comparators.extend(high.at_most());
        return Ok(comparators);
    }
    let mut comparators = Vec::new();
    let mut rest = text.trim();
    while !rest.is_empty() {
        let operator_end = rest.find(|c| !"<>=^~".contains(c)).unwrap_or(rest.len());
        let (operator, behind) = rest.split_at(operator_end);
        let behind = behind.trim_start();
        let end = behind
            .find(|c: char| c.is_whitespace() || "<>=^~".contains(c))
            .unwrap_or(behind.len());
        let (piece, next) = behind.split_at(end);
        if piece.is_empty() {
            return Err(RangeError::Dangling(operator.to_owned()));
        }
        let partial = Partial::read(piece)?;
        comparators.extend(match operator {
            "" | "=" => partial.exactly(),
            "^" => partial.caret(),
            "~" | "~>" => partial.tilde(),
            ">=" => partial.at_least(),
            "<=" => partial.at_most(),
            ">" => partial.above(),
            "<" => partial.below(),
            _ => return Err(RangeError::Dangling(operator.to_owned())),
        });
        rest = next.trim_start();
    }
    Ok(comparators)
}

/// A version with some of its parts left open: `8`, `8.x`, `8.3.1-rc.1`, `*`.
struct Partial {
    /// The numbers given in front of the first `x`.
    numbers: Vec<u64>,
    /// The whole version, where at least three parts are given.
    whole: Option<Version>,
}

impl Partial {
    fn read(piece: &str) -> Result<Partial, RangeError> {
        let bare = piece.strip_prefix(['v', 'V']).unwrap_or(piece);
        let is_open = |part: &&str| matches!(*part, "x" | "X" | "*");
        let closed: Vec<&str> = bare.split('.').take_while(|p| !is_open(p)).collect();
        let opened = closed.len() < bare.split('.').count();
        if opened {
            if bare
                .split('.')
                .skip(closed.len())
                .any(|p| !is_open(&p) && p.parse::<u64>().is_err())
            {
                return Err(RangeError::BehindX(piece.to_owned()));
            }
            if closed.is_empty() {
                return Ok(Partial {
                    numbers: Vec::new(),
                    whole: None,
                });
            }
        }
        let version: Version = closed
            .join(".")
            .parse()
            .map_err(|source| RangeError::Piece {
                piece: piece.to_owned(),
                source,
            })?;
        let numbers = version.numbers().to_vec();
        let whole =
            (!opened && (numbers.len() >= 3 || version.is_pre_release())).then_some(version);
        Ok(Partial { numbers, whole })
    }

    fn low(&self) -> Version {
        match &self.whole {
            Some(version) => version.clone(),
            None if self.numbers.is_empty() => Version::from_numbers(vec![0]),
            None => Version::from_numbers(self.numbers.clone()),
        }
    }

    /// The first numbers behind all that begin with the first `count` of these.
    fn behind(&self, count: usize) -> Version {
        let mut numbers = self.numbers[..count].to_vec();
        if let Some(last) = numbers.last_mut() {
            *last = last.saturating_add(1);
        }
        Version::from_numbers(numbers)
    }

    fn comparator(operator: Operator, version: Version) -> Vec<Comparator> {
        vec![Comparator { operator, version }]
    }

    /// From this version up to the end of those that share its first `count` numbers.
    fn up_to(&self, count: usize) -> Vec<Comparator> {
        let mut comparators = self.at_least();
        if count > 0 {
            comparators.extend(Self::comparator(Operator::Before, self.behind(count)));
        }
        comparators
    }

    fn exactly(&self) -> Vec<Comparator> {
        match &self.whole {
            Some(version) => Self::comparator(Operator::Equal, version.clone()),
            None => self.up_to(self.numbers.len()),
        }
    }

    fn caret(&self) -> Vec<Comparator> {
        let first_set = self.numbers.iter().position(|n| *n != 0);
        self.up_to(first_set.map_or(self.numbers.len(), |i| i + 1))
    }

    fn tilde(&self) -> Vec<Comparator> {
        self.up_to(self.numbers.len().min(2))
    }

    fn at_least(&self) -> Vec<Comparator> {
        Self::comparator(Operator::GreaterOrEqual, self.low())
    }

    fn at_most(&self) -> Vec<Comparator> {
        match &self.whole {
            Some(version) => Self::comparator(Operator::LessOrEqual, version.clone()),
            None if self.numbers.is_empty() => self.at_least(),
            None => Self::comparator(Operator::Before, self.behind(self.numbers.len())),
        }
    }

    fn above(&self) -> Vec<Comparator> {
        match &self.whole {
            Some(version) => Self::comparator(Operator::Greater, version.clone()),
            None if self.numbers.is_empty() => Self::nothing(),
            None => Self::comparator(Operator::GreaterOrEqual, self.behind(self.numbers.len())),
        }
    }

    fn below(&self) -> Vec<Comparator> {
        match &self.whole {
            Some(version) => Self::comparator(Operator::Less, version.clone()),
            None if self.numbers.is_empty() => Self::nothing(),
            None => Self::comparator(
                Operator::Before,
                Version::from_numbers(self.numbers.clone()),
            ),
        }
    }

    fn nothing() -> Vec<Comparator> {
        Self::comparator(Operator::Before, Version::from_numbers(vec![0]))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn version(text: &str) -> Version {
        text.parse().unwrap()
    }

    #[rstest]
    #[case("8.3.1", "8.3.1", "8.3.0 8.3.2 8.3.1-rc.1")]
    #[case("=8.3", "8.3.0 8.3.9", "8.4.0 8.30.0 8.3.0-rc.1")]
    #[case("8.x", "8.0.0 8.9.9", "9.0.0 7.9.9 8.0.0-beta.1")]
    #[case("8.3.*", "8.3.0", "8.4.0")]
    #[case("*", "0.0.1 99.0.0", "1.0.0-rc.1")]
    #[case("", "0.0.1", "1.0.0-rc.1")]
    #[case("^8.1", "8.1.0 8.9.0", "8.0.9 9.0.0 9.0.0-alpha.1")]
    #[case("^0.2.3", "0.2.3 0.2.9", "0.2.2 0.3.0")]
    #[case("^0.0.3", "0.0.3", "0.0.4")]
    #[case("^0.x", "0.0.1 0.9.0", "1.0.0")]
    #[case("^0.0", "0.0.0 0.0.9", "0.1.0")]
    #[case("~8.1.2", "8.1.2 8.1.20", "8.1.1 8.2.0")]
    #[case("~> 8.1", "8.1.0", "8.2.0")]
    #[case("~8", "8.0.0 8.9.0", "9.0.0")]
    #[case(">=6 <8", "6.0.0 7.9.9", "5.9.9 8.0.0 8.0.0-rc.1")]
    #[case(">= 6 < 8", "6.0.0 7.9.9", "8.0.0")]
    #[case(">=6<8", "6.0.0 7.9.9", "8.0.0")]
    #[case(">6", "7.0.0", "6.9.9")]
    #[case(">6.2", "6.3.0", "6.2.9")]
    #[case(">6.2.0", "6.2.1", "6.2.0")]
    #[case("<=6", "6.9.9 1.0.0", "7.0.0")]
    #[case("<=6.2.1", "6.2.1", "6.2.2")]
    #[case("<6.2", "6.1.9", "6.2.0")]
    #[case(">*", "", "1.0.0")]
    #[case("6 || 8", "6.1.0 8.1.0", "7.1.0")]
    #[case("6||>=9.1", "6.0.0 9.1.0 12.0.0", "7.0.0 9.0.9")]
    #[case("1.2 - 2.3", "1.2.0 2.3.9", "1.1.9 2.4.0")]
    #[case("1.2.3 - 2.3.4", "1.2.3 2.3.4", "1.2.2 2.3.5")]
    #[case(
        ">=10.0.0-beta.1",
        "10.0.0-beta.1 10.0.0-rc.1 10.0.0 11.0.0",
        "10.0.0-alpha.9 11.0.0-rc.1"
    )]
    #[case("10.0.0-rc.1", "10.0.0-rc.1", "10.0.0-rc.2 10.0.0")]
    #[case("^10.0.0-rc.1", "10.0.0-rc.2 10.1.0", "10.0.0-beta.2 11.0.0-alpha.1")]
    #[case(">=v6.0.0", "6.0.0", "5.0.0")]
    #[case("19.0.2", "19.0.2+7", "19.0.3+1")]
    #[case("~1.2.3.4", "1.2.3.4 1.2.9.0", "1.2.3.3 1.3.0.0")]
    fn covers_what_the_package_format_says(
        #[case] range: &str,
        #[case] inside: &str,
        #[case] outside: &str,
    ) {
        let range: Range = range.parse().unwrap();
        for text in inside.split_whitespace() {
            assert!(range.contains(&version(text)), "{range:?} covers {text}");
        }
        for text in outside.split_whitespace() {
            assert!(
                !range.contains(&version(text)),
                "{range:?} leaves out {text}"
            );
        }
    }

    #[rstest]
    #[case(">=", "\">=\" has no version behind it")]
    #[case(">=6 <", "\"<\" has no version behind it")]
    #[case("=>6", "\"=>\" has no version behind it")]
    #[case("^eelgrass", "\"eelgrass\" in the range is not a version")]
    #[case("1.x.rc", "\"1.x.rc\" in the range has more behind its x")]
    fn says_what_is_wrong(#[case] text: &str, #[case] message: &str) {
        assert_eq!(text.parse::<Range>().unwrap_err().to_string(), message);
    }

    proptest! {
        #[test]
        fn a_caret_range_covers_its_own_start(numbers in prop::collection::vec(0u64..50, 3..4)) {
            let start = Version::from_numbers(numbers);
            for operator in ["^", "~", ">=", "<=", "="] {
                let range: Range = format!("{operator}{start}").parse().unwrap();
                prop_assert!(range.contains(&start), "{} covers {}", range, start);
            }
        }

        #[test]
        fn no_text_makes_the_reader_panic(text in "[ -~]{0,40}") {
            if let Ok(range) = text.parse::<Range>() {
                range.contains(&version("8.3.1"));
            }
        }
    }
}
