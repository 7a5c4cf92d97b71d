//! `vshelf label`: a person's own names for selectors.

use clap::Args;
use serde::Serialize;
use vshelf_core::Request;
use vshelf_core::near;
use vshelf_core::resolve::Scope;
use vshelf_core::selector::{KEYWORDS, is_name};
use vshelf_view::{Cell, Column, Palette, Table};

use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::following;
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// List, show or set your own names for selectors
///
/// A label can be typed wherever a selector can. One on a moving selector, such as lts, moves with
/// it; one on an exact version also keeps that install when the shelf is tidied.
#[derive(Debug, Args)]
pub struct Label {
    /// The label
    #[arg(value_name = "NAME")]
    name: Option<String>,
    /// What it stands for, as in 8.3.1 or lts
    #[arg(value_name = "SELECTOR")]
    selector: Option<String>,
    /// Forget this label
    #[arg(long, value_name = "NAME", conflicts_with_all = ["name", "selector", "json"])]
    drop: Option<String>,
    /// Show the list as JSON
    #[arg(long, conflicts_with_all = ["name", "selector"])]
    json: bool,
}

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

impl CommandArgs for Label {
    const NAME: &'static str = "label";
    const GROUP: &'static str = "Use";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        match (&self.drop, &self.name, &self.selector) {
            (Some(name), ..) => forget(ui, context, name),
            (None, Some(name), Some(selector)) => set(ui, context, name, selector),
            (None, name, _) => show(ui, context, name.as_deref(), self.json),
        }
    }
}

fn reports(runtime: &Runtime<'_>) -> Vec<Report> {
    runtime
        .state
        .labels
        .iter()
        .map(|(label, selector)| Report {
            runtime: runtime.name().to_owned(),
            label: label.clone(),
            selector: selector.clone(),
            key: runtime.key_of_label(selector),
        })
        .collect()
}

fn show(ui: &Ui, context: &Context, name: Option<&str>, json: bool) -> Outcome {
    let runtimes = context.shown_runtimes(None)?;
    let all: Vec<Report> = runtimes.iter().flat_map(reports).collect();
    if json {
        return super::print_json(ui, &all);
    }
    if let Some(name) = name {
        let Some(found) = all
            .iter()
            .find(|report| report.label.eq_ignore_ascii_case(name))
        else {
            return Err(unknown(name, &all));
        };
        return ui.result(match &found.key {
            Some(key) if *key == found.selector => {
                format!("{} stands for {key}, which is on the shelf.", found.label)
            }
            Some(key) => format!(
                "{} stands for {}, which is {key} on the shelf.",
                found.label, found.selector
            ),
            None => format!(
                "{} stands for {}, which is not on the shelf.",
                found.label, found.selector
            ),
        });
    }
    if all.is_empty() {
        ui.result("There are no labels.")?;
        ui.next("To set one", "vshelf label NAME SELECTOR");
        return Ok(());
    }
    let columns = [
        Column::left("label"),
        Column::left("stands for"),
        Column::left("on the shelf"),
        Column::left(if runtimes.len() > 1 { "runtime" } else { "" }),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for report in all {
        let runtime = if runtimes.len() > 1 {
            report.runtime
        } else {
            String::new()
        };
        table.row(
            Palette::QUIET,
            [
                Cell::new(report.label, Palette::STRONG),
                report.selector.into(),
                report.key.unwrap_or_else(|| "not there".to_owned()).into(),
                runtime.into(),
            ],
        );
    }
    ui.table(&table)
}

fn unknown(name: &str, all: &[Report]) -> Failure {
    let near = near::words(name, all.iter().map(|report| report.label.as_str()));
    Failure::new(Kind::NoMatch, format!("there is no label {name:?}"))
        .meant(&near)
        .run("To see the labels", "vshelf label")
}

fn forget(ui: &Ui, context: &Context, name: &str) -> Outcome {
    let runtimes = context.shown_runtimes(None)?;
    for runtime in &runtimes {
        let own = runtime
            .state
            .labels
            .keys()
            .find(|label| label.eq_ignore_ascii_case(name));
        if let Some(label) = own {
            runtime.shelf.change_state(|state| {
                state.labels.remove(label);
            })?;
            following::forget(runtime.context())?;
            return ui.result(format!(
                "The label {label} is gone; what it stood for stays."
            ));
        }
    }
    let all: Vec<Report> = runtimes.iter().flat_map(reports).collect();
    Err(unknown(name, &all))
}

fn set(ui: &Ui, context: &Context, name: &str, selector: &str) -> Outcome {
    let request: Request = selector.parse()?;
    let mut runtime = context.runtime_for(&request)?;
    refuse_taken(&runtime, name)?;
    let selector = super::default::kept_as(&request);
    let on_shelf = runtime.explain(&request, Scope::Shelf).outcome.is_ok();
    if !on_shelf {
        // A label may be set before its install is there, but not on what does not exist.
        runtime.load_catalog(false)?;
        runtime.resolve(&request, Scope::Published)?;
    }
    if selector.eq_ignore_ascii_case(name) {
        return Err(Failure::new(
            Kind::Refused,
            format!("the label {name:?} would lead back to itself"),
        ));
    }
    let before = runtime
        .state
        .labels
        .get(name)
        .filter(|before| **before != selector);
    let instead = before
        .map(|before| format!(", and no longer for {before}"))
        .unwrap_or_default();
    runtime.shelf.change_state(|state| {
        state.labels.insert(name.to_owned(), selector.clone());
    })?;
    following::forget(runtime.context())?;
    ui.result(format!(
        "{} stands for {selector} now{instead}.",
        styled(Palette::GOOD, name)
    ))?;
    match on_shelf {
        true => ui.next("To use it here", &format!("vshelf switch {name}")),
        false => ui.next(
            "It is not on the shelf yet; to install it",
            &format!("vshelf install {name}"),
        ),
    }
    Ok(())
}

/// A label may not hide a version, a keyword, a channel, a code name or a runtime.
fn refuse_taken(runtime: &Runtime<'_>, name: &str) -> Outcome {
    let taken = |by: &str| {
        Err(Failure::new(
            Kind::Refused,
            format!("{name:?} is {by}, and a label would hide it"),
        )
        .say("Choose another name."))
    };
    if !is_name(name) {
        return Err(Failure::new(Kind::Usage, format!("{name:?} is not a name"))
            .say("A label has letters, digits, '.', '_' and '-', and begins with a letter."));
    }
    let catalog = runtime.outline();
    match () {
        () if KEYWORDS.iter().any(|word| word.eq_ignore_ascii_case(name)) => {
            taken("a word of its own")
        }
        () if name
            .strip_prefix(['v', 'V'])
            .is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit())) =>
        {
            taken("a version")
        }
        () if catalog.channel(name).is_some() => taken("a channel"),
        () if catalog.line_named(name).is_some() => taken("a code name"),
        () => Ok(()),
    }
}

impl Runtime<'_> {
    /// The key on the shelf that a label's selector stands for.
    pub fn key_of_label(&self, selector: &str) -> Option<String> {
        self.key_meeting(&selector.parse().ok()?)
    }
}
