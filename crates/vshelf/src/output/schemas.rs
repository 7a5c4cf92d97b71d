//! The JSON Schemas in `docs/schemas`, generated from the reports that commands print.
//!
//! `UPDATE_SCHEMAS=1 cargo test -p vshelf schemas` writes them anew.

use std::path::{Path, PathBuf};

use schemars::{JsonSchema, Schema, schema_for};

use super::{
    card, carry, catalog, checkup, config, default, explain, history, label, list, outdated, path,
    renew, require, runtimes, status, tidy, timeline,
};
use crate::commands;
use crate::commands::command::GROUPS;

/// What came out since a version, in its line.
#[derive(JsonSchema)]
#[expect(dead_code, reason = "it only lends its form to the schema")]
pub struct NewerSchema {
    /// The newest release of the line.
    version: String,
    /// Whether it, or one between, fixes a security problem.
    security: bool,
}

/// The rules, decided.
#[derive(JsonSchema)]
#[expect(dead_code, reason = "it only lends its form to the schema")]
pub struct ActivationSchema {
    /// The claim that holds.
    active: Option<ClaimSchema>,
    /// Weaker claims.
    overrode: Vec<ClaimSchema>,
    /// Stronger claims that nothing on the shelf meets.
    unmet: Vec<ClaimSchema>,
}

/// What one rule asks for.
#[derive(JsonSchema)]
#[expect(dead_code, reason = "it only lends its form to the schema")]
struct ClaimSchema {
    /// `switch`, `requirement`, `default` or `system`.
    rule: String,
    /// The selector or key it asks for.
    wanted: String,
    /// The key on the shelf that meets it, or `system`.
    met_by: Option<String>,
    /// The file and line that ask for it.
    place: Option<PlaceSchema>,
}

/// A line in a file.
#[derive(JsonSchema)]
#[expect(dead_code, reason = "it only lends its form to the schema")]
struct PlaceSchema {
    /// The file.
    file: String,
    /// The line, counted from 1.
    line: usize,
}

/// The schema of each command's `--json`, by file name.
fn schemas() -> Vec<(&'static str, Schema)> {
    vec![
        ("carry", schema_for!(carry::Report)),
        ("catalog-card", schema_for!(card::CardReport)),
        ("catalog-lines", schema_for!(Vec<catalog::LineReport>)),
        ("catalog-releases", schema_for!(Vec<catalog::ReleaseReport>)),
        ("checkup", schema_for!(checkup::Report)),
        ("config", schema_for!(Vec<config::Report>)),
        ("default", schema_for!(Vec<default::Report>)),
        ("explain", schema_for!(explain::Report)),
        ("history", schema_for!(Vec<history::Report>)),
        ("label", schema_for!(Vec<label::Report>)),
        ("list", schema_for!(Vec<list::Report>)),
        ("list-outdated", schema_for!(Vec<outdated::InstallReport>)),
        ("path", schema_for!(path::Report)),
        ("require", schema_for!(Vec<require::Report>)),
        ("renew", schema_for!(Vec<renew::Report>)),
        ("runtimes", schema_for!(Vec<runtimes::Report>)),
        ("status", schema_for!(Vec<status::Report>)),
        ("tidy", schema_for!(tidy::Report)),
        ("timeline", schema_for!(Vec<timeline::Report>)),
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
