//! A person's settings: `settings.toml` in the config folder.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::Deserialize;

use crate::failure::{Failure, Kind, place_in, quoted};

/// The settings in force.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct Settings {
    /// The runtime that selectors mean when they name none.
    pub main_runtime: Option<String>,
    /// How many minutes a catalog counts as fresh.
    pub catalog_fresh_minutes: Option<u64>,
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

    /// How long a catalog counts as fresh.
    pub fn catalog_fresh_for(&self) -> Duration {
        Duration::from_secs(60 * self.catalog_fresh_minutes.unwrap_or(FRESH_MINUTES))
    }
}
