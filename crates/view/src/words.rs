//! Sizes in MB, times, ages and spans in words, counted things.

use std::borrow::Cow;
use std::time::Duration;

use jiff::Unit;
use jiff::civil::Date;
use textwrap::{Options, WordSeparator, WordSplitter, WrapAlgorithm};
pub use vshelf_core::words::{Count, listed, printable};

/// Bytes in megabytes of 1,000,000 bytes, as `18.2 MB`.
pub fn megabytes(bytes: u64) -> String {
    let tenths = bytes.div_ceil(100_000);
    format!("{}.{} MB", tenths / 10, tenths % 10)
}

/// The cells of a bar that is the whole.
const BAR: u64 = 12;

/// A part of a whole as a bar, which no part that is there is too small for.
pub fn bar(part: u64, whole: u64, unicode: bool) -> String {
    let cells = match whole {
        0 => 0,
        whole => (u128::from(part) * u128::from(BAR)).div_ceil(u128::from(whole)),
    };
    let cell = if unicode { "▆" } else { "#" };
    cell.repeat(usize::try_from(cells.min(u128::from(BAR))).unwrap_or_default())
}

/// How long something took: `4.2 s`, `24 min 5 s`.
pub fn lasted(time: Duration) -> String {
    match time.as_secs() {
        0..60 => format!("{:.1} s", time.as_secs_f64()),
        seconds => format!("{} min {} s", seconds / 60, seconds % 60),
    }
}

/// The whole days, weeks, months or years between two days: `3 days`, `5 weeks`, `7 months`,
/// `3 years 7 months`. Never more than has passed.
pub fn span(from: Date, to: Date) -> String {
    let (from, to) = (from.min(to), from.max(to));
    let days = (to - from).get_days().unsigned_abs() as usize;
    let whole = from.until((Unit::Month, to)).unwrap_or_default();
    let months = whole.get_months().unsigned_abs() as usize;
    match (days, months) {
        (0..14, _) => Count(days, "day").to_string(),
        (14..63, _) => Count(days / 7, "week").to_string(),
        (_, 0..24) => Count(months, "month").to_string(),
        (_, months) if months % 12 == 0 || months >= 120 => Count(months / 12, "year").to_string(),
        (_, months) => format!(
            "{} {}",
            Count(months / 12, "year"),
            Count(months % 12, "month")
        ),
    }
}

/// When something was, seen from `today`: `today`, `yesterday`, `5 weeks ago`.
pub fn ago(then: Date, today: Date) -> String {
    match (today - then).get_days() {
        ..=0 => "today".to_owned(),
        1 => "yesterday".to_owned(),
        _ => format!("{} ago", span(then, today)),
    }
}

/// `text` in lines of so many columns at most, broken at spaces alone: a longer word has its line.
pub fn at_words(text: &str, columns: usize) -> Vec<String> {
    lines(text, columns, false)
}

/// `text` in pieces of so many columns at most, broken at spaces where there are some.
pub fn broken(text: &str, columns: usize) -> Vec<String> {
    lines(text, columns, true)
}

fn lines(text: &str, columns: usize, breaks_words: bool) -> Vec<String> {
    let options = Options::new(columns)
        .break_words(breaks_words)
        .wrap_algorithm(WrapAlgorithm::FirstFit)
        .word_splitter(WordSplitter::NoHyphenation)
        .word_separator(WordSeparator::AsciiSpace);
    let lines = textwrap::wrap(text, options).into_iter();
    lines.map(Cow::into_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(240, "0.2 s")]
    #[case(59_900, "59.9 s")]
    #[case(60_000, "1 min 0 s")]
    #[case(1_445_900, "24 min 5 s")]
    fn what_took_long_is_told_in_minutes(#[case] milliseconds: u64, #[case] told: &str) {
        assert_eq!(lasted(Duration::from_millis(milliseconds)), told);
    }

    #[rstest]
    #[case("2026-11-23", "0 days")]
    #[case("2026-11-24", "1 day")]
    #[case("2026-12-28", "5 weeks")]
    #[case("2027-06-30", "7 months")]
    #[case("2028-10-30", "23 months")]
    #[case("2028-11-22", "23 months")]
    #[case("2028-11-23", "2 years")]
    #[case("2030-06-30", "3 years 7 months")]
    #[case("2031-11-22", "4 years 11 months")]
    #[case("2038-10-01", "11 years")]
    fn spans_are_in_the_unit_that_says_it_well(#[case] to: &str, #[case] expected: &str) {
        let today: Date = "2026-11-23".parse().unwrap();
        assert_eq!(span(today, to.parse().unwrap()), expected);
        assert_eq!(span(to.parse().unwrap(), today), expected);
    }

    #[rstest]
    #[case(18_211_840, "18.3 MB")]
    #[case(1, "0.1 MB")]
    #[case(0, "0.0 MB")]
    fn sizes_are_in_megabytes(#[case] bytes: u64, #[case] expected: &str) {
        assert_eq!(megabytes(bytes), expected);
    }

    #[rstest]
    #[case(1, 1, true, "▆▆▆▆▆▆▆▆▆▆▆▆")]
    #[case(1, 3, false, "####")]
    #[case(1, 1_000_000, true, "▆")]
    #[case(0, 5, true, "")]
    #[case(0, 0, false, "")]
    fn a_part_of_a_whole_is_a_bar(
        #[case] part: u64,
        #[case] whole: u64,
        #[case] unicode: bool,
        #[case] expected: &str,
    ) {
        assert_eq!(bar(part, whole, unicode), expected);
    }

    #[rstest]
    #[case("", 5, &[""])]
    #[case("one two", 7, &["one two"])]
    #[case("one two", 6, &["one", "two"])]
    #[case("a longword b", 4, &["a", "long", "word", "b"])]
    #[case("é\u{4e2d}\u{4e2d}", 3, &["é\u{4e2d}", "\u{4e2d}"])]
    #[case("\u{4e2d}", 1, &["\u{4e2d}"])]
    fn text_breaks_at_spaces_where_there_are_some(
        #[case] text: &str,
        #[case] columns: usize,
        #[case] expected: &[&str],
    ) {
        assert_eq!(broken(text, columns), expected);
    }
}
