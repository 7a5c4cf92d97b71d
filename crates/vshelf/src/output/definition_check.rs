//! What a definition would publish.

use std::path::Path;

use serde::Serialize;
use vshelf_app::Error;
use vshelf_app::runtimes::{CheckedDefinition, CheckedSource};
use vshelf_core::Phase;
use vshelf_core::catalog::Catalog;
use vshelf_sources::PublishedCatalog;
use vshelf_sources::kept_documents::SkippedRow;
use vshelf_view::words::{Count, listed, printable};
use vshelf_view::{Cell, Column, Palette, Table};

use super::json;
use crate::failure::Outcome;
use crate::ui::{Ui, styled};
use crate::wording::paths::quoted;
use crate::wording::versions::{end_cell, phase_cell, spine};

/// What a definition would publish, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime's name.
    runtime: String,
    /// Its name for people.
    title: String,
    /// The publishers, the main one first.
    publishers: Vec<String>,
    /// What each source gives.
    sources: Vec<SourceReport>,
    /// The lines of all of them together, newest first.
    lines: Vec<LineReport>,
}

/// What one source gives, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SourceReport {
    /// Its name.
    name: String,
    /// Why it gives nothing.
    error: Option<String>,
    /// How many releases.
    releases: usize,
    /// How many of them are built for this platform.
    for_this_platform: usize,
    /// The newest of them.
    newest: Option<String>,
    /// How it spells what is no version that is taken.
    left_out: Vec<String>,
    /// The patterns of `versions` that fit nothing.
    unused_patterns: Vec<String>,
    /// Rows of its documents that do not count, and why.
    skipped: Vec<SkippedReport>,
}

/// A line, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LineReport {
    /// The line.
    line: String,
    /// Its phase today.
    phase: Phase,
    /// How many releases it has.
    releases: usize,
    /// The newest of them, as a selector.
    newest: Option<String>,
}

/// A row that does not count.
#[derive(Clone, Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct SkippedReport {
    /// Its version, or else its number in its document.
    row: String,
    /// The field that decides it.
    field: String,
    /// The problem with it, as the end of a sentence.
    problem: String,
}

impl SkippedReport {
    fn new(skipped: &SkippedRow) -> SkippedReport {
        let SkippedRow {
            row,
            field,
            problem,
        } = skipped.clone();
        SkippedReport {
            row,
            field,
            problem,
        }
    }
}

impl SourceReport {
    fn new(checked: &CheckedSource, definition: &CheckedDefinition) -> SourceReport {
        let published = checked.published.as_ref();
        let releases = published.map(|published| &published.catalog.releases[..]);
        let releases = releases.unwrap_or_default();
        let texts = |of: fn(&PublishedCatalog) -> &Vec<String>| {
            published
                .map(|published| of(published).clone())
                .unwrap_or_default()
        };
        SourceReport {
            name: checked.name.clone(),
            error: published.err().map(Error::to_string),
            releases: releases.len(),
            for_this_platform: (releases.iter())
                .filter(|release| release.runs_on(&definition.platform))
                .count(),
            newest: releases.first().map(|release| release.version.to_string()),
            left_out: texts(|published| &published.left_out),
            unused_patterns: texts(|published| &published.unused_patterns),
            skipped: published
                .map(|published| published.skipped.iter().map(SkippedReport::new).collect())
                .unwrap_or_default(),
        }
    }

    /// What is said of it in one line.
    fn summary(&self, has_builds: bool) -> String {
        if let Some(error) = &self.error {
            return styled(Palette::ERROR, printable(error));
        }
        let newest = self
            .newest
            .as_ref()
            .map(|newest| format!(", newest {newest}"));
        let here = match has_builds {
            true => format!(", {} for this platform", self.for_this_platform),
            false => ", knows of them and has no builds".to_owned(),
        };
        let count = Count(self.releases, "release");
        format!("{count}{}{here}", newest.unwrap_or_default())
    }
}

