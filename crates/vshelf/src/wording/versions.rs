//! Marks in words, phases and ends of support: what rows of versions have in common.

use std::path::{Path, PathBuf};

use anstyle::Style;
use jiff::civil::Date;
use vshelf_app::{Activity, Error, Runtime};
use vshelf_core::activation::Claim;
use vshelf_core::catalog::Details;
use vshelf_core::{Key, Line, Phase, Pick};
use vshelf_shelf::record::Adopted;
use vshelf_sources::merge::DEFINITION;
use vshelf_view::words::{printable, span};
use vshelf_view::{Cell, Palette};

use super::holders::required_by;
use super::paths::project_name;
use crate::ui::styled;

/// The marks of the install with this key: `this shell`, `default`, the project here, labels.
pub fn marks(runtime: &Runtime<'_>, activity: &Activity, key: &Key) -> Vec<String> {
    marks_with_projects(runtime, activity, key, &[])
}

/// The same with all projects in `required`, which are requirement files with the install that each gets.
pub fn marks_with_projects(
    runtime: &Runtime<'_>,
    activity: &Activity,
    key: &Key,
    required: &[(Pick, PathBuf)],
) -> Vec<String> {
    let mut marks = Vec::new();
    match runtime.undefined() {
        Some(Error::UnknownRuntime { .. }) => marks.push("no definition".to_owned()),
        Some(_) => marks.push("broken definition".to_owned()),
        None => {}
    }
    if activity.is_switched_to(key) {
        marks.push("this shell".to_owned());
    }
    if runtime.snapshot.is_default(key) {
        marks.push("default".to_owned());
    }
    let requirement = activity.requirement();
    let met_by = requirement.and_then(|claim| claim.met_by.as_ref());
    let here = requirement.filter(|_| met_by.is_some_and(|pick| pick.is(key)));
    let elsewhere = required.iter().filter(|(pick, _)| pick.is(key));
    let elsewhere = elsewhere.map(|(_, file)| project_name(file));
    let projects = here.map(project_of).into_iter().chain(elsewhere);
    marks.extend(required_by(projects));
    for (label, selector) in &runtime.snapshot.state.labels {
        let pick = runtime.choosing().pick_of_label(selector);
        if pick.is_some_and(|pick| pick.is(key)) {
            marks.push(format!("label {label}"));
        }
    }
    let record = runtime
        .snapshot
        .install(key)
        .map(|install| &install.record.contents);
    if runtime.definition.trimmed_by(key.publisher()).is_some() {
        marks.push("trimmed".to_owned());
    }
    if record.is_some_and(|record| record.broken.is_some()) {
        marks.push("does not start".to_owned());
    }
    if record.is_some_and(|record| record.adopted == Some(Adopted::Linked)) {
        marks.push("link".to_owned());
    }
    marks
}

/// The name of the project whose requirement a claim is: that of its folder.
pub fn project_of(claim: &Claim) -> String {
    let file = claim.place.as_ref().map(|place| place.file.as_path());
    project_name(file.unwrap_or(Path::new("")))
}

/// A phase as a coloured word.
pub fn phase_cell(phase: Option<Phase>) -> Cell {
    match phase {
        Some(phase) => Cell::new(phase.as_str(), Palette::phase(phase)),
        None => Cell::default(),
    }
}

/// The style of a spine.
pub fn spine(phase: Option<Phase>) -> Style {
    phase.map_or(Palette::QUIET, Palette::phase)
}

/// A line with its code name, phase and end of support, as a fact.
pub fn about_line(line: &Line, today: Date) -> String {
    let codename = line
        .codename
        .as_ref()
        .map(|name| format!(" {}", printable(name)));
    let phase = line.phase_on(today);
    let support = end_of_support(line, today).map(|end| match phase {
        Phase::Ended => format!(", support ended on {end}"),
        _ => format!(", support ends on {end}"),
    });
    let support = support.unwrap_or_default();
    let phase = styled(Palette::phase(phase), phase);
    format!(
        "{}{}: {phase}{support}",
        line.name,
        codename.unwrap_or_default()
    )
}

/// What other sources than the one that gives the archive tell of a release and its line: each with what
/// it tells.
pub fn told_by_others(
    details: &Details,
    line: Option<&Line>,
    giving: Option<&str>,
) -> Vec<(String, Vec<&'static str>)> {
    let told_by = &details.told_by;
    let phase = line.and_then(|line| line.told_by.as_ref());
    let facts = [
        ("its day of publication", told_by.date.as_ref()),
        (
            "whether it fixes a security problem",
            told_by.security.as_ref(),
        ),
        ("what comes with it", told_by.bundles.as_ref()),
        ("the phase of its line", phase),
    ];
    let mut others: Vec<(String, Vec<&str>)> = Vec::new();
    for (what, source) in facts {
        let Some(source) = source.filter(|source| Some(source.as_str()) != giving) else {
            continue;
        };
        let source = match source.as_str() {
            DEFINITION => "the definition",
            source => source,
        };
        match others.iter_mut().find(|(known, _)| known == source) {
            Some((_, facts)) => facts.push(what),
            None => others.push((source.to_owned(), vec![what])),
        }
    }
    others
}

/// A line's next change of phase, as a fact; its end is told with the line itself.
pub fn next_phase(line: &Line, today: Date) -> Option<String> {
    let (day, next) = line.next_phase_after(today)?;
    (next != Phase::Ended).then(|| format!("{next} from {day}, {}", until(day, today)))
}

/// How far away a day to come is: `in 5 weeks`.
fn until(day: Date, today: Date) -> String {
    format!("in {}", span(today, day))
}

/// When a line's support ends or ended, for a table: with little room the date alone.
pub fn end_cell(line: Option<&Line>, today: Date) -> Cell {
    let date = line.and_then(|line| line.end);
    let date = date.map(|date| date.to_string()).unwrap_or_default();
    let end = line.and_then(|line| end_of_support(line, today));
    Cell::from(end.unwrap_or_default()).or(date)
}

/// When a line's support ends or ended, in a date and in words: `2026-12-28, in 5 weeks`. `None` if no day is known.
pub fn end_of_support(line: &Line, today: Date) -> Option<String> {
    let end = line.end?;
    Some(match end < today {
        true => format!("{end}, {} ago", span(end, today)),
        false => format!("{end}, {}", until(end, today)),
    })
}
