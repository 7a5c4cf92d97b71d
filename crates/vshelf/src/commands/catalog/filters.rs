//! Which releases `vshelf catalog` lists.

use clap::Args;
use jiff::civil::Date;
use vshelf_core::Phase;
use vshelf_core::near;
use vshelf_core::resolve::Candidate;
use vshelf_view::words::listed;

use crate::failure::{Failure, Kind};
use crate::runtime::Runtime;

/// Which releases to list.
#[derive(Debug, Args)]
pub struct Filters {
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
    pub fn any(&self) -> bool {
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
    pub fn apply<'a>(
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
