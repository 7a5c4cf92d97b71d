//! The settings in force, and where each comes from.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use jiff::civil::Date;
use serde::Serialize;
use toml_edit::{Document, Item, Table as Toml};
use vshelf_app::Environment;
use vshelf_app::settings::{self, Settings};
use vshelf_core::rules::RuleKind;
use vshelf_core::tidy::ReasonKind;
use vshelf_shell::connection::Following;
use vshelf_sources::address;
use vshelf_view::words::printable;
use vshelf_view::{Cell, Column, Palette, Table};

use super::json;
use crate::failure::{Class, Failure, Outcome};
use crate::ui::Ui;
use crate::wording::paths::{edit, shown};

/// One setting, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// Its name in shelf.toml; a folder's is that of its variable.
    name: String,
    /// Its value.
    value: String,
    /// `default`, `environment`, or the file that says it.
    origin: String,
    /// The line in that file.
    line_number: Option<usize>,
    /// Whether nobody below can change it.
    fixed: bool,
}

impl json::Item for Report {
    const LIST: &'static str = "settings";
}

/// Shows the settings as a table.
pub fn show(ui: &Ui, environment: &Environment, reports: &[Report]) -> Outcome {
    let columns = [
        Column::left("setting"),
        Column::left("from"),
        Column::yielding("value"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for report in reports {
        let place = |file: &str| match report.line_number {
            Some(line) if report.fixed => format!("{file}, line {line}, locked"),
            Some(line) => format!("{file}, line {line}"),
            None => file.to_owned(),
        };
        let name = Path::new(&report.origin).file_name().unwrap_or_default();
        let short = place(&name.to_string_lossy());
        let own = report.origin != DEFAULT;
        let style = if own { Palette::STRONG } else { Palette::QUIET };
        table.row(
            Palette::QUIET,
            [
                Cell::new(&report.name, Palette::STRONG),
                Cell::new(place(&report.origin), style).or(short),
                report.value.clone().into(),
            ],
        );
    }
    ui.table(&table)?;
    let file = settings::settings_file(&environment.folders()?.config);
    ui.next("To change them", &edit(&file));
    Ok(())
}

/// The origin of what nobody says.
const DEFAULT: &str = "default";

/// The settings in force.
pub fn reports(environment: &Environment) -> Result<Vec<Report>, Failure> {
    let settings = environment.settings()?;
    let folders = environment.folders()?;
    let company = Layer::read(&folders.company)?;
    let own = Layer::read(&folders.config)?;
    let mut reports: Vec<Report> = (values_of(settings).into_iter())
        .map(|(name, value)| {
            let is_fixed = settings.fixed.contains(&name);
            let company = company.lines.get(&name).map(|line| (&company.file, *line));
            let own = own.lines.get(&name).map(|line| (&own.file, *line));
            let place = if is_fixed {
                company.or(own)
            } else {
                own.or(company)
            };
            Report {
                name,
                value,
                origin: place.map_or_else(|| DEFAULT.to_owned(), |(file, _)| shown(file)),
                line_number: place.map(|(_, line)| line),
                fixed: is_fixed,
            }
        })
        .collect();
    reports.extend(settings.rules.iter().map(|rule| {
        let (name, value) = in_words(&rule.kind);
        Report {
            name: format!("rules.{name}"),
            value,
            origin: shown(&rule.file),
            line_number: Some(rule.line),
            fixed: true,
        }
    }));
    reports.extend(folder_reports(environment)?);
    Ok(reports)
}

/// Each setting that has a value, with that.
fn values_of(settings: &Settings) -> Vec<(String, String)> {
    let policy = settings.policy();
    let reasons: Vec<String> = policy.reasons.iter().map(ReasonKind::to_string).collect();
    let minutes = settings.catalog_fresh_for().as_secs() / 60;
    let following = match settings.following {
        Following::Announce => "announce",
        Following::Ask => "ask",
        Following::Quiet => "quiet",
        Following::Install => "install",
        Following::Off => "off",
    };
    let trusted = settings.trusted_folders.iter();
    let trusted: Vec<String> = trusted.map(|folder| shown(folder)).collect();
    let yes = |value: bool| value.to_string();
    let mut values: Vec<(String, String)> = [
        ("main-runtime", or_unset(settings.main_runtime.clone())),
        ("following", following.to_owned()),
        (
            "trusted-folders",
            or_unset((!trusted.is_empty()).then(|| trusted.join(", "))),
        ),
        ("reminders", yes(settings.reminds())),
        ("catalog-fresh-minutes", minutes.to_string()),
        (
            "build-jobs",
            or_unset(settings.build_jobs.map(|jobs| jobs.to_string())),
        ),
        (
            "durable-installs",
            yes(settings.durable_installs.unwrap_or(true)),
        ),
        ("tidy.reasons", reasons.join(", ")),
        ("tidy.idle-days", policy.idle_days.to_string()),
        ("tidy.per-line", policy.per_line.to_string()),
        ("trash.days", settings.trash.days().to_string()),
        (
            "trash.megabytes",
            (settings.trash.bytes() / 1_000_000).to_string(),
        ),
    ]
    .map(|(name, value)| (name.to_owned(), value))
    .into();
    let publishers = settings.main_publishers.iter();
    values.extend(publishers.map(|(name, id)| (format!("main-publishers.{name}"), printable(id))));
    let moved = settings.addresses.iter();
    values.extend(
        moved.map(|(name, address)| (format!("addresses.{name}"), address::shown(address))),
    );
    let keys = settings.keys.iter();
    values.extend(keys.map(|(name, key)| (format!("keys.{name}"), key.clone())));
    let headers = settings.headers.iter();
    values.extend(headers.flat_map(|(server, headers)| {
        let names = headers.keys();
        names.map(move |name| (format!("headers.{server}.{name}"), "not shown".to_owned()))
    }));
    values
}

fn or_unset(value: Option<String>) -> String {
    value.unwrap_or_else(|| "unset".to_owned())
}

/// The folders, which variables can move.
fn folder_reports(environment: &Environment) -> Result<Vec<Report>, Failure> {
    let folders = environment.folders()?;
    let mut reports = Vec::new();
    for (variable, folder) in [
        ("VSHELF_DATA", &folders.data),
        ("VSHELF_CACHE", &folders.cache),
        ("VSHELF_CONFIG", &folders.config),
        ("VSHELF_COMPANY", &folders.company),
    ] {
        let value = environment.variables().get(variable);
        let own = value.is_some_and(|value| value == folder.as_os_str());
        reports.push(Report {
            name: variable.to_owned(),
            value: shown(folder),
            origin: if own { "environment" } else { DEFAULT }.to_owned(),
            line_number: None,
            fixed: false,
        });
    }
    Ok(reports)
}

/// A settings file, and the line of each setting in it.
struct Layer {
    file: PathBuf,
    lines: BTreeMap<String, usize>,
}

impl Layer {
    fn read(folder: &Path) -> Result<Layer, Failure> {
        let (file, text) = settings::read_file(folder)?;
        let lines = lines_of(&text).map_err(|problem| {
            let text = format!("{} is not understood: {problem}", shown(&file));
            Failure::new(Class::Disk, text)
        })?;
        Ok(Layer { file, lines })
    }
}

/// The key of a rule, and what it says.
fn in_words(rule: &RuleKind) -> (&'static str, String) {
    let from = |day: &Option<Date>| day.map_or_else(String::new, |day| format!(", from {day}"));
    match rule {
        RuleKind::Denied(denied) => (
            "denied",
            format!(
                "{} {}: {}{}",
                denied.runtime,
                denied.versions,
                printable(&denied.why),
                from(&denied.from)
            ),
        ),
        RuleKind::EndedLines(refusal) => (
            "ended-lines",
            format!("{}{}", printable(&refusal.why), from(&refusal.from)),
        ),
        RuleKind::Sources(allowed) => ("sources", allowed.join(", ")),
        RuleKind::SignedOnly => ("signed-only", "true".to_owned()),
    }
}

/// The line of each setting in the text of the settings file, by its name with dots.
fn lines_of(text: &str) -> Result<BTreeMap<String, usize>, String> {
    let document = Document::parse(text).map_err(|error| error.to_string())?;
    let mut lines = BTreeMap::new();
    collect(text, document.as_table(), "", &mut lines);
    Ok(lines)
}

fn collect(text: &str, table: &Toml, prefix: &str, lines: &mut BTreeMap<String, usize>) {
    for (name, item) in table {
        let name = format!("{prefix}{name}");
        match item {
            Item::Table(inner) => collect(text, inner, &format!("{name}."), lines),
            item => {
                let start = item.span().map_or(0, |span| span.start);
                lines.insert(name, text[..start].matches('\n').count() + 1);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_setting_has_its_line() {
        let text = "# mine\nmain-runtime = \"marram\"\n\n[tidy]\nper-line = 2\n[addresses]\n\"node.nodejs\" = \"x\"\n";
        let lines = lines_of(text).unwrap();
        let expected = [
            ("addresses.node.nodejs".to_owned(), 7),
            ("main-runtime".to_owned(), 2),
            ("tidy.per-line".to_owned(), 5),
        ];
        assert_eq!(lines.into_iter().collect::<Vec<_>>(), expected);
    }
}
