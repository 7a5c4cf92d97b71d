//! Labels, shown and set.

use serde::Serialize;
use vshelf_app::labels::{Label, NewLabel};
use vshelf_view::{Cell, Column, Palette, Table};

use super::json::Item;
use crate::failure::Outcome;
use crate::ui::{Ui, styled};

/// A label, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime.
    runtime: String,
    /// The label.
    label: String,
    /// What it is bound to.
    selector: String,
    /// The key on the shelf that it stands for now.
    key: Option<String>,
}

impl Item for Report {
    const LIST: &'static str = "labels";
}

/// The labels, for JSON.
pub fn reports(labels: &[Label]) -> Vec<Report> {
    let report = |label: &Label| Report {
        runtime: label.runtime.clone(),
        label: label.name.clone(),
        selector: label.selector.clone(),
        key: label.pick.clone().map(String::from),
    };
    labels.iter().map(report).collect()
}

/// Says what one label stands for.
pub fn show_one(ui: &Ui, label: &Label) -> Outcome {
    let Label { name, selector, .. } = label;
    ui.sentence(match &label.shown {
        Some(pick) if pick == selector => {
            format!("{name} stands for {pick}, which is on the shelf.")
        }
        Some(pick) => format!("{name} stands for {selector}, which is {pick} on the shelf."),
        None => format!("{name} stands for {selector}, which is not on the shelf."),
    })
}

/// Shows the labels as a table.
pub fn show(ui: &Ui, labels: &[Label], several_runtimes: bool) -> Outcome {
    if labels.is_empty() {
        ui.sentence("There are no labels.")?;
        ui.next("To see how to set one", "vshelf help label");
        return Ok(());
    }
    let runtime = |name: &str| match several_runtimes {
        true => name.to_owned(),
        false => String::new(),
    };
    let columns = [
        Column::left("label"),
        Column::left("stands for"),
        Column::left("on the shelf"),
        Column::left(if several_runtimes { "runtime" } else { "" }),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for label in labels {
        let pick = label.shown.clone();
        table.row(
            Palette::QUIET,
            [
                Cell::new(&label.name, Palette::STRONG),
                label.selector.clone().into(),
                pick.unwrap_or_else(|| "not there".to_owned()).into(),
                runtime(&label.runtime).into(),
            ],
        );
    }
    ui.table(&table)
}

/// Says that a label is gone.
pub fn say_removed(ui: &Ui, name: &str) -> Outcome {
    ui.done(format!(
        "The label {name} is gone; what it stood for stays."
    ))
}

/// Says what a label stands for now.
pub fn say_set(ui: &Ui, set: &NewLabel) -> Outcome {
    let NewLabel {
        name,
        selector,
        prefix,
        ..
    } = set;
    let instead = set.before.as_ref();
    let instead = instead.map(|before| format!(", and no longer for {before}"));
    ui.done(format!(
        "{} stands for {prefix}{selector} now{}.",
        styled(Palette::STRONG, name),
        instead.unwrap_or_default()
    ))?;
    if set.on_shelf {
        ui.next("To use it here", &format!("vshelf switch {prefix}{name}"));
    } else {
        let install = format!("vshelf install {prefix}{name}");
        ui.next("It is not on the shelf yet; to install it", &install);
    }
    Ok(())
}
