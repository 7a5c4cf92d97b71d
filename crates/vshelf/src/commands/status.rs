//! `vshelf status`: what is active here, and why.

use std::fs;

use clap::Args;
use serde::Serialize;
use vshelf_core::Phase;
use vshelf_core::activation::{Activation, Claim, Rule};
use vshelf_core::outlook::Newer;
use vshelf_shelf::atomic;
use vshelf_view::Palette;
use vshelf_view::words::{Count, listed};

use crate::activity::Activity;
#[cfg(test)]
use crate::commands::schemas::{ActivationSchema, NewerSchema};
use crate::commands::{CommandArgs, say_concerns};
use crate::context::Context;
use crate::failure::{Outcome, shown};
use crate::marks::{about_line, next_phase, project_of, spine};
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// Say which version is active here, and why
///
/// It names the rule that holds (a switch of this shell, the wish of the project, the default, the
/// system's own copy), what that overrode, and every copy on PATH.
#[derive(Debug, Args)]
pub struct Status {
    /// Only this runtime
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

/// One runtime's state in the calling shell, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime's name.
    runtime: String,
    /// The key of what is active by the rules, or `system`.
    active: Option<String>,
    /// The rule that holds: `switch`, `pin`, `default` or `system`.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    rule: Option<Rule>,
    /// The key of what is first on PATH, or `system`.
    answers: Option<String>,
    /// The program that is first on PATH.
    program: Option<String>,
    /// The release line.
    line: Option<String>,
    /// The line's phase: `preview`, `current`, `lts`, `maintenance` or `ended`.
    #[cfg_attr(test, schemars(with = "Option<String>"))]
    phase: Option<Phase>,
    /// Whether the calling shell is connected.
    connected: bool,
    /// What came out since, in its line.
    #[cfg_attr(test, schemars(with = "Option<NewerSchema>"))]
    newer: Option<Newer>,
    /// The rules, decided.
    #[cfg_attr(test, schemars(with = "ActivationSchema"))]
    activation: Activation,
    /// Every copy on PATH, in order.
    copies: Vec<CopyReport>,
}

/// A copy of the program on PATH, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct CopyReport {
    /// The program.
    program: String,
    /// The key of the install; null for none, or for a copy that is not on the shelf.
    key: Option<String>,
}

impl CommandArgs for Status {
    const NAME: &'static str = "status";
    const GROUP: &'static str = "See";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let runtimes = context.shown_runtimes(self.runtime.as_deref())?;
        if self.json {
            let reports: Vec<Report> = runtimes.iter().map(report).collect();
            return super::print_json(ui, &reports);
        }
        for (index, runtime) in runtimes.iter().enumerate() {
            if index > 0 {
                ui.result("")?;
            }
            show(ui, runtime)?;
        }
        remind(ui, context, &runtimes)
    }
}

