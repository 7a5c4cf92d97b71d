//! From a selector to a release, with the trace of how.
//!
//! Every command that picks a version comes through [`resolve`]. It first expands names (labels,
//! channels, keywords), then narrows the candidates step by step; the steps are data that `explain`
//! words, and a step that leaves nothing becomes an error that says precisely what stood in the way.

use std::collections::BTreeMap;

use jiff::civil::Date;

use crate::catalog::{Catalog, Line, Release};
use crate::install::{InstallId, Key, Pick};
use crate::lifecycle::Phase;
use crate::meant::near;
use crate::platform::Platform;
use crate::range::Range;
use crate::selector::{KEYWORDS, Request, Selector, SelectorError};
use crate::template::VersionSpellings;
use crate::version::Version;

/// Labels may name labels; a longer chain than this is a circle.
const DEEPEST_LABEL: usize = 8;

/// All that choosing depends on.
#[derive(Clone, Copy, Debug)]
pub struct World<'a> {
    /// What is published; an empty catalog where none is known.
    pub catalog: &'a Catalog,
    /// What is on the shelf, newest first.
    pub shelf: &'a [InstallId],
    /// Labels and the selectors they are bound to.
    pub labels: &'a BTreeMap<String, String>,
    /// How versions are spelled beside the spelling of the releases.
    pub spellings: &'a VersionSpellings,
    /// The default as it was typed.
    pub default: Option<&'a str>,
    /// What the default is now, where the shelf is what is chosen among: what was typed may stand
    /// for something newer since.
    pub default_pick: Option<&'a Pick>,
    /// What this shell used before.
    pub previous: Option<&'a Pick>,
    /// The platform that builds have to run on.
    pub platform: &'a Platform,
    /// The day on which phases are computed.
    pub today: Date,
}

/// Among what to choose.
#[derive(Clone, Copy, Debug, PartialEq, Eq, serde::Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum Scope {
    /// What the catalog publishes.
    Published,
    /// What is on the shelf.
    Shelf,
}

/// One version that can be chosen.
#[derive(Clone, Copy, Debug)]
pub struct Candidate<'a> {
    /// Its version.
    pub version: &'a Version,
    /// Its publisher's id.
    pub publisher: &'a str,
    /// Its release, where the catalog has it.
    pub release: Option<&'a Release>,
    /// Its install, where it is on the shelf.
    pub install: Option<&'a InstallId>,
}

/// What a selector stands for.
#[derive(Clone, Copy, Debug)]
pub enum Choice<'a> {
    /// The first copy on PATH that is not ours.
    System,
    /// A version.
    Version(Candidate<'a>),
}

impl Choice<'_> {
    /// What can be made active of it; nothing for a version that is not on the shelf.
    pub fn pick(&self) -> Option<Pick> {
        match self {
            Choice::System => Some(Pick::System),
            Choice::Version(candidate) => Some(candidate.install?.key.clone().into()),
        }
    }
}

/// How a selector became a choice, or failed to.
#[derive(Debug)]
pub struct Explanation<'a> {
    /// The steps in order.
    pub steps: Vec<Step>,
    /// The choice.
    pub outcome: Result<Choice<'a>, ResolveError>,
}

