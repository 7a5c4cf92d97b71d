//! What is published: the lines, or the releases of some.

use jiff::civil::Date;
use serde::Serialize;
use vshelf_app::{Activity, Runtime};
use vshelf_core::catalog::Publisher;
use vshelf_core::resolve::Candidate;
use vshelf_core::{Catalog, Key, Line, Phase, Release, Request};
use vshelf_view::words::{Count, printable};
use vshelf_view::{Cell, Column, Palette, Table};

use super::json::{self, Item};
use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::versions::{end_cell, marks, phase_cell, spine};

/// A line, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct LineReport {
    /// The runtime's name.
    runtime: String,
    /// The line: the leading numbers.
    line: String,
    /// Its code name.
    codename: Option<String>,
    /// Its phase: `preview`, `current`, `lts`, `maintenance` or `ended`.
    phase: Phase,
    /// The first day of its first final release.
    start: Option<Date>,
    /// The first day of long-term support.
    lts: Option<Date>,
    /// The first day of maintenance.
    maintenance: Option<Date>,
    /// The last day of support, as an ISO 8601 date.
    end: Option<Date>,
    /// The newest release of the main publisher, or else of the first other one, as a selector.
    newest: Option<String>,
    /// The newest releases of other publishers, as far as they are newer than that, as selectors.
    other_publishers: Vec<String>,
    /// The keys of what of it is on the shelf.
    on_shelf: Vec<Key>,
}

impl Item for LineReport {
    const LIST: &'static str = "lines";
}

/// A release, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ReleaseReport {
    /// The runtime's name.
    runtime: String,
    /// The version as published.
    version: String,
    /// The publisher's id.
    publisher: String,
    /// The day of publication.
    date: Option<Date>,
    /// The release line.
    line: Option<String>,
    /// The line's phase: `preview`, `current`, `lts`, `maintenance` or `ended`.
    phase: Option<Phase>,
    /// Whether it fixes a security problem; `null` if no source says.
    security: Option<bool>,
    /// Why its publisher took it back.
    withdrawn: Option<String>,
    /// What it is built for.
    platforms: Vec<String>,
    /// Whether it is on the shelf.
    on_shelf: bool,
    /// Marks in words.
    marks: Vec<String>,
}

impl Item for ReleaseReport {
    const LIST: &'static str = "releases";
}

/// The newest release of a line from each publisher, as selectors: of the main publisher, and of others
/// as far as theirs are newer than what stands in front of them.
fn newest_of(catalog: &Catalog, line: &Line) -> Vec<String> {
    let mut newest: Vec<String> = Vec::new();
    let mut best: Option<&Release> = None;
    for publisher in &catalog.publishers {
        let of_line = |finals_only: bool| {
            catalog.releases_of(line).find(|release| {
                *release.publisher == *publisher.id
                    && release.withdrawn.is_none()
                    && !(finals_only && release.version.is_pre_release())
            })
        };
        let Some(own) = of_line(true).or_else(|| of_line(false)) else {
            continue;
        };
        if best.is_none_or(|best| own.version > best.version) {
            best = Some(own);
            newest.push(catalog.selector_for(&own.version, &publisher.id));
        }
    }
    newest
}

/// The lines that have releases.
fn line_reports(runtime: &Runtime<'_>) -> Vec<LineReport> {
    let catalog = runtime.published.heads();
    let report = |line: &Line| {
        let mut newest = newest_of(catalog, line).into_iter();
        let on_shelf = runtime.names().installs_of(line);
        LineReport {
            runtime: runtime.name().to_owned(),
            line: line.name.clone(),
            codename: line.codename.clone(),
            phase: line.phase_on(runtime.today()),
            start: line.start,
            lts: line.lts,
            maintenance: line.maintenance,
            end: line.end,
            newest: newest.next(),
            other_publishers: newest.collect(),
            on_shelf: on_shelf.map(|install| install.id.key.clone()).collect(),
        }
    };
    let reports = catalog.lines.iter().map(report);
    reports.filter(|report| report.newest.is_some()).collect()
}