fn lines(catalog: &Catalog, checked: &CheckedDefinition) -> Vec<LineReport> {
    let report = |line: &vshelf_core::Line| {
        let releases = catalog.releases_of(line);
        let newest = releases
            .clone()
            .next()
            .map(|newest| catalog.selector_for(&newest.version, &newest.publisher));
        LineReport {
            line: line.name.clone(),
            phase: line.phase_on(checked.today),
            releases: releases.count(),
            newest,
        }
    };
    let reports = catalog.lines.iter().map(report);
    reports.filter(|line| line.releases > 0).collect()
}

/// Shows what a definition would publish.
pub fn show(ui: &Ui, checked: &CheckedDefinition, as_json: bool) -> Outcome {
    let catalog = checked.catalog.clone().unwrap_or_default();
    let report = Report {
        runtime: checked.definition.name.clone(),
        title: checked.definition.title.clone(),
        publishers: catalog
            .publishers
            .iter()
            .map(|one| one.id.clone())
            .collect(),
        sources: (checked.sources.iter())
            .map(|source| SourceReport::new(source, checked))
            .collect(),
        lines: lines(&catalog, checked),
    };
    if as_json {
        json::print(ui, &report)
    } else {
        show_report(ui, &report, &catalog, checked)
    }
}

/// Says that the release with this title can be installed, if one was tried, and how the definition at `place` is
/// added.
pub fn say_sound(ui: &Ui, tried: Option<&str>, place: &str) -> Outcome {
    if let Some(title) = tried {
        ui.done(format!(
            "{title} can be installed: it was verified and unpacked, and it starts. Nothing of it was kept."
        ))?;
    }
    ui.next(
        "To add it",
        &format!("vshelf runtimes --add {}", quoted(Path::new(place))),
    );
    Ok(())
}

/// The first of these, and how many there are besides.
fn shortened(texts: &[&str]) -> String {
    const SHOWN: usize = 5;
    let shown: Vec<String> = texts
        .iter()
        .take(SHOWN)
        .map(|text| printable(text))
        .collect();
    match texts.len() - shown.len() {
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}

/// The reasons for which rows are skipped, each with its rows, in the order in which they first appear.
fn reasons(skipped: &[SkippedReport]) -> Vec<(String, Vec<&str>)> {
    let mut reasons: Vec<(String, Vec<&str>)> = Vec::new();
    for row in skipped {
        let reason = format!("{} {}", row.field, row.problem);
        match reasons.iter_mut().find(|(known, _)| *known == reason) {
            Some((_, rows)) => rows.push(&row.row),
            None => reasons.push((reason, vec![&row.row])),
        }
    }
    reasons
}

fn show_report(
    ui: &Ui,
    report: &Report,
    catalog: &Catalog,
    checked: &CheckedDefinition,
) -> Outcome {
    let title = styled(Palette::STRONG, &report.title);
    let publishers = listed(&report.publishers, "and");
    ui.result(format!(
        "{title} ({}), published by {publishers}",
        report.runtime
    ))?;
    let mut facts = Vec::new();
    for (source, defined) in report.sources.iter().zip(&checked.definition.sources) {
        facts.push((
            source.name.as_str(),
            source.summary(defined.kind.has_builds()),
        ));
        if !source.left_out.is_empty() {
            let left_out: Vec<&str> = source.left_out.iter().map(String::as_str).collect();
            facts.push(("  left out", shortened(&left_out)));
        }
        for (reason, rows) in reasons(&source.skipped) {
            facts.push((
                "  skipped",
                format!("{}: {}", shortened(&rows), printable(&reason)),
            ));
        }
        for pattern in &source.unused_patterns {
            facts.push(("  fits nothing", styled(Palette::WARNING, pattern)));
        }
    }
    ui.facts(&facts)?;
    if report.lines.is_empty() {
        return Ok(());
    }
    let columns = [
        Column::right("line"),
        Column::left("phase"),
        Column::left("support ends"),
        Column::right("releases"),
        Column::yielding("newest"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for line in &report.lines {
        let known = catalog.lines.iter().find(|known| known.name == line.line);
        table.row(
            spine(Some(line.phase)),
            [
                Cell::new(&line.line, Palette::STRONG),
                phase_cell(Some(line.phase)),
                end_cell(known, checked.today),
                line.releases.to_string().into(),
                line.newest.clone().unwrap_or_default().into(),
            ],
        );
    }
    ui.table(&table)
}
