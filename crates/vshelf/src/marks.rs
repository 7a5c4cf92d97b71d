//! Marks in words, phases and ends of support: what rows of versions have in common.

use anstyle::Style;
use jiff::civil::Date;
use vshelf_core::activation::Rule;
use vshelf_core::{Line, Phase};
use vshelf_view::words::span;
use vshelf_view::{Cell, Palette};

use crate::activity::Activity;
use crate::runtime::Runtime;

/// The marks of the install with this key: `this shell`, `default`, labels.
pub fn marks(runtime: &Runtime<'_>, activity: &Activity, key: &str) -> Vec<String> {
    let mut marks = Vec::new();
    let is_default = runtime.default_key().as_deref() == Some(key);
    if activity.active_key() == Some(key) && activity.rule() == Some(Rule::Switch) {
        marks.push("this shell".to_owned());
    }
    if is_default {
        marks.push("default".to_owned());
    }
    for (label, selector) in &runtime.state.labels {
        if selector == key {
            marks.push(label.clone());
        }
    }
    marks
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

/// When a line's support ends or ended, in a date and in words: `2026-12-28, in 5 weeks`.
pub fn end_of_support(line: Option<&Line>, today: Date) -> String {
    let Some(end) = line.and_then(|line| line.end) else {
        return String::new();
    };
    match end < today {
        true => format!("{end}, {} ago", span(end, today)),
        false => format!("{end}, in {}", span(today, end)),
    }
}
