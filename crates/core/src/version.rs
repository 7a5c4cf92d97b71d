//! Versions of any runtime: any number of numeric parts, pre-release, post-release and build parts.
//!
//! One type serves every publisher, so nothing here knows a runtime. What a publisher printed is
//! kept as it was (less a leading `v`), and a total order is laid over it.

use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};
use std::str::FromStr;

/// The longest version text that is read, in bytes; published ones stay far below it.
pub const LONGEST_VERSION: usize = 128;

/// How many numbers most versions have at most.
const USUAL_NUMBERS: usize = 4;

/// One published version.
///
/// The order is total and agrees with equality: numeric parts first (a missing part counts as 0),
/// then pre-releases below their final (Semantic Versioning 2.0.0, §11), then post-releases above
/// it (PEP 440, "Post-releases"), then build parts, and last the text itself.
#[derive(Clone, Debug)]
pub struct Version {
    text: Box<str>,
    numbers: Vec<u64>,
    pre: Vec<Identifier>,
    post: Vec<Identifier>,
    build: Vec<Identifier>,
}

/// One piece of a pre-release, post-release or build part.
///
/// The variants are in their order of precedence. Letters and digits that stand together (`rc10`)
/// are two identifiers, so that `rc2 < rc10`; SemVer would compare such a piece as one ASCII word,
/// which puts `rc10` first and is not what any publisher means by it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Identifier {
    /// PEP 440's `.devN`, which sorts below every alpha, beta and candidate.
    Dev,
    /// A whole number.
    Number(u64),
    /// Letters, in lower case.
    Word(Box<str>),
}

/// Why a text is not a version.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum VersionError {
    /// Nothing was given.
    #[error("a version needs at least one number")]
    Empty,
    /// The text is longer than [`LONGEST_VERSION`].
    #[error("a version has at most {LONGEST_VERSION} characters")]
    TooLong,
    /// The text does not begin with a whole number.
    #[error("a version begins with a number, such as 8.3.1")]
    NoNumber,
    /// A part is empty, as in `8..1` or `8.3-`.
    #[error("a part of the version is empty")]
    EmptyPart,
    /// A character that no version holds.
    #[error("{0:?} has no place in a version")]
    Character(char),
    /// A number over 2^64 - 1.
    #[error("a number in the version is too large")]
    NumberTooLarge,
}

/// Words that mark a pre-release when they follow a number directly, as in `1.23rc2`.
const ATTACHED_PRE_WORDS: [&str; 11] = [
    "a", "alpha", "b", "beta", "c", "dev", "ea", "m", "pre", "preview", "rc",
];

impl Version {
    /// The version as its publisher prints it, without a leading `v`.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// The numeric parts, most significant first; never empty.
    pub fn numbers(&self) -> &[u64] {
        &self.numbers
    }

    /// Whether this is a version before its final one (alpha, beta, candidate, nightly …).
    pub fn is_pre_release(&self) -> bool {
        !self.pre.is_empty()
    }

    /// Whether both have the same numeric parts, missing parts counting as 0.
    pub fn same_numbers(&self, other: &Version) -> bool {
        compare_numbers(&self.numbers, &other.numbers).is_eq()
    }

    /// The order without build parts and spelling, so that 6.0 and 6.0.0+7 are equal (SemVer
    /// 2.0.0, §10).
    pub fn precedence(&self, other: &Version) -> Ordering {
        compare_numbers(&self.numbers, &other.numbers)
            .then_with(|| match (self.pre.is_empty(), other.pre.is_empty()) {
                (true, true) => Ordering::Equal,
                (true, false) => Ordering::Greater,
                (false, true) => Ordering::Less,
                (false, false) => self.pre.cmp(&other.pre),
            })
            .then_with(|| self.post.cmp(&other.post))
    }

    /// Whether this version begins with `prefix`, by whole parts: 8.30.1 does not begin with 8.3.
    ///
    /// A prefix with a pre-release part (`10.0.0-rc`) also covers its numbered ones
    /// (`10.0.0-rc.2`). A part written with leading zeros (`24.04`) only covers versions that are
    /// written so too.
    pub fn begins_with(&self, prefix: &Version) -> bool {
        if !self.numbers.starts_with(&prefix.numbers) {
            return false;
        }
        let plain = prefix.pre.is_empty() && prefix.post.is_empty() && prefix.build.is_empty();
        if !plain {
            return self.numbers.len() == prefix.numbers.len()
                && self.pre.starts_with(&prefix.pre)
                && self.post.starts_with(&prefix.post)
                && self.build.starts_with(&prefix.build);
        }
        !prefix.has_leading_zeros() || self.text.starts_with(&*prefix.text)
    }