/// Says, at most once a day, that something on the shelf ended or lacks a security release.
fn remind(ui: &Ui, context: &Context, runtimes: &[Runtime<'_>]) -> Outcome {
    if !context.settings()?.reminds() || ui.is_quiet() {
        return Ok(());
    }
    let stamp = context.folders()?.cache.join("reminded");
    let today = context.today()?.to_string();
    // What cannot be read counts as never: then it is said more often.
    if fs::read_to_string(&stamp).is_ok_and(|said| said == today) {
        return Ok(());
    }
    let (mut ended, mut lacking) = (0, 0);
    for runtime in runtimes {
        for install in &runtime.installs {
            let line = runtime.outline().line_of(&install.shelved.version);
            if line.is_some_and(|line| line.phase_on(runtime.today) == Phase::Ended) {
                ended += 1;
            }
            let newer = runtime.newer_than(&install.shelved);
            lacking += usize::from(newer.is_some_and(|newer| newer.security));
        }
    }
    let parts = [
        (ended, "of an ended line"),
        (lacking, "without a security release"),
    ];
    let parts = parts.into_iter().filter(|(count, _)| *count > 0);
    let parts: Vec<String> = parts
        .map(|(count, what)| format!("{} {what}", Count(count, "install")))
        .collect();
    if parts.is_empty() {
        return Ok(());
    }
    let text = format!("On the shelf: {}; to see them", listed(&parts, "and"));
    ui.next(&text, "vshelf list --outdated");
    // Not written, it is said again.
    atomic::write_quickly(&stamp, today.as_bytes()).unwrap_or_default();
    Ok(())
}

fn report(runtime: &Runtime<'_>) -> Report {
    let activity = Activity::of(runtime);
    let key = activity.active_key().map(str::to_owned);
    let install = key.as_deref().and_then(|key| runtime.install(key));
    let line = install.and_then(|i| runtime.outline().line_of(&i.shelved.version));
    Report {
        runtime: runtime.name().to_owned(),
        rule: activity.rule(),
        newer: install.and_then(|install| runtime.newer_than(&install.shelved)),
        answers: activity.answering_key().map(str::to_owned),
        program: activity
            .copies
            .first()
            .map(|copy| copy.program.display().to_string()),
        line: line.map(|line| line.name.clone()),
        phase: line.map(|line| line.phase_on(runtime.today)),
        connected: runtime.context().shell.dialect().is_some(),
        copies: activity
            .copies
            .iter()
            .map(|copy| CopyReport {
                program: copy.program.display().to_string(),
                key: copy.key.clone(),
            })
            .collect(),
        active: key,
        activation: activity.activation,
    }
}

fn show(ui: &Ui, runtime: &Runtime<'_>) -> Outcome {
    let activity = Activity::of(runtime);
    let title = &runtime.definition.title;
    let connected = runtime.context().shell.dialect();
    let Some(active) = &activity.activation.active else {
        ui.result(format!(
            "{}No {title} is active here.",
            ui.spine(Palette::QUIET)
        ))?;
        say_unmet(ui, runtime, &activity);
        let prefix = runtime.context().prefix(runtime.name())?;
        match runtime.installs.is_empty() {
            true => ui.next("To install one", &format!("vshelf install {prefix}stable")),
            false => ui.next(
                "To choose one for new shells",
                &format!("vshelf default {prefix}SELECTOR"),
            ),
        }
        return Ok(());
    };
    let key = active.met_by.as_deref().unwrap_or_default();
    let install = runtime.install(key);
    let line = install.and_then(|install| runtime.outline().line_of(&install.shelved.version));
    let phase = line.map(|line| line.phase_on(runtime.today));
    let name = match install {
        Some(install) => runtime.spelled(&install.shelved),
        None => "of the system".to_owned(),
    };
    let named = styled(Palette::STRONG, format!("{title} {name}"));
    let (spine, why) = (ui.spine(spine(phase)), reason(active));
    match activity.differs() {
        false => ui.result(format!("{spine}{named} is active here: {why}."))?,
        true => ui.result(format!(
            "{spine}{named} should be active here ({why}), but {}.",
            styled(Palette::WARNING, what_answers(runtime, &activity))
        ))?,
    }
    let mut facts: Vec<(&str, String)> = Vec::new();
    if let Some(copy) = activity.copies.first() {
        facts.push(("program", shown(&copy.program)));
    }
    if let Some(line) = line {
        facts.push(("line", about_line(line, runtime.today)));
        facts.extend(next_phase(line, runtime.today).map(|next| ("then", next)));
    }
    if let Some(install) = install {
        facts.push(("publisher", install.shelved.publisher.clone()));
    }
    if let Some(newer) = install.and_then(|install| runtime.newer_than(&install.shelved)) {
        let security = if newer.security {
            ", which mends a security problem"
        } else {
            ""
        };
        facts.push(("newer", format!("{}{security}", newer.version)));
    }
    if let Some(place) = &active.place {
        facts.push((
            "wish",
            format!("{}, line {}", shown(&place.file), place.line),
        ));
    }
    for claim in &activity.activation.overrode {
        match claim.met_by == active.met_by {
            true => facts.push((
                "wish",
                format!(
                    "{} wants {} too{}",
                    project_of(claim),
                    claim.wanted,
                    place_of(claim)
                ),
            )),
            false => facts.push(("overrode", overridden(claim))),
        }
    }
    for (index, copy) in activity.copies.iter().skip(1).enumerate() {
        let name = if index == 0 { "behind it" } else { "" };
        facts.push((name, shown(&copy.program)));
    }
    facts.push((
        "shell",
        match connected {
            Some(dialect) => format!("{}, connected", dialect.name()),
            None => "not connected".to_owned(),
        },
    ));
    ui.facts(&facts)?;
    say_unmet(ui, runtime, &activity);
    if activity.differs() {
        say_how_to_mend(ui, runtime, &activity);
    }
    say_concerns(ui, runtime, &activity);
    Ok(())
}

/// Why a claim holds.
fn reason(claim: &Claim) -> String {
    match claim.rule {
        Rule::Switch => "this shell was switched to it".to_owned(),
        Rule::Pin => format!("{} wants {}", project_of(claim), claim.wanted),
        Rule::Default if claim.met_by.as_deref() == Some(&claim.wanted) => {
            "it is the default".to_owned()
        }
        Rule::Default => format!("it is the default, kept as {}", claim.wanted),
        Rule::System => "the shelf has no default, and this copy is on PATH".to_owned(),
    }
}

fn overridden(claim: &Claim) -> String {
    match claim.rule {
        Rule::Switch => format!("the switch to {}", claim.wanted),
        Rule::Pin => format!(
            "the wish of {}, {}{}",
            project_of(claim),
            claim.wanted,
            place_of(claim)
        ),
        Rule::Default => format!("the default, {}", claim.wanted),
        Rule::System => "the system's own copy".to_owned(),
    }
}

/// The file and line that a claim stands on, in brackets.
fn place_of(claim: &Claim) -> String {
    let place = claim.place.as_ref();
    place
        .map(|p| format!(" ({}, line {})", shown(&p.file), p.line))
        .unwrap_or_default()
}

fn say_unmet(ui: &Ui, runtime: &Runtime<'_>, activity: &Activity) {
    if let Some(failure) = &activity.pin_failure {
        let text = format!("The project's wish is not understood: {}.", failure.message);
        ui.note(styled(Palette::WARNING, text));
    }
    for claim in &activity.activation.unmet {
        let what = match claim.rule {
            Rule::Switch => "This shell was switched to",
            Rule::Pin => "The project here wants",
            Rule::Default => "The default is",
            Rule::System => "PATH leads to",
        };
        ui.note(styled(
            Palette::WARNING,
            format!(
                "{what} {}{}, which is not on the shelf.",
                claim.wanted,
                place_of(claim)
            ),
        ));
        match claim.rule {
            Rule::Switch => ui.next("To follow the default here", "vshelf switch --off"),
            Rule::Pin => ui.next("To put it there", "vshelf install"),
            _ => ui.next(
                "To put it there",
                &format!("vshelf install {}@{}", runtime.name(), claim.wanted),
            ),
        }
    }
}

/// What is first on PATH.
fn what_answers(runtime: &Runtime<'_>, activity: &Activity) -> String {
    let program = &runtime.definition.program;
    match activity.copies.first() {
        Some(copy) => format!("{} answers to {program}", shown(&copy.program)),
        None => format!("no {program} is on PATH"),
    }
}

/// Says how to mend that another copy answers than the one that should.
fn say_how_to_mend(ui: &Ui, runtime: &Runtime<'_>, activity: &Activity) {
    match runtime.context().shell.dialect() {
        Some(_) if activity.rule() == Some(Rule::Pin) => {
            ui.next("To use what the project wants in this shell", "vshelf switch");
        }
        Some(_) => ui.note(
            "Something behind the shelf's block in your start-up file puts its own folder in front of PATH; move the block to the end.",
        ),
        None => ui.next("This shell is not connected; to connect it", "vshelf setup"),
    }
}
