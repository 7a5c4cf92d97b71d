//! `vshelf runtimes`: the definitions that are known.

use std::fs;

use clap::Args;
use serde::Serialize;
use toml_edit::{ArrayOfTables, DocumentMut, TomlError};
use vshelf_core::Definition;
use vshelf_core::definition::SourceKind;
use vshelf_shelf::{Shelf, atomic};
use vshelf_sources::Address;
use vshelf_sources::transport::{Document, Validators};
use vshelf_view::{Cell, Column, Palette, Table};

use crate::commands::CommandArgs;
use crate::context::Context;
use crate::definitions;
use crate::failure::file_failure;
use crate::failure::{Failure, Kind, Outcome};
use crate::ui::Ui;

/// List the runtimes that are known, or add one
///
/// A runtime is known by a small TOML file, its definition. Some are built in; your own stand in
/// the config folder and go before those.
#[derive(Debug, Args)]
pub struct Runtimes {
    /// Add or replace a runtime by the definition at this URL or path
    #[arg(long, value_name = "FILE")]
    add: Option<String>,
    /// Forget your own definition of this runtime; its installs stay
    #[arg(long, value_name = "NAME", conflicts_with = "add")]
    drop: Option<String>,
    /// Show the list as JSON
    #[arg(long, conflicts_with_all = ["add", "drop"])]
    json: bool,
}

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
    /// The names of its sources.
    sources: Vec<String>,
    /// How many installs are on the shelf.
    installs: usize,
}

impl CommandArgs for Runtimes {
    const NAME: &'static str = "runtimes";
    const GROUP: &'static str = "Connect";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        match (&self.add, &self.drop) {
            (Some(place), _) => add(ui, context, place),
            (None, Some(name)) => forget(ui, context, name),
            (None, None) => show(ui, context, self.json),
        }
    }
}

fn show(ui: &Ui, context: &Context, json: bool) -> Outcome {
    let folders = context.folders()?;
    let own = definitions::own_names(&folders.config)?;
    let reports = definitions::names(&folders.config)?
        .into_iter()
        .map(|name| {
            let definition = context.definition(&name)?;
            Ok(Report {
                built_in: !own.contains(&name),
                installs: Shelf::new(folders, &name).installs()?.len(),
                sources: definition.sources.iter().map(|s| s.name.clone()).collect(),
                title: definition.title,
                program: definition.program,
                name,
            })
        })
        .collect::<Result<Vec<_>, Failure>>()?;
    if json {
        return super::print_json(ui, &reports);
    }
    let columns = [
        Column::left("runtime"),
        Column::left("title"),
        Column::left("defined"),
        Column::right("installs"),
        Column::yielding("sources"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for report in reports {
        table.row(
            Palette::QUIET,
            [
                Cell::new(report.name, Palette::STRONG),
                report.title.into(),
                if report.built_in {
                    "built in"
                } else {
                    "by you"
                }
                .into(),
                report.installs.to_string().into(),
                report.sources.join(", ").into(),
            ],
        );
    }
    ui.table(&table)
}

fn add(ui: &Ui, context: &Context, place: &str) -> Outcome {
    let address = Address::read(place);
    let Document::Body { bytes, .. } =
        context
            .transport
            .document(&address, &Validators::default(), None)?
    else {
        return Err(Failure::new(
            Kind::Source,
            format!("{address} gives nothing"),
        ));
    };
    let no_definition = |error: String| {
        let message = format!("{address} is no definition of a runtime: {error}");
        Failure::new(Kind::Source, message)
    };
    let text = beside(&String::from_utf8_lossy(&bytes), &address).map_err(no_definition)?;
    let definition = Definition::read(&text).map_err(|error| no_definition(error.to_string()))?;
    let file = definitions::file(&context.folders()?.config, &definition.name);
    atomic::write_file(&file, text.as_bytes()).map_err(|e| file_failure(&file, "written", e))?;
    ui.result(format!(
        "{} is known now, by {}",
        definition.title,
        file.display()
    ))?;
    for source in &definition.sources {
        if let SourceKind::Catalog { address, .. } = &source.kind {
            ui.note(format!("Its releases come from {address}"));
        }
    }
    ui.next(
        "To see its releases",
        &format!("vshelf catalog {}@", definition.name),
    );
    Ok(())
}

/// The definition's text as it holds in another place: a catalog named by a path alone lies beside
/// the definition, as in a mirror on a stick or server.
fn beside(text: &str, place: &Address) -> Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|e: TomlError| e.to_string())?;
    let place = match place {
        Address::File(path) => {
            Address::File(std::path::absolute(path).map_err(|error| error.to_string())?)
        }
        web => web.clone(),
    };
    let sources = document.get_mut("sources");
    let sources = sources.and_then(|sources| sources.as_array_of_tables_mut());
    for source in sources.into_iter().flat_map(ArrayOfTables::iter_mut) {
        let is_catalog = source.get("kind").and_then(|kind| kind.as_str()) == Some("catalog");
        if let Some(address) = source.get_mut("address").filter(|_| is_catalog)
            && let Some(written) = address.as_str()
        {
            *address = toml_edit::value(place.join(written).to_string());
        }
    }
    Ok(document.to_string())
}

fn forget(ui: &Ui, context: &Context, name: &str) -> Outcome {
    let config = &context.folders()?.config;
    if !definitions::own_names(config)?
        .iter()
        .any(|own| own == name)
    {
        return Err(
            Failure::new(Kind::NoMatch, format!("you have no definition of {name:?}"))
                .run("To see the runtimes", "vshelf runtimes"),
        );
    }
    let file = definitions::file(config, name);
    fs::remove_file(&file).map_err(|e| file_failure(&file, "removed", e))?;
    ui.result(format!(
        "Your definition of {name} is gone; its installs stay on the shelf."
    ))
}
