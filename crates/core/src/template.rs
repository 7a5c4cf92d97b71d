//! Texts with places in them, such as `marram-{version}.tar.xz`: what publishers, package tools and
//! project files write, as a definition describes it.

use std::fmt;

use serde::{Deserialize, Serialize};

use crate::version::Version;

/// A text with places in braces that stand for something.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(
    feature = "schemas",
    derive(schemars::JsonSchema),
    schemars(with = "String")
)]
#[serde(try_from = "String", into = "String")]
pub struct Template {
    text: String,
    pieces: Vec<Piece>,
}

#[derive(Clone, Debug, PartialEq, Eq)]
enum Piece {
    Text(String),
    Place(String),
}

/// Why a text is no template.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum TemplateError {
    /// A brace without its partner.
    #[error("a brace in it has no partner")]
    Brace,
}

impl Template {
    /// The template as it was written.
    pub fn as_str(&self) -> &str {
        &self.text
    }

    /// The names of its places, in order.
    pub fn places(&self) -> impl Iterator<Item = &str> {
        self.pieces.iter().filter_map(|piece| match piece {
            Piece::Place(name) => Some(name.as_str()),
            Piece::Text(_) => None,
        })
    }

    /// Whether two of its places stand side by side, which nothing would tell apart in a text.
    pub fn is_ambiguous(&self) -> bool {
        let is_place = |piece: &Piece| matches!(piece, Piece::Place(_));
        self.pieces.windows(2).any(|pair| pair.iter().all(is_place))
    }

    /// Whether it can be looked for in texts, and has this place once, each of the `others` at most once,
    /// and no further ones.
    pub fn has_places(&self, needed: &str, others: &[&str]) -> bool {
        let count = |name: &str| self.places().filter(|place| *place == name).count();
        !self.is_ambiguous()
            && count(needed) == 1
            && others.iter().all(|other| count(other) <= 1)
            && self
                .places()
                .all(|place| place == needed || others.contains(&place))
    }

    /// What stands in each place of `text`, in order, where all of the text fits. `allows` says whether
    /// a value can stand in a place. Of several ways to fit, that with the shortest values in front.
    pub fn values<'t>(
        &self,
        text: &'t str,
        allows: &dyn Fn(&str, &str) -> bool,
    ) -> Option<Vec<&'t str>> {
        let mut values = Vec::new();
        fits(&self.pieces, text, allows, &mut values).then_some(values)
    }

    /// The text with what `value` says in each place.
    pub fn filled(&self, value: impl Fn(&str) -> String) -> String {
        let pieces = self.pieces.iter().map(|piece| match piece {
            Piece::Text(text) => text.clone(),
            Piece::Place(name) => value(name),
        });
        pieces.collect()
    }
}

/// Whether these pieces fit all of `text`; adds the values in their places.
fn fits<'t>(
    pieces: &[Piece],
    text: &'t str,
    allows: &dyn Fn(&str, &str) -> bool,
    values: &mut Vec<&'t str>,
) -> bool {
    let Some((first, others)) = pieces.split_first() else {
        return text.is_empty();
    };
    match first {
        Piece::Text(wanted) => (text.strip_prefix(wanted.as_str()))
            .is_some_and(|rest| fits(others, rest, allows, values)),
        Piece::Place(name) => {
            let ends = text.char_indices().map(|(at, c)| at + c.len_utf8());
            ends.into_iter().any(|end| {
                let (value, rest) = text.split_at(end);
                if !allows(name, value) {
                    return false;
                }
                values.push(value);
                let does = fits(others, rest, allows, values);
                if !does {
                    values.pop();
                }
                does
            })
        }
    }
}

impl std::str::FromStr for Template {
    type Err = TemplateError;

    fn from_str(text: &str) -> Result<Template, TemplateError> {
        let mut pieces: Vec<Piece> = Vec::new();
        let mut rest = text;
        while let Some(at) = rest.find(['{', '}']) {
            let (before, behind) = rest.split_at(at);
            let inside = behind.strip_prefix('{').ok_or(TemplateError::Brace)?;
            let (name, after) = inside.split_once('}').ok_or(TemplateError::Brace)?;
            if name.contains('{') {
                return Err(TemplateError::Brace);
            }
            if !before.is_empty() {
                pieces.push(Piece::Text(before.to_owned()));
            }
            pieces.push(Piece::Place(name.to_owned()));
            rest = after;
        }
        if !rest.is_empty() {
            pieces.push(Piece::Text(rest.to_owned()));
        }
        Ok(Template {
            text: text.to_owned(),
            pieces,
        })
    }
}

