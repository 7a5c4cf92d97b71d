//! Reports as JSON.

use serde::Serialize;

use crate::failure::{Failure, Kind, Outcome};
use crate::ui::Ui;

/// Writes a report as JSON.
pub fn print(ui: &Ui, report: &impl Serialize) -> Outcome {
    let text = serde_json::to_string_pretty(report)
        .map_err(|error| Failure::new(Kind::Other, error.to_string()))?;
    ui.result(text)
}
