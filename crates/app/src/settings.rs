//! Settings: `shelf.toml` in the config folder, over that of the company, whose fixed keys stay.

use std::collections::BTreeMap;
use std::fmt;
use std::num::{NonZeroU16, NonZeroUsize};
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::Deserialize;
use toml_edit::{Array, DocumentMut, TomlError};
use vshelf_core::Definition;
use vshelf_core::definition::RequirementFile;
use vshelf_core::packages::Package;
use vshelf_core::tidy::{Policy, ReasonKind};
use vshelf_files::{atomic, optional};
use vshelf_shelf::store::Durability;
use vshelf_shell::connection::Following;
use vshelf_sources::credentials::ServerHeader;
use vshelf_sources::registries::UserSettings;

use crate::definitions;
use crate::error::{Error, SourceTable, TextLine, file_error};
use vshelf_core::rules::{Rule, RuleTexts};
use vshelf_files::action::FileAction;

/// The settings in force.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct Settings {
    /// The runtime that selectors mean when they name none.
    pub main_runtime: Option<String>,
    /// The publisher that selectors mean when they name none, by runtime.
    pub main_publishers: BTreeMap<String, String>,
    /// How many minutes a catalog counts as fresh.
    pub catalog_fresh_minutes: Option<u64>,
    /// How many jobs a build from source runs at once.
    pub build_jobs: Option<NonZeroU16>,
    /// Whether an install is written to the disk before it counts.
    pub durable_installs: Option<bool>,
    /// How shells tell that they follow a project.
    pub following: Following,
    /// Whether `status` says, once a day, that something on the shelf ended or lacks a security
    /// release.
    pub reminders: Option<bool>,
    /// What a clean-up counts as outdated.
    pub tidy: TidySettings,
    /// What is kept of what was removed.
    pub trash: TrashSettings,
    /// Where a source is read from instead, by runtime and source joined with a dot.
    pub addresses: BTreeMap<String, String>,
    /// The minisign key that what a source says has to be signed with, by runtime and source joined with a dot.
    pub keys: BTreeMap<String, String>,
    /// What servers are told beside who asks: values by name of the header, by server.
    pub headers: BTreeMap<String, BTreeMap<String, Secret>>,
    /// More files with one line in which projects say what they require, by runtime.
    pub requirement_files: BTreeMap<String, Vec<String>>,
    /// Folders whose requirement files and lock files count whoever put them there.
    pub trusted_folders: Vec<PathBuf>,
    /// What concerns packages.
    pub packages: PackageSettings,
    /// The keys of this file that one above it cannot change, each with dots.
    pub fixed: Vec<String>,
    /// The rules of this file.
    #[serde(rename = "rules")]
    rule_texts: RuleTexts,
    /// The rules in force, of all files.
    #[serde(skip)]
    pub rules: Vec<Rule>,
    /// The packages that every new install gets by the company's settings, by runtime.
    #[serde(skip)]
    company_packages: BTreeMap<String, Vec<String>>,
}

/// A text that is shown nowhere.
#[derive(Clone, Default, PartialEq, Eq, Deserialize)]
#[serde(transparent)]
pub struct Secret(String);

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a secret")
    }
}

/// What concerns packages.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct PackageSettings {
    /// The packages that every new install gets, by runtime: names, or `name@version`.
    pub always: BTreeMap<String, Vec<String>>,
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

/// What is kept of what was removed.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct TrashSettings {
    /// For how many days; 0 for not at all.
    pub days: Option<u32>,
    /// How much at most, in millions of bytes.
    pub megabytes: Option<u64>,
}

impl TrashSettings {
    /// For how many days what was removed is kept.
    pub fn days(&self) -> u32 {
        self.days.unwrap_or(14)
    }

    /// How many bytes of it are kept at most.
    pub fn bytes(&self) -> u64 {
        self.megabytes.unwrap_or(5_000).saturating_mul(1_000_000)
    }
}

/// How long a catalog counts as fresh where the settings say nothing, in minutes.
const FRESH_MINUTES: u64 = 60;

