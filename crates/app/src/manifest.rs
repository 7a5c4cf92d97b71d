//! One value in a JSON or TOML manifest, or one line of another file, set with every other byte as it was.

use std::collections::BTreeMap;

use serde_json::value::RawValue;
use toml_edit::{DocumentMut, Item, Table};
use vshelf_core::requirement;
use vshelf_core::template::Template;

/// The text of a manifest with `value` at these keys, which are joined by dots; `file` says by its end
/// which of the two it is. Fails with what is wrong where the text is no such document.
pub fn with_value(file: &str, text: &str, keys: &str, value: &str) -> Result<String, String> {
    let keys: Vec<&str> = keys.split('.').collect();
    match file.ends_with(".toml") {
        true => toml_with(text, &keys, value),
        false => json_with(text, &keys, value),
    }
}

/// The text of a file with `value` in its line of this form, or with such a line at its end.
pub fn with_line(text: &str, form: &Template, value: &str) -> String {
    let new = form.filled(|_| value.to_owned());
    let has_form = |line: &&str| requirement::value_in_line(line, form).is_some();
    let mut lines: Vec<&str> = text.lines().collect();
    match lines.iter().position(has_form) {
        Some(place) => lines[place] = &new,
        None => lines.push(&new),
    }
    lines.join("\n") + "\n"
}

fn toml_with(text: &str, keys: &[&str], value: &str) -> Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|error| format!("{error}"))?;
    let mut at: &mut Item = document.as_item_mut();
    for key in keys {
        let table = at.as_table_like_mut();
        let table = table.ok_or_else(|| format!("what stands in front of {key} is not a table"))?;
        at = table.entry(key).or_insert(Item::None);
        if at.is_none() && Some(key) != keys.last() {
            *at = Item::Table(Table::new());
        }
    }
    let mut new = toml_edit::Value::from(value);
    if let Some(old) = at.as_value() {
        *new.decor_mut() = old.decor().clone();
    }
    *at = Item::Value(new);
    Ok(document.to_string())
}

fn json_with(text: &str, keys: &[&str], value: &str) -> Result<String, String> {
    // Of an empty file there is nothing to keep.
    let text = if text.trim().is_empty() { "{}\n" } else { text };
    let start = text.len() - text.trim_start().len();
    let mut object = start..text.trim_end().len();
    for (depth, key) in keys.iter().enumerate() {
        let inner = &text[object.clone()];
        let entries: BTreeMap<String, &RawValue> =
            serde_json::from_str(inner).map_err(|error| error.to_string())?;
        let Some(found) = entries.get(*key) else {
            return Ok(with_entry(text, object, &keys[depth..], value));
        };
        let begin = object.start + (found.get().as_ptr() as usize - inner.as_ptr() as usize);
        object = begin..begin + found.get().len();
    }
    let (before, behind) = (&text[..object.start], &text[object.end..]);
    Ok(format!("{before}{}{behind}", serde_json::json!(value)))
}

/// The text with a new entry at the end of the object in this range.
fn with_entry(text: &str, object: std::ops::Range<usize>, keys: &[&str], value: &str) -> String {
    let inner = &text[object.start + 1..object.end - 1];
    let entries = inner.trim_end();
    let indent = &inner[..inner.len() - inner.trim_start().len()];
    let name = serde_json::json!(keys[0]);
    let nested = keys[1..].iter().rev();
    let value = nested.fold(serde_json::json!(value).to_string(), |value, key| {
        format!("{{ {}: {value} }}", serde_json::json!(key))
    });
    let entry = format!("{name}: {value}");
    let added = match entries.trim().is_empty() {
        true => format!("\n  {entry}\n"),
        false => format!("{entries},{indent}{entry}{}", &inner[entries.len()..]),
    };
    let (before, behind) = (&text[..=object.start], &text[object.end - 1..]);
    format!("{before}{added}{behind}")
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("tide buoy\n\norache 2.6 // old\n", "tide buoy\n\norache 2.7\n")]
    #[case("tide buoy\n", "tide buoy\norache 2.7\n")]
    #[case("", "orache 2.7\n")]
    fn a_line_is_set_and_every_other_stays(#[case] text: &str, #[case] expected: &str) {
        let form = "orache {selector}".parse().unwrap();
        assert_eq!(with_line(text, &form, "2.7"), expected);
    }

    #[rstest]
    #[case::replaced(
        "{\n  \"name\": \"tide-board\",\n  \"engines\": { \"marram\":  \">=6\" } ,\n  \"z\": [1,2]\n}\n",
        "{\n  \"name\": \"tide-board\",\n  \"engines\": { \"marram\":  \"8\" } ,\n  \"z\": [1,2]\n}\n"
    )]
    #[case::added_to_the_table(
        "{\"engines\": {\n  \"sedge\": \"2\"\n}}",
        "{\"engines\": {\n  \"sedge\": \"2\",\n  \"marram\": \"8\"\n}}"
    )]
    #[case::with_its_table(
        "{\n\t\"name\": \"a\"\n}\n",
        "{\n\t\"name\": \"a\",\n\t\"engines\": { \"marram\": \"8\" }\n}\n"
    )]
    #[case::in_nothing("", "{\n  \"engines\": { \"marram\": \"8\" }\n}\n")]
    fn a_value_in_json_is_set_and_nothing_else(#[case] text: &str, #[case] expected: &str) {
        let written = with_value("package.json", text, "engines.marram", "8");
        assert_eq!(written.as_deref(), Ok(expected));
    }

    #[rstest]
    #[case(
        "# ours\n[runtimes]\nmarram = '6' # until May\n",
        "# ours\n[runtimes]\nmarram = \"8\" # until May\n"
    )]
    #[case(
        "[runtimes]\nsedge = \"2\"\n",
        "[runtimes]\nsedge = \"2\"\nmarram = \"8\"\n"
    )]
    #[case("", "[runtimes]\nmarram = \"8\"\n")]
    fn a_value_in_toml_is_set_and_nothing_else(#[case] text: &str, #[case] expected: &str) {
        let written = with_value("vivid-shelf.toml", text, "runtimes.marram", "8");
        assert_eq!(written.as_deref(), Ok(expected));
    }

    #[rstest]
    #[case("package.json", "{\"engines\": ")]
    #[case("package.json", "{\"engines\": 8}")]
    #[case("package.json", "[]")]
    #[case("vivid-shelf.toml", "engines = 8")]
    #[case("vivid-shelf.toml", "[engines")]
    fn what_is_no_such_document_is_refused(#[case] file: &str, #[case] text: &str) {
        assert!(with_value(file, text, "engines.marram", "8").is_err());
    }
}