    /// The same numbers as a final version.
    pub fn to_final(&self) -> Version {
        Version::from_numbers(self.numbers.clone())
    }

    /// The same numbers cut or padded to `count` parts, as a final version.
    pub(crate) fn from_numbers(numbers: Vec<u64>) -> Version {
        let text = join_numbers(&numbers).into();
        Version {
            text,
            numbers,
            pre: Vec::new(),
            post: Vec::new(),
            build: Vec::new(),
        }
    }

    /// Whether some number is written as in `8.03`.
    pub(crate) fn has_leading_zeros(&self) -> bool {
        self.text
            .split(|c: char| !c.is_ascii_digit())
            .any(|part| part.len() > 1 && part.starts_with('0'))
    }
}

/// Compares numeric parts from the left, a missing part counting as 0.
pub(crate) fn compare_numbers(left: &[u64], right: &[u64]) -> Ordering {
    (0..left.len().max(right.len()))
        .map(|i| {
            let part = |of: &[u64]| of.get(i).copied().unwrap_or(0);
            part(left).cmp(&part(right))
        })
        .find(|order| order.is_ne())
        .unwrap_or(Ordering::Equal)
}

/// `[8, 3, 1]` as `8.3.1`.
pub(crate) fn join_numbers(numbers: &[u64]) -> String {
    let parts: Vec<String> = numbers.iter().map(u64::to_string).collect();
    parts.join(".")
}

impl Ord for Version {
    fn cmp(&self, other: &Self) -> Ordering {
        self.precedence(other)
            .then_with(|| self.build.cmp(&other.build))
            .then_with(|| self.numbers.len().cmp(&other.numbers.len()))
            .then_with(|| self.text.cmp(&other.text))
    }
}

impl PartialOrd for Version {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl PartialEq for Version {
    fn eq(&self, other: &Self) -> bool {
        self.text == other.text
    }
}

impl Eq for Version {}

impl Hash for Version {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.text.hash(state);
    }
}

impl fmt::Display for Version {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

impl serde::Serialize for Version {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.text)
    }
}

#[cfg(feature = "schemas")]
impl schemars::JsonSchema for Version {
    fn inline_schema() -> bool {
        true
    }

    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Version".into()
    }

    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        String::json_schema(generator)
    }
}

impl<'de> serde::Deserialize<'de> for Version {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

impl FromStr for Version {
    type Err = VersionError;

    /// Reads what publishers print: `8.3.1`, `v20.1.0`, `10.0.0-rc.2`, `1.23rc2`, `2.6.1-p33`,
    /// `8u402`, `0.13.0.post1`, `19.0.2+7`. White space around it is ignored.
    fn from_str(text: &str) -> Result<Self, VersionError> {
        let text = text.trim();
        let text = match text.strip_prefix(['v', 'V']) {
            Some(rest) if rest.starts_with(|c: char| c.is_ascii_digit()) => rest,
            _ => text,
        };
        if text.is_empty() {
            return Err(VersionError::Empty);
        }
        if text.len() > LONGEST_VERSION {
            return Err(VersionError::TooLong);
        }
        if let Some(bad) = text
            .chars()
            .find(|c| !c.is_ascii_alphanumeric() && !".-_+".contains(*c))
        {
            return Err(VersionError::Character(bad));
        }
        if !text.starts_with(|c: char| c.is_ascii_digit()) {
            return Err(VersionError::NoNumber);
        }
        let mut reader = Reader { rest: text };
        let mut numbers = Vec::with_capacity(USUAL_NUMBERS);
        numbers.push(reader.number()?);
        let mut version = Version {
            text: text.into(),
            numbers,
            pre: Vec::new(),
            post: Vec::new(),
            build: Vec::new(),
        };
        reader.read_tail(&mut version)?;
        Ok(version)
    }
}

/// Walks over a version's text, one part after the other.
struct Reader<'a> {
    rest: &'a str,
}

impl<'a> Reader<'a> {
    fn number(&mut self) -> Result<u64, VersionError> {
        let digits = self.take_while(|c| c.is_ascii_digit());
        if digits.is_empty() {
            return Err(VersionError::EmptyPart);
        }
        digits.parse().map_err(|_| VersionError::NumberTooLarge)
    }

