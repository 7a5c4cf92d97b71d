//! What is active in the calling shell, and why.

use serde::Serialize;
use vshelf_app::base::base_of_pick;
use vshelf_app::integrate::connect::way_to_connect;
use vshelf_app::other_copy::OtherCopy;
use vshelf_app::{Activity, Runtime};
use vshelf_core::activation::{Activation, Claim, Rule};
use vshelf_core::lock_file::LOCK_FILE;
use vshelf_core::outlook::Newer;
use vshelf_core::{Key, Phase, Pick};
use vshelf_shelf::Install;
use vshelf_view::Palette;

use super::json::Item;
use super::standing::StandingReport;
use crate::failure::{Failure, Outcome};
use crate::ui::{Ui, styled};
use crate::wording::paths::shown;
use crate::wording::shells::{say_way_to_connect, say_way_to_default};
use crate::wording::standing::{next, say_trouble};
use crate::wording::versions::{about_line, next_phase, project_of, spine};
use crate::wording::{concerns, other_copies};

/// One runtime's state in the calling shell, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime's name.
    runtime: String,
    /// The key of what is active by the rules, or `system`.
    active: Option<String>,
    /// The rule that holds: `switch`, `requirement`, `default` or `system`.
    rule: Option<Rule>,
    /// The key of what is first on PATH, or `system`.
    first_on_path: Option<String>,
    /// The program that is first on PATH.
    program: Option<String>,
    /// The release line.
    line: Option<String>,
    /// The line's phase: `preview`, `current`, `lts`, `maintenance` or `ended`.
    phase: Option<Phase>,
    /// Whether the calling shell is connected.
    connected: bool,
    /// What came out since, in its line.
    newer: Option<Newer>,
    /// The rules, decided.
    activation: Activation,
    /// The requirement of the project here, and its state.
    required: StandingReport,
    /// The runtime that it runs on, if it needs one and that is here.
    runs_on: Option<String>,
    /// Every copy on PATH, in order.
    copies: Vec<CopyReport>,
}

