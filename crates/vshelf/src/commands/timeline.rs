//! `vshelf timeline`: the support windows of the lines, today, and one's own installs on them.

use std::collections::BTreeSet;
use std::path::PathBuf;

use clap::Args;
use jiff::civil::Date;
use vshelf_app::error::file_error;
use vshelf_app::keep::lines::LineWord;
use vshelf_app::runtime::published::Extent;
use vshelf_app::timeline::{choose_lines, years_around};
use vshelf_app::{Environment, Runtime};
use vshelf_files::action::FileAction;
use vshelf_files::atomic;

use super::command::{CommandArgs, RunCommand, lines};
use crate::failure::{Class, Failure, Outcome};
use crate::output::json;
use crate::output::timeline::Facts;
use crate::ui::Ui;
use crate::wording::paths::shown;

/// Show the support of the lines over time
///
/// Each line is a bar in the colours of its phases, with its installs beside it and a line for
/// today. Below, in words, what changes next. Lines that ended long ago are left out
/// unless you name them or have them on the shelf.
#[derive(Debug, Args)]
pub struct Timeline {
    /// Only these lines, such as 6, marram@8 or marram; of the main runtime if none is given
    #[arg(value_name = "LINE")]
    lines: Vec<String>,
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
        let (mut runtime, names) = meant(environment, &self.lines)?;
        runtime.published.load_and_tell(Extent::Releases, ui)?;
        runtime.published.judge_on(self.as_of);
        let lines = choose_lines(&runtime, &names)?;
        let facts = Facts::of(&runtime)?;
        let years = years_around(&runtime, &lines);
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

/// The runtime that the words mean, and the names of the lines of it: none for all.
fn meant<'c>(
    environment: &'c Environment,
    words: &[String],
) -> Result<(Runtime<'c>, Vec<String>), Failure> {
    let mut names = Vec::new();
    let mut runtimes = BTreeSet::new();
    for word in lines(environment, words)? {
        match word {
            LineWord::Runtime(name) => runtimes.insert(name),
            LineWord::Line(request) => {
                names.push(request.selector.to_string());
                runtimes.insert(
                    Runtime::of_request(environment, &request)?
                        .name()
                        .to_owned(),
                )
            }
        };
    }
    let mut runtimes = runtimes.iter();
    match (runtimes.next(), runtimes.next()) {
        (Some(one), Some(other)) => Err(Failure::new(
            Class::Usage,
            format!("{one} and {other} have a timeline each"),
        )
        .run("To see one of them", format!("vshelf timeline {one}"))),
        (name, _) => Ok((
            Runtime::named(environment, name.map(String::as_str))?,
            names,
        )),
    }
}
