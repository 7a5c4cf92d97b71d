//! `vshelf checkup`: is everything on the shelf sound? Each finding with its mend.

use std::fs;
use std::io;
use std::path::Path;

use clap::Args;
use jiff::tz::TimeZone;
use serde::Serialize;
use vshelf_core::Request;
use vshelf_core::resolve::Scope;
use vshelf_shelf::receipt::Adopted;
use vshelf_shelf::shelf::program_in;
use vshelf_shelf::staging::bytes_in;
use vshelf_shelf::{Install, Shelf, probe};
use vshelf_shell::hook;
use vshelf_shell::start_up::{self, Connection};
use vshelf_view::Palette;
use vshelf_view::words::{Count, ago, megabytes, printable};

use crate::activity::Activity;
use crate::commands::setup::{own_shell, read_or_empty, start_up_file};
use crate::commands::{CommandArgs, print_json};
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome, file_failure, quoted, shown};
use crate::first_start;
use crate::hooks;
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// The bytes that a large install needs, downloaded and unpacked.
const ROOM: u64 = 500_000_000;

/// The age in days from which a catalog that cannot be renewed is a finding.
const OLD_CATALOG: i32 = 30;

/// How many changed files of one install are named.
const MOST_NAMED: usize = 5;

/// Check that everything is connected and sound
///
/// The shell and its start-up file; what is on PATH; what the default, the labels and the project
/// here stand for; the sources; the disk. Of installs, every file is compared with what was unpacked,
/// and every program is started once; files that came later, such as packages, are no finding. Each
/// finding comes with its mend. Ends with 1 where something is wrong.
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
            // A script may well run in a shell that is not connected.
            report.look_at_shell(context, ui.can_ask())?;
            for name in Shelf::runtimes(context.folders()?)? {
                let mut runtime = context.runtime(Some(&name))?;
                for install in &runtime.installs {
                    report.look_at(&runtime, install)?;
                }
                report.look_at_choices(&runtime)?;
                report.look_at_activity(&runtime)?;
                report.look_at_folders(&runtime)?;
                report.look_at_sources(&mut runtime);
            }
            report.look_at_leftovers(context)?;
            report.look_at_disk(context)?;
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
                .map_err(|error| file_failure(&install.folder, "read", error))?;
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
            self.add(
                format!("the default of {title}"),
                format!("{default} stands for nothing on the shelf"),
                Some(format!("vshelf default {prefix}SELECTOR")),
            );
        }
        for (label, selector) in &runtime.state.labels {
            if runtime.key_of_label(selector).is_none() {
                self.add(
                    format!("the label {label} of {title}"),
                    format!("{selector} stands for nothing on the shelf"),
                    Some(format!("vshelf install {prefix}{selector}")),
                );
            }
        }
        Ok(())
    }

    fn add(&mut self, about: impl Into<String>, problem: String, mend: Option<String>) {
        self.findings.push(Finding {
            about: about.into(),
            problem,
            details: Vec::new(),
            mend,
        });
    }

    /// Whether new shells are connected, and this one.
    fn look_at_shell(&mut self, context: &Context, asked_by_person: bool) -> Result<(), Failure> {
        let Ok(dialect) = own_shell() else {
            // A shell that cannot be connected is no mistake.
            return Ok(());
        };
        let file = start_up_file(dialect)?;
        let hook = hooks::hook_path(context, dialect)?;
        let text = read_or_empty(&file)?;
        let setup = || Some("vshelf setup".to_owned());
        let problem = match start_up::connection(&text, dialect, &hook) {
            Connection::Right => None,
            Connection::Absent => Some("does not connect new shells to the shelf"),
            Connection::Other => Some("sources another hook, or its block was changed by hand"),
            Connection::Doubled => Some("has the block of the shelf more than once"),
            Connection::Unfinished => Some("has a block of the shelf without its end"),
        };
        if let Some(problem) = problem {
            self.add(shown(&file), problem.to_owned(), setup());
            return Ok(());
        }
        let functions = hooks::functions_path(context, dialect)?;
        let written = |file: &Path, text: String| Ok::<_, Failure>(read_or_empty(file)? == text);
        if !hook.exists() || functions.as_deref().is_some_and(|file| !file.exists()) {
            self.add(
                shown(&hook),
                "is gone, and new shells know nothing of the shelf".to_owned(),
                setup(),
            );
        } else if !written(&hook, hooks::hook_text(context, dialect)?)?
            || !(functions.as_deref()).map_or(Ok(true), |file| {
                written(file, hook::render_functions(dialect))
            })?
        {
            self.add(
                shown(&hook),
                "is of another version of this program".to_owned(),
                setup(),
            );
        } else if context.shell.dialect().is_none() && asked_by_person {
            let line = hooks::source_line(context, dialect)?;
            self.add(
                "this shell",
                "was opened before it was connected".to_owned(),
                Some(line),
            );
        }
        Ok(())
    }

    /// Whether what should be active answers, and what the project here wants is there.
    fn look_at_activity(&mut self, runtime: &Runtime<'_>) -> Result<(), Failure> {
        let activity = Activity::of(runtime);
        let title = &runtime.definition.title;
        if let Some(failure) = &activity.pin_failure {
            self.add(
                "the project here",
                failure.message.clone(),
                Some("vshelf pin SELECTOR".to_owned()),
            );
        }
        if let Some(pin) = activity.pin().filter(|pin| pin.met_by.is_none()) {
            let problem = format!("wants {title} {}, which is not on the shelf", pin.wanted);
            self.add(
                "the project here",
                problem,
                Some("vshelf install".to_owned()),
            );
        }
        // What answers in a shell that is not connected says nothing of those that are.
        if runtime.context().shell.dialect().is_some()
            && let (Some(copy), Some(wanted)) = (activity.copies.first(), activity.active_key())
            && activity.differs()
        {
            let problem = format!(
                "{} is first on PATH, and {wanted} should be; something behind the shelf's block in the start-up file puts it there",
                shown(&copy.program)
            );
            let file = own_shell()
                .and_then(start_up_file)
                .map(|file| quoted(&file));
            let mend = file.ok().map(|file| format!("${{EDITOR:-vi}} {file}"));
            self.add(title.clone(), problem, mend);
        }
        Ok(())
    }

    /// Whether every folder among the installs is one.
    fn look_at_folders(&mut self, runtime: &Runtime<'_>) -> Result<(), Failure> {
        let folder = runtime.shelf.install_folder("");
        let unread = |error| file_failure(&folder, "read", error);
        let entries = match fs::read_dir(&folder) {
            Ok(entries) => entries,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(()),
            Err(error) => return Err(unread(error)),
        };
        for entry in entries {
            let path = entry.map_err(unread)?.path();
            let name = path.file_name().unwrap_or_default().to_string_lossy();
            if runtime.install(&name).is_none() {
                let problem = "has no receipt, so it is no install".to_owned();
                self.add(
                    shown(&path),
                    problem,
                    Some(format!("rm -r {}", quoted(&path))),
                );
            }
        }
        Ok(())
    }

    /// Whether some source answers, and how old what is known is.
    fn look_at_sources(&mut self, runtime: &mut Runtime<'_>) {
        let title = runtime.definition.title.clone();
        let again = Some(format!("vshelf catalog {}@ --refresh", runtime.name()));
        let (today, offline) = (runtime.today, runtime.context().transport.is_offline());
        match runtime.load_catalog(!offline) {
            Ok(loaded) => {
                let known = loaded.origin.confirmed.to_zoned(TimeZone::UTC).date();
                let age = format!("what is known is from {}", ago(known, today));
                match loaded.origin.not_renewed.clone() {
                    Some(reason) => {
                        let problem = format!("no source answers: {reason}; {age}");
                        self.add(format!("the catalog of {title}"), problem, again);
                    }
                    None if (today - known).get_days() > OLD_CATALOG => {
                        self.add(format!("the catalog of {title}"), age, again);
                    }
                    None => {}
                }
            }
            Err(failure) => {
                let problem = format!("there is none: {}", failure.message);
                self.add(format!("the catalog of {title}"), problem, again);
            }
        }
    }

    /// Whether commands that died left something behind.
    fn look_at_leftovers(&mut self, context: &Context) -> Result<(), Failure> {
        let folders = context.folders()?;
        let leftovers = Shelf::leftovers(folders)?;
        let bytes = leftovers.iter().try_fold(0, |sum, leftover| {
            let folder = leftover.folder();
            let bytes = bytes_in(folder).map_err(|error| file_failure(folder, "read", error))?;
            Ok::<_, Failure>(sum + bytes)
        })?;
        if !leftovers.is_empty() {
            let commands = Count(leftovers.len(), "unfinished command");
            let problem = format!("holds {} of {commands}", megabytes(bytes));
            let staging = Shelf::staging(folders);
            self.add(shown(&staging), problem, Some("vshelf tidy".to_owned()));
        }
        Ok(())
    }

    /// Whether there is room for another install.
    fn look_at_disk(&mut self, context: &Context) -> Result<(), Failure> {
        let folder = &context.folders()?.data;
        let Ok(disk) = rustix::fs::statvfs(folder) else {
            // A shelf that does not exist yet is on no disk.
            return Ok(());
        };
        let free = disk.f_bavail * disk.f_frsize;
        if free < ROOM {
            let problem = format!("only {} are free on its disk", megabytes(free));
            self.add(shown(folder), problem, Some("vshelf list".to_owned()));
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
            let text = format!("{count} looked at: all is well.");
            ui.result(styled(Palette::GOOD, text))?;
        }
        Ok(())
    }
}
