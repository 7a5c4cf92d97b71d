//! The support of lines over time, with one's own installs on them.

use std::path::PathBuf;

use jiff::civil::Date;
use serde::Serialize;
use vshelf_app::project::required_by_projects;
use vshelf_app::{Activity, Runtime};
use vshelf_core::timeline::{Span, spans};
use vshelf_core::{Line, Phase, Pick};
use vshelf_view::timeline::{Row, Timeline as Chart};
use vshelf_view::words::{printable, span};

use super::json::Item;
use crate::failure::{Failure, Outcome};
use crate::ui::Ui;
use crate::wording::versions::marks_with_projects;

/// The life of one line, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime's name.
    runtime: String,
    /// The line: the leading numbers.
    line: String,
    /// Its code name.
    codename: Option<String>,
    /// Its phase on the day asked for.
    phase: Phase,
    /// Its phases in order.
    spans: Vec<Span>,
    /// The keys of its installs on the shelf.
    on_shelf: Vec<String>,
    /// What changes next, in words.
    next: Option<String>,
}

impl Item for Report {
    const LIST: &'static str = "lines";
}

/// What there is to say about installs: their marks, and the projects that require them.
pub struct Facts<'r> {
    runtime: &'r Runtime<'r>,
    activity: Activity,
    /// What projects seen on this machine get, with their requirement files.
    requirements: Vec<(Pick, PathBuf)>,
}

impl<'r> Facts<'r> {
    /// Looks at a runtime's shelf.
    pub fn of(runtime: &'r Runtime<'r>) -> Result<Facts<'r>, Failure> {
        Ok(Facts {
            runtime,
            activity: Activity::of(runtime),
            requirements: required_by_projects(runtime)?,
        })
    }

    /// The lives of the lines, for JSON.
    pub fn reports(&self, lines: &[&Line]) -> Vec<Report> {
        let report = |line: &&Line| Report {
            runtime: self.runtime.name().to_owned(),
            line: line.name.clone(),
            codename: line.codename.clone(),
            phase: line.phase_on(self.runtime.today()),
            spans: spans(self.runtime.published.catalog(), line),
            on_shelf: (self.runtime.names().installs_of(line))
                .map(|install| install.id.key.selector())
                .collect(),
            next: self.next(line).map(|(_, change)| change),
        };
        lines.iter().map(report).collect()
    }

    /// The lines as a chart of these years: the first day, and the first day after it.
    pub fn chart(&self, (from, until): (Date, Date), lines: &[&Line]) -> Chart {
        Chart {
            title: self.runtime.definition.title.clone(),
            from,
            until,
            today: self.runtime.today(),
            rows: lines.iter().map(|line| self.row(line)).collect(),
        }
    }

    /// Shows the chart, and in words what changes next, soonest first.
    pub fn show(&self, ui: &Ui, years: (Date, Date), lines: &[&Line]) -> Outcome {
        let chart = self.chart(years, lines).render(ui.timeline_frame());
        ui.result(chart.trim_end_matches('\n'))?;
        let changes = lines.iter().filter_map(|line| self.next(line));
        let mut changes: Vec<(Date, String)> = changes.collect();
        changes.sort();
        let mut changes = changes.into_iter();
        changes.try_for_each(|(_, change)| ui.sentence(change))
    }

    fn row(&self, line: &Line) -> Row {
        let runtime = self.runtime;
        let shelf = runtime.names().installs_of(line).map(|install| {
            let key = &install.id.key;
            let marks = marks_with_projects(runtime, &self.activity, key, &self.requirements);
            let selector = runtime.names().selector_of(&install.id.key);
            match marks.is_empty() {
                true => selector,
                false => format!("{selector} ({})", marks.join(", ")),
            }
        });
        Row {
            name: name(line),
            phase: line.phase_on(runtime.today()),
            spans: spans(runtime.published.catalog(), line),
            shelf: shelf.collect::<Vec<_>>().join(", "),
        }
    }

    /// The next change of a line, with its day.
    fn next(&self, line: &Line) -> Option<(Date, String)> {
        let today = self.runtime.today();
        let (day, phase) = line.next_phase_after(today)?;
        let (day, change) = match phase {
            Phase::Ended => (line.end.unwrap_or(day), "ends on"),
            Phase::Maintenance => (day, "enters maintenance on"),
            Phase::Lts => (day, "enters long-term support on"),
            Phase::Current => (day, "becomes current on"),
            Phase::Preview | Phase::Unknown => (day, "changes on"),
        };
        let change = format!("Line {} {change} {day}, in {}", line.name, span(today, day));
        Some((day, change))
    }
}

fn name(line: &Line) -> String {
    match &line.codename {
        Some(codename) => format!("{} {}", line.name, printable(codename)),
        None => line.name.clone(),
    }
}
