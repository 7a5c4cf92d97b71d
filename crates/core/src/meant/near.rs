//! What was probably meant: the existing names and versions nearest to one that does not exist.

use crate::version::Version;

/// How many suggestions a message can hold before it stops helping.
const MOST: usize = 3;

/// The words nearest to `typed`, best first, at most three; case does not matter.
pub fn words<'a>(typed: &str, known: impl IntoIterator<Item = &'a str>) -> Vec<String> {
    let typed = typed.to_lowercase();
    let allowed = if typed.chars().count() <= 3 { 1 } else { 2 };
    let mut near: Vec<(usize, &str)> = known
        .into_iter()
        .filter_map(|word| {
            let lower = word.to_lowercase();
            let distance = strsim::damerau_levenshtein(&typed, &lower);
            let begun = typed.len() >= 3 && lower.starts_with(&typed);
            (distance <= allowed || begun).then_some((distance.min(allowed), word))
        })
        .collect();
    near.sort();
    near.dedup_by_key(|(_, word)| *word);
    near.into_iter()
        .take(MOST)
        .map(|(_, word)| word.to_owned())
        .collect()
}

/// The versions nearest to `typed`, best first, at most three.
///
/// `known` comes newest first. The numbers are read without their leading zeros (`6.02` as 6.2.0) and
/// with the dots elsewhere (`6.02` as 6.0.2); only where neither exists, a slip of one character is
/// looked for, and then the newest that begins with most of the same numbers.
pub fn versions<'a>(
    typed: &Version,
    known: impl Iterator<Item = &'a Version> + Clone,
) -> Vec<Version> {
    let mut near: Vec<Version> = Vec::new();
    let add = |near: &mut Vec<Version>, version: &Version| {
        if near.len() < MOST && !near.contains(version) {
            near.push(version.clone());
        }
    };
    if typed.has_leading_zeros() {
        let plain = Version::from_numbers(typed.numbers().to_vec());
        let meant = known
            .clone()
            .find(|v| v.precedence(&plain).is_eq())
            .or_else(|| known.clone().find(|v| v.begins_with(&plain)));
        meant.into_iter().for_each(|v| add(&mut near, v));
    }
    let digits = |version: &Version| -> String {
        version
            .as_str()
            .chars()
            .filter(char::is_ascii_digit)
            .collect()
    };
    let typed_digits = digits(typed);
    known
        .clone()
        .filter(|v| digits(v) == typed_digits)
        .for_each(|v| add(&mut near, v));
    if !near.is_empty() {
        return near;
    }
    let mut slips: Vec<(usize, &Version)> = known
        .clone()
        .map(|v| (strsim::damerau_levenshtein(typed.as_str(), v.as_str()), v))
        .filter(|(distance, v)| *distance <= 1 && v.numbers()[0] == typed.numbers()[0])
        .collect();
    slips.sort_by_key(|(distance, _)| *distance);
    slips.into_iter().for_each(|(_, v)| add(&mut near, v));
    let shared = |v: &Version| {
        let pairs = v.numbers().iter().zip(typed.numbers());
        pairs.take_while(|(own, typed)| own == typed).count()
    };
    let most = known.clone().map(shared).max().unwrap_or(0);
    if near.is_empty() && most > 0 {
        let mut nearest = known.clone().filter(|v| shared(v) == most);
        let newest = nearest.clone().find(|v| !v.is_pre_release());
        let newest = newest.or_else(|| nearest.next());
        newest.into_iter().for_each(|v| near.push(v.clone()));
    }
    near
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const PUBLISHED: [&str; 10] = [
        "9.2.0-rc.1",
        "9.1.0",
        "8.3.1",
        "8.3.0",
        "6.20.0",
        "6.2.20",
        "6.2.0",
        "6.0.3",
        "6.0.2",
        "5.1.0",
    ];

    #[rstest]
    #[case("6.02", &["6.2.0", "6.0.2"])]
    #[case("6.03", &["6.0.3"])]
    #[case("8.31", &["8.3.1"])]
    #[case("8.3.2", &["8.3.1", "8.3.0"])]
    #[case("6.200", &["6.20.0"])]
    #[case("5.7.9", &["5.1.0"])]
    #[case("6.99", &["6.20.0"])]
    #[case("6.2.99", &["6.2.20"])]
    #[case("9.99", &["9.1.0"])]
    #[case("12", &[])]
    fn a_mistyped_version_finds_its_neighbours(#[case] typed: &str, #[case] first: &[&str]) {
        let known: Vec<Version> = PUBLISHED.iter().map(|v| v.parse().unwrap()).collect();
        let near = versions(&typed.parse().unwrap(), known.iter());
        let near: Vec<&str> = near
            .iter()
            .map(Version::as_str)
            .take(first.len().max(1))
            .collect();
        assert_eq!(near, first);
    }

    #[rstest]
    #[case("instal", &["install"])]
    #[case("lst", &["list", "lts"])]
    #[case("EELGRAS", &["Eelgrass"])]
    #[case("eel", &["Eelgrass"])]
    #[case("zostera", &[])]
    fn a_mistyped_word_finds_its_neighbours(#[case] typed: &str, #[case] expected: &[&str]) {
        let known = ["install", "list", "lts", "switch", "Eelgrass", "Samphire"];
        assert_eq!(words(typed, known), expected);
    }
}
