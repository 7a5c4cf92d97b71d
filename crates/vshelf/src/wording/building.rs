//! Builds from source: what is going to happen, and why one failed.

use vshelf_app::events::{BuildPlan, LastBuild};
use vshelf_core::definition::build::{BuildSection, System};
use vshelf_core::definition::needs::{Missing, Needs};
use vshelf_view::words::{Count, lasted, listed, megabytes};

use super::paths::shown;
use crate::ui::Ui;

/// Says what a build is going to be.
pub fn say_plan(ui: &Ui, plan: &BuildPlan<'_>) {
    let begins = match plan.goes_on {
        true => "goes on being built from source",
        false => "is built from source",
    };
    let head = format!("{} {begins}", plan.title);
    for sentence in sentences(&head, plan.section, plan.needs, plan.last_time) {
        ui.note_above_bars(&sentence);
    }
    ui.note_above_bars(&format!("Its steps write to {}.", shown(plan.log)));
}

/// What a build is going to be, in sentences: its steps, what it takes, what it is built with, and what is
/// missing. `head` is what the first one begins with.
pub fn sentences(
    head: &str,
    section: &BuildSection,
    needs: &Needs,
    last_time: Option<LastBuild>,
) -> Vec<String> {
    let steps: Vec<&str> = (section.steps_on(System::here()))
        .map(|step| step.name.as_str())
        .collect();
    let mut text = format!("{head}: {}", listed(&steps, "and"));
    match (last_time, section.minutes) {
        (Some(last), _) => text += &format!("; that took {} here last time", lasted(last.took)),
        (None, Some(minutes)) => {
            text += &format!("; that takes about {}", Count(minutes as usize, "minute"));
        }
        (None, None) => {}
    }
    let space = match (last_time.and_then(|last| last.space), section.megabytes) {
        (Some(bytes), _) => Some(megabytes(bytes)),
        (None, known) => known.map(|known| format!("{known} MB")),
    };
    if let Some(space) = space {
        text += &format!(", and {space} on disk meanwhile");
    }
    let mut sentences = vec![text + "."];
    let found = needs.found.iter().map(|found| match &found.version {
        Some(version) => format!("{} {version}", found.name),
        None => found.name.clone(),
    });
    let found: Vec<String> = found.collect();
    if !found.is_empty() {
        sentences.push(format!("It is built with {}.", listed(&found, "and")));
    }
    sentences.extend(needs.missing.iter().map(Missing::sentence));
    sentences
}
