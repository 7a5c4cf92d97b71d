//! How a selector becomes a release, step by step.

use jiff::civil::Date;
use serde::Serialize;
use vshelf_app::admission;
use vshelf_app::install::from_source;
use vshelf_app::install::last_build::last_build;
use vshelf_app::{Activity, Runtime, project};
use vshelf_core::catalog::ToldBy;
use vshelf_core::resolve::{Candidate, Choice, Explanation, Filter, Scope, Step};
use vshelf_core::{Pick, Release, Request};
use vshelf_view::Palette;
use vshelf_view::words::{Count, listed, printable};

use super::json;
use crate::failure::{Failure, Hint, Outcome};
use crate::ui::{Ui, styled};
use crate::wording::building;
use crate::wording::paths::shown;
use crate::wording::versions::told_by_others;

/// An explanation, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime.
    runtime: String,
    /// What was typed.
    selector: String,
    /// The day on which phases were computed.
    day: Date,
    /// How it is resolved among what is published.
    #[serde(flatten)]
    published: Resolution,
    /// How it is resolved among what is on the shelf.
    on_shelf: Resolution,
    /// The source that gives the archive of what is chosen among what is published.
    source: Option<String>,
    /// Whether that archive is a repack of the publisher's.
    repack: bool,
    /// The sources that tell what is known of it.
    told_by: ToldBy,
}

/// How a selector is resolved in one scope.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct Resolution {
    /// The steps in order.
    steps: Vec<Step>,
    /// The version that was chosen, or `system`; null if none was.
    chosen: Option<String>,
    /// Its publisher.
    publisher: Option<String>,
    /// Why nothing was chosen.
    error: Option<String>,
}

impl Resolution {
    fn of(explanation: &Explanation<'_>) -> Resolution {
        let (chosen, publisher) = match &explanation.outcome {
            Ok(Choice::Version(chosen)) => (
                Some(chosen.version.to_string()),
                Some(chosen.publisher.to_owned()),
            ),
            Ok(Choice::System) => (Some(Pick::System.as_str().to_owned()), None),
            Err(_) => (None, None),
        };
        Resolution {
            steps: explanation.steps.clone(),
            chosen,
            publisher,
            error: explanation.outcome.as_ref().err().map(ToString::to_string),
        }
    }
}

/// Prints the steps as JSON, and fails if nothing is chosen.
pub fn print(ui: &Ui, runtime: &Runtime<'_>, selector: &str, request: &Request) -> Outcome {
    let explanation = runtime.choosing().explain(request, Scope::Published);
    let on_shelf = runtime.choosing().explain(request, Scope::Shelf);
    let release = match &explanation.outcome {
        Ok(Choice::Version(chosen)) => chosen.release,
        _ => None,
    };
    let details = release
        .map(|release| runtime.published.details(release))
        .transpose()?;
    let details = details.unwrap_or_default();
    let builds = details.builds_for(runtime.environment().platform());
    let report = Report {
        source: builds.first().and_then(|build| build.source.clone()),
        repack: builds.first().is_some_and(|build| build.repack.is_some()),
        told_by: details.told_by.clone(),
        runtime: runtime.name().to_owned(),
        selector: selector.to_owned(),
        day: runtime.today(),
        published: Resolution::of(&explanation),
        on_shelf: Resolution::of(&on_shelf),
    };
    json::print(ui, &report)?;
    match (explanation.outcome, on_shelf.outcome) {
        (Err(error), Err(_)) => Err(runtime.choosing().unresolved(error).into()),
        _ => Ok(()),
    }
}