/// One step from what was typed to a release.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(tag = "step", rename_all = "kebab-case")]
pub enum Step {
    /// A label was replaced by what it is bound to.
    Label {
        /// The label.
        label: String,
        /// Its selector.
        selector: String,
    },
    /// A version that is spelled in another way was replaced by the releases' own spelling.
    Spelling {
        /// As it was typed.
        spelled: String,
        /// As the releases spell it.
        means: String,
    },
    /// `default` was replaced by the default's selector.
    Default {
        /// The default as it was typed.
        selector: String,
    },
    /// A channel was replaced by what its publisher says it is.
    Channel {
        /// The channel.
        channel: String,
        /// Its selector.
        selector: String,
    },
    /// A code name was replaced by its line.
    CodeName {
        /// The code name as published.
        codename: String,
        /// The line.
        line: String,
    },
    /// The candidates to begin with.
    Candidates {
        /// Among what.
        scope: Scope,
        /// How many.
        count: usize,
    },
    /// A line was chosen for its phase.
    Line {
        /// The line.
        line: String,
        /// Its phase on the day.
        phase: Phase,
    },
    /// The main publisher has other releases, and all that match are of this one.
    OnlyPublisher {
        /// Its id.
        publisher: String,
    },
    /// Candidates were narrowed.
    Kept {
        /// Which were kept.
        filter: Filter,
        /// How many are left.
        count: usize,
        /// The newest of those left out, if it is newer than all that were kept.
        passed_over: Option<Version>,
    },
    /// Nothing final matched, so the pre-releases stayed.
    OnlyPreReleases,
    /// The newest was chosen.
    Chosen {
        /// What was chosen.
        version: Version,
        /// Its publisher.
        publisher: String,
        /// The next best.
        runner_up: Option<Version>,
    },
    /// The system's own copy was asked for.
    System,
    /// What this shell used before was asked for.
    Previous {
        /// What that was.
        key: Pick,
    },
}

/// A reason to keep a candidate.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(tag = "by", content = "value", rename_all = "kebab-case")]
pub enum Filter {
    /// It begins with these parts.
    Beginning(String),
    /// It is in this range.
    Range(String),
    /// It is of this line.
    Line(String),
    /// It is no pre-release.
    Final,
    /// Its line is supported and past preview.
    Supported,
    /// Its line is past preview, and not known to have ended.
    NotEnded,
    /// It comes from this publisher.
    Publisher(String),
    /// It is built for this platform.
    Platform(String),
    /// Its publisher did not take it back.
    NotWithdrawn,
}

/// Why a selector stands for nothing.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ResolveError {
    /// A name that is not a label, channel or code name.
    #[error("{name:?} is not a label, channel or code name")]
    UnknownName {
        /// What was typed.
        name: String,
        /// Among what it was looked for.
        scope: Scope,
        /// What it may have meant.
        near: Vec<String>,
    },
    /// A publisher that publishes nothing here.
    #[error("{publisher:?} is not a publisher of {runtime}")]
    UnknownPublisher {
        /// What was typed.
        publisher: String,
        /// The runtime.
        runtime: String,
        /// The known code name behind it.
        codename: Option<String>,
        /// The publishers there are.
        known: Vec<String>,
    },
    /// Nothing published is covered.
    #[error("{selector} is not published")]
    NotPublished {
        /// What was typed.
        selector: String,
        /// The versions nearest to it.
        near: Vec<Version>,
    },
    /// Published, but not by the publisher that was meant.
    #[error("{version} is not published by {publisher}")]
    OtherPublisher {
        /// The newest version covered.
        version: Version,
        /// The publisher that was meant.
        publisher: String,
        /// Those who publish it.
        others: Vec<String>,
    },
    /// Published by others, and nothing is known of what the publisher that was meant has.
    #[error("nothing is known of what {publisher} publishes, and {version} is of others")]
    UnknownMain {
        /// The newest version covered.
        version: Version,
        /// The publisher that was meant.
        publisher: String,
        /// Those who publish it.
        others: Vec<String>,
    },
    /// Published, but not for this platform.
    #[error("{version} is not built for {platform}")]
    OtherPlatform {
        /// The newest version covered.
        version: Version,
        /// Its publisher.
        publisher: String,
        /// This platform.
        platform: String,
        /// What it is built for.
        platforms: Vec<String>,
        /// Another publisher that builds it for this platform.
        elsewhere: Option<String>,
    },
    /// Published, without a build or source that can be installed anywhere.
    #[error("{version} of {publisher} has nothing that can be installed")]
    NotInstallable {
        /// The newest version covered.
        version: Version,
        /// Its publisher.
        publisher: String,
    },
    /// Published, and taken back.
    #[error("{version} was withdrawn by {publisher}: {reason}")]
    Withdrawn {
        /// The version.
        version: Version,
        /// Its publisher.
        publisher: String,
        /// Why.
        reason: String,
        /// The newest version of its line that was not.
        instead: Option<Version>,
    },
    /// Not on the shelf.
    #[error("{selector} is not on the shelf")]
    NotOnShelf {
        /// What was typed.
        selector: String,
        /// What would be installed for it: publisher, where it is not the main one, and version.
        published: Option<(Option<String>, Version)>,
        /// The versions on the shelf nearest to it.
        near: Vec<Version>,
    },
    /// No published line is in the phase that the keyword asks for.
    #[error("no published line is in phase lts on {today}")]
    NoLtsLine {
        /// The day.
        today: Date,
    },
    /// There is no default.
    #[error("no default is set")]
    NoDefault,
    /// There is no switch to go back to.
    #[error("this shell has not used another version before")]
    NoPrevious,
    /// A label, the default or a channel holds a selector that cannot be read.
    #[error("{holder} stands for {selector:?}, which cannot be read")]
    BadSelector {
        /// What holds it.
        holder: String,
        /// The selector.
        selector: String,
        /// What is wrong.
        #[source]
        source: SelectorError,
    },
    /// Labels that name each other in a circle.
    #[error("the label {0:?} leads back to itself")]
    Circle(String),
}

