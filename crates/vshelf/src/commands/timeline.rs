//! `vshelf timeline`: the support windows of the lines, today, and one's own installs on them.

use std::path::PathBuf;

use clap::Args;
use jiff::civil::{Date, date};
use vshelf_app::error::file_error;
use vshelf_app::runtime::published::Extent;
use vshelf_app::timeline::{LineChoice, choose_lines, years_around};
use vshelf_app::{Environment, Runtime};
use vshelf_files::action::FileAction;
use vshelf_files::atomic;

use super::command::{CommandArgs, RunCommand};
use crate::failure::{Class, Failure, Outcome};
use crate::output::json;
use crate::output::timeline::Facts;
use crate::ui::Ui;
use crate::wording::paths::shown;

/// Show the support of the lines over time
///
/// Each line is a bar in the colours of its phases, with what of it is on the shelf beside it and
/// today as a stroke. Below, in words, what changes next. Lines that ended long ago are left out
/// unless you name them or have them on the shelf.
#[derive(Debug, Args)]
pub struct Timeline {
    /// The runtime; the main one if none is given
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
    /// Only these lines, such as 6,8
    #[arg(long, value_name = "LINES", value_delimiter = ',')]
    lines: Vec<String>,
    /// The years to show, such as 2024-2029 or 2027
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

impl CommandArgs for Timeline {
    const NAME: &'static str = "timeline";
    const GROUP: &'static str = "See";
}

impl RunCommand for Timeline {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let mut runtime = Runtime::named(environment, self.runtime.as_deref())?;
        runtime.published.load_and_tell(Extent::Releases, ui)?;
        runtime.published.judge_on(self.as_of);
        let choice = LineChoice {
            names: self.lines,
            supported: self.supported,
        };
        let lines = choose_lines(&runtime, &choice)?;
        let facts = Facts::of(&runtime)?;
        let years = match &self.years {
            Some(years) => read_years(years)?,
            None => years_around(&runtime, &lines),
        };
        if self.json {
            return json::print_list(ui, &facts.reports(&lines));
        }
        if let Some(file) = &self.svg {
            let drawn = facts.chart(years, &lines).render_svg();
            atomic::write_file(file, drawn.as_bytes())
                .map_err(file_error(file, FileAction::Write))?;
            return ui.done(format!("The drawing is in {}.", shown(file)));
        }
        facts.show(ui, years, &lines)
    }
}

/// The first day of a range of years, and the first day after it.
fn read_years(years: &str) -> Result<(Date, Date), Failure> {
    let (from, to) = years.split_once('-').unwrap_or((years, years));
    let year = |text: &str| {
        let year = text.trim().parse::<i16>().ok();
        year.filter(|year| (1990..=2100).contains(year))
    };
    match (year(from), year(to)) {
        (Some(from), Some(to)) if from <= to => Ok((date(from, 1, 1), date(to + 1, 1, 1))),
        _ => Err(Failure::new(
            Class::Usage,
            format!("{years:?} is not a value for --years"),
        )
        .say("Years are written like 2024-2029, or 2027.")),
    }
}
