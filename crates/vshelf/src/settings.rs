//! A person's settings: `settings.toml` in the config folder.

use std::collections::BTreeMap;
use std::fs;
use std::io;
use std::num::NonZeroUsize;
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::Deserialize;
use vshelf_core::Definition;
use vshelf_core::tidy::{Policy, ReasonKind};
use vshelf_shelf::shelf::Durability;
use vshelf_shell::hook::Following;

use crate::failure::{Failure, Kind, place_in, quoted, shown};

/// The settings in force.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct Settings {
    /// The runtime that selectors mean when they name none.
    pub main_runtime: Option<String>,
    /// How many minutes a catalog counts as fresh.
    pub catalog_fresh_minutes: Option<u64>,
    /// Whether an install is written to the disk before it counts.
    pub durable_installs: Option<bool>,
    /// How shells tell that they follow a project.
    pub following: Following,
    /// Whether `status` says, once a day, that something on the shelf ended or lacks a security
    /// release.
    pub reminders: Option<bool>,
    /// What a clean-up counts as outdated.
    pub tidy: TidySettings,
    /// Where a source is read from instead, by runtime and source joined with a dot.
    pub addresses: BTreeMap<String, String>,
}

/// What a clean-up counts as outdated.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct TidySettings {
    /// The reasons that count.
    pub reasons: Option<Vec<ReasonKind>>,
    /// After how many days without use an install is idle.
    pub idle_days: Option<u32>,
    /// How many releases of a line stay.
    pub per_line: Option<NonZeroUsize>,
}

/// How long a catalog counts as fresh where the settings say nothing, in minutes.
const FRESH_MINUTES: u64 = 60;

/// The settings file in the config folder.
pub fn settings_file(config: &Path) -> PathBuf {
    config.join("settings.toml")
}

impl Settings {
    /// Reads the settings; a missing file is none.
    pub fn read(config: &Path) -> Result<Settings, Failure> {
        let file = settings_file(config);
        let text = match fs::read_to_string(&file) {
            Ok(text) => text,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Settings::default()),
            Err(error) => {
                let message = format!("{} cannot be read: {error}", file.display());
                return Err(Failure::new(Kind::Disk, message).about_io(&error));
            }
        };
        toml::from_str(&text).map_err(|error| {
            Failure::new(
                Kind::Disk,
                format!("{} is not understood: {}", file.display(), error.message()),
            )
            .say(place_in(&text, error.span()))
            .run("To edit it", format!("${{EDITOR:-vi}} {}", quoted(&file)))
        })
    }

    /// Whether an install is written to the disk before it counts.
    pub fn durability(&self) -> Durability {
        match self.durable_installs {
            Some(false) => Durability::Unsynced,
            _ => Durability::Synced,
        }
    }

    /// Whether `status` reminds of what is outdated.
    pub fn reminds(&self) -> bool {
        self.reminders.unwrap_or(true)
    }

    /// What a clean-up counts as outdated.
    pub fn policy(&self) -> Policy {
        let usual = Policy::default();
        Policy {
            reasons: self.tidy.reasons.clone().unwrap_or(usual.reasons),
            idle_days: self.tidy.idle_days.unwrap_or(usual.idle_days),
            per_line: self.tidy.per_line.map_or(usual.per_line, NonZeroUsize::get),
        }
    }

    /// Has the sources of a definition read from where the settings say.
    pub fn move_sources(&self, config: &Path, definition: &mut Definition) -> Result<(), Failure> {
        for (name, address) in &self.addresses {
            let Some(source) = name.strip_prefix(&format!("{}.", definition.name)) else {
                continue;
            };
            let found = (definition.sources.iter_mut()).find(|known| known.name == source);
            if !found.is_some_and(|found| found.kind.move_to(address)) {
                let file = settings_file(config);
                let message = format!(
                    "{} moves {name:?}, and there is no such source with an address",
                    shown(&file)
                );
                return Err(Failure::new(Kind::Disk, message)
                    .run("To edit it", format!("${{EDITOR:-vi}} {}", quoted(&file))));
            }
        }
        Ok(())
    }

    /// How long a catalog counts as fresh.
    pub fn catalog_fresh_for(&self) -> Duration {
        Duration::from_secs(60 * self.catalog_fresh_minutes.unwrap_or(FRESH_MINUTES))
    }
}