/// What `request` stands for in `world`, among what `scope` says.
pub fn resolve<'a>(world: &World<'a>, request: &Request, scope: Scope) -> Explanation<'a> {
    let mut steps = Vec::new();
    let outcome = choose(world, request, scope, &mut steps);
    Explanation { steps, outcome }
}

/// Everything that `request` covers, newest first, for lists: withdrawn releases and those for
/// other platforms included.
pub fn covered<'a>(
    world: &World<'a>,
    request: &Request,
    scope: Scope,
) -> Result<Vec<Candidate<'a>>, ResolveError> {
    let mut steps = Vec::new();
    let (meant, wanted) = expand(world, scope, request, &mut steps)?;
    let Wanted::Matching(criterion) = wanted else {
        return match choose(world, request, scope, &mut steps)? {
            Choice::System => Ok(Vec::new()),
            Choice::Version(candidate) => Ok(vec![candidate]),
        };
    };
    let mut candidates = candidates(world, scope);
    if let Some(publisher) = &meant.publisher {
        known_publisher(world, publisher, &meant.selector)?;
        candidates.retain(|c| c.publisher.eq_ignore_ascii_case(publisher));
    }
    let matched = criterion.select(world, scope, candidates.clone(), &mut steps)?;
    if matched.is_empty() {
        return Err(nothing_matched(
            world,
            (request, &meant),
            &criterion,
            scope,
            &candidates,
        ));
    }
    Ok(matched)
}

/// What a request requires once its names are expanded.
enum Wanted {
    System,
    Install(Key),
    Matching(Criterion),
}

impl From<Pick> for Wanted {
    fn from(pick: Pick) -> Wanted {
        match pick {
            Pick::System => Wanted::System,
            Pick::Install(key) => Wanted::Install(key),
        }
    }
}

/// How candidates are narrowed.
enum Criterion {
    Beginning(Version),
    Range(Range),
    Final,
    Lts,
    Supported,
    Any,
    Line(Line),
}

/// Replaces labels, `default`, channels and code names by what they stand for.
fn expand(
    world: &World<'_>,
    scope: Scope,
    request: &Request,
    steps: &mut Vec<Step>,
) -> Result<(Request, Wanted), ResolveError> {
    let mut request = request.clone();
    for _ in 0..DEEPEST_LABEL {
        match expand_once(world, scope, &request, steps)? {
            Expanded::Request(next) => request = next,
            Expanded::Wanted(wanted) => return Ok((request, wanted)),
        }
    }
    Err(ResolveError::Circle(request.selector.to_string()))
}

/// The result of expanding a request once: another request, or the criterion to select by.
enum Expanded {
    Request(Request),
    Wanted(Wanted),
}