impl TryFrom<String> for Template {
    type Error = TemplateError;

    fn try_from(text: String) -> Result<Template, TemplateError> {
        text.parse()
    }
}

impl From<Template> for String {
    fn from(template: Template) -> String {
        template.text
    }
}

impl fmt::Display for Template {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.text)
    }
}

/// How versions are spelled: the first of these that fits a spelling reads it.
///
/// `{version}` is any version, `{3}` one of exactly three numbers, and `{repack}` counts how often the
/// same version was packed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(transparent)]
pub struct VersionSpellings(Vec<VersionSpelling>);

/// One way to spell versions.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(
    untagged,
    expecting = "a pattern such as \"{3}.{repack}\" is expected, or { spelled = \"1.{line}\", means = \"{line}\" }"
)]
pub enum VersionSpelling {
    /// A pattern with the version in it.
    Pattern(Template),
    /// A pattern with named numbers, and the version that they make.
    Rewritten(Rewriting),
}

/// A spelling whose numbers make a version in another order or with other signs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(deny_unknown_fields)]
pub struct Rewriting {
    /// The spelling, with named numbers: `1.{line}.0_{update}`.
    pub spelled: Template,
    /// The version, with the same names: `{line}.0.{update}`.
    pub means: Template,
}

/// A spelling that was read.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SpelledVersion {
    /// The version that it means.
    pub version: Version,
    /// How often that was packed before; the highest counts.
    pub repack: u64,
    /// The place of the pattern that fits, among [`VersionSpellings::patterns`].
    pub pattern: usize,
}

impl VersionSpelling {
    /// The pattern that a spelling has to fit.
    pub fn pattern(&self) -> &Template {
        match self {
            VersionSpelling::Pattern(pattern) => pattern,
            VersionSpelling::Rewritten(rewriting) => &rewriting.spelled,
        }
    }

    /// The version and the repack count in `spelling`, or `None` if it does not fit.
    fn read(&self, spelling: &str) -> Option<(Version, u64)> {
        let pattern = self.pattern();
        let values = pattern.values(spelling, &allows)?;
        let places = || pattern.places().zip(values.iter().copied());
        let value_of =
            |name: &str| places().find_map(|(place, value)| (place == name).then_some(value));
        let repack = value_of("repack").map_or(Some(0), |repack| repack.parse().ok())?;
        let text = match self {
            VersionSpelling::Pattern(_) => {
                let (_, version) = places().find(|(place, _)| *place != "repack")?;
                version.to_owned()
            }
            VersionSpelling::Rewritten(rewriting) => rewriting.means.filled(|name| {
                let value = value_of(name).unwrap_or_default();
                // A number that is written with zeros in front, as in `b08`, counts as the number.
                value
                    .parse::<u64>()
                    .map_or_else(|_| value.to_owned(), |number| number.to_string())
            }),
        };
        Some((text.parse().ok()?, repack))
    }

    /// Why it cannot be used, or `None` if it can.
    fn fault(&self) -> Option<&'static str> {
        let pattern = self.pattern();
        let count = |counted: &dyn Fn(&str) -> bool| {
            pattern.places().filter(|place| counted(place)).count()
        };
        let repacks = count(&|place| place == "repack");
        let versions = count(&|place| place == "version" || count_of(place).is_some());
        let others = pattern.places().count() - repacks - versions;
        let is_good = !pattern.is_ambiguous() && repacks <= 1;
        match self {
            VersionSpelling::Pattern(_) if is_good && versions == 1 && others == 0 => None,
            VersionSpelling::Pattern(_) => Some(
                "it holds {version} or a number of numbers such as {3} once, and may hold {repack}",
            ),
            VersionSpelling::Rewritten(Rewriting { means, .. }) => {
                let is_named = |name: &str| name.bytes().all(|b| b.is_ascii_lowercase());
                let once = |name: &str| count(&|place| place == name) == 1;
                let is_good = is_good
                    && others > 0
                    && pattern.places().all(|name| is_named(name) && once(name))
                    && means.places().next().is_some()
                    && means.places().all(once);
                (!is_good).then_some(
                    "its numbers have names in small letters, each once, and `means` is made of some of them",
                )
            }
        }
    }
}

