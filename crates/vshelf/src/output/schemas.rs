//! The JSON Schemas in `docs/schemas`, generated from the reports that commands print.
//!
//! `UPDATE_SCHEMAS=1 cargo test -p vshelf schemas` writes them anew.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use schemars::{JsonSchema, Schema, schema_for};
use serde_json::json;
use vshelf_core::Definition;

use super::json::Item;
use super::{
    card, carry, catalog, checkup, config, default, definition_check, explain, history, label,
    list, path, renew, require, runtimes, status, tidy, timeline,
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
        // What people write, for editors.
        ("definition", schema_for!(Definition)),
        ("explain", schema_for!(explain::Report)),
        ("history", list_of::<history::Report>()),
        ("label", list_of::<label::Report>()),
        ("list", list_of::<list::Report>()),
        ("path", schema_for!(path::Report)),
        ("require", list_of::<require::Report>()),
        ("renew", list_of::<renew::Report>()),
        ("runtimes", list_of::<runtimes::Report>()),
        ("runtimes-check", schema_for!(definition_check::Report)),
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

#[test]
fn the_schema_of_definitions_takes_those_built_in_and_no_unknown_key() {
    let schema = serde_json::to_value(schema_for!(Definition)).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let nowhere = vshelf_shelf::Folders::below(Path::new("/nowhere"));
    for name in vshelf_app::definitions::names(&nowhere).unwrap() {
        let (text, _) = vshelf_app::definitions::text(&nowhere, &name).unwrap();
        let lines = text.lines().count();
        // How it is built, and the words of an interface, are a third of a definition that says them.
        let says_more = ["[build]", "kind = \"json\""].map(|more| text.contains(more));
        let most = 60 + says_more.iter().filter(|says| **says).count() * 20;
        assert!(lines < most, "{name} has {lines} lines");
        let json = vshelf_app::definitions::built_in_json(&name).unwrap();
        let errors_of = |json: &str| -> Vec<String> {
            let value = serde_json::from_str(json).unwrap();
            validator
                .iter_errors(&value)
                .map(|e| e.to_string())
                .collect()
        };
        assert!(errors_of(json).is_empty(), "{name}: {:?}", errors_of(json));
        for (good, bad) in [
            ("\"title\":", "\"titel\":"),
            ("\"kind\":", "\"knid\":"),
            ("\"publisher\":", "\"publischer\":"),
        ] {
            let errors = errors_of(&json.replacen(good, bad, 1));
            assert!(!errors.is_empty(), "{name} with {bad}");
        }
    }
}
