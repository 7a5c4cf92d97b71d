//! Reports as JSON: always an object, whose keys are in snake_case.

use std::collections::BTreeMap;

use serde::Serialize;

use crate::failure::{Class, Failure, Outcome};
use crate::ui::Ui;

/// One of several things that a command reports.
pub trait Item: Serialize {
    /// The key that they are listed under.
    const LIST: &'static str;
}

/// Writes reports as an object with a list.
pub fn print_list<I: Item>(ui: &Ui, items: &[I]) -> Outcome {
    print(ui, &BTreeMap::from([(I::LIST, items)]))
}

/// Writes a report as JSON.
pub fn print(ui: &Ui, report: &impl Serialize) -> Outcome {
    let text = serde_json::to_string_pretty(report)
        .map_err(|error| Failure::new(Class::Other, error.to_string()))?;
    ui.result(text)
}