/// The settings file in the config folder.
pub fn settings_file(config: &Path) -> PathBuf {
    config.join("shelf.toml")
}

impl Settings {
    /// Reads the settings in these folders, each over those before it; a missing file is none. Rules are those
    /// of all together.
    pub fn read(folders: [&Path; 2]) -> Result<Settings, Error> {
        let [company, person] = folders.map(|folder| Layer::read(settings_file(folder)));
        let (company, person) = (company?, person?);
        let company_packages = match &company {
            Some(company) => company.settings.packages.always.clone(),
            None => BTreeMap::new(),
        };
        let mut layers: Vec<Layer> = company.into_iter().chain(person).collect();
        let rules = layers.iter_mut().flat_map(|layer| {
            let texts = std::mem::take(&mut layer.settings.rule_texts);
            texts.in_force(&layer.file, &layer.text)
        });
        let rules = rules.collect();
        let settings = match <[Layer; 2]>::try_from(layers) {
            Ok(both) => together(both)?,
            Err(mut layers) => layers.pop().map(|layer| layer.settings).unwrap_or_default(),
        };
        Ok(Settings {
            rules,
            company_packages,
            ..settings
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

    /// Changes a definition as the settings say: where its sources are read from, and in which files
    /// projects speak of it.
    pub fn adjust(&self, config: &Path, definition: &mut Definition) -> Result<(), Error> {
        self.change_sources(config, definition)?;
        if let Some(publisher) = self.main_publishers.get(&definition.name)
            && !definition.prefer(publisher)
        {
            return Err(Error::Settings {
                file: settings_file(config),
                problem: format!(
                    "main-publishers.{}: {publisher:?} does not publish it",
                    definition.name
                ),
                line: None,
            });
        }
        for name in self
            .requirement_files
            .get(&definition.name)
            .into_iter()
            .flatten()
        {
            let file = RequirementFile::plain(name);
            if !file.is_in_folder() {
                return Err(Error::Settings {
                    file: settings_file(config),
                    problem: format!("{name:?} is not the name of a file without a folder"),
                    line: None,
                });
            }
            let mut known = definition.requirement_files.iter();
            if !known.any(|known| known.is_plain() && known.file == file.file) {
                definition.requirement_files.push(file);
            }
        }
        Ok(())
    }

    /// The packages that every new install of a runtime gets.
    pub fn always_packages(&self, runtime: &str) -> Vec<Package> {
        let always = self.packages.always.get(runtime);
        always.map_or_else(Vec::new, |spelled| Package::all_named(spelled))
    }

    /// The packages that every new install of a runtime gets wherever the company's settings are.
    pub fn company_packages(&self, runtime: &str) -> Vec<Package> {
        let mut packages = self.always_packages(runtime);
        let company = self.company_packages.get(runtime);
        let company = company.map_or_else(Vec::new, |spelled| Package::all_named(spelled));
        packages.retain(|package| company.iter().any(|own| own.name == package.name));
        packages
    }

    /// Has sources read from elsewhere, and be signed.
    fn change_sources(&self, config: &Path, definition: &mut Definition) -> Result<(), Error> {
        let moves = self
            .addresses
            .iter()
            .map(|entry| (SourceTable::Addresses, entry));
        let keys = self.keys.iter().map(|entry| (SourceTable::Keys, entry));
        for (table, (name, value)) in moves.chain(keys) {
            let changed = match name.split_once('.') {
                Some((runtime, _)) if runtime != definition.name => true,
                Some((_, source)) => {
                    let mut sources = definition.sources.iter_mut();
                    let found = sources.find(|known| known.name == source);
                    found.is_some_and(|found| match table {
                        SourceTable::Keys => found.kind.sign_with(value),
                        SourceTable::Addresses => found.kind.move_to(value),
                    })
                }
                // Without a runtime it would change nothing.
                None => false,
            };
            if !changed {
                return Err(Error::ChangedSource {
                    file: settings_file(config),
                    table,
                    name: name.clone(),
                });
            }
        }
        Ok(())
    }

    /// What servers are told beside who asks, as the variables of the person fill it in.
    pub fn server_headers(
        &self,
        config: &Path,
        person: &UserSettings,
    ) -> Result<Vec<ServerHeader>, Error> {
        let all = self.headers.iter().flat_map(|(server, headers)| {
            let headers = headers.iter();
            headers.map(move |(name, value)| (server, name, value))
        });
        all.map(|(server, name, Secret(value))| {
            ServerHeader::read(server, name, value, person).map_err(|problem| Error::Settings {
                file: settings_file(config),
                problem,
                line: None,
            })
        })
        .collect()
    }

    /// How long a catalog counts as fresh.
    pub fn catalog_fresh_for(&self) -> Duration {
        Duration::from_secs(60 * self.catalog_fresh_minutes.unwrap_or(FRESH_MINUTES))
    }
}

/// A settings file that is there.
struct Layer {
    file: PathBuf,
    text: String,
    settings: Settings,
}

impl Layer {
    /// Reads a settings file; what is wrong with it is told with its line.
    fn read(file: PathBuf) -> Result<Option<Layer>, Error> {
        let text = optional::read_text_within(&file, definitions::LARGEST)
            .map_err(file_error(&file, FileAction::Read))?;
        let Some(text) = text else {
            return Ok(None);
        };
        let settings: Settings = toml::from_str(&text).map_err(|error| Error::Settings {
            problem: without_rust_types(error.message()),
            line: Some(TextLine::of(&text, error.span())),
            file: file.clone(),
        })?;
        let layer = Layer {
            file,
            text,
            settings,
        };
        for (runtime, spelled) in &layer.settings.packages.always {
            if let Some(package) = spelled.iter().find(|one| !Package::named(one).is_plain()) {
                let problem = format!(
                    "packages.always.{runtime}: {package:?} is not a name, or a name and a version"
                );
                return Err(layer.wrong(problem));
            }
        }
        let mut addresses = layer.settings.addresses.iter();
        if let Some((name, _)) = addresses.find(|(_, address)| address.trim().is_empty()) {
            return Err(layer.wrong(format!("addresses.{name} is empty, and is no address")));
        }
        let mut trusted = layer.settings.trusted_folders.iter();
        if let Some(relative) = trusted.find(|folder| !folder.is_absolute()) {
            let problem = format!("trusted-folders: {relative:?} is not an absolute path");
            return Err(layer.wrong(problem));
        }
        if !layer.settings.fixed.is_empty() {
            let table = layer.table()?;
            let mut fixed = layer.settings.fixed.iter();
            if let Some(unset) = fixed.find(|key| at(&table, key).is_none()) {
                let problem = format!("{unset:?} is fixed, and nothing here sets it");
                return Err(layer.wrong(problem));
            }
        }
        Ok(Some(layer))
    }

    fn table(&self) -> Result<toml::Table, Error> {
        let table = toml::from_str(&self.text);
        table.map_err(|error| self.wrong(error.message().to_owned()))
    }

    fn wrong(&self, problem: String) -> Error {
        Error::Settings {
            problem,
            line: None,
            file: self.file.clone(),
        }
    }
}

/// A message of the TOML reader with plain words for the number types of Rust.
fn without_rust_types(message: &str) -> String {
    let plain = [
        ("a nonzero u16", "a whole number from 1"),
        ("a nonzero usize", "a whole number from 1"),
        ("expected u32", "expected a whole number from 0"),
        ("expected u64", "expected a whole number from 0"),
    ];
    plain
        .iter()
        .fold(message.to_owned(), |text, (of_rust, plain)| {
            text.replace(of_rust, plain)
        })
}

/// Settings with others over them, but for the keys that they have fixed.
fn together([under, over]: [Layer; 2]) -> Result<Settings, Error> {
    let mut merged = under.table()?;
    let mut table = over.table()?;
    for key in &under.settings.fixed {
        remove(&mut table, key);
    }
    merge(&mut merged, table);
    // Each file's rules count by themselves, and so do its fixed keys.
    merged.remove("rules");
    let settings: Result<Settings, toml::de::Error> = merged.try_into();
    let settings = settings.map_err(|error| over.wrong(error.message().to_owned()))?;
    Ok(Settings {
        fixed: [under.settings.fixed, over.settings.fixed].concat(),
        ..settings
    })
}

/// The value of a key with dots; the rest of a key may have dots itself, as the name of a source does.
fn at<'t>(table: &'t toml::Table, key: &str) -> Option<&'t toml::Value> {
    match table.get(key) {
        Some(value) => Some(value),
        None => {
            let (first, rest) = key.split_once('.')?;
            at(table.get(first)?.as_table()?, rest)
        }
    }
}

/// Takes the value of a key with dots away.
fn remove(table: &mut toml::Table, key: &str) {
    if table.remove(key).is_some() {
        return;
    }
    if let Some((first, rest)) = key.split_once('.')
        && let Some(inner) = table.get_mut(first).and_then(toml::Value::as_table_mut)
    {
        remove(inner, rest);
    }
}

/// Puts one table over another: its values take the place of those there, but for tables, which are put together.
fn merge(under: &mut toml::Table, over: toml::Table) {
    for (key, value) in over {
        match (under.get_mut(&key), value) {
            (Some(toml::Value::Table(inner)), toml::Value::Table(value)) => merge(inner, value),
            (_, value) => {
                under.insert(key, value);
            }
        }
    }
}

/// The text of the settings file, empty where there is none, and its path.
pub fn read_file(config: &Path) -> Result<(PathBuf, String), Error> {
    let file = settings_file(config);
    let text = optional::read_text_within(&file, definitions::LARGEST)
        .map_err(file_error(&file, FileAction::Read))?;
    Ok((file, text.unwrap_or_default()))
}

/// Writes the main runtime into the settings, whose other lines stay as they are.
pub fn set_main_runtime(config: &Path, name: &str) -> Result<(), Error> {
    change(config, |document| {
        document["main-runtime"] = toml_edit::value(name);
        true
    })
    .map(drop)
}

/// Adds a file to those in which projects require a runtime.
pub fn add_requirement_file(config: &Path, runtime: &str, file: &str) -> Result<(), Error> {
    change(config, |document| {
        let files = document.entry("requirement-files");
        let files = files.or_insert_with(toml_edit::table);
        let files = files[runtime].or_insert(toml_edit::value(Array::new()));
        files.as_array_mut().is_some_and(|files| {
            files.push(file);
            true
        })
    })
    .map(drop)
}

/// Removes a file from those in which projects require a runtime. Returns whether it was one.
pub fn remove_requirement_file(config: &Path, runtime: &str, file: &str) -> Result<bool, Error> {
    change(config, |document| {
        let Some(all) = document.get_mut("requirement-files") else {
            return false;
        };
        let Some(all) = all.as_table_like_mut() else {
            return false;
        };
        let files = all.get_mut(runtime).and_then(|files| files.as_array_mut());
        let Some(files) = files else {
            return false;
        };
        let before = files.len();
        files.retain(|known| known.as_str() != Some(file));
        let is_changed = files.len() < before;
        if files.is_empty() {
            all.remove(runtime);
        }
        if all.is_empty() {
            document.remove("requirement-files");
        }
        is_changed
    })
}

/// Changes the person's settings, with everything else in the file as it was. Returns whether `edit` changed something;
/// if not, nothing is written.
fn change(config: &Path, edit: impl FnOnce(&mut DocumentMut) -> bool) -> Result<bool, Error> {
    let (file, text) = read_file(config)?;
    let mut document: DocumentMut = text.parse().map_err(|error: TomlError| Error::Settings {
        file: file.clone(),
        problem: error.message().to_owned(),
        line: None,
    })?;
    let is_changed = edit(&mut document);
    if is_changed {
        atomic::write_file(&file, document.to_string().as_bytes())
            .map_err(file_error(&file, FileAction::Write))?;
    }
    Ok(is_changed)
}
