//! `vshelf catalog`: what is published.

use clap::Args;
use jiff::civil::Date;
use vshelf_app::catalog::{PhaseFilter, ReleaseFilter};
use vshelf_app::runtime::published::Extent;
use vshelf_app::{Environment, Runtime};
use vshelf_core::resolve::Scope;
use vshelf_core::{Phase, Request, Selector};

use super::command::{CommandArgs, RunCommand, request, runtime_alone};
use crate::failure::{Failure, Outcome};
use crate::output::{card, catalog};
use crate::ui::Ui;

/// Show what is published
///
/// Without a selector it is one row a release line; with one, the releases that it covers; for one
/// exact release, its card.
#[derive(Debug, Args)]
pub struct Catalog {
    /// What to show, such as 8, lts, eelgrass or 8.3.1
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    #[command(flatten)]
    filters: Filters,
    /// Compute phases for this day
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
    /// Only releases of lines in this phase: preview, current, lts, maintenance or ended, or
    /// supported for all of them that are
    #[arg(long, value_name = "PHASE", value_parser = read_phase)]
    phase: Option<PhaseFilter>,
    /// Only releases that fix a security problem
    #[arg(long)]
    security: bool,
    /// Only releases of this publisher
    #[arg(long, value_name = "PUBLISHER")]
    publisher: Option<String>,
    /// Only releases published on this day or later
    #[arg(long, value_name = "DATE")]
    since: Option<Date>,
    /// Only this many, the newest
    #[arg(long, value_name = "N")]
    newest: Option<usize>,
}

impl CommandArgs for Catalog {
    const NAME: &'static str = "catalog";
    const GROUP: &'static str = "See";
}

impl RunCommand for Catalog {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let (name, request) = match &self.selector {
            Some(typed) => read_words(environment, typed)?,
            None => (None, None),
        };
        let mut runtime = Runtime::named(environment, name.as_deref())?;
        let extent = match &request {
            _ if self.refresh => Extent::Anew,
            None if !self.filters.any() => Extent::Lines,
            _ => Extent::Releases,
        };
        runtime.published.load_and_tell(extent, ui)?;
        runtime.published.judge_on(self.as_of);
        let is_filtered = self.filters.any();
        let covered = match &request {
            Some(request) => runtime.choosing().covered(request, Scope::Published)?,
            None if is_filtered => runtime.choosing().everything_published(),
            None => return catalog::show_lines(ui, &runtime, self.json),
        };
        let filtered = self.filters.filter().apply(&runtime, covered)?;
        catalog::say_unclear(ui, filtered.unclear);
        let covered = filtered.releases;
        let exact = match request.map(|request| request.selector) {
            Some(Selector::Version(version)) => covered.iter().find(|c| *c.version == version),
            _ => None,
        };
        match (exact, covered.as_slice()) {
            (Some(candidate), _) => card::show(ui, &runtime, candidate, self.json),
            (None, [candidate]) if !self.json && !is_filtered => {
                card::show(ui, &runtime, candidate, false)
            }
            _ => catalog::show_releases(ui, &runtime, &covered, self.json),
        }
    }
}

impl Filters {
    /// Whether releases are asked for at all.
    fn any(&self) -> bool {
        self.all || self.filter() != ReleaseFilter::default()
    }

    fn filter(&self) -> ReleaseFilter {
        ReleaseFilter {
            phase: self.phase,
            security: self.security,
            publisher: self.publisher.clone(),
            since: self.since,
            newest: self.newest,
        }
    }
}

fn read_phase(text: &str) -> Result<PhaseFilter, String> {
    if text.eq_ignore_ascii_case("supported") {
        return Ok(PhaseFilter::Supported);
    }
    let mut phases = Phase::ALL.into_iter();
    let phase = phases.find(|phase| phase.as_str().eq_ignore_ascii_case(text));
    phase
        .map(PhaseFilter::In)
        .ok_or_else(|| "the phases are preview, current, lts, maintenance and ended".to_owned())
}

/// The runtime and the request that are meant: a runtime's name alone is no request.
fn read_words(
    environment: &Environment,
    typed: &str,
) -> Result<(Option<String>, Option<Request>), Failure> {
    if let Some(runtime) = runtime_alone(environment, typed)? {
        return Ok((Some(runtime), None));
    }
    let request = request(typed)?;
    Ok((request.runtime.clone(), Some(request)))
}
