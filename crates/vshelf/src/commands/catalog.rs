//! `vshelf catalog`: what is published.

use clap::Args;
use jiff::civil::Date;
use serde::Serialize;
use vshelf_core::near;
use vshelf_core::resolve::{Candidate, Scope};
use vshelf_core::selector::{Selector, is_name};
use vshelf_core::{Phase, Release, Request};
use vshelf_view::words::{ago, listed, megabytes, printable};
use vshelf_view::{Cell, Column, Palette, Table};

use crate::activity::Activity;
use crate::commands::{CommandArgs, say_age};
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::marks::{end_of_support, marks, phase_cell, spine};
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// Show what is published
///
/// Without a selector it is one row a release line; with one, the releases that it covers; for one
/// exact release, its card.
#[derive(Debug, Args)]
pub struct Catalog {
    /// What to show, as in 8, lts, eelgrass or 8.3.1
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    #[command(flatten)]
    filters: Filters,
    /// Compute phases for this day: what will have ended by then?
    #[arg(long, value_name = "DATE")]
    as_of: Option<Date>,
    /// Ask the source even if the catalog here is fresh
    #[arg(long)]
    refresh: bool,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

/// Which releases to list.
#[derive(Debug, Args)]
struct Filters {
    /// List every release
    #[arg(long)]
    all: bool,
    /// Only releases of lines in long-term support
    #[arg(long)]
    lts: bool,
    /// Only releases of lines that are supported
    #[arg(long)]
    supported: bool,
    /// Only releases that mend a security problem
    #[arg(long)]
    security: bool,
    /// Only releases of this publisher
    #[arg(long, value_name = "PUBLISHER")]
    publisher: Option<String>,
    /// Only releases published on this day or later
    #[arg(long, value_name = "DATE")]
    since: Option<Date>,
    /// Only so many, the newest
    #[arg(long, value_name = "N")]
    newest: Option<usize>,
    /// Only the newest of each line
    #[arg(long)]
    newest_per_line: bool,
}

impl Filters {
    /// Whether releases are asked for at all.
    fn any(&self) -> bool {
        self.all
            || self.lts
            || self.supported
            || self.security
            || self.newest_per_line
            || self.publisher.is_some()
            || self.since.is_some()
            || self.newest.is_some()
    }

    /// Those of `candidates`, newest first, that pass.
    fn apply<'a>(
        &self,
        runtime: &Runtime<'_>,
        candidates: Vec<Candidate<'a>>,
    ) -> Result<Vec<Candidate<'a>>, Failure> {
        let catalog = runtime.catalog();
        if let Some(publisher) = &self.publisher
            && catalog.publisher(publisher).is_none()
        {
            let known: Vec<&str> = catalog.publishers.iter().map(|p| p.id.as_str()).collect();
            return Err(Failure::new(
                Kind::NoMatch,
                format!("{publisher:?} is no publisher of {}", runtime.name()),
            )
            .meant(&near::words(publisher, known.iter().copied()))
            .say(format!("The publishers are {}.", listed(&known, "and"))));
        }
        let mut lines_seen: Vec<&str> = Vec::new();
        let mut passes = |candidate: &Candidate<'a>| {
            let line = catalog.line_of(candidate.version);
            let phase = line.map(|line| line.phase_on(runtime.today));
            let release = candidate.release;
            let first_of_line = !self.newest_per_line
                || line.is_some_and(|line| {
                    let first = !lines_seen.contains(&line.name.as_str());
                    let counts = release.is_some_and(|r| r.withdrawn.is_none())
                        && (!candidate.version.is_pre_release() || !line.has_final);
                    if first && counts {
                        lines_seen.push(&line.name);
                    }
                    first && counts
                });
            (!self.lts || phase == Some(Phase::Lts))
                && (!self.supported || phase.is_some_and(Phase::is_supported))
                && (!self.security || release.is_some_and(|r| r.security))
                && self
                    .publisher
                    .as_ref()
                    .is_none_or(|p| p.eq_ignore_ascii_case(candidate.publisher))
                && self
                    .since
                    .is_none_or(|day| release.and_then(|r| r.date).is_some_and(|date| date >= day))
                && first_of_line
        };
        let mut kept = candidates;
        kept.retain(&mut passes);
        kept.truncate(self.newest.unwrap_or(usize::MAX));
        Ok(kept)
    }
}