    fn take_while(&mut self, wanted: impl Fn(char) -> bool) -> &'a str {
        let end = self.rest.find(|c| !wanted(c)).unwrap_or(self.rest.len());
        let (taken, rest) = self.rest.split_at(end);
        self.rest = rest;
        taken
    }

    /// Everything behind the first number: further numbers, then at most one pre-release part, one
    /// post-release part and one build part.
    fn read_tail(&mut self, version: &mut Version) -> Result<(), VersionError> {
        while let Some(next) = self.rest.chars().next() {
            let in_numbers = version.pre.is_empty() && version.post.is_empty();
            let behind = &self.rest[1..];
            match next {
                '+' => {
                    self.rest = "";
                    return identifiers(behind, &mut version.build);
                }
                '.' if in_numbers && behind.starts_with(|c: char| c.is_ascii_digit()) => {
                    self.rest = behind;
                    version.numbers.push(self.number()?);
                }
                // `8u402` and the older `1.8.0_402`: an update number is one more part.
                'u' | '_' if in_numbers && behind.starts_with(|c: char| c.is_ascii_digit()) => {
                    self.rest = behind;
                    version.numbers.push(self.number()?);
                }
                '-' | '.' | '_' => {
                    self.rest = behind;
                    let hyphen = next == '-';
                    self.read_suffix(version, hyphen)?;
                }
                _ => self.read_suffix(version, false)?,
            }
        }
        Ok(())
    }

    /// A worded part: `post1`, `p33`, `dev3`, or anything that marks a pre-release.
    fn read_suffix(&mut self, version: &mut Version, hyphen: bool) -> Result<(), VersionError> {
        let word = self.rest[..self
            .rest
            .find(|c: char| !c.is_ascii_alphabetic())
            .unwrap_or(self.rest.len())]
            .to_ascii_lowercase();
        let digits_follow = self.rest[word.len()..].starts_with(|c: char| c.is_ascii_digit());
        let part = self.take_while(|c| c != '+' && (hyphen || c != '-'));
        if part.is_empty() {
            return Err(VersionError::EmptyPart);
        }
        let numbered = digits_follow || word.len() == part.len();
        match word.as_str() {
            // RubyGems-style patch levels and PEP 440 post-releases come after the final.
            "p" | "post" | "r" | "rev" if numbered && version.pre.is_empty() => {
                identifiers(part, &mut version.post)
            }
            "dev" if !hyphen => {
                version.pre.push(Identifier::Dev);
                // PEP 440 normalises what may stand before the number away.
                match part[3..].trim_start_matches(['.', '-', '_']) {
                    "" => Ok(()),
                    number => identifiers(number, &mut version.pre),
                }
            }
            // `1.0.2k`: a lone letter behind the numbers is a patch, unless it is PEP 440's a, b, c.
            _ if !hyphen && !word.is_empty() && !ATTACHED_PRE_WORDS.contains(&word.as_str()) => {
                identifiers(part, &mut version.post)
            }
            _ => identifiers(part, &mut version.pre),
        }
    }
}