fn expand_once(
    world: &World<'_>,
    scope: Scope,
    request: &Request,
    steps: &mut Vec<Step>,
) -> Result<Expanded, ResolveError> {
    let wanted = match &request.selector {
        Selector::System => {
            steps.push(Step::System);
            Wanted::System
        }
        Selector::Previous => {
            let key = world.previous.ok_or(ResolveError::NoPrevious)?.clone();
            steps.push(Step::Previous { key: key.clone() });
            key.into()
        }
        Selector::Version(version) => match world.spellings.rewritten(version.as_str()) {
            Some(means) if means != *version => {
                steps.push(Step::Spelling {
                    spelled: version.to_string(),
                    means: means.to_string(),
                });
                return Ok(Expanded::Request(Request {
                    selector: Selector::Version(means),
                    ..request.clone()
                }));
            }
            _ => Wanted::Matching(Criterion::Beginning(version.clone())),
        },
        Selector::Range(range) => Wanted::Matching(Criterion::Range(range.clone())),
        Selector::Latest => Wanted::Matching(Criterion::Final),
        Selector::Lts => Wanted::Matching(Criterion::Lts),
        Selector::Preview => Wanted::Matching(Criterion::Any),
        Selector::Default => {
            let selector = world.default.ok_or(ResolveError::NoDefault)?.to_owned();
            let pick = world.default_pick.filter(|_| request.publisher.is_none());
            let expanded = replace(request, "the default", &selector)?;
            steps.push(Step::Default { selector });
            match pick {
                Some(pick) => pick.clone().into(),
                None => return Ok(Expanded::Request(expanded)),
            }
        }
        Selector::Stable => match world.catalog.channel("stable") {
            Some((channel, selector)) => {
                return follow_channel(request, channel, selector, steps).map(Expanded::Request);
            }
            None => Wanted::Matching(Criterion::Supported),
        },
        Selector::Name(name) => return expand_name(world, scope, (request, name), steps),
    };
    Ok(Expanded::Wanted(wanted))
}

/// A name is a label, a channel or a code name, in this order.
fn expand_name(
    world: &World<'_>,
    scope: Scope,
    (request, name): (&Request, &str),
    steps: &mut Vec<Step>,
) -> Result<Expanded, ResolveError> {
    if let Some((label, selector)) = label(world, name) {
        let next = replace(request, &format!("the label {label:?}"), selector)?;
        steps.push(Step::Label {
            label: label.to_owned(),
            selector: selector.to_owned(),
        });
        return Ok(Expanded::Request(next));
    }
    if let Some((channel, selector)) = world.catalog.channel(name) {
        return follow_channel(request, channel, selector, steps).map(Expanded::Request);
    }
    let Some(line) = world.catalog.line_named(name) else {
        return Err(unknown_name(world, scope, name));
    };
    steps.push(Step::CodeName {
        codename: line.codename.clone().unwrap_or_default(),
        line: line.name.clone(),
    });
    let criterion = Criterion::Line(line.clone());
    Ok(Expanded::Wanted(Wanted::Matching(criterion)))
}

fn label<'a>(world: &World<'a>, name: &str) -> Option<(&'a str, &'a str)> {
    world
        .labels
        .iter()
        .find(|(label, _)| label.eq_ignore_ascii_case(name))
        .map(|(label, selector)| (label.as_str(), selector.as_str()))
}

fn follow_channel(
    request: &Request,
    channel: &str,
    selector: &str,
    steps: &mut Vec<Step>,
) -> Result<Request, ResolveError> {
    let replaced = replace(request, &format!("the channel {channel:?}"), selector)?;
    steps.push(Step::Channel {
        channel: channel.to_owned(),
        selector: selector.to_owned(),
    });
    Ok(replaced)
}

/// `request` with another selector; a publisher that was typed stays.
fn replace(request: &Request, holder: &str, selector: &str) -> Result<Request, ResolveError> {
    let meant: Request = selector
        .parse()
        .map_err(|source| ResolveError::BadSelector {
            holder: holder.to_owned(),
            selector: selector.to_owned(),
            source,
        })?;
    Ok(Request {
        runtime: request.runtime.clone(),
        publisher: request.publisher.clone().or(meant.publisher),
        selector: meant.selector,
    })
}

