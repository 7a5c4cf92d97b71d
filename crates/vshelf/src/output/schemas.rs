//! The JSON Schemas in `docs/schemas`, generated from the reports that commands print.
//!
//! `UPDATE_SCHEMAS=1 cargo test -p vshelf schemas` writes them anew.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use schemars::{JsonSchema, Schema, schema_for};
use serde_json::json;

use super::json::Item;
use super::{
    card, carry, catalog, checkup, config, default, explain, history, label, list, outdated, path,
    renew, require, runtimes, status, tidy, timeline,
};
use crate::commands;
use crate::commands::command::GROUPS;

/// The schema of an object with a list of these.
fn list_of<I: Item + JsonSchema>() -> Schema {
    let mut schema = schema_for!(BTreeMap<String, Vec<I>>);
    let items = schema.remove("additionalProperties").unwrap_or_default();
    schema.remove("title");
    schema.insert("properties".to_owned(), json!({ I::LIST: items }));
    schema.insert("required".to_owned(), json!([I::LIST]));
    schema
}

/// The schema of each command's `--json`, by file name.
fn schemas() -> Vec<(&'static str, Schema)> {
    vec![
        ("carry", schema_for!(carry::Report)),
        ("catalog-card", schema_for!(card::CardReport)),
        ("catalog-lines", list_of::<catalog::LineReport>()),
        ("catalog-releases", list_of::<catalog::ReleaseReport>()),
        ("checkup", schema_for!(checkup::Report)),
        ("config", list_of::<config::Report>()),
        ("default", list_of::<default::Report>()),
        ("explain", schema_for!(explain::Report)),
        ("history", list_of::<history::Report>()),
        ("label", list_of::<label::Report>()),
        ("list", list_of::<list::Report>()),
        ("list-outdated", list_of::<outdated::InstallReport>()),
        ("path", schema_for!(path::Report)),
        ("require", list_of::<require::Report>()),
        ("renew", list_of::<renew::Report>()),
        ("runtimes", list_of::<runtimes::Report>()),
        ("status", list_of::<status::Report>()),
        ("tidy", schema_for!(tidy::Report)),
        ("timeline", list_of::<timeline::Report>()),
    ]
}

fn folder() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas")
}

#[test]
fn the_documented_schemas_are_those_of_the_reports() {
    let update = std::env::var_os("UPDATE_SCHEMAS").is_some();
    for (name, schema) in schemas() {
        let file = folder().join(format!("{name}.json"));
        let text = serde_json::to_string_pretty(&schema).unwrap() + "\n";
        if update {
            std::fs::create_dir_all(folder()).unwrap();
            std::fs::write(&file, &text).unwrap();
        }
        let documented = std::fs::read_to_string(&file).unwrap_or_default();
        assert_eq!(documented, text, "{}", file.display());
    }
}

#[test]
fn every_command_that_prints_json_has_a_schema() {
    let documented: Vec<&str> = schemas().iter().map(|(name, _)| *name).collect();
    for entry in commands::all() {
        let command = (entry.build)();
        if command
            .get_arguments()
            .any(|argument| argument.get_id() == "json")
        {
            let has_one = documented
                .iter()
                .any(|name| name.split('-').next() == Some(entry.name));
            assert!(has_one, "{} --json is not documented", entry.name);
        }
    }
}

#[test]
fn every_option_of_every_command_says_what_it_does() {
    for entry in commands::all() {
        let command = (entry.build)();
        assert!(command.get_about().is_some(), "{} has no help", entry.name);
        assert!(
            GROUPS.contains(&entry.group),
            "{} is in no group",
            entry.name
        );
        for argument in command.get_arguments() {
            assert!(
                argument.get_help().is_some(),
                "{} {}",
                entry.name,
                argument.get_id()
            );
        }
    }
}
