//! Version specifiers of Python projects (PEP 440, "Version specifiers"), as ranges: clauses joined by commas, all of
//! which have to hold.

/// Maximum number of alternatives of one range: each exclusion in the middle splits all before it in two.
const MOST_ALTERNATIVES: usize = 32;

/// The range with the same meaning, such as `>=3.8.0 <4.0.0` for `>=3.8,<4`: `None` if the text is no list of
/// specifiers of final releases.
pub fn as_range(text: &str) -> Option<String> {
    let mut alternatives = vec![String::new()];
    for clause in text.split(',') {
        let conditions = conditions(clause.trim())?;
        let split = alternatives.iter().flat_map(|before| {
            conditions
                .iter()
                .map(move |condition| match before.as_str() {
                    "" => condition.clone(),
                    before => format!("{before} {condition}"),
                })
        });
        alternatives = split.collect();
        if alternatives.len() > MOST_ALTERNATIVES {
            return None;
        }
    }
    Some(alternatives.join(" || "))
}

/// The conditions of one clause, one of which has to hold.
fn conditions(clause: &str) -> Option<Vec<String>> {
    let digits = clause.find(|c: char| c.is_ascii_digit())?;
    let (operator, version) = clause.split_at(digits);
    let (version, is_prefix) = match version.strip_suffix(".*") {
        Some(version) => (version, true),
        None => (version, false),
    };
    let release = Release::read(version)?;
    let within = |release: &Release| format!(">={} <{}", release.padded(), release.next().padded());
    let padded = release.padded();
    Some(match (operator.trim_end(), is_prefix) {
        (operator @ (">=" | "<=" | ">" | "<"), false) => vec![format!("{operator}{padded}")],
        ("==" | "===", false) => vec![format!("={padded}")],
        ("==", true) => vec![within(&release)],
        ("!=", false) => vec![format!("<{padded}"), format!(">{padded}")],
        ("!=", true) => vec![
            format!("<{padded}"),
            format!(">={}", release.next().padded()),
        ],
        ("~=", false) => {
            let parent = release.parent()?;
            vec![format!(">={padded} <{}", parent.next().padded())]
        }
        _ => return None,
    })
}

/// The numbers of a final release.
struct Release(Vec<u32>);

impl Release {
    fn read(text: &str) -> Option<Release> {
        let numbers = text.trim().split('.').map(|number| number.parse().ok());
        let numbers: Vec<u32> = numbers.collect::<Option<_>>()?;
        (numbers.len() <= 3).then_some(Release(numbers))
    }

    /// The first release behind all that begin with these numbers.
    fn next(&self) -> Release {
        let mut numbers = self.0.clone();
        if let Some(last) = numbers.last_mut() {
            *last = last.saturating_add(1);
        }
        Release(numbers)
    }

    /// The numbers without the last: `None` if there is only one.
    fn parent(&self) -> Option<Release> {
        let (_, before) = self.0.split_last()?;
        (!before.is_empty()).then(|| Release(before.to_owned()))
    }

    /// The version with three numbers: a missing one is zero.
    fn padded(&self) -> String {
        let number = |at: usize| self.0.get(at).copied().unwrap_or_default();
        format!("{}.{}.{}", number(0), number(1), number(2))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Range, Version};
    use rstest::rstest;

    #[rstest]
    #[case(">=3.8,<4", &["3.8.0", "3.14.1"], &["3.7.17", "4.0.0"])]
    #[case(">= 3.8, < 4", &["3.8.0"], &["4.0.0"])]
    #[case("~=3.11", &["3.11.0", "3.14.0"], &["3.10.9", "4.0.0"])]
    #[case("~=3.11.2", &["3.11.2", "3.11.9"], &["3.11.1", "3.12.0"])]
    #[case("==3.11.*", &["3.11.0", "3.11.9"], &["3.10.9", "3.12.0"])]
    #[case("==3.11", &["3.11.0"], &["3.11.1"])]
    #[case("===3.11.4", &["3.11.4"], &["3.11.5"])]
    #[case(">=3.8,!=3.9.*,!=3.10.2", &["3.8.1", "3.10.1", "3.10.3"], &["3.9.0", "3.9.20", "3.10.2"])]
    #[case("!=3.9.*", &["3.8.9", "3.10.0"], &["3.9.1"])]
    #[case(">3.8", &["3.8.1"], &["3.8.0"])]
    #[case("<=3.12", &["3.12.0"], &["3.12.1"])]
    fn specifiers_mean_ranges(
        #[case] text: &str,
        #[case] covered: &[&str],
        #[case] others: &[&str],
    ) {
        let range: Range = as_range(text).unwrap().parse().unwrap();
        let contains = |version: &&str| range.contains(&version.parse::<Version>().unwrap());
        assert!(covered.iter().all(&contains), "{range:?}");
        assert!(!others.iter().any(contains), "{range:?}");
    }

    #[rstest]
    #[case("")]
    #[case("3.11")]
    #[case("~=3")]
    #[case(">=3.8,")]
    #[case(">=3.13.0rc1")]
    #[case("^3.8")]
    #[case("~=3.*")]
    #[case(">=1.2.3.4")]
    fn other_texts_are_no_specifiers(#[case] text: &str) {
        assert_eq!(as_range(text), None);
    }

    #[test]
    fn the_number_of_alternatives_is_limited() {
        let text = ["!=3.9.1"; 6].join(",");
        assert_eq!(as_range(&text), None);
    }
}