/// Splits `rc.2`, `rc2` or `alpha-1` into identifiers and appends them.
fn identifiers(part: &str, into: &mut Vec<Identifier>) -> Result<(), VersionError> {
    for piece in part.split(['.', '-', '_', '+']) {
        if piece.is_empty() {
            return Err(VersionError::EmptyPart);
        }
        let mut rest = piece;
        while let Some(first) = rest.chars().next() {
            let digits = first.is_ascii_digit();
            let end = rest
                .find(|c: char| c.is_ascii_digit() != digits)
                .unwrap_or(rest.len());
            let (head, tail) = rest.split_at(end);
            into.push(if digits {
                // A hash such as `2016100609987d242b` may start with more digits than fit.
                head.parse()
                    .map_or_else(|_| Identifier::Word(head.into()), Identifier::Number)
            } else {
                Identifier::Word(head.to_ascii_lowercase().into())
            });
            rest = tail;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn version(text: &str) -> Version {
        text.parse().unwrap_or_else(|e| panic!("{text}: {e}"))
    }

    #[test]
    fn published_versions_are_ordered_as_their_publishers_mean_them() {
        let ascending = [
            "0.10.48",
            "0.13.0",
            "0.13.0.post1",
            "1.0.2",
            "1.0.2k",
            "1.23.dev3",
            "1.23.dev.4",
            "1.23a1",
            "1.23rc2",
            "1.23rc10",
            "1.23",
            "1.23.0",
            "2.6.1-p0",
            "2.6.1-p33",
            "6.2",
            "6.2.20",
            "6.20.0",
            "8u40",
            "8u402",
            "10.0.0-alpha.1",
            "10.0.0-alpha.2",
            "10.0.0-beta.1",
            "10.0.0-rc.1",
            "10.0.0",
            "19.0.2",
            "19.0.2+7",
            "19.0.2+10",
            "27.0.0-alpha.0.1.0",
            "27.0.0-alpha.0.1.1",
            "27.0.0",
            "28.1.2.3",
        ];
        for pair in ascending.windows(2) {
            assert!(
                version(pair[0]) < version(pair[1]),
                "{} < {}",
                pair[0],
                pair[1]
            );
        }
    }

    #[rstest]
    #[case("v8.3.1", "8.3.1")]
    #[case(" 8.3.1\n", "8.3.1")]
    #[case("2.6.1-p33", "2.6.1-p33")]
    #[case("8u402", "8u402")]
    #[case("7.0.0-test2016100609987d242b", "7.0.0-test2016100609987d242b")]
    fn prints_as_published(#[case] typed: &str, #[case] printed: &str) {
        assert_eq!(version(typed).to_string(), printed);
    }

    #[rstest]
    #[case("", VersionError::Empty)]
    #[case("eelgrass", VersionError::NoNumber)]
    #[case("8..1", VersionError::EmptyPart)]
    #[case("8.3-", VersionError::EmptyPart)]
    #[case("8.3+", VersionError::EmptyPart)]
    #[case("8.3/../..", VersionError::Character('/'))]
    #[case("8.3.1\u{1b}[2J", VersionError::Character('\u{1b}'))]
    #[case("99999999999999999999", VersionError::NumberTooLarge)]
    fn refuses_what_is_no_version(#[case] text: &str, #[case] error: VersionError) {
        assert_eq!(text.parse::<Version>(), Err(error));
    }

    #[rstest]
    #[case("8.3.1", "8", true)]
    #[case("8.3.1", "8.3", true)]
    #[case("8.30.1", "8.3", false)]
    #[case("80.1.0", "8", false)]
    #[case("8u402", "8", true)]
    #[case("19.0.2+7", "19.0.2", true)]
    #[case("10.0.0-rc.2", "10.0.0-rc", true)]
    #[case("10.0.0-rc.2", "10", true)]
    #[case("10.0.0", "10.0.0-rc", false)]
    #[case("6.3.0", "6.03", false)]
    #[case("24.04.1", "24.04", true)]
    fn beginnings_are_whole_parts(#[case] of: &str, #[case] prefix: &str, #[case] expected: bool) {
        assert_eq!(version(of).begins_with(&version(prefix)), expected);
    }

    #[rstest]
    #[case("1.23rc2", true)]
    #[case("10.0.0-alpha.1", true)]
    #[case("2.6.1-p33", false)]
    #[case("0.13.0.post1", false)]
    #[case("19.0.2+7", false)]
    #[case("1.0.2k", false)]
    fn pre_releases_are_told_from_patches(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(version(text).is_pre_release(), expected);
    }

    fn any_version() -> impl Strategy<Value = String> {
        let numbers = prop::collection::vec(0u64..30, 1..5);
        let tail = prop_oneof![
            4 => Just(String::new()),
            1 => "-(alpha|beta|rc)\\.[0-9]{1,2}",
            1 => "(a|b|rc)[0-9]{1,2}",
            1 => "-p[0-9]{1,3}",
            1 => "\\.post[0-9]",
            1 => "\\+[0-9]{1,2}",
        ];
        (numbers, tail).prop_map(|(numbers, tail)| join_numbers(&numbers) + &tail)
    }

    proptest! {
        #[test]
        fn reading_what_was_printed_gives_the_same(text in any_version()) {
            prop_assert_eq!(version(&text).to_string(), text);
        }

        #[test]
        fn the_order_is_total(a in any_version(), b in any_version(), c in any_version()) {
            let (a, b, c) = (version(&a), version(&b), version(&c));
            prop_assert_eq!(a.cmp(&b), b.cmp(&a).reverse());
            prop_assert_eq!(a.cmp(&b).is_eq(), a == b);
            if a <= b && b <= c {
                prop_assert!(a <= c);
            }
        }

        #[test]
        fn no_text_makes_the_reader_panic(text in "\\PC{0,40}") {
            if let Ok(read) = text.parse::<Version>() {
                prop_assert!(!read.numbers().is_empty());
            }
        }
    }
}