fn unknown_name(world: &World<'_>, scope: Scope, name: &str) -> ResolveError {
    let codenames = world
        .catalog
        .lines
        .iter()
        .filter_map(|l| l.codename.as_deref());
    let known = (KEYWORDS.into_iter())
        .chain(world.labels.keys().map(String::as_str))
        .chain(world.catalog.channels.keys().map(String::as_str))
        .chain(codenames);
    ResolveError::UnknownName {
        name: name.to_owned(),
        scope,
        near: near::words(name, known),
    }
}

/// All candidates of a scope, newest first.
pub fn candidates<'a>(world: &World<'a>, scope: Scope) -> Vec<Candidate<'a>> {
    // Both are in the order of versions, newest first.
    let install_of = |release: &Release| {
        let shelf = world.shelf;
        let first = shelf.partition_point(|install| install.version > release.version);
        shelf[first..]
            .iter()
            .take_while(|install| install.version == release.version)
            .find(|install| install.publisher == *release.publisher)
    };
    match scope {
        Scope::Published => world
            .catalog
            .releases
            .iter()
            .map(|release| Candidate {
                version: &release.version,
                publisher: &release.publisher,
                release: Some(release),
                install: install_of(release),
            })
            .collect(),
        Scope::Shelf => world
            .shelf
            .iter()
            .map(|install| Candidate {
                version: &install.version,
                publisher: &install.publisher,
                release: world.catalog.release(&install.version, &install.publisher),
                install: Some(install),
            })
            .collect(),
    }
}

fn known_publisher(
    world: &World<'_>,
    publisher: &str,
    selector: &Selector,
) -> Result<(), ResolveError> {
    let on_shelf = world
        .shelf
        .iter()
        .any(|i| i.publisher.eq_ignore_ascii_case(publisher));
    if on_shelf || world.catalog.publisher(publisher).is_some() {
        return Ok(());
    }
    Err(ResolveError::UnknownPublisher {
        publisher: publisher.to_owned(),
        runtime: world.catalog.runtime.clone(),
        codename: match selector {
            // It was expanded to its line.
            Selector::Name(name) => Some(name.to_lowercase()),
            _ => None,
        },
        known: world
            .catalog
            .publishers
            .iter()
            .map(|p| p.id.clone())
            .collect(),
    })
}

/// Keeps what `keep` says, and notes it as a step where something was left out.
fn narrow<'a>(
    candidates: Vec<Candidate<'a>>,
    filter: Filter,
    steps: &mut Vec<Step>,
    keep: impl Fn(&Candidate<'a>) -> bool,
) -> Vec<Candidate<'a>> {
    let (kept, dropped): (Vec<_>, Vec<_>) = candidates.into_iter().partition(keep);
    if !dropped.is_empty() {
        let newest = |of: &[Candidate<'a>]| of.iter().map(|c| c.version).max().cloned();
        let passed_over =
            newest(&dropped).filter(|version| newest(&kept).is_some_and(|best| *version > best));
        steps.push(Step::Kept {
            filter,
            count: kept.len(),
            passed_over,
        });
    }
    kept
}

