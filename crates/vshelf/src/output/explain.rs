//! How a selector becomes a release, step by step.

use jiff::civil::Date;
use serde::Serialize;
use vshelf_app::{Activity, Runtime};
use vshelf_core::resolve::{Choice, Filter, Scope, Step};
use vshelf_core::{Pick, Request};
use vshelf_view::Palette;
use vshelf_view::words::{Count, printable};

use super::json;
use crate::failure::Outcome;
use crate::ui::{Ui, styled};
use crate::wording::paths::shown;

/// An explanation, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime.
    runtime: String,
    /// What was typed.
    selector: String,
    /// Among what: `published` or `shelf`.
    scope: Scope,
    /// The day on which phases were computed.
    day: Date,
    /// The steps in order.
    steps: Vec<Step>,
    /// The version that was chosen, or `system`; null where there is none.
    chosen: Option<String>,
    /// Its publisher.
    publisher: Option<String>,
    /// Why nothing was chosen.
    error: Option<String>,
}

/// Prints the steps as JSON, and fails where nothing is chosen.
pub fn print(
    ui: &Ui,
    runtime: &Runtime<'_>,
    selector: &str,
    request: &Request,
    scope: Scope,
) -> Outcome {
    let explanation = runtime.explain(request, scope);
    let (chosen, publisher) = match &explanation.outcome {
        Ok(Choice::Version(chosen)) => (
            Some(chosen.version.to_string()),
            Some(chosen.publisher.to_owned()),
        ),
        Ok(Choice::System) => (Some(Pick::System.to_string()), None),
        Err(_) => (None, None),
    };
    let report = Report {
        runtime: runtime.name().to_owned(),
        selector: selector.to_owned(),
        scope,
        day: runtime.today,
        error: explanation.outcome.as_ref().err().map(ToString::to_string),
        steps: explanation.steps,
        chosen,
        publisher,
    };
    json::print(ui, &report)?;
    let failed = explanation.outcome.err();
    failed.map_or(Ok(()), |error| Err(runtime.unresolved(error).into()))
}

/// Shows the steps, and what is chosen in the end.
pub fn show(ui: &Ui, runtime: &Runtime<'_>, request: &Request, scope: Scope) -> Outcome {
    let explanation = runtime.explain(request, scope);
    let title = &runtime.definition.title;
    ui.result(styled(
        Palette::STRONG,
        format!("{title} {request}, on {}", runtime.today),
    ))?;
    for (index, step) in explanation.steps.iter().enumerate() {
        ui.fact(&format!("{:>2}", index + 1), &worded(step))?;
    }
    match explanation.outcome {
        Ok(Choice::Version(chosen)) => {
            let version = styled(Palette::STRONG, format!("{title} {}", chosen.version));
            let place = match (scope, chosen.install) {
                (Scope::Published, None) => ", which is not on the shelf",
                (Scope::Published, Some(_)) => ", which is on the shelf",
                (Scope::Shelf, _) => "",
            };
            ui.sentence(format!(
                "Result: {version} from {}{place}.",
                chosen.publisher
            ))
        }
        Ok(Choice::System) => {
            let activity = Activity::of(runtime);
            let program = activity.need_system_copy(runtime)?;
            ui.sentence(format!("Result: {}.", shown(program)))
        }
        Err(error) => Err(runtime.unresolved(error).into()),
    }
}

/// A step as a sentence.
fn worded(step: &Step) -> String {
    match step {
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
        Step::Kept {
            filter,
            count,
            passed_over,
        } => {
            let which = match filter {
                Filter::Beginning(beginning) => format!("begin with {beginning}"),
                Filter::Range(range) => format!("are in {range}"),
                Filter::Line(line) => format!("are of line {line}"),
                Filter::Final => "are not pre-releases".to_owned(),
                Filter::Supported => "are of a line that is supported and past preview".to_owned(),
                Filter::Publisher(publisher) => format!("come from {publisher}"),
                Filter::Platform(platform) => format!("are built for {platform}"),
                Filter::NotWithdrawn => "were not withdrawn".to_owned(),
            };
            let passed = passed_over
                .as_ref()
                .map(|version| format!(" {version} is newer, and is not among them."))
                .unwrap_or_default();
            format!("{count} of them {which}.{passed}")
        }
        Step::OnlyPreReleases => "All of them are pre-releases, so those count.".to_owned(),
        Step::Chosen {
            version, runner_up, ..
        } => match runner_up {
            Some(second) => format!("{version} is the newest; the next is {second}."),
            None => format!("{version} is the only version left."),
        },
        Step::System => "system is the first copy on PATH that is not on the shelf.".to_owned(),
        Step::Previous { key: pick } => format!("This shell used {pick} before."),
    }
}