impl Item for Report {
    const LIST: &'static str = "runtimes";
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

/// One runtime's state, for JSON.
pub fn report(runtime: &Runtime<'_>) -> Report {
    let activity = Activity::with_offer(runtime);
    let active = activity.active().cloned();
    let install = active
        .as_ref()
        .and_then(|pick| runtime.snapshot.picked(pick));
    let line = install.and_then(|install| runtime.published.line_of(&install.id.version));
    Report {
        runtime: runtime.name().to_owned(),
        rule: activity.rule(),
        newer: install.and_then(|install| runtime.published.newer_than(&install.id)),
        first_on_path: activity.answering().cloned().map(String::from),
        program: activity
            .copies
            .first()
            .map(|copy| copy.program.display().to_string()),
        line: line.map(|line| line.name.clone()),
        phase: line.map(|line| line.phase_on(runtime.today())),
        connected: runtime.environment().shell.dialect().is_some(),
        copies: activity
            .copies
            .iter()
            .map(|copy| CopyReport {
                program: copy.program.display().to_string(),
                key: copy.pick.key().map(Key::selector),
            })
            .collect(),
        runs_on: (active.as_ref())
            .and_then(|pick| base_of_pick(runtime, pick).ok()?)
            .map(|base| base.title),
        active: active.map(String::from),
        required: StandingReport::of(runtime, &activity.standing),
        activation: activity.standing.activation,
    }
}

/// Says of each runtime what is active, and why. Returns whether the project here requires one of them, or may do so in
/// a file that cannot be used.
pub fn show(ui: &Ui, runtimes: &[Runtime<'_>]) -> Result<bool, Failure> {
    let mut requires = false;
    if runtimes.is_empty() {
        ui.empty_shelf()?;
    }
    for (index, runtime) in runtimes.iter().enumerate() {
        if index > 0 {
            ui.result("")?;
        }
        // Its lines and its releases are looked at: both in one reading.
        runtime.published.heads();
        let activity = Activity::with_offer(runtime);
        requires |= activity.standing.required.concerns();
        show_one(ui, runtime, &activity)?;
    }
    Ok(requires)
}

/// Writes of each runtime that has something active its name and that.
pub fn show_short(ui: &Ui, runtimes: &[Runtime<'_>]) -> Outcome {
    for runtime in runtimes {
        let activity = Activity::of(runtime);
        // As connected shells say it, which know keys alone.
        let version = match activity.active() {
            Some(Pick::System) => "system".to_owned(),
            Some(pick) => match runtime.snapshot.picked(pick) {
                Some(install) => runtime.names().selector_of(&install.id.key),
                // What is active by the rules and is not on the shelf does not run.
                None => continue,
            },
            None => continue,
        };
        ui.result(format!("{} {version}", runtime.name()))?;
    }
    Ok(())
}

fn show_one(ui: &Ui, runtime: &Runtime<'_>, activity: &Activity) -> Outcome {
    let title = &runtime.definition.title;
    let other_copy = OtherCopy::of(runtime, activity);
    let Some(active) = &activity.standing.activation.active else {
        ui.sentence(format!(
            "{}No version of {title} is active here.",
            ui.spine(Palette::QUIET)
        ))?;
        say_unmet(ui, runtime, activity);
        if activity.requirement().is_none() {
            say_way_to_default(ui, runtime);
        }
        return Ok(());
    };
    let install = active.met_by.as_ref();
    let install = install.and_then(|pick| runtime.snapshot.picked(pick));
    let line = install.and_then(|install| runtime.published.line_of(&install.id.version));
    let phase = line.map(|line| line.phase_on(runtime.today()));
    let name = match install {
        Some(install) => runtime.names().selector_of(&install.id.key),
        None => "of the system".to_owned(),
    };
    let named = styled(Palette::STRONG, format!("{title} {name}"));
    let (spine, why) = (ui.spine(spine(phase)), reason(runtime, active));
    match activity.differs() {
        false => ui.sentence(format!("{spine}{named} is active here: {why}."))?,
        true => ui.sentence(format!(
            "{spine}{named} should be active here ({why}), but {}.",
            styled(
                Palette::WARNING,
                match &other_copy {
                    Some(other_copy) => other_copies::cause(other_copy, title),
                    None => what_answers(runtime, activity),
                }
            )
        ))?,
    }
    ui.facts(&facts_of(runtime, activity, active, install))?;
    say_unmet(ui, runtime, activity);
    if let Some(other_copy) = &other_copy {
        let due = activity
            .active()
            .map(|pick| runtime.names().selector_of_pick(pick));
        let due = due.unwrap_or_default();
        let fix = other_copies::fix(other_copy, &runtime.names().as_typed(due));
        ui.next("To change that", &fix);
    } else if activity.differs() {
        say_way_to_connect(ui, &way_to_connect(runtime.environment()));
    }
    concerns::say(ui, runtime, activity);
    Ok(())
}

/// The facts about the active version.
fn facts_of(
    runtime: &Runtime<'_>,
    activity: &Activity,
    active: &Claim,
    install: Option<&Install>,
) -> Vec<(&'static str, String)> {
    let line = install.and_then(|install| runtime.published.line_of(&install.id.version));
    let mut facts: Vec<(&str, String)> = Vec::new();
    if let Some(copy) = activity.copies.first() {
        facts.push(("program", shown(&copy.program)));
    }
    if let Some(line) = line {
        facts.push(("line", about_line(line, runtime.today())));
        facts.extend(next_phase(line, runtime.today()).map(|next| ("then", next)));
    }
    if let Some(install) = install {
        let publisher = &install.id.publisher;
        let trimmed = runtime.definition.trimmed_by(publisher);
        facts.push(("publisher", publisher.clone()));
        facts.extend(trimmed.map(|remark| ("trimmed", styled(Palette::WARNING, remark))));
    }
    if let Some(newer) = install.and_then(|install| runtime.published.newer_than(&install.id)) {
        let security = if newer.fixes_security() {
            ", which fixes a security problem"
        } else {
            ""
        };
        facts.push(("newer", format!("{}{security}", newer.version)));
    }
    if let Some(pick) = &active.met_by {
        match base_of_pick(runtime, pick) {
            Ok(base) => facts.extend(base.map(|base| ("runs on", base.title))),
            Err(error) => {
                let error = styled(Palette::WARNING, Failure::from(error).sentence());
                facts.push(("runs on", error));
            }
        }
    }
    facts.extend(facts_of_rules(activity, active));
    for (index, copy) in activity.copies.iter().skip(1).enumerate() {
        let name = if index == 0 { "behind it" } else { "" };
        facts.push((name, shown(&copy.program)));
    }
    facts.push((
        "shell",
        match runtime.environment().shell.dialect() {
            Some(dialect) => format!("{}, connected", dialect.name()),
            None => "not connected".to_owned(),
        },
    ));
    facts
}

/// The facts about the rule that holds, and those that do not.
fn facts_of_rules(activity: &Activity, active: &Claim) -> Vec<(&'static str, String)> {
    let mut facts = Vec::new();
    if let Some(place) = &active.place {
        let locked = match place.file.ends_with(LOCK_FILE) {
            true => ", as it is locked",
            false => "",
        };
        facts.push((
            "required",
            format!("{}, line {}{locked}", shown(&place.file), place.line),
        ));
    }
    for claim in &activity.standing.activation.overrode {
        match claim.met_by == active.met_by {
            true => facts.push((
                "required",
                format!(
                    "{} requires {} too{}",
                    project_of(claim),
                    claim.selector,
                    place_of(claim)
                ),
            )),
            false => facts.push(("overrode", overridden(claim))),
        }
    }
    if let Some(declined) = &activity.standing.activation.declined {
        facts.push((
            "declined",
            format!(
                "{} requires {}{}, which you chose not to follow",
                project_of(declined),
                declined.selector,
                place_of(declined)
            ),
        ));
    }
    facts
}

/// Why a claim holds.
fn reason(runtime: &Runtime<'_>, claim: &Claim) -> String {
    match claim.rule {
        Rule::Switch => "this shell was switched to it".to_owned(),
        Rule::Requirement => format!("{} requires {}", project_of(claim), claim.selector),
        Rule::Default if is_plain(runtime, claim) => "it is the default".to_owned(),
        Rule::Default => format!("it is the default, set as {}", claim.selector),
        Rule::System => "the shelf has no default, and this copy is on PATH".to_owned(),
    }
}

/// Whether what meets a claim is called just as it asks.
fn is_plain(runtime: &Runtime<'_>, claim: &Claim) -> bool {
    let met_by = claim.met_by.as_ref();
    met_by.is_some_and(|pick| runtime.names().selector_of_pick(pick) == claim.selector)
}

fn overridden(claim: &Claim) -> String {
    match claim.rule {
        Rule::Switch => format!("the switch to {}", claim.selector),
        Rule::Requirement => format!(
            "what {} requires, {}{}",
            project_of(claim),
            claim.selector,
            place_of(claim)
        ),
        Rule::Default => format!("the default, {}", claim.selector),
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
    let has_trouble = say_trouble(ui, runtime, &activity.standing);
    for claim in &activity.standing.activation.unmet {
        let what = match claim.rule {
            Rule::Switch => "This shell was switched to",
            Rule::Requirement => "The project here requires",
            Rule::Default => "The default is",
            Rule::System => "PATH leads to",
        };
        let is_undecided = claim.rule == Rule::Requirement && activity.standing.undecided.is_some();
        let state = if is_undecided {
            "; whether an install meets it is unknown without a catalog"
        } else {
            ", which is not on the shelf"
        };
        ui.warn(format!(
            "{what} {} {}{}{state}.",
            runtime.definition.title,
            claim.selector,
            place_of(claim)
        ));
        match claim.rule {
            Rule::Switch => ui.next("To follow the default here", "vshelf switch --follow"),
            // An install would refuse a lock that is reported with its own command.
            Rule::Requirement if has_trouble => {}
            Rule::Requirement => {
                if let Some((purpose, command)) = next(runtime, &activity.standing) {
                    ui.next(&purpose, &command);
                }
            }
            _ => ui.next(
                "To put it there",
                &format!("vshelf install {}@{}", runtime.name(), claim.selector),
            ),
        }
    }
}

/// What is first on PATH.
fn what_answers(runtime: &Runtime<'_>, activity: &Activity) -> String {
    let program = &runtime.definition.program;
    match activity.copies.first() {
        Some(copy) => format!("{program} runs {}", shown(&copy.program)),
        None => format!("no {program} is on PATH"),
    }
}