impl Criterion {
    /// The candidates that satisfy the criterion.
    fn select<'a>(
        &self,
        world: &World<'a>,
        scope: Scope,
        candidates: Vec<Candidate<'a>>,
        steps: &mut Vec<Step>,
    ) -> Result<Vec<Candidate<'a>>, ResolveError> {
        Ok(match self {
            Criterion::Beginning(prefix) => {
                let filter = Filter::Beginning(prefix.to_string());
                let exact = candidates.iter().any(|c| c.version == prefix);
                let matched = narrow(candidates, filter, steps, |c| match exact {
                    true => c.version == prefix,
                    false => c.version.begins_with(prefix),
                });
                if exact || prefix.is_pre_release() {
                    matched
                } else {
                    finals_if_any(matched, steps)
                }
            }
            Criterion::Range(range) => {
                let filter = Filter::Range(range.to_string());
                narrow(candidates, filter, steps, |c| range.contains(c.version))
            }
            Criterion::Final => narrow(candidates, Filter::Final, steps, |c| {
                !c.version.is_pre_release()
            }),
            Criterion::Any => candidates,
            Criterion::Line(line) => {
                let matched = keep_line(world, candidates, line, steps);
                finals_if_any(matched, steps)
            }
            Criterion::Lts => {
                let mut lines = world.catalog.lines.iter();
                let line = lines.find(|line| {
                    line.phase_on(world.today) == Phase::Lts
                        && candidates.iter().any(|c| line.covers(c.version))
                });
                let line = match (line, scope) {
                    (Some(line), _) => line,
                    // It may be published, like a version that is not on the shelf.
                    (None, Scope::Shelf) => return Ok(Vec::new()),
                    (None, Scope::Published) => {
                        let today = world.today;
                        return Err(ResolveError::NoLtsLine { today });
                    }
                };
                steps.push(Step::Line {
                    line: line.name.clone(),
                    phase: Phase::Lts,
                });
                let matched = keep_line(world, candidates, line, steps);
                finals_if_any(matched, steps)
            }
            Criterion::Supported => keep_supported(world, candidates, steps),
        })
    }
}

/// The final releases of supported lines; if no line is known to be supported, those of lines that may be.
fn keep_supported<'a>(
    world: &World<'a>,
    candidates: Vec<Candidate<'a>>,
    steps: &mut Vec<Step>,
) -> Vec<Candidate<'a>> {
    let phase = |c: &Candidate<'_>| {
        let line = world.catalog.line_of(c.version);
        line.map_or(Phase::Unknown, |line| line.phase_on(world.today))
    };
    let filter = if candidates.iter().any(|c| phase(c).is_supported()) {
        Filter::Supported
    } else {
        Filter::NotEnded
    };
    let keeps = |phase: Phase| match filter {
        Filter::NotEnded => phase == Phase::Unknown,
        _ => phase.is_supported(),
    };
    let supported = narrow(candidates, filter.clone(), steps, |c| keeps(phase(c)));
    narrow(supported, Filter::Final, steps, |c| {
        !c.version.is_pre_release()
    })
}

fn keep_line<'a>(
    world: &World<'a>,
    candidates: Vec<Candidate<'a>>,
    line: &Line,
    steps: &mut Vec<Step>,
) -> Vec<Candidate<'a>> {
    narrow(candidates, Filter::Line(line.name.clone()), steps, |c| {
        world
            .catalog
            .line_of(c.version)
            .is_some_and(|l| l.name == line.name)
    })
}

/// Leaves pre-releases out, unless there is nothing else.
fn finals_if_any<'a>(candidates: Vec<Candidate<'a>>, steps: &mut Vec<Step>) -> Vec<Candidate<'a>> {
    if candidates.iter().all(|c| c.version.is_pre_release()) {
        if !candidates.is_empty() {
            steps.push(Step::OnlyPreReleases);
        }
        return candidates;
    }
    narrow(candidates, Filter::Final, steps, |c| {
        !c.version.is_pre_release()
    })
}

/// The install that a request stands for, or `None`. Unlike [`resolve`], it does not look for the reason among all
/// releases.
pub fn pick(world: &World<'_>, request: &Request) -> Option<Pick> {
    choice(world, request, Scope::Shelf, &mut Vec::new())
        .ok()?
        .pick()
}

/// Why a request stands for nothing.
enum Miss {
    /// This is the reason.
    Reason(ResolveError),
    /// Its criterion matches no candidate.
    Nothing {
        meant: Request,
        criterion: Criterion,
    },
}

impl From<ResolveError> for Miss {
    fn from(error: ResolveError) -> Self {
        Miss::Reason(error)
    }
}

fn choose<'a>(
    world: &World<'a>,
    request: &Request,
    scope: Scope,
    steps: &mut Vec<Step>,
) -> Result<Choice<'a>, ResolveError> {
    choice(world, request, scope, steps).map_err(|miss| match miss {
        Miss::Reason(error) => error,
        Miss::Nothing { meant, criterion } => {
            let all = candidates(world, scope);
            nothing_matched(world, (request, &meant), &criterion, scope, &all)
        }
    })
}

