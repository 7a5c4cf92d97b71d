//! What is published, filtered.

use std::str::FromStr;

use jiff::civil::Date;
use vshelf_core::Phase;
use vshelf_core::resolve::Candidate;

use crate::error::Error;
use crate::runtime::Runtime;

/// The phases of lines that are wanted.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PhaseFilter {
    /// This one.
    In(Phase),
    /// All in which a line is supported.
    Supported,
}

impl PhaseFilter {
    fn passes(self, phase: Option<Phase>) -> bool {
        match self {
            PhaseFilter::In(wanted) => phase == Some(wanted),
            PhaseFilter::Supported => phase.is_some_and(Phase::is_supported),
        }
    }
}

impl FromStr for PhaseFilter {
    type Err = PhaseFilterError;

    fn from_str(text: &str) -> Result<PhaseFilter, PhaseFilterError> {
        if text.eq_ignore_ascii_case("supported") {
            return Ok(PhaseFilter::Supported);
        }
        let mut phases = Phase::ALL.into_iter();
        let phase = phases.find(|phase| phase.as_str().eq_ignore_ascii_case(text));
        phase.map(PhaseFilter::In).ok_or(PhaseFilterError)
    }
}

/// A text names no phase.
#[derive(Debug, thiserror::Error)]
#[error("a phase is preview, current, lts, maintenance, ended or supported")]
pub struct PhaseFilterError;

/// Which releases are wanted.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct ReleaseFilter {
    /// Only of lines in this phase.
    pub phase: Option<PhaseFilter>,
    /// Only those that fix a security problem.
    pub security: bool,
    /// Only of this publisher.
    pub publisher: Option<String>,
    /// Only published on this day or later.
    pub since: Option<Date>,
}

/// What passed a filter.
#[derive(Debug)]
pub struct Filtered<'a> {
    /// The releases, newest first.
    pub releases: Vec<Candidate<'a>>,
    /// How many others are left out because no source says whether they fix a security problem.
    pub unclear: usize,
}

impl ReleaseFilter {
    /// Those of `candidates`, newest first, that pass.
    pub fn apply<'a>(
        &self,
        runtime: &Runtime<'_>,
        mut candidates: Vec<Candidate<'a>>,
    ) -> Result<Filtered<'a>, Error> {
        let catalog = runtime.published.catalog();
        if let Some(publisher) = &self.publisher
            && catalog.publisher(publisher).is_none()
        {
            let known = catalog.publishers.iter();
            return Err(Error::UnknownPublisher {
                publisher: publisher.clone(),
                runtime: runtime.name().to_owned(),
                known: known.map(|publisher| publisher.id.clone()).collect(),
            });
        }
        candidates.retain(|candidate| self.passes(runtime, candidate));
        let security = |candidate: &Candidate<'_>| candidate.release.and_then(|one| one.security);
        let mut unclear = 0;
        if self.security {
            unclear = (candidates.iter().filter(|one| security(one).is_none())).count();
            candidates.retain(|candidate| security(candidate) == Some(true));
        }
        Ok(Filtered {
            releases: candidates,
            unclear,
        })
    }

    /// Whether a release passes, apart from the security problems that it fixes.
    fn passes(&self, runtime: &Runtime<'_>, candidate: &Candidate<'_>) -> bool {
        let phase = runtime.published.phase_of(candidate.version);
        let release = candidate.release;
        let publisher = self.publisher.as_ref();
        let date = release.and_then(|release| release.date);
        self.phase.is_none_or(|wanted| wanted.passes(phase))
            && publisher.is_none_or(|name| name.eq_ignore_ascii_case(candidate.publisher))
            && self
                .since
                .is_none_or(|day| date.is_some_and(|date| date >= day))
    }
}