/// Shows how a request is resolved among what is published, and among what is on the shelf if that differs.
/// Fails if nothing is chosen in either.
pub fn show(ui: &Ui, runtime: &Runtime<'_>, request: &Request) -> Outcome {
    let explanation = runtime.choosing().explain(request, Scope::Published);
    let on_shelf = runtime.choosing().explain(request, Scope::Shelf);
    let title = &runtime.definition.title;
    ui.result(styled(
        Palette::STRONG,
        format!("{title} {request}, on {}", runtime.today()),
    ))?;
    show_steps(ui, runtime, &explanation.steps)?;
    let published = match explanation.outcome {
        Ok(Choice::Version(chosen)) => {
            let place = if chosen.install.is_some() {
                "is on the shelf"
            } else {
                "is not on the shelf"
            };
            let version = styled(Palette::STRONG, format!("{title} {}", chosen.version));
            let publisher = chosen.publisher;
            ui.sentence(format!(
                "Result: {version} from {publisher}, which {place}."
            ))?;
            if let Some(release) = chosen.release {
                say_where_from(ui, runtime, release)?;
            }
            say_locked(ui, runtime, request)?;
            Some(chosen)
        }
        Ok(Choice::System) => return show_system_copy(ui, runtime),
        Err(error) if on_shelf.outcome.is_err() => {
            return Err(runtime.choosing().unresolved(error).into());
        }
        Err(error) => {
            ui.sentence(format!("Result: {error}."))?;
            None
        }
    };
    match on_shelf.outcome {
        Ok(Choice::Version(install)) => {
            let key = |candidate: &Candidate<'_>| {
                (candidate.version.clone(), candidate.publisher.to_owned())
            };
            if published.as_ref().map(key) == Some(key(&install)) {
                return Ok(());
            }
            ui.result(styled(Palette::STRONG, "Among what is on the shelf"))?;
            show_steps(ui, runtime, &on_shelf.steps)?;
            let version = styled(Palette::STRONG, format!("{title} {}", install.version));
            ui.sentence(format!("Result: {version} from {}.", install.publisher))
        }
        Ok(Choice::System) | Err(_) => Ok(()),
    }
}

fn show_steps(ui: &Ui, runtime: &Runtime<'_>, steps: &[Step]) -> Outcome {
    let mut numbered = steps.iter().enumerate();
    numbered
        .try_for_each(|(index, step)| ui.fact(&format!("{:>2}", index + 1), &worded(runtime, step)))
}

fn show_system_copy(ui: &Ui, runtime: &Runtime<'_>) -> Outcome {
    let activity = Activity::of(runtime);
    let program = activity.need_system_copy(runtime)?;
    ui.sentence(format!("Result: {}.", shown(program)))
}

/// Says which release a lock has for a requirement of the project here, where that is what was asked for.
fn say_locked(ui: &Ui, runtime: &Runtime<'_>, request: &Request) -> Outcome {
    let required = project::required(runtime);
    match (&required.stated, required.lock.deciding()) {
        (Some(stated), Some(locked)) if stated.what == request.without_runtime() => {
            ui.sentence(format!(
                "The project here requires it, and is locked to {} ({}).",
                runtime.names().selector_of(&locked.what.key()),
                shown(&locked.place.file)
            ))
        }
        _ => Ok(()),
    }
}

/// Says which source gives the bytes of a release, and who tells what is known of it.
fn say_where_from(ui: &Ui, runtime: &Runtime<'_>, release: &Release) -> Outcome {
    let details = runtime.published.details(release)?;
    let platform = runtime.environment().platform();
    let builds = details.builds_for(platform);
    let Some(build) = builds.first() else {
        return Ok(());
    };
    if let Err(error) = admission::check_release(runtime, release) {
        let failure = Failure::from_told(&error);
        ui.sentence(format!("{}.", failure.message))?;
        for hint in &failure.hints {
            if let Hint::Say(text) = hint {
                ui.sentence(text)?;
            }
        }
    }
    let line = runtime.published.catalog().line_of(&release.version);
    let others = told_by_others(&details, line, build.source.as_deref());
    let source = build.source.as_deref().unwrap_or_default();
    let repack = if build.repack.is_some() {
        ", as a repack"
    } else {
        ""
    };
    if build.platform.is_source() {
        ui.sentence(
            "No build of it is published for this platform: it is built from source here.",
        )?;
        if let Some(section) = &runtime.definition.build {
            let last_time = last_build(runtime)?;
            let needs = from_source::look_for(section);
            for sentence in building::sentences("Its steps", section, &needs, last_time) {
                ui.sentence(sentence)?;
            }
            if let Some(command) = from_source::install_command(&needs) {
                ui.next("To install what is missing", &command);
            }
        }
    }
    let what = match others.is_empty() && build.repack.is_none() {
        true => "Its archive and what is known of it come",
        false => "Its archive comes",
    };
    ui.sentence(format!("{what} from the source {source}{repack}."))?;
    for (source, what) in others {
        ui.sentence(format!("Known from {source}: {}.", listed(&what, "and")))?;
    }
    say_other_source(ui, runtime, release);
    Ok(())
}