impl VersionSpellings {
    /// The patterns as they are written.
    pub fn patterns(&self) -> impl ExactSizeIterator<Item = &Template> {
        self.0.iter().map(VersionSpelling::pattern)
    }

    /// What `spelling` means, or `None` if no pattern fits it. Without patterns it is a plain version.
    pub fn read(&self, spelling: &str) -> Option<SpelledVersion> {
        let plain = |version| SpelledVersion {
            version,
            repack: 0,
            pattern: 0,
        };
        if self.0.is_empty() {
            return spelling.parse().ok().map(plain);
        }
        self.0.iter().enumerate().find_map(|(pattern, one)| {
            let (version, repack) = one.read(spelling)?;
            Some(SpelledVersion {
                version,
                repack,
                pattern,
            })
        })
    }

    /// The version that `spelling` means in the words of the program: what a pattern makes of it, or `None`
    /// if none fits.
    pub fn rewritten(&self, spelling: &str) -> Option<Version> {
        self.0.iter().find_map(|one| Some(one.read(spelling)?.0))
    }

    /// The first pattern that cannot be used, and why.
    pub(crate) fn fault(&self) -> Option<(&Template, &'static str)> {
        for (at, one) in self.0.iter().enumerate() {
            let template = one.pattern();
            if let Some(fault) = one.fault() {
                return Some((template, fault));
            }
            let mut earlier = self.0[..at].iter().map(VersionSpelling::pattern);
            if earlier.any(|one| one == template || one.as_str() == "{version}") {
                return Some((template, "one in front of it fits all that it fits"));
            }
        }
        None
    }
}

/// How many numbers a place such as `{3}` stands for.
fn count_of(place: &str) -> Option<usize> {
    place.parse().ok().filter(|count| (1..=9).contains(count))
}