/// Shows the lines that have not ended or are on the shelf, and how many others there are.
pub fn show_lines(ui: &Ui, runtime: &Runtime<'_>, as_json: bool) -> Outcome {
    let reports = line_reports(runtime);
    if as_json {
        return json::print_list(ui, &reports);
    }
    let columns = [
        Column::right("line"),
        Column::left("code name").optional(),
        Column::left("phase"),
        Column::left("support ends"),
        Column::left("newest"),
        Column::yielding("on the shelf"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    let is_over = |report: &&LineReport| report.phase == Phase::Ended && report.on_shelf.is_empty();
    let (over, shown): (Vec<&LineReport>, Vec<&LineReport>) = reports.iter().partition(is_over);
    // Lines of other publishers are shown if no line of the main publisher is known.
    let is_of_main = |report: &&LineReport| is_of_main(runtime, report);
    let (shown, of_others) = if shown.iter().any(is_of_main) {
        shown.into_iter().partition(is_of_main)
    } else {
        (shown, Vec::new())
    };
    for report in &shown {
        table.row(spine(Some(report.phase)), line_row(runtime, report));
    }
    if !shown.is_empty() {
        ui.table(&table)?;
    }
    say_undated(ui, runtime, &reports);
    say_over(ui, runtime, &over);
    say_others(ui, runtime, &shown, &of_others);
    let is_lts = |report: &LineReport| report.phase == Phase::Lts;
    let example = match shown.first() {
        Some(_) if shown.iter().any(|report| is_lts(report)) => "lts",
        Some(newest) => newest.line.as_str(),
        None => return Ok(()),
    };
    let command = format!("vshelf catalog {}", runtime.names().as_typed(example));
    ui.next("To see the releases of a line", &command);
    Ok(())
}

/// The cells of a line.
fn line_row(runtime: &Runtime<'_>, report: &LineReport) -> [Cell; 6] {
    let catalog = runtime.published.heads();
    let line = catalog.lines.iter().find(|line| line.name == report.line);
    let others = report.other_publishers.iter();
    let others = others.filter(|_| !is_of_main(runtime, report));
    let newest = report.newest.iter().chain(others);
    let newest: Vec<String> = newest.map(|one| with_trimmed(runtime, one)).collect();
    let on_shelf = report.on_shelf.iter();
    let on_shelf: Vec<String> = on_shelf
        .map(|key| runtime.names().selector_of(key))
        .collect();
    let codename = report.codename.as_deref().map(printable);
    [
        Cell::new(&report.line, Palette::STRONG),
        codename.unwrap_or_default().into(),
        phase_cell(Some(report.phase)),
        end_cell(line, runtime.today()),
        newest.join(", ").into(),
        on_shelf.join(", ").into(),
    ]
}

/// A selector, marked if its publisher trims its builds.
fn with_trimmed(runtime: &Runtime<'_>, selector: &str) -> String {
    let publisher = selector.split_once('/').map(|(publisher, _)| publisher);
    let publisher = publisher.or(runtime.names().main_publisher());
    match publisher.and_then(|id| runtime.definition.trimmed_by(id)) {
        Some(_) => format!("{selector} (trimmed)"),
        None => selector.to_owned(),
    }
}

/// Whether the main publisher has releases of a line.
fn is_of_main(runtime: &Runtime<'_>, report: &LineReport) -> bool {
    let newest = report
        .newest
        .as_deref()
        .and_then(|newest| newest.parse::<Request>().ok());
    let publisher = newest.and_then(|newest| newest.publisher);
    publisher.is_none() || publisher.as_deref() == runtime.names().main_publisher()
}

/// Says who else publishes, besides the main publisher whose lines are shown, and how many lines only they have.
fn say_others(ui: &Ui, runtime: &Runtime<'_>, shown: &[&LineReport], of_others: &[&LineReport]) {
    if !shown.iter().any(|report| is_of_main(runtime, report)) {
        return;
    }
    let catalog = runtime.published.heads();
    let publishers = catalog.publishers.iter().skip(1);
    let has_some = |id: &str| {
        catalog
            .releases
            .iter()
            .any(|release| &*release.publisher == id)
    };
    let others: Vec<&Publisher> = publishers.filter(|one| has_some(&one.id)).collect();
    let [first, rest @ ..] = &others[..] else {
        return;
    };
    let lines = match of_others.len() {
        0 => String::new(),
        lines => format!(", {} of them alone", Count(lines, "line")),
    };
    let (who, have) = match rest.len() {
        0 => (first.id.clone(), "has"),
        more => {
            let more = Count(more, "other publisher");
            (format!("{} and {more}", first.id), "have")
        }
    };
    let command = runtime.names().as_typed(format!("{}/", first.id));
    ui.next(
        &format!("{who} {have} releases too{lines}; to see them"),
        &format!("vshelf catalog {command}"),
    );
}

/// Says how many lines have ended, with the command that lists their releases.
fn say_over(ui: &Ui, runtime: &Runtime<'_>, over: &[&LineReport]) {
    let lines = match over {
        [] => return,
        [one] => format!("Line {} has ended; to see its releases", one.line),
        _ => format!(
            "{} other lines have ended; to see their releases",
            over.len()
        ),
    };
    let command = format!("vshelf catalog {} --phase ended", runtime.name());
    ui.next(&lines, &command);
}

/// Says so if the newest line is not among those with support dates: they are older than it.
fn say_undated(ui: &Ui, runtime: &Runtime<'_>, reports: &[LineReport]) {
    let is_dated = |report: &LineReport| report.start.is_some() || report.end.is_some();
    if let [newest, older @ ..] = reports
        && newest.phase == Phase::Unknown
        && !is_dated(newest)
        && older.iter().any(is_dated)
    {
        ui.note(format!(
            "Line {} is newer than the known support dates of {}.",
            newest.line, runtime.definition.title
        ));
    }
}

/// Says how many releases `--security` leaves out because no source says anything of them.
pub fn say_unclear(ui: &Ui, count: usize) {
    if count > 0 {
        let (releases, have) = (
            Count(count, "release"),
            if count == 1 { "has" } else { "have" },
        );
        ui.note(format!("{releases} {have} no security information."));
    }
}

impl ReleaseReport {
    /// What lists show of a release.
    pub fn new(
        runtime: &Runtime<'_>,
        activity: &Activity,
        candidate: &Candidate<'_>,
        release: &Release,
    ) -> ReleaseReport {
        let line = runtime.published.catalog().line_of(&release.version);
        let marks = candidate
            .install
            .map(|install| marks(runtime, activity, &install.key))
            .unwrap_or_default();
        ReleaseReport {
            runtime: runtime.name().to_owned(),
            version: release.version.to_string(),
            publisher: release.publisher.to_string(),
            date: release.date,
            line: line.map(|line| line.name.clone()),
            phase: line.map(|line| line.phase_on(runtime.today())),
            security: release.security,
            withdrawn: release.withdrawn.as_deref().map(str::to_owned),
            platforms: release.platforms.iter().map(ToString::to_string).collect(),
            on_shelf: candidate.install.is_some(),
            marks,
        }
    }
}

/// Shows releases.
pub fn show_releases(
    ui: &Ui,
    runtime: &Runtime<'_>,
    covered: &[Candidate<'_>],
    as_json: bool,
) -> Outcome {
    let activity = Activity::of(runtime);
    let pairs: Vec<(&Release, ReleaseReport)> = covered
        .iter()
        .filter_map(|candidate| {
            let release = candidate.release?;
            Some((
                release,
                ReleaseReport::new(runtime, &activity, candidate, release),
            ))
        })
        .collect();
    if pairs.is_empty() {
        ui.note("No release passes all of these filters.");
    }
    if as_json {
        let reports: Vec<ReleaseReport> = pairs.into_iter().map(|(_, report)| report).collect();
        return json::print_list(ui, &reports);
    }
    let Some((newest, _)) = pairs.first() else {
        return Ok(());
    };
    let columns = [
        Column::left("version"),
        Column::left("published"),
        Column::left("publisher"),
        Column::left("phase").optional(),
        Column::left("shelf"),
        Column::yielding("remarks"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for (release, report) in &pairs {
        let shelf = match (report.on_shelf, report.marks.is_empty()) {
            (false, _) => String::new(),
            (true, true) => "on it".to_owned(),
            (true, false) => report.marks.join(", "),
        };
        table.row(
            spine(report.phase),
            [
                Cell::new(&report.version, Palette::STRONG),
                report
                    .date
                    .map(|date| date.to_string())
                    .unwrap_or_default()
                    .into(),
                report.publisher.clone().into(),
                phase_cell(report.phase),
                shelf.into(),
                remarks(runtime, release).into(),
            ],
        );
    }
    ui.page(&table)?;
    let prefix = runtime.environment().prefix(runtime.name());
    ui.next(
        "To see one release",
        &format!("vshelf catalog {prefix}{}", newest.version),
    );
    Ok(())
}

/// What is special about a release.
fn remarks(runtime: &Runtime<'_>, release: &Release) -> String {
    let mut remarks = Vec::new();
    if release.fixes_security() {
        remarks.push("security".to_owned());
    }
    if runtime.definition.trimmed_by(&release.publisher).is_some() {
        remarks.push("trimmed".to_owned());
    }
    if let Some(reason) = &release.withdrawn {
        remarks.push(format!("withdrawn: {}", printable(reason)));
    }
    if release.platforms.is_empty() {
        remarks.push("not installable".to_owned());
    } else if !release.runs_on(runtime.environment().platform()) {
        remarks.push("not built for this platform".to_owned());
    }
    remarks.join(", ")
}
