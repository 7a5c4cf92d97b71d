//! The runtimes that are known.

use std::path::Path;

use serde::Serialize;
use vshelf_app::Environment;
use vshelf_app::runtimes::{DefinedBy, KnownRuntime};
use vshelf_core::Definition;
use vshelf_core::definition::SourceKind;
use vshelf_sources::address;
use vshelf_view::words::Count;
use vshelf_view::{Cell, Column, Palette, Table};

use super::json::Item;
use crate::failure::Outcome;
use crate::ui::Ui;

/// One runtime, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The name in selectors.
    name: String,
    /// The name for people.
    title: String,
    /// The program.
    program: String,
    /// Whether its definition comes with the program.
    built_in: bool,
    /// Whose its definition is: `program`, `company` or `person`.
    defined_by: DefinedBy,
    /// The names of its sources.
    sources: Vec<String>,
    /// How many installs are on the shelf.
    installs: usize,
}

impl Item for Report {
    const LIST: &'static str = "runtimes";
}

/// The runtimes, for JSON.
pub fn reports(known: Vec<KnownRuntime>) -> Vec<Report> {
    let report = |known: KnownRuntime| Report {
        name: known.definition.name.clone(),
        title: known.definition.title.clone(),
        program: known.definition.program.clone(),
        built_in: known.defined_by == DefinedBy::Program,
        defined_by: known.defined_by,
        sources: (known.definition.sources.iter())
            .map(|source| source.name.clone())
            .collect(),
        installs: known.installs,
    };
    known.into_iter().map(report).collect()
}

/// Shows the runtimes as a table.
pub fn show(ui: &Ui, known: Vec<KnownRuntime>) -> Outcome {
    let columns = [
        Column::left("runtime"),
        Column::left("title"),
        Column::left("defined"),
        Column::right("installs"),
        Column::yielding("sources"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for report in reports(known) {
        table.row(
            Palette::QUIET,
            [
                Cell::new(report.name, Palette::STRONG),
                report.title.into(),
                match report.defined_by {
                    DefinedBy::Program => "built in",
                    DefinedBy::Company => "by the company",
                    DefinedBy::Person => "by you",
                }
                .into(),
                report.installs.to_string().into(),
                report.sources.join(", ").into(),
            ],
        );
    }
    ui.table(&table)
}

/// Says that a definition was removed, and what stays of the runtime.
pub fn say_removed(ui: &Ui, name: &str, stay: &[String], is_defined: bool) -> Outcome {
    let removed = format!("Your definition of {name} was removed");
    if is_defined {
        return ui.done(format!(
            "{removed}; another definition of it is in force again."
        ));
    }
    if stay.is_empty() {
        return ui.done(format!("{removed}; nothing of it is on the shelf."));
    }
    let count = Count(stay.len(), "install");
    ui.done(format!(
        "{removed}. On the shelf: {count}, which can be used and removed; nothing new of it can be installed."
    ))?;
    ui.next(
        "To remove what is there",
        &format!("vshelf remove {}", stay.join(" ")),
    );
    Ok(())
}

/// Says that a runtime is known now.
pub fn say_added(
    ui: &Ui,
    environment: &Environment,
    definition: &Definition,
    file: &Path,
) -> Outcome {
    ui.done(format!(
        "{} is now defined in {}",
        definition.title,
        file.display()
    ))?;
    // A setting can have its sources read from elsewhere.
    let known = environment.definition(&definition.name)?;
    for source in &known.sources {
        if let SourceKind::Catalog { address: at, .. } | SourceKind::Oci { address: at, .. } =
            &source.kind
        {
            ui.note(format!("Its releases come from {}", address::shown(at)));
        }
    }
    ui.next(
        "To see its releases",
        &format!("vshelf catalog {}", definition.name),
    );
    Ok(())
}