/// Says that another publisher has the release as source, which a build on request takes.
fn say_other_source(ui: &Ui, runtime: &Runtime<'_>, release: &Release) {
    let catalog = runtime.published.catalog();
    let Some(publisher) = catalog.publisher_of_source() else {
        return;
    };
    let of_source = catalog.release(&release.version, publisher);
    if *release.publisher != *publisher && of_source.is_some_and(Release::has_source) {
        let selector = runtime.names().as_typed(&release.version);
        ui.next(
            &format!("To build it here, from the source of {publisher}"),
            &format!("vshelf install --build {selector}"),
        );
    }
}

/// The end of a sentence about the `count` candidates that a filter keeps.
fn worded_filter(filter: &Filter, count: usize) -> String {
    let is_one = count == 1;
    let (are, s) = if is_one { ("is", "s") } else { ("are", "") };
    match filter {
        Filter::Beginning(beginning) => format!("begin{s} with {beginning}"),
        Filter::Range(range) => format!("{are} in {range}"),
        Filter::Line(line) => format!("{are} of line {line}"),
        Filter::Final if is_one => "is not a pre-release".to_owned(),
        Filter::Final => "are not pre-releases".to_owned(),
        Filter::Supported => format!("{are} of a line that is supported and past preview"),
        Filter::NotEnded => format!("{are} of a line that is not known to have ended"),
        Filter::Publisher(publisher) => format!("come{s} from {publisher}"),
        Filter::Platform(platform) => format!("{are} built for {platform}"),
        Filter::NotWithdrawn if is_one => "was not withdrawn".to_owned(),
        Filter::NotWithdrawn => "were not withdrawn".to_owned(),
    }
}

/// A step as a sentence.
fn worded(runtime: &Runtime<'_>, step: &Step) -> String {
    match step {
        Step::OnlyPublisher { publisher } => {
            format!("Only {publisher} publishes what matches.")
        }
        Step::Spelling { spelled, means } => format!("{spelled} is another spelling of {means}."),
        Step::Label { label, selector } => format!("Your label {label} stands for {selector}."),
        Step::Default { selector } => format!("The default is set as {selector}."),
        Step::Channel { channel, selector } => {
            format!(
                "The publisher's channel {} is {} now.",
                printable(channel),
                printable(selector)
            )
        }
        Step::CodeName { codename, line } => {
            format!("{} is the code name of line {line}.", printable(codename))
        }
        Step::Candidates {
            scope: Scope::Published,
            count,
        } => {
            format!("The catalog has {}.", Count(*count, "release"))
        }
        Step::Candidates {
            scope: Scope::Shelf,
            count,
        } => {
            format!("The shelf has {}.", Count(*count, "install"))
        }
        Step::Line { line, phase } => format!("Line {line} is the newest in phase {phase}."),
        Step::Kept { filter, count, .. } => {
            let which = worded_filter(filter, *count);
            format!("{count} of them {which}.")
        }
        Step::OnlyPreReleases => "All of them are pre-releases, so those count.".to_owned(),
        Step::Chosen {
            version, runner_up, ..
        } => match runner_up {
            Some(second) => format!("{version} is the newest; the next is {second}."),
            None => format!("{version} is the only version left."),
        },
        Step::System => "system is the first copy on PATH that is not on the shelf.".to_owned(),
        Step::Previous { key: pick } => {
            format!(
                "This shell used {} before.",
                runtime.names().selector_of_pick(pick)
            )
        }
    }
}
