//! `vshelf carry`: bring packages along from one install to another.

use clap::Args;
use serde::Serialize;
use vshelf_core::Request;
use vshelf_core::packages::Package;
use vshelf_view::words::{Count, printable};
use vshelf_view::{Cell, Column, Palette, Table};

use crate::commands::{CommandArgs, print_json};
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::keeping::packages::{self, Carried};
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// Bring packages along from one install to another
///
/// The packages that you installed into one version are installed into another, in the same
/// versions, by the runtime's own package tool. What came with the build is left out, and what is
/// there already stays as it is. One that fails keeps no other from coming.
#[derive(Debug, Args)]
pub struct Carry {
    /// The version that has the packages
    #[arg(long, value_name = "SELECTOR")]
    from: String,
    /// The version that is to have them
    #[arg(long, value_name = "SELECTOR")]
    to: String,
    /// Only show what would be brought
    #[arg(long)]
    dry_run: bool,
    /// Show it as JSON
    #[arg(long)]
    json: bool,
}

/// What came of carrying packages, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The key of the install that had them.
    from: String,
    /// The key of the install that was to have them.
    to: String,
    /// The packages, in order of their names.
    packages: Vec<PackageReport>,
}

/// One package, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct PackageReport {
    /// Its name.
    name: String,
    /// Its version.
    version: Option<String>,
    /// What came of it.
    #[serde(flatten)]
    carried: Carried,
}

impl CommandArgs for Carry {
    const NAME: &'static str = "carry";
    const GROUP: &'static str = "Keep";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let (runtime, from) = find_install(context, &self.from)?;
        let (other, to) = find_install(context, &self.to)?;
        if runtime.name() != other.name() {
            let message = format!(
                "{} and {} are different runtimes",
                runtime.name(),
                other.name()
            );
            return Err(
                Failure::new(Kind::Usage, message).say("Packages of one are none of the other.")
            );
        }
        if from == to {
            let message = format!("{from} and {to} are the same install");
            return Err(Failure::new(Kind::Usage, message));
        }
        let mut carried = packages::plan(&runtime, &from, &to)?;
        if !self.dry_run {
            bring(ui, &runtime, &to, &mut carried)?;
        }
        if self.json {
            let packages = carried.iter().map(|(package, carried)| PackageReport {
                name: package.name.clone(),
                version: package.version.clone(),
                carried: carried.clone(),
            });
            let report = Report {
                from: from.clone(),
                to: to.clone(),
                packages: packages.collect(),
            };
            print_json(ui, &report)?;
        } else {
            show(ui, &runtime, &from, &to, &carried)?;
        }
        check(&runtime, &to, &carried)
    }
}

/// The runtime and the key of an install on the shelf.
pub fn find_install<'c>(
    context: &'c Context,
    selector: &str,
) -> Result<(Runtime<'c>, String), Failure> {
    let request: Request = selector.parse()?;
    let runtime = context.runtime_for(&request)?;
    let key = runtime.resolve_key(&request)?;
    match runtime.install(&key) {
        Some(_) => Ok((runtime, key)),
        None => Err(Failure::new(
            Kind::Refused,
            format!("{selector} is not an install on the shelf"),
        )),
    }
}

/// Brings the packages of one install into another, and shows what came of it.
pub fn carry(ui: &Ui, runtime: &Runtime<'_>, from: &str, to: &str) -> Outcome {
    let mut carried = packages::plan(runtime, from, to)?;
    bring(ui, runtime, to, &mut carried)?;
    show(ui, runtime, from, to, &carried)?;
    check(runtime, to, &carried)
}

/// Brings what is planned, and says which package it is at.
fn bring(ui: &Ui, runtime: &Runtime<'_>, to: &str, carried: &mut [(Package, Carried)]) -> Outcome {
    packages::bring(runtime, to, carried, |what| {
        ui.note(format!("Bringing {}.", printable(what)));
    })
}

/// Shows what came of it.
fn show(
    ui: &Ui,
    runtime: &Runtime<'_>,
    from: &str,
    to: &str,
    carried: &[(Package, Carried)],
) -> Outcome {
    let title = styled(Palette::STRONG, &runtime.definition.title);
    let count = Count(carried.len(), "package");
    if carried.is_empty() {
        return ui.result(format!("{title} {from} has no packages to carry."));
    }
    ui.result(format!("{title} {from} to {to}: {count}"))?;
    let columns = [
        Column::left("package"),
        Column::left("came of it"),
        Column::yielding("why"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for (package, carried) in carried {
        let (word, style, why) = match carried {
            Carried::Planned => ("would come", Palette::GOOD, String::new()),
            Carried::Came => ("came", Palette::GOOD, String::new()),
            Carried::There { version } => {
                let other = version.as_ref().filter(|_| *version != package.version);
                let why = other.map(|other| format!("as {other}")).unwrap_or_default();
                ("was there", Palette::QUIET, why)
            }
            Carried::Stays { from } => (
                "stays behind",
                Palette::WARNING,
                format!("it came from {from}"),
            ),
            Carried::Failed { why } => ("failed", Palette::ERROR, why.clone()),
        };
        let name = Cell::new(printable(&package.spelled()), Palette::STRONG);
        table.row(
            Palette::QUIET,
            [name, Cell::new(word, style), printable(&why).into()],
        );
    }
    ui.table(&table)
}

/// Fails where a package did not come, with the command to try again.
fn check(runtime: &Runtime<'_>, to: &str, carried: &[(Package, Carried)]) -> Outcome {
    let failed = |(package, carried): &(Package, Carried)| {
        matches!(carried, Carried::Failed { .. }).then(|| package.spelled())
    };
    let failed: Vec<String> = carried.iter().filter_map(failed).collect();
    if failed.is_empty() {
        return Ok(());
    }
    let message = format!("{} did not come", Count(failed.len(), "package"));
    let mut failure = Failure::new(Kind::Other, message);
    for command in packages::commands(runtime, to, &failed)? {
        failure = failure.run("To try again", command);
    }
    Err(failure)
}
