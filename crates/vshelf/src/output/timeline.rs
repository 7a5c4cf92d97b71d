//! The support of lines over time, with one's own installs on them.

use jiff::civil::Date;
use serde::Serialize;
use vshelf_app::timeline::required_by_projects;
use vshelf_app::{Activity, Runtime};
use vshelf_core::timeline::{Span, spans};
use vshelf_core::{Key, Line, Phase, Pick};
use vshelf_view::timeline::{Row, Timeline as Chart};
use vshelf_view::words::{printable, span};

use super::json::Item;
use crate::failure::{Failure, Outcome};
use crate::ui::Ui;
use crate::wording::paths::project_name;
use crate::wording::versions::marks;

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
    /// What projects seen on this machine get, with the projects' names.
    requirements: Vec<(Pick, String)>,
}

impl<'r> Facts<'r> {
    /// Looks at a runtime's shelf.
    pub fn of(runtime: &'r Runtime<'r>) -> Result<Facts<'r>, Failure> {
        let required = required_by_projects(runtime)?.into_iter();
        Ok(Facts {
            runtime,
            activity: Activity::of(runtime),
            requirements: required
                .map(|(pick, file)| (pick, project_name(&file)))
                .collect(),
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

    /// The marks of an install, with every project that asks for it.
    fn marks(&self, key: &Key) -> Vec<String> {
        let mut marks = marks(self.runtime, &self.activity, key);
        let by_projects = self.requirements.iter().filter(|(pick, _)| pick.is(key));
        let mut projects: Vec<&str> = by_projects.map(|(_, project)| project.as_str()).collect();
        projects.sort_unstable();
        projects.dedup();
        // The project here is among the marks already.
        projects.retain(|project| !marks.contains(&format!("required by {project}")));
        match projects.as_slice() {
            [] => {}
            [one] => marks.push(format!("required by {one}")),
            [first, others @ ..] => {
                marks.push(format!("required by {first} and {} more", others.len()));
            }
        }
        marks
    }

    fn row(&self, line: &Line) -> Row {
        let runtime = self.runtime;
        let shelf = runtime.names().installs_of(line).map(|install| {
            let marks = self.marks(&install.id.key);
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
