//! `vshelf timeline`: the support windows of the lines, today, and one's own installs on them.

use std::path::PathBuf;

use clap::Args;
use jiff::ToSpan;
use jiff::civil::{Date, date};
use serde::Serialize;
use vshelf_core::catalog::Line;
use vshelf_core::timeline::{Span, spans};
use vshelf_core::{Phase, Request, Selector};
use vshelf_shelf::atomic;
use vshelf_view::timeline::{Row, Timeline as Chart};
use vshelf_view::words::{Count, listed, printable, span};

use crate::activity::Activity;
use crate::commands::{CommandArgs, print_json, say_age};
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome, file_failure, shown};
use crate::keeping::tidying::{project_wishes, projects_seen};
use crate::marks::marks;
use crate::project;
use crate::runtime::Runtime;
use crate::ui::Ui;

/// Show the support of the lines over time
///
/// Each line is a bar in the colours of its phases, with what of it is on the shelf beside it and
/// today as a stroke. Below, in words, what changes next. Lines that ended long ago are left out
/// unless you name them or have them on the shelf.
#[derive(Debug, Args)]
pub struct Timeline {
    /// The runtime; nothing is the main one
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
    /// Only these lines, as in 6,8
    #[arg(long, value_name = "LINES", value_delimiter = ',')]
    lines: Vec<String>,
    /// The years to show, as in 2024-2029 or 2027
    #[arg(long, value_name = "YEARS")]
    years: Option<String>,
    /// Only lines that are supported, and those to come
    #[arg(long, conflicts_with = "lines")]
    supported: bool,
    /// Compute phases for this day
    #[arg(long, value_name = "DATE")]
    as_of: Option<Date>,
    /// Draw it into this file as an SVG, for documents and wikis
    #[arg(long, value_name = "FILE", conflicts_with = "json")]
    svg: Option<PathBuf>,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

/// The life of one line, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The line: the leading numbers.
    line: String,
    /// Its code name.
    codename: Option<String>,
    /// Its phase on the day asked for.
    #[cfg_attr(test, schemars(with = "String"))]
    phase: Phase,
    /// Its phases: `phase`, its first day `from`, and `until`, the first day after it.
    #[cfg_attr(test, schemars(with = "Vec<serde_json::Value>"))]
    spans: Vec<Span>,
    /// The keys of its installs on the shelf.
    on_shelf: Vec<String>,
    /// What changes next, in words.
    next: Option<String>,
}

/// How many years of the past are shown where nothing else is said, and how many to come.
const PAST: i16 = 2;
const TO_COME: i16 = 4;

impl CommandArgs for Timeline {
    const NAME: &'static str = "timeline";
    const GROUP: &'static str = "See";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let mut runtime = context.runtime(self.runtime.as_deref())?;
        runtime.load_catalog(false)?;
        say_age(ui, &runtime);
        runtime.today = self.as_of.unwrap_or(runtime.today);
        let lines = self.choose(&runtime)?;
        let facts = Facts::of(&runtime)?;
        let window = self.window(&runtime, &lines)?;
        if self.json {
            let reports = lines.iter().map(|line| report(&runtime, &facts, line));
            return print_json(ui, &reports.collect::<Vec<_>>());
        }
        let chart = Chart {
            title: runtime.definition.title.clone(),
            from: window.0,
            until: window.1,
            today: runtime.today,
            rows: lines
                .iter()
                .map(|line| row(&runtime, &facts, line))
                .collect(),
        };
        if let Some(file) = &self.svg {
            atomic::write_file(file, chart.render_svg().as_bytes())
                .map_err(|error| file_failure(file, "written", error))?;
            return ui.result(format!("{} shows it.", shown(file)));
        }
        ui.result(chart.render(ui.timeline_frame()).trim_end_matches('\n'))?;
        for line in &lines {
            if let Some(next) = next(&runtime, &facts, line) {
                ui.result(next)?;
            }
        }
        Ok(())
    }
}

impl Timeline {
    fn choose<'r>(&self, runtime: &'r Runtime<'_>) -> Result<Vec<&'r Line>, Failure> {
        let catalog = runtime.catalog();
        for name in &self.lines {
            if !catalog.lines.iter().any(|line| line.name == *name) {
                let title = &runtime.definition.title;
                let message = format!("{title} has no line {name:?}");
                let known: Vec<&str> = catalog.lines.iter().map(|line| &*line.name).collect();
                return Err(Failure::new(Kind::NoMatch, message)
                    .say(format!("Its lines: {}.", listed(&known, "and"))));
            }
        }
        let recently = runtime.today.saturating_sub(1.year());
        let is_meant = |line: &&Line| {
            if !self.lines.is_empty() {
                return self.lines.contains(&line.name);
            }
            let phase = line.phase_on(runtime.today);
            if self.supported {
                return phase != Phase::Ended;
            }
            let on_shelf = runtime
                .installs
                .iter()
                .any(|install| line.covers(&install.shelved.version));
            let is_dated = line.start.is_some() || line.end.is_some();
            on_shelf || is_dated && line.end.is_none_or(|end| end >= recently)
        };
        Ok(catalog.lines.iter().filter(is_meant).collect())
    }

