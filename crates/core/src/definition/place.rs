//! Where in a definition's text something stands that cannot be used, and days as TOML has them.

use jiff::civil::Date;
use serde::Deserialize;
use serde::de::{Deserializer, Error};
use toml::de::{DeTable, DeValue};

/// The offset of what a syntax error is about: of the very word where one is unknown.
pub(super) fn of_syntax(text: &str, error: &toml::de::Error) -> Option<usize> {
    let start = error.span()?.start;
    // Of a table that is read by its kind, only the beginning is known.
    let named = error.message().split('`').nth(1);
    let at = named.and_then(|name| {
        let behind = text.get(start..)?;
        let is_whole = |at: &usize| {
            let around = [
                behind[..*at].chars().next_back(),
                behind[at + name.len()..].chars().next(),
            ];
            around
                .into_iter()
                .flatten()
                .all(|c| !c.is_alphanumeric() && c != '-')
        };
        let found = behind.match_indices(name).map(|(at, _)| at).find(is_whole);
        found.map(|at| start + at)
    });
    Some(at.unwrap_or(start))
}

/// The offset of the value (or of the key of a table) that stands at `key`, keys joined by dots.
pub(super) fn of_value(text: &str, key: &str, value: &str) -> Option<usize> {
    let table = DeTable::parse(text).ok()?;
    let keys: Vec<&str> = key.split('.').collect();
    in_table(table.get_ref(), &keys, value)
}

fn in_table(table: &DeTable<'_>, keys: &[&str], value: &str) -> Option<usize> {
    let (first, others) = keys.split_first()?;
    let found = table.iter().find(|(key, _)| key.get_ref() == first)?;
    in_value(found.1, others, value)
}

fn in_value(found: &toml::Spanned<DeValue<'_>>, keys: &[&str], value: &str) -> Option<usize> {
    match found.get_ref() {
        DeValue::Array(values) => values.iter().find_map(|one| in_value(one, keys, value)),
        DeValue::Table(table) if keys.is_empty() => table.iter().find_map(|(key, one)| {
            let is_key = key.get_ref() == value;
            is_key
                .then(|| key.span().start)
                .or_else(|| in_value(one, &[], value))
        }),
        DeValue::Table(table) => in_table(table, keys, value).or_else(|| {
            // Below a table with names of a person's choice the key stands one deeper.
            table.iter().find_map(|(_, one)| match one.get_ref() {
                DeValue::Table(inner) => in_table(inner, keys, value),
                _ => None,
            })
        }),
        DeValue::String(text) if text == value => Some(found.span().start),
        DeValue::Integer(number) if number.as_str() == value => Some(found.span().start),
        _ => None,
    }
}

/// Reads a day, as TOML has it or as text.
pub fn day<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Option<Date>, D::Error> {
    #[derive(Deserialize)]
    #[serde(untagged)]
    enum Written {
        Text(String),
        Day(toml::value::Datetime),
    }
    let text = match Written::deserialize(deserializer)? {
        Written::Text(text) => text,
        Written::Day(day) => day.to_string(),
    };
    let day = text.parse().map(Some);
    day.map_err(|_| D::Error::custom(format!("{text} is not a day; one looks like 2026-10-14")))
}
