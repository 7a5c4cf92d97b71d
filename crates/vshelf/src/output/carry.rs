//! What carrying packages resulted in, as JSON.

use serde::Serialize;
use vshelf_app::outcome::{CarryOutcome, CarryReport};

use super::json;
use crate::failure::Outcome;
use crate::ui::Ui;

/// What carrying packages resulted in, as JSON.
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
    /// What it resulted in.
    #[serde(flatten)]
    carried: Carried,
}

/// What carrying one package resulted in, as JSON.
#[derive(Debug, Serialize)]
#[serde(tag = "outcome", rename_all = "kebab-case")]
#[cfg_attr(test, derive(schemars::JsonSchema))]
enum Carried {
    /// It would be installed.
    Planned,
    /// It was installed.
    Installed,
    /// It was there already.
    AlreadyThere {
        /// The version that is there, where the tool tells it.
        present: Option<String>,
    },
    /// It is from no registry, and is left out.
    LeftOut {
        /// The folder or address that it came from.
        origin: String,
    },
    /// It could not be installed.
    Failed {
        /// What the tool said.
        why: String,
    },
}

impl From<&CarryOutcome> for Carried {
    fn from(outcome: &CarryOutcome) -> Carried {
        match outcome.clone() {
            CarryOutcome::Planned => Carried::Planned,
            CarryOutcome::Installed => Carried::Installed,
            CarryOutcome::AlreadyThere { version } => Carried::AlreadyThere { present: version },
            CarryOutcome::FromElsewhere { from } => Carried::LeftOut { origin: from },
            CarryOutcome::Failed { why } => Carried::Failed { why },
        }
    }
}

/// Prints the report as JSON.
pub fn print(ui: &Ui, report: &CarryReport) -> Outcome {
    let packages = report
        .packages
        .iter()
        .map(|(package, outcome)| PackageReport {
            name: package.name.clone(),
            version: package.version.clone(),
            carried: outcome.into(),
        });
    let report = Report {
        from: report.from.selector(),
        to: report.to.selector(),
        packages: packages.collect(),
    };
    json::print(ui, &report)
}
