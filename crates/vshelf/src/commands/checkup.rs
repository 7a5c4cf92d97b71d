//! `vshelf checkup`: is everything on the shelf sound? Each finding with its mend.

use std::path::Path;

use clap::Args;
use serde::Serialize;
use vshelf_core::Request;
use vshelf_core::resolve::Scope;
use vshelf_shelf::receipt::Adopted;
use vshelf_shelf::shelf::program_in;
use vshelf_shelf::{Install, Shelf, probe};
use vshelf_view::Palette;
use vshelf_view::words::{Count, printable};

use crate::commands::{CommandArgs, print_json};
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome, shown};
use crate::first_start;
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// How many changed files of one install are named.
const MOST_NAMED: usize = 5;

/// Check that installs are whole and start, and that the default and labels stand for something
///
/// Every file is compared with what was unpacked, and every program is started once. Files that
/// came later, such as packages, are no finding. Ends with 1 where something is wrong.
#[derive(Debug, Args)]
pub struct Checkup {
    /// Only these installs, as in 8 or lts; nothing is all on the shelf
    #[arg(value_name = "SELECTOR")]
    selectors: Vec<String>,
    /// As JSON, for programs
    #[arg(long)]
    json: bool,
}

/// What a checkup found, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// How many installs were looked at.
    installs: usize,
    /// What is wrong.
    findings: Vec<Finding>,
}

/// Something that is wrong.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Finding {
    /// What it is wrong with.
    about: String,
    /// What is wrong.
    problem: String,
    /// More of it, a line each.
    details: Vec<String>,
    /// The command that mends it.
    mend: Option<String>,
}

impl CommandArgs for Checkup {
    const NAME: &'static str = "checkup";
    const GROUP: &'static str = "See";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let mut report = Report {
            installs: 0,
            findings: Vec::new(),
        };
        if self.selectors.is_empty() {
            for name in Shelf::runtimes(context.folders()?)? {
                let runtime = context.runtime(Some(&name))?;
                for install in &runtime.installs {
                    report.look_at(&runtime, install)?;
                }
                report.look_at_choices(&runtime)?;
            }
        }
        for selector in &self.selectors {
            let request: Request = selector.parse()?;
            let runtime = context.runtime_for(&request)?;
            for candidate in runtime.covered(&request, Scope::Shelf)? {
                let shelved = candidate.install.map(|shelved| shelved.key.as_str());
                if let Some(install) = shelved.and_then(|key| runtime.install(key)) {
                    report.look_at(&runtime, install)?;
                }
            }
        }
        report.show(ui, self.json)?;
        match report.findings.len() {
            0 => Ok(()),
            count => Err(Failure::new(
                Kind::Other,
                format!("the checkup has {}", Count(count, "finding")),
            )),
        }
    }
}

impl Report {
    /// Whether an install is as it was unpacked, and starts.
    fn look_at(&mut self, runtime: &Runtime<'_>, install: &Install) -> Result<(), Failure> {
        self.installs += 1;
        let (definition, context) = (&runtime.definition, runtime.context());
        let prefix = context.prefix(runtime.name())?;
        let spelled = runtime.spelled(&install.shelved);
        let selector = format!("{prefix}{spelled}");
        let about = format!("{} {spelled}", definition.title);
        let receipt = &install.receipt.contents;
        let mend = match receipt.adopted {
            None => format!("vshelf install --anew {selector}"),
            Some(_) => format!("vshelf remove --even-if-used {selector}"),
        };
        let mut add = |problem: String, details: Vec<String>, mend: Option<String>| {
            self.findings.push(Finding {
                about: about.clone(),
                problem,
                details,
                mend,
            });
        };
        if receipt.adopted == Some(Adopted::Linked) && !install.folder.exists() {
            let target = Path::new(&receipt.address);
            add(
                format!("{} is gone, which it is a link to", shown(target)),
                Vec::new(),
                Some(mend),
            );
            return Ok(());
        }
        if let Some(manifest) = runtime.shelf.manifest(&install.shelved.key)? {
            let differences = manifest
                .compare(&install.folder)
                .map_err(|error| crate::failure::file_failure(&install.folder, "read", error))?;
            if !differences.is_empty() {
                let (changed, all) = (differences.len(), manifest.files());
                let problem = format!("{changed} of {all} files are not as they were unpacked");
                let named = differences.iter().take(MOST_NAMED).map(|difference| {
                    let path = printable(&difference.path.to_string_lossy());
                    format!("{path} {}", difference.change.in_words())
                });
                let more = differences.len().saturating_sub(MOST_NAMED);
                let more = (more > 0).then(|| format!("and {more} more"));
                add(problem, named.chain(more).collect(), Some(mend.clone()));
            }
        }
        let program = program_in(&install.folder, definition);
        if let Err(error) = probe::ask(&program, &definition.probe.arguments) {
            add(
                format!("does not start: {}", first_start::reason(&error)),
                Vec::new(),
                first_start::mend(&error, mend),
            );
        }
        Ok(())
    }

    /// Whether the default and the labels stand for something on the shelf.
    fn look_at_choices(&mut self, runtime: &Runtime<'_>) -> Result<(), Failure> {
        let prefix = runtime.context().prefix(runtime.name())?;
        let title = &runtime.definition.title;
        if let Some(default) = &runtime.state.default
            && runtime.default_key().is_none()
        {
            self.findings.push(Finding {
                about: format!("the default of {title}"),
                problem: format!("{default} stands for nothing on the shelf"),
                details: Vec::new(),
                mend: Some(format!("vshelf default {prefix}SELECTOR")),
            });
        }
        for (label, selector) in &runtime.state.labels {
            if runtime.key_of_label(selector).is_none() {
                self.findings.push(Finding {
                    about: format!("the label {label} of {title}"),
                    problem: format!("{selector} stands for nothing on the shelf"),
                    details: Vec::new(),
                    mend: Some(format!("vshelf install {prefix}{selector}")),
                });
            }
        }
        Ok(())
    }

    fn show(&self, ui: &Ui, json: bool) -> Outcome {
        if json {
            return print_json(ui, self);
        }
        for finding in &self.findings {
            let about = styled(Palette::STRONG, &finding.about);
            let problem = styled(Palette::WARNING, printable(&finding.problem));
            ui.result(format!("{about}: {problem}"))?;
            for detail in &finding.details {
                ui.result(format!("  {detail}"))?;
            }
            if let Some(mend) = &finding.mend {
                ui.result(format!("  To mend it: {}", styled(Palette::COMMAND, mend)))?;
            }
        }
        if self.findings.is_empty() {
            let count = Count(self.installs, "install");
            ui.result(styled(
                Palette::GOOD,
                format!("{count} looked at: all is well."),
            ))?;
        }
        Ok(())
    }
}
