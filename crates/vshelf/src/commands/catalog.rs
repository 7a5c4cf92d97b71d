//! `vshelf catalog`: what is published.

use clap::Args;
use jiff::civil::Date;
use vshelf_app::catalog::{PhaseFilter, ReleaseFilter};
use vshelf_app::runtime::published::Extent;
use vshelf_app::{Environment, Runtime};
use vshelf_core::resolve::Scope;
use vshelf_core::{Request, Selector};

use super::command::{CommandArgs, RunCommand, request, runtime_alone};
use crate::failure::{Failure, Outcome};
use crate::output::{card, catalog};
use crate::ui::Ui;

/// Show what is published
///
/// Without a selector it is one row per release line; with one, the releases that it covers; for one
/// exact release, its card. A publisher's name with / covers all that it publishes.
#[derive(Debug, Args)]
pub struct Catalog {
    /// What to show, such as 8, lts, eelgrass, 8.3.1 or dunefield/
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
    #[arg(long, value_name = "PHASE")]
    phase: Option<PhaseFilter>,
    /// Only releases that fix a security problem
    #[arg(long)]
    security: bool,
    /// Only releases published on this day or later
    #[arg(long, value_name = "DATE")]
    since: Option<Date>,
}

impl CommandArgs for Catalog {
    const NAME: &'static str = "catalog";
    const GROUP: &'static str = "See";
}

impl RunCommand for Catalog {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        let Shown {
            runtime,
            publisher,
            request,
        } = match &self.selector {
            Some(typed) => read_selector(environment, typed)?,
            None => Shown::default(),
        };
        let mut runtime = Runtime::named(environment, runtime.as_deref())?;
        let filter = self.filters.of_publisher(publisher);
        let is_filtered = self.filters.all || filter != ReleaseFilter::default();
        let extent = match &request {
            _ if self.refresh => Extent::Anew,
            None if !is_filtered => Extent::Lines,
            _ => Extent::Releases,
        };
        runtime.published.load_and_tell(extent, ui)?;
        runtime.published.judge_on(self.as_of);
        let covered = match &request {
            Some(request) => runtime.choosing().covered(request, Scope::Published)?,
            None if is_filtered => runtime.choosing().everything_published(),
            None => return catalog::show_lines(ui, &runtime, self.json),
        };
        let filtered = filter.apply(&runtime, covered)?;
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
    fn of_publisher(&self, publisher: Option<String>) -> ReleaseFilter {
        ReleaseFilter {
            phase: self.phase,
            security: self.security,
            publisher,
            since: self.since,
        }
    }
}

/// The runtime, publisher and request that a typed selector names.
#[derive(Default)]
struct Shown {
    runtime: Option<String>,
    /// The publisher whose releases are asked for, whatever their versions.
    publisher: Option<String>,
    /// `None` for a runtime's or publisher's name alone.
    request: Option<Request>,
}

fn read_selector(environment: &Environment, typed: &str) -> Result<Shown, Failure> {
    if let Some(runtime) = runtime_alone(environment, typed)? {
        return Ok(Shown {
            runtime: Some(runtime),
            ..Shown::default()
        });
    }
    if let Some(named) = typed.strip_suffix('/') {
        let (runtime, publisher) = match named.split_once('@') {
            Some((runtime, publisher)) => (Some(runtime.to_owned()), publisher),
            None => (None, named),
        };
        return Ok(Shown {
            runtime,
            publisher: Some(publisher.to_owned()),
            request: None,
        });
    }
    let request = request(typed)?;
    Ok(Shown {
        runtime: request.runtime.clone(),
        request: Some(request),
        ..Shown::default()
    })
}
