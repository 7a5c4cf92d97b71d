//! Spellings of selectors that people bring along from elsewhere, and ours for the same.

use crate::selector::is_name;

/// How a selector that is not understood is spelled here, where it has a form that is known from
/// elsewhere; `runtimes` are the names of those that are known.
pub fn ours(typed: &str, runtimes: &[String]) -> Option<String> {
    let typed = typed.trim();
    let runtime = |name: &str| {
        let mut known = runtimes.iter();
        known
            .find(|known| known.eq_ignore_ascii_case(name))
            .cloned()
    };
    let selector = |text: &str| version(text).or_else(|| is_name(text).then(|| text.to_owned()));
    // `8@marram`, `@8`, `marram@v8-latest`
    if let Some((before, behind)) = typed.split_once('@') {
        if before.is_empty() {
            return selector(behind);
        }
        return runtime(behind).and_then(|name| Some(format!("{name}@{}", version(before)?)));
    }
    // `marram-8`, `marram:lts`, `marram 8`, `marram=8`, `marram8`
    for name in runtimes {
        // A word that begins with a name is that name only with something between, or with a version behind.
        let read = |rest: &str| {
            if name.len() + rest.len() < typed.len() {
                selector(rest)
            } else {
                version(rest)
            }
        };
        if let Some(found) = behind(typed, name).and_then(read) {
            return Some(format!("{name}@{found}"));
        }
    }
    // `latest-8`, `8-latest`, `8-lts`, `release-8`
    let (before, behind) = typed.split_once(['-', ':', '.'])?;
    let word = |text: &str| ["latest", "lts", "stable", "release", "line"].contains(&text);
    match (word(&before.to_lowercase()), word(&behind.to_lowercase())) {
        (true, false) => version(behind),
        (false, true) => version(before),
        _ => None,
    }
}

/// The runtime whose title has the letters of a word, such as `tidejs` of Tide.js; `runtimes` are names and titles.
pub fn runtime_of_title(typed: &str, runtimes: &[(String, String)]) -> Option<String> {
    // `tide@` names the runtime already.
    if typed.contains('@') {
        return None;
    }
    let letters = |text: &str| -> String {
        let letters = text.chars().filter(|c| c.is_alphanumeric());
        letters.flat_map(char::to_lowercase).collect()
    };
    let is_meant =
        |(name, title): &&(String, String)| *name != typed && letters(title) == letters(typed);
    Some(runtimes.iter().find(is_meant)?.0.clone())
}

/// A version with the runtime's name in front of it, such as `marram-8.3.1` and `marram8.3.1`, as we spell it.
pub fn with_runtime(typed: &str, runtime: &str) -> Option<String> {
    let version = version(behind(typed.trim(), runtime)?)?;
    Some(format!("{runtime}@{version}"))
}

/// The text behind a runtime's name and what joins the two.
fn behind<'t>(typed: &'t str, runtime: &str) -> Option<&'t str> {
    let (start, rest) = typed.split_at_checked(runtime.len())?;
    let is_it = start.eq_ignore_ascii_case(runtime) && !rest.is_empty();
    is_it.then(|| rest.trim_start_matches(['-', ':', ' ', '=', '_', '/']))
}

/// A version without the `v` in front of it.
fn version(text: &str) -> Option<String> {
    let digits = text.strip_prefix(['v', 'V']).unwrap_or(text);
    let is_one = digits.starts_with(|c: char| c.is_ascii_digit());
    is_one.then(|| digits.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("marram-8", "marram@8")]
    #[case("marram-v8.3.1", "marram@8.3.1")]
    #[case("Marram8", "marram@8")]
    #[case("marram 8", "marram@8")]
    #[case("marram:lts", "marram@lts")]
    #[case("marram=8", "marram@8")]
    #[case("8@marram", "marram@8")]
    #[case("@8", "8")]
    #[case("@lts", "lts")]
    #[case("latest-8", "8")]
    #[case("8-lts", "8")]
    #[case("release-8.3", "8.3")]
    fn what_is_spelled_otherwise_elsewhere_has_a_spelling_here(
        #[case] typed: &str,
        #[case] expected: &str,
    ) {
        let runtimes = ["marram".to_owned(), "sedge".to_owned()];
        assert_eq!(ours(typed, &runtimes).as_deref(), Some(expected));
        let read: Result<crate::Request, _> = expected.parse();
        assert!(read.is_ok(), "{read:?}");
    }

    #[test]
    fn a_title_names_its_runtime() {
        let runtimes = [("tide".to_owned(), "Tide.js".to_owned())];
        let meant = |typed: &str| runtime_of_title(typed, &runtimes);
        assert_eq!(meant("TideJS").as_deref(), Some("tide"));
        assert_eq!(meant("tide"), None);
        assert_eq!(meant("tidal"), None);
        assert_eq!(meant("tide.js@"), None);
    }

    #[rstest]
    #[case("zostera")]
    #[case("dunfield/8")]
    #[case("marram")]
    #[case("marramjs")]
    #[case("MarramJS")]
    #[case("marram@")]
    #[case("8@zostera")]
    #[case("8.3.1")]
    #[case("")]
    fn nothing_else_is_guessed(#[case] typed: &str) {
        assert_eq!(ours(typed, &["marram".to_owned()]), None);
    }
}