/// A line, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct LineReport {
    /// The line: the leading numbers.
    line: String,
    /// Its code name.
    codename: Option<String>,
    /// Its phase: `preview`, `current`, `lts`, `maintenance` or `ended`.
    #[cfg_attr(test, schemars(with = "String"))]
    phase: Phase,
    /// The first day of its first final release.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    start: Option<Date>,
    /// The first day of long-term support.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    lts: Option<Date>,
    /// The first day of maintenance.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    maintenance: Option<Date>,
    /// The last day of support, as an ISO 8601 date.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    end: Option<Date>,
    /// The newest release of the main publisher.
    newest: Option<String>,
    /// What of it is on the shelf.
    on_shelf: Vec<String>,
}

/// A release, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct ReleaseReport {
    /// The version as published.
    version: String,
    /// The publisher's id.
    publisher: String,
    /// The day of publication.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    date: Option<Date>,
    /// The release line.
    line: Option<String>,
    /// The line's phase: `preview`, `current`, `lts`, `maintenance` or `ended`.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    phase: Option<Phase>,
    /// Whether it mends a security problem.
    security: bool,
    /// Why its publisher took it back.
    withdrawn: Option<String>,
    /// What it is built for.
    platforms: Vec<String>,
    /// Whether it is on the shelf.
    on_shelf: bool,
    /// Marks in words.
    marks: Vec<String>,
}

impl CommandArgs for Catalog {
    const NAME: &'static str = "catalog";
    const GROUP: &'static str = "See";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let (name, request) = read_words(context, self.selector.as_deref())?;
        let mut runtime = context.runtime(name.as_deref())?;
        runtime.load_catalog(self.refresh)?;
        say_age(ui, &runtime);
        runtime.today = self.as_of.unwrap_or(runtime.today);
        let covered = match &request {
            Some(request) => runtime.covered(request, Scope::Published)?,
            None if self.filters.any() => runtime.published(),
            None => return lines(ui, &runtime, self.json),
        };
        let covered = self.filters.apply(&runtime, covered)?;
        let exact = match request.map(|request| request.selector) {
            Some(Selector::Version(version)) => covered.iter().find(|c| *c.version == version),
            _ => None,
        };
        match (exact, covered.as_slice()) {
            (_, []) => {
                ui.note("No release passes all of these filters.");
                match self.json {
                    true => super::print_json(ui, &[(); 0]),
                    false => Ok(()),
                }
            }
            (Some(candidate), _) if !self.json => card(ui, &runtime, candidate),
            (None, [candidate]) if !self.json && !self.filters.any() => {
                card(ui, &runtime, candidate)
            }
            _ => releases(ui, &runtime, &covered, self.json),
        }
    }
}

/// The runtime and the selector that were typed: `marram@` and a runtime's bare name are no
/// selectors.
fn read_words(
    context: &Context,
    typed: Option<&str>,
) -> Result<(Option<String>, Option<Request>), Failure> {
    let Some(typed) = typed else {
        return Ok((None, None));
    };
    if let Some(name) = typed.strip_suffix('@') {
        return Ok((Some(name.to_owned()), None));
    }
    if is_name(typed)
        && crate::definitions::names(&context.folders()?.config)?
            .iter()
            .any(|n| n == typed)
    {
        return Ok((Some(typed.to_owned()), None));
    }
    let request: Request = typed.parse()?;
    Ok((request.runtime.clone(), Some(request)))
}