fn allows(place: &str, value: &str) -> bool {
    let is_number = |part: &str| !part.is_empty() && part.bytes().all(|b| b.is_ascii_digit());
    match (place, count_of(place)) {
        ("version", _) => value.parse::<Version>().is_ok(),
        (_, Some(count)) => value.split('.').count() == count && value.split('.').all(is_number),
        _ => is_number(value),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn spellings(patterns: &[&str]) -> VersionSpellings {
        let pattern = |text: &&str| VersionSpelling::Pattern(text.parse().unwrap());
        VersionSpellings(patterns.iter().map(pattern).collect())
    }

    /// How Java's versions are spelled beside the way of its newer releases.
    const REWRITTEN: &str = r#"patterns = [
        { spelled = "1.{line}.0_{update}-b{build}", means = "{line}.0.{update}+{build}" },
        { spelled = "{line}u{update}-b{build}", means = "{line}.0.{update}+{build}" },
        { spelled = "1.{line}.0_{update}", means = "{line}.0.{update}" },
        { spelled = "1.{line}", means = "{line}" },
        "{version}-LTS",
        "{version}",
    ]"#;

    #[rstest]
    #[case("1.8.0_412-b08", "8.0.412+8")]
    #[case("8u412-b08", "8.0.412+8")]
    #[case("1.8.0_412", "8.0.412")]
    #[case("1.8", "8")]
    #[case("21.0.4+7-LTS", "21.0.4+7")]
    #[case("17.0.8.1+1", "17.0.8.1+1")]
    fn a_rewritten_spelling_means_the_version_that_its_numbers_make(
        #[case] spelled: &str,
        #[case] version: &str,
    ) {
        #[derive(Deserialize)]
        struct Spelled {
            patterns: VersionSpellings,
        }
        let Spelled { patterns } = toml::from_str(REWRITTEN).unwrap();
        assert_eq!(patterns.fault(), None);
        assert_eq!(patterns.read(spelled).unwrap().version.as_str(), version);
    }

    #[rstest]
    #[case("1.{line}", "{lines}")]
    #[case("1.{line}.{line}", "{line}")]
    #[case("1.{Line}", "{Line}")]
    #[case("1.8", "8")]
    #[case("1.{line}{update}", "{line}.{update}")]
    #[case("{version}-LTS", "{version}")]
    fn a_rewriting_whose_names_do_not_match_is_refused(#[case] spelled: &str, #[case] means: &str) {
        let rewriting = Rewriting {
            spelled: spelled.parse().unwrap(),
            means: means.parse().unwrap(),
        };
        let one = VersionSpelling::Rewritten(rewriting);
        assert!(one.fault().unwrap().contains("`means`"));
    }

    #[rstest]
    #[case("21.0.8.2", Some(("21.0.8", 2)))]
    #[case("21.0.8", Some(("21.0.8", 0)))]
    #[case("0.13.0.post1", Some(("0.13.0", 1)))]
    #[case("26.7.0rc0", Some(("26.7.0", 0)))]
    #[case("26.7.0rc12", Some(("26.7.0", 12)))]
    #[case("25.0.4.1.1", Some(("25.0.4.1.1", 0)))]
    #[case("0.11.0.dev.3747", Some(("0.11.0.dev.3747", 0)))]
    #[case("1.27", Some(("1.27", 0)))]
    #[case("eight", None)]
    #[case("", None)]
    fn the_first_pattern_that_fits_reads_a_spelling(
        #[case] text: &str,
        #[case] expected: Option<(&str, u64)>,
    ) {
        let patterns = [
            "{3}.{repack}",
            "{3}.post{repack}",
            "{3}rc{repack}",
            "{version}",
        ];
        let read = spellings(&patterns).read(text);
        let read = read.map(|read| (read.version.to_string(), read.repack));
        assert_eq!(
            read,
            expected.map(|(version, repack)| (version.to_owned(), repack))
        );
    }

    #[test]
    fn without_a_version_of_any_kind_only_what_fits_is_read() {
        let four = spellings(&["{4}.{repack}"]);
        assert_eq!(
            four.read("25.0.4.1.1").unwrap().version.as_str(),
            "25.0.4.1"
        );
        assert_eq!(four.read("25.0.4.1"), None);
        assert_eq!(
            spellings(&[]).read("8.3.1").unwrap().version.as_str(),
            "8.3.1"
        );
    }

    #[rstest]
    #[case(&["{3}.{repack}", "{version}"], None)]
    #[case(&["{3}.{repack}", "{3}.{repack}"], Some("one in front of it fits all that it fits"))]
    #[case(&["{version}", "{3}rc{repack}"], Some("one in front of it fits all that it fits"))]
    #[case(&["rc{repack}"], Some("it holds {version} or"))]
    #[case(&["{3}-{version}"], Some("it holds {version} or"))]
    #[case(&["{30}"], Some("it holds {version} or"))]
    #[case(&["{version}-{flavour}"], Some("it holds {version} or"))]
    fn a_pattern_that_cannot_be_used_is_named(
        #[case] patterns: &[&str],
        #[case] expected: Option<&str>,
    ) {
        let spellings = spellings(patterns);
        let fault = spellings.fault().map(|(_, why)| why);
        match expected {
            None => assert_eq!(fault, None),
            Some(beginning) => assert!(fault.unwrap().starts_with(beginning), "{fault:?}"),
        }
    }

    #[rstest]
    #[case("{name} ({version})", "bigdecimal (3.1.3)", &["bigdecimal", "3.1.3"])]
    #[case("{name}:{version}", "kelp:1.0.0", &["kelp", "1.0.0"])]
    #[case("{name}-{version}.gemspec", "net-http-0.3.2.gemspec", &["net-http", "0.3.2"])]
    #[case("toolchain go{selector}", "toolchain go1.23.4", &["1.23.4"])]
    fn values_stand_in_their_places(
        #[case] template: &str,
        #[case] text: &str,
        #[case] expected: &[&str],
    ) {
        let template: Template = template.parse().unwrap();
        let found = template.values(text, &|place, value| {
            place != "version" || value.parse::<Version>().is_ok()
        });
        assert_eq!(found.unwrap(), expected);
        assert_eq!(
            template.values(&format!("{text}\t"), &|_, v| !v.contains('\t')),
            None
        );
    }

    #[test]
    fn a_template_is_filled_and_refused() {
        let template: Template = "v{version}/m-{version}.tar.xz".parse().unwrap();
        assert_eq!(
            template.filled(|_| "8.3.1".to_owned()),
            "v8.3.1/m-8.3.1.tar.xz"
        );
        let filled: Template = "{stage}{prefix}/bin".parse().unwrap();
        assert_eq!(
            filled.filled(|place| format!("/{place}")),
            "/stage/prefix/bin"
        );
        assert!(filled.is_ambiguous() && !filled.has_places("stage", &["prefix"]));
        for (text, error) in [
            ("{version", TemplateError::Brace),
            ("version}", TemplateError::Brace),
            ("{a{b}", TemplateError::Brace),
        ] {
            assert_eq!(text.parse::<Template>(), Err(error));
        }
    }
}