    /// The first day shown, and the first one not shown.
    fn window(&self, runtime: &Runtime<'_>, lines: &[&Line]) -> Result<(Date, Date), Failure> {
        if let Some(years) = &self.years {
            let (from, to) = years.split_once('-').unwrap_or((years, years));
            let year = |text: &str| {
                text.trim()
                    .parse::<i16>()
                    .ok()
                    .filter(|y| (1990..=2100).contains(y))
            };
            return match (year(from), year(to)) {
                (Some(from), Some(to)) if from <= to => Ok((date(from, 1, 1), date(to + 1, 1, 1))),
                _ => Err(
                    Failure::new(Kind::Usage, format!("{years:?} is no value for --years"))
                        .say("Years are written as in 2024-2029, or 2027."),
                ),
            };
        }
        // What there is to see, within some years of today.
        let today = runtime.today.year();
        let lives = lines.iter().flat_map(|line| spans(runtime.catalog(), line));
        let (mut first, mut last) = (today, today);
        for life in lives {
            first = first.min(life.from.year());
            last = last.max(life.until.map_or(today + TO_COME, |until| until.year()));
        }
        let (first, last) = (first.max(today - PAST), last.min(today + TO_COME));
        Ok((date(first, 1, 1), date(last + 1, 1, 1)))
    }
}

/// What there is to say about installs: their marks, and the projects that ask for them.
struct Facts {
    activity: Activity,
    /// The keys that projects seen on this machine get, with the projects' names.
    pins: Vec<(String, String)>,
}

impl Facts {
    fn of(runtime: &Runtime<'_>) -> Result<Facts, Failure> {
        let wishes = project_wishes(runtime, &projects_seen(runtime.context())?);
        let pin = |request: &Request| match request.selector {
            Selector::Default | Selector::Previous => None,
            _ => runtime.key_meeting(request),
        };
        Ok(Facts {
            activity: Activity::of(runtime),
            pins: (wishes.iter())
                .filter_map(|wish| Some((pin(&wish.request)?, project::name(&wish.file))))
                .collect(),
        })
    }

    /// The marks of an install, with every project that asks for it.
    fn marks(&self, runtime: &Runtime<'_>, key: &str) -> Vec<String> {
        let mut marks = marks(runtime, &self.activity, key);
        for (_, project) in self.pins.iter().filter(|(pinned, _)| pinned == key) {
            let mark = format!("pinned by {project}");
            if !marks.contains(&mark) {
                marks.push(mark);
            }
        }
        marks
    }
}

fn name(line: &Line) -> String {
    match &line.codename {
        Some(codename) => format!("{} {}", line.name, printable(codename)),
        None => line.name.clone(),
    }
}

fn row(runtime: &Runtime<'_>, facts: &Facts, line: &Line) -> Row {
    let installs = runtime
        .installs
        .iter()
        .filter(|install| line.covers(&install.shelved.version));
    let shelf = installs.map(|install| {
        let marks = facts.marks(runtime, &install.shelved.key);
        let spelled = runtime.spelled(&install.shelved);
        match marks.is_empty() {
            true => spelled,
            false => format!("{spelled} ({})", marks.join(", ")),
        }
    });
    Row {
        name: name(line),
        phase: line.phase_on(runtime.today),
        spans: spans(runtime.catalog(), line),
        shelf: shelf.collect::<Vec<_>>().join(", "),
    }
}

/// What changes next for a line, where somebody here is concerned or it is supported.
fn next(runtime: &Runtime<'_>, facts: &Facts, line: &Line) -> Option<String> {
    let keys: Vec<&str> = (runtime.installs.iter())
        .filter(|install| line.covers(&install.shelved.version))
        .map(|install| install.shelved.key.as_str())
        .collect();
    let mut marks: Vec<String> = Vec::new();
    for mark in keys.iter().flat_map(|key| facts.marks(runtime, key)) {
        if !marks.contains(&mark) {
            marks.push(mark);
        }
    }
    let concerned = match keys.len() {
        0 => String::new(),
        count => {
            let all = std::iter::once(Count(count, "install").to_string()).chain(marks);
            format!(": {}", all.collect::<Vec<_>>().join(", "))
        }
    };
    let today = runtime.today;
    let change = match line.next_phase_after(today) {
        Some((day, Phase::Ended)) => {
            let last = line.end.unwrap_or(day);
            format!("ends on {last}, in {}", span(today, last))
        }
        Some((day, Phase::Maintenance)) => {
            format!("is in maintenance from {day}, in {}", span(today, day))
        }
        Some((day, phase)) => format!("is {phase} from {day}, in {}", span(today, day)),
        None => {
            let end = line.end.filter(|_| !keys.is_empty())?;
            format!("ended on {end}, {} ago", span(end, today))
        }
    };
    Some(format!("Line {} {change}{concerned}", line.name))
}

fn report(runtime: &Runtime<'_>, facts: &Facts, line: &Line) -> Report {
    let installs = runtime
        .installs
        .iter()
        .filter(|install| line.covers(&install.shelved.version));
    Report {
        line: line.name.clone(),
        codename: line.codename.clone(),
        phase: line.phase_on(runtime.today),
        spans: spans(runtime.catalog(), line),
        on_shelf: installs
            .map(|install| install.shelved.key.clone())
            .collect(),
        next: next(runtime, facts, line),
    }
}