fn lines(ui: &Ui, runtime: &Runtime<'_>, json: bool) -> Outcome {
    let catalog = runtime.catalog();
    let main = catalog
        .main_publisher()
        .map(|publisher| publisher.id.as_str());
    let reports: Vec<LineReport> = catalog
        .lines
        .iter()
        .map(|line| {
            let newest = |finals_only: bool| {
                catalog.releases.iter().find(|release| {
                    line.covers(&release.version)
                        && Some(&*release.publisher) == main
                        && release.withdrawn.is_none()
                        && !(finals_only && release.version.is_pre_release())
                })
            };
            LineReport {
                line: line.name.clone(),
                codename: line.codename.clone(),
                phase: line.phase_on(runtime.today),
                start: line.start,
                lts: line.lts,
                maintenance: line.maintenance,
                end: line.end,
                newest: newest(true)
                    .or_else(|| newest(false))
                    .map(|r| r.version.to_string()),
                on_shelf: runtime
                    .installs
                    .iter()
                    .filter(|install| line.covers(&install.shelved.version))
                    .map(|install| runtime.spelled(&install.shelved))
                    .collect(),
            }
        })
        .filter(|report| report.newest.is_some())
        .collect();
    if json {
        return super::print_json(ui, &reports);
    }
    let columns = [
        Column::right("line"),
        Column::left("code name"),
        Column::left("phase"),
        Column::left("support ends"),
        Column::left("newest"),
        Column::yielding("on the shelf"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for report in &reports {
        let line = catalog.lines.iter().find(|line| line.name == report.line);
        table.row(
            spine(Some(report.phase)),
            [
                Cell::new(&report.line, Palette::STRONG),
                report
                    .codename
                    .as_deref()
                    .map(printable)
                    .unwrap_or_default()
                    .into(),
                phase_cell(Some(report.phase)),
                end_of_support(line, runtime.today).into(),
                report.newest.clone().unwrap_or_default().into(),
                report.on_shelf.join(", ").into(),
            ],
        );
    }
    ui.table(&table)?;
    let prefix = runtime.context().prefix(runtime.name())?;
    ui.next(
        "To see the releases of a line",
        &format!("vshelf catalog {prefix}lts"),
    );
    Ok(())
}

fn releases(ui: &Ui, runtime: &Runtime<'_>, covered: &[Candidate<'_>], json: bool) -> Outcome {
    let activity = Activity::of(runtime);
    let pairs: Vec<(&Release, ReleaseReport)> = covered
        .iter()
        .filter_map(|candidate| candidate.release.map(|release| (candidate, release)))
        .map(|(candidate, release)| {
            let line = runtime.catalog().line_of(&release.version);
            let marks = candidate
                .install
                .map(|install| marks(runtime, &activity, &install.key))
                .unwrap_or_default();
            let report = ReleaseReport {
                version: release.version.to_string(),
                publisher: release.publisher.to_string(),
                date: release.date,
                line: line.map(|line| line.name.clone()),
                phase: line.map(|line| line.phase_on(runtime.today)),
                security: release.security,
                withdrawn: release.withdrawn.as_deref().map(str::to_owned),
                platforms: release.platforms.iter().map(ToString::to_string).collect(),
                on_shelf: candidate.install.is_some(),
                marks,
            };
            (release, report)
        })
        .collect();
    if json {
        let reports: Vec<&ReleaseReport> = pairs.iter().map(|(_, report)| report).collect();
        return super::print_json(ui, &reports);
    }
    let columns = [
        Column::left("version"),
        Column::left("published"),
        Column::left("publisher"),
        Column::left("phase"),
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
    if let Some((_, newest)) = pairs.first() {
        let prefix = runtime.context().prefix(runtime.name())?;
        ui.next(
            "To see one release",
            &format!("vshelf catalog {prefix}{}", newest.version),
        );
    }
    Ok(())
}

/// What is special about a release.
fn remarks(runtime: &Runtime<'_>, release: &Release) -> String {
    let mut remarks = Vec::new();
    if release.security {
        remarks.push("security".to_owned());
    }
    if let Some(reason) = &release.withdrawn {
        remarks.push(format!("withdrawn: {}", printable(reason)));
    }
    if !release.runs_on(&runtime.context().platform) {
        remarks.push("not built for this platform".to_owned());
    }
    remarks.join(", ")
}

fn card(ui: &Ui, runtime: &Runtime<'_>, candidate: &Candidate<'_>) -> Outcome {
    let release = candidate.release.ok_or_else(|| {
        Failure::new(
            Kind::NoMatch,
            format!("{} is not published", candidate.version),
        )
    })?;
    let catalog = runtime.catalog();
    let title = &runtime.definition.title;
    let line = catalog.line_of(&release.version);
    let phase = line.map(|line| line.phase_on(runtime.today));
    let name = styled(Palette::STRONG, format!("{title} {}", release.version));
    ui.result(format!("{}{name}", ui.spine(spine(phase))))?;
    let mut facts: Vec<(&str, String)> = Vec::new();
    if let Some(date) = release.date {
        facts.push(("published", format!("{date}, {}", ago(date, runtime.today))));
    }
    let publisher = catalog.publisher(&release.publisher);
    let publisher = publisher.map_or(&*release.publisher, |publisher| &publisher.name);
    facts.push((
        "publisher",
        format!("{} ({})", printable(publisher), release.publisher),
    ));
    if let (Some(line), Some(phase)) = (line, phase) {
        let codename = line
            .codename
            .as_ref()
            .map(|name| format!(" {}", printable(name)))
            .unwrap_or_default();
        let end = end_of_support(Some(line), runtime.today);
        let support = if end.is_empty() {
            String::new()
        } else {
            format!(", support ends {end}")
        };
        facts.push((
            "line",
            format!(
                "{}{codename}: {}{support}",
                line.name,
                styled(Palette::phase(phase), phase)
            ),
        ));
    }
    if release.security {
        facts.push((
            "security",
            styled(Palette::WARNING, "mends a security problem"),
        ));
    }
    if let Some(reason) = &release.withdrawn {
        facts.push(("withdrawn", styled(Palette::WARNING, printable(reason))));
    }
    let details = runtime
        .kept_catalog()
        .map(|loaded| loaded.details(release))
        .transpose()?;
    let details = details.unwrap_or_default();
    for (tool, version) in &details.bundles {
        facts.push((
            "brings",
            format!("{} {}", printable(tool), printable(version)),
        ));
    }
    if let Some(notes) = &details.notes {
        facts.push(("notes", printable(notes)));
    }
    for build in &details.builds {
        let size = build
            .size
            .map(|size| format!(", {}", megabytes(size)))
            .unwrap_or_default();
        facts.push(("build", format!("{}{size}", build.platform)));
    }
    if let Some(build) = details.build_for(&runtime.context().platform) {
        facts.push(("digest here", build.digest.to_string()));
    }
    facts.push((
        "shelf",
        match candidate.install {
            Some(install) => format!("on it, as {}", install.key),
            None => "not on it".to_owned(),
        },
    ));
    ui.facts(&facts)?;
    let others: Vec<&str> = catalog
        .releases
        .iter()
        .filter(|r| r.version == release.version && r.publisher != release.publisher)
        .map(|r| &*r.publisher)
        .collect();
    let prefix = runtime.context().prefix(runtime.name())?;
    let main = catalog
        .main_publisher()
        .is_some_and(|main| main.id == *release.publisher);
    let publisher = if main {
        String::new()
    } else {
        format!("{}/", release.publisher)
    };
    if candidate.install.is_none() && release.withdrawn.is_none() {
        ui.next(
            "To install it",
            &format!("vshelf install {prefix}{publisher}{}", release.version),
        );
    }
    for other in others {
        ui.next(
            &format!("{other} publishes it too"),
            &format!("vshelf catalog {prefix}{other}/{}", release.version),
        );
    }
    Ok(())
}