fn choice<'a>(
    world: &World<'a>,
    request: &Request,
    scope: Scope,
    steps: &mut Vec<Step>,
) -> Result<Choice<'a>, Miss> {
    let (meant, wanted) = expand(world, scope, request, steps)?;
    let criterion = match wanted {
        Wanted::System => return Ok(Choice::System),
        Wanted::Install(key) => {
            return candidates(world, Scope::Shelf)
                .into_iter()
                .find(|c| c.install.is_some_and(|install| install.key == key))
                .map(Choice::Version)
                .ok_or_else(|| {
                    let main = world.catalog.main_publisher_id();
                    Miss::Reason(ResolveError::NotOnShelf {
                        selector: key.short_selector(main),
                        published: None,
                        near: Vec::new(),
                    })
                });
        }
        Wanted::Matching(criterion) => criterion,
    };
    let mut pool = candidates(world, scope);
    steps.push(Step::Candidates {
        scope,
        count: pool.len(),
    });
    if let Some(publisher) = &meant.publisher {
        known_publisher(world, publisher, &meant.selector)?;
        let filter = Filter::Publisher(publisher.clone());
        pool = narrow(pool, filter, steps, |c| {
            c.publisher.eq_ignore_ascii_case(publisher)
        });
    }
    let matched = criterion.select(world, scope, pool, steps)?;
    if matched.is_empty() {
        return Err(Miss::Nothing { meant, criterion });
    }
    let kept = match scope {
        Scope::Published => installable(world, &meant, matched, steps)?,
        Scope::Shelf => matched,
    };
    let best = kept.iter().max_by(|a, b| {
        let main = world.catalog.main_publisher_id();
        let main_first = |c: &Candidate<'_>| main == Some(c.publisher);
        (a.version, main_first(a)).cmp(&(b.version, main_first(b)))
    });
    let chosen = *best.ok_or_else(|| ResolveError::NotPublished {
        selector: request.to_string(),
        near: Vec::new(),
    })?;
    steps.push(Step::Chosen {
        version: chosen.version.clone(),
        publisher: chosen.publisher.to_owned(),
        runner_up: kept
            .iter()
            .map(|c| c.version)
            .filter(|version| *version < chosen.version)
            .max()
            .cloned(),
    });
    Ok(Choice::Version(chosen))
}

/// Of published candidates, those of the main publisher, or of the only other one that has any.
fn of_publisher<'a>(
    world: &World<'a>,
    main: &str,
    matched: &[Candidate<'a>],
    steps: &mut Vec<Step>,
) -> Result<Vec<Candidate<'a>>, ResolveError> {
    let newest = *newest_of(matched);
    let filter = Filter::Publisher(main.to_owned());
    let kept = narrow(matched.to_vec(), filter, steps, |c| c.publisher == main);
    if !kept.is_empty() {
        return Ok(kept);
    }
    // A main publisher of whom nothing is known may have it too.
    let mut known = world.catalog.releases.iter();
    let is_known = known.any(|release| *release.publisher == *main);
    let is_only = matched.iter().all(|c| c.publisher == newest.publisher);
    if is_known && is_only {
        steps.push(Step::OnlyPublisher {
            publisher: newest.publisher.to_owned(),
        });
        return Ok(matched.to_vec());
    }
    let (version, publisher) = (newest.version.clone(), main.to_owned());
    let others = publishers_of(matched, newest.version);
    Err(if is_known {
        ResolveError::OtherPublisher {
            version,
            publisher,
            others,
        }
    } else {
        ResolveError::UnknownMain {
            version,
            publisher,
            others,
        }
    })
}

/// Of published candidates, those that can be installed here; `matched` is not empty.
fn installable<'a>(
    world: &World<'a>,
    meant: &Request,
    matched: Vec<Candidate<'a>>,
    steps: &mut Vec<Step>,
) -> Result<Vec<Candidate<'a>>, ResolveError> {
    let mut kept = match world.catalog.main_publisher_id() {
        Some(main) if meant.publisher.is_none() => of_publisher(world, main, &matched, steps)?,
        _ => matched.clone(),
    };
    let here = |c: &Candidate<'_>| c.release.is_some_and(|r| r.runs_on(world.platform));
    let newest = *newest_of(&kept);
    let filter = Filter::Platform(world.platform.to_string());
    kept = narrow(kept, filter, steps, here);
    if kept.is_empty() {
        let (version, publisher) = (newest.version.clone(), newest.publisher.to_owned());
        if newest.release.is_some_and(|r| r.platforms.is_empty()) {
            return Err(ResolveError::NotInstallable { version, publisher });
        }
        return Err(ResolveError::OtherPlatform {
            version,
            publisher,
            platform: world.platform.to_string(),
            platforms: newest
                .release
                .map(|r| r.platforms.iter().map(Platform::to_string).collect())
                .unwrap_or_default(),
            elsewhere: matched
                .iter()
                .find(|c| c.version == newest.version && here(c))
                .map(|c| c.publisher.to_owned()),
        });
    }
    let newest = *newest_of(&kept);
    let stays = |c: &Candidate<'_>| c.release.is_none_or(|r| r.withdrawn.is_none());
    kept = narrow(kept, Filter::NotWithdrawn, steps, stays);
    if kept.is_empty() {
        let same_line = |other: &Release| {
            let line = world.catalog.line_of(newest.version);
            line.is_some_and(|line| line.covers(&other.version))
                && *other.publisher == *newest.publisher
                && other.withdrawn.is_none()
                && other.runs_on(world.platform)
                && !other.version.is_pre_release()
        };
        let reason = newest.release.and_then(|r| r.withdrawn.as_deref());
        return Err(ResolveError::Withdrawn {
            version: newest.version.clone(),
            publisher: newest.publisher.to_owned(),
            reason: reason.unwrap_or_default().to_owned(),
            instead: (world.catalog.releases.iter())
                .find(|r| same_line(r))
                .map(|r| r.version.clone()),
        });
    }
    Ok(kept)
}

/// The newest candidate; of one version, the one that comes first.
fn newest_of<'c, 'a>(candidates: &'c [Candidate<'a>]) -> &'c Candidate<'a> {
    candidates
        .iter()
        .reduce(|best, c| if c.version > best.version { c } else { best })
        .expect("callers pass what matched, and something did")
}

fn publishers_of(candidates: &[Candidate<'_>], version: &Version) -> Vec<String> {
    candidates
        .iter()
        .filter(|c| c.version == version)
        .map(|c| c.publisher.to_owned())
        .collect()
}

/// The error for a criterion that covers none of `all`.
fn nothing_matched(
    world: &World<'_>,
    (typed, meant): (&Request, &Request),
    criterion: &Criterion,
    scope: Scope,
    all: &[Candidate<'_>],
) -> ResolveError {
    let near = |pool: &[Candidate<'_>]| match criterion {
        Criterion::Beginning(prefix) => near::versions(prefix, pool.iter().map(|c| c.version)),
        _ => Vec::new(),
    };
    if scope == Scope::Shelf {
        let published = resolve(world, typed, Scope::Published).outcome;
        let main = world.catalog.main_publisher_id();
        return ResolveError::NotOnShelf {
            selector: typed.to_string(),
            published: match published {
                Ok(Choice::Version(c)) => {
                    let publisher = (Some(c.publisher) != main).then(|| c.publisher.to_owned());
                    Some((publisher, c.version.clone()))
                }
                _ => None,
            },
            near: near(all),
        };
    }
    if let Some(publisher) = &meant.publisher {
        let anywhere = criterion.select(world, scope, candidates(world, scope), &mut Vec::new());
        if let Ok(matched) = anywhere
            && !matched.is_empty()
        {
            let version = newest_of(&matched).version;
            return ResolveError::OtherPublisher {
                version: version.clone(),
                publisher: publisher.clone(),
                others: publishers_of(&matched, version),
            };
        }
    }
    ResolveError::NotPublished {
        selector: typed.to_string(),
        near: near(&candidates(world, scope)),
    }
}
