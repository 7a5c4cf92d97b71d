//! `vshelf tidy`: clear away what is outdated.

use clap::Args;
use jiff::civil::Date;
use serde::Serialize;
use vshelf_core::Request;
use vshelf_core::resolve::Scope;
use vshelf_core::tidy::{Entry, Verdict};
use vshelf_shelf::journal::{self, Deed};
use vshelf_shelf::shelf::Running;
use vshelf_view::words::{Count, ago, listed, megabytes};
use vshelf_view::{Cell, Column, Palette, Table};

use crate::commands::{CommandArgs, print_json};
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome, file_failure};
use crate::keeping::record::Done;
use crate::keeping::removal;
use crate::keeping::tidying::{
    self, Leaving, LeavingKind, Surroundings, Wishes, protection_in_words, reason_in_words,
};
use crate::marks::{phase_cell, spine};
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// Clear away what is outdated
///
/// Outdated is what a newer release of its line replaces, what is of an ended line or was withdrawn,
/// and a pre-release whose final release is there; `vshelf config` shows the policy. What is the
/// default, active in a shell, running, labelled, kept or wanted by a project seen on this machine
/// stays. The plan is shown first, and carried out when you say yes; `vshelf restore` undoes it.
#[derive(Debug, Args)]
pub struct Tidy {
    /// Only this runtime
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
    /// Only installs of this line, as in 6; may be repeated
    #[arg(long, value_name = "LINE")]
    line: Vec<String>,
    /// Remove these too, outdated or not; may be repeated
    #[arg(long, value_name = "SELECTOR")]
    include: Vec<String>,
    /// Leave these out this time; may be repeated
    #[arg(long, value_name = "SELECTOR")]
    except: Vec<String>,
    /// Never let these be cleared away, until --let-go; nothing is removed now
    #[arg(long, value_name = "SELECTOR")]
    keep: Vec<String>,
    /// Take back a --keep; nothing is removed now
    #[arg(long, value_name = "SELECTOR")]
    let_go: Vec<String>,
    /// Only show the plan
    #[arg(long)]
    dry_run: bool,
    /// Show the plan for this day: what will be outdated by then?
    #[arg(long, value_name = "DATE")]
    as_of: Option<Date>,
    /// Carry the plan out without asking
    #[arg(long, conflicts_with_all = ["dry_run", "as_of"])]
    yes: bool,
    /// Show it as JSON; nothing is asked
    #[arg(long)]
    json: bool,
}

/// The plan of a clean-up, and what came of it, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// What is on the shelf.
    installs: Vec<InstallReport>,
    /// What commands left behind.
    left_behind: Vec<LeavingReport>,
    /// The bytes that the plan sets free.
    frees: u64,
    /// The bytes that are free again; none where the plan was not carried out.
    freed: Option<u64>,
    /// What could not be removed, and why.
    failures: Vec<String>,
}

/// What the plan says of an install, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct InstallReport {
    /// The runtime's name.
    runtime: String,
    /// The key on the shelf.
    key: String,
    /// `remove`, `renew` or `keep`.
    #[cfg_attr(test, schemars(with = "String"))]
    verdict: Verdict,
    /// What speaks against it, each with its `reason`.
    #[cfg_attr(test, schemars(with = "Vec<serde_json::Value>"))]
    reasons: Vec<vshelf_core::tidy::Reason>,
    /// What keeps it, each with `kept-by`.
    #[cfg_attr(test, schemars(with = "Vec<serde_json::Value>"))]
    protections: Vec<vshelf_core::tidy::Protection>,
    /// The bytes of its files, as they were unpacked.
    size: u64,
    /// The day of its last use, or of its installation.
    #[cfg_attr(test, schemars(with = "String"))]
    used: Date,
    /// What came out since in its line and is not on the shelf.
    #[cfg_attr(test, schemars(with = "Option<crate::commands::schemas::NewerSchema>"))]
    newer: Option<vshelf_core::outlook::Newer>,
}

/// Something that commands left behind, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct LeavingReport {
    /// `unfinished-command`, `partial-download` or `unknown-catalog`.
    #[cfg_attr(test, schemars(with = "String"))]
    kind: LeavingKind,
    /// Its bytes.
    size: u64,
}

impl CommandArgs for Tidy {
    const NAME: &'static str = "tidy";
    const GROUP: &'static str = "Keep";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        if !self.keep.is_empty() || !self.let_go.is_empty() {
            mark(ui, context, &self.keep, true)?;
            return mark(ui, context, &self.let_go, false);
        }
        let mut runtimes = context.shown_runtimes(self.runtime.as_deref())?;
        for runtime in &mut runtimes {
            runtime.today = self.as_of.unwrap_or(runtime.today);
        }
        let surroundings = Surroundings::look(context)?;
        let mut plans = Vec::new();
        for runtime in &runtimes {
            let wishes = Wishes {
                include: keys_of(context, runtime, &self.include)?,
                except: keys_of(context, runtime, &self.except)?,
            };
            let mut plan = tidying::plan(runtime, &surroundings, &wishes)?;
            plan.retain(|entry| self.is_of_lines(runtime, entry));
            plans.push((runtime, plan));
        }
        self.check_lines(&plans)?;
        // What was left behind belongs to no line and to no runtime.
        let leavings = match self.line.is_empty() && self.runtime.is_none() {
            true => tidying::leavings(context)?,
            false => Vec::new(),
        };
        let mut report = report(&plans, &leavings);
        if !self.json {
            show(ui, &plans, &leavings, report.frees)?;
        }
        if self.is_agreed(ui, &report)? {
            self.carry_out(ui, context, &plans, leavings, &mut report)?;
        }
        if self.json {
            print_json(ui, &report)?;
        }
        match report.failures.len() {
            0 => Ok(()),
            count => {
                let message = format!("{} could not be removed", Count(count, "install"));
                Err(Failure::new(Kind::Other, message))
            }
        }
    }
}

impl Tidy {
    fn is_of_lines(&self, runtime: &Runtime<'_>, entry: &Entry<'_>) -> bool {
        self.line.is_empty()
            || self
                .line
                .iter()
                .any(|name| is_of_line(runtime, entry, name))
    }

    /// A line that is misspelled must not look as if all were tidy.
    fn check_lines(&self, plans: &[(&Runtime<'_>, Vec<Entry<'_>>)]) -> Outcome {
        let is_there = |name: &&String| {
            let mut plans = plans.iter();
            plans.any(|(runtime, plan)| plan.iter().any(|entry| is_of_line(runtime, entry, name)))
        };
        match self.line.iter().find(|name| !is_there(name)) {
            None => Ok(()),
            Some(name) => {
                let message = format!("nothing on the shelf is of a line {name:?}");
                Err(Failure::new(Kind::NoMatch, message).run("To see what is", "vshelf list"))
            }
        }
    }

    /// Whether the plan is to be carried out.
    fn is_agreed(&self, ui: &Ui, report: &Report) -> Result<bool, Failure> {
        let goes = report
            .installs
            .iter()
            .filter(|install| install.verdict == Verdict::Remove);
        let (goes, left) = (goes.count(), report.left_behind.len());
        let only_shown = self.dry_run || self.as_of.is_some();
        if only_shown || goes + left == 0 {
            return Ok(false);
        }
        if self.yes {
            return Ok(true);
        }
        if self.json || !ui.can_ask() {
            ui.next("To carry it out", "vshelf tidy --yes");
            return Ok(false);
        }
        let what = match (goes, left) {
            (0, _) => "what was left behind".to_owned(),
            (goes, 0) => Count(goes, "install").to_string(),
            (goes, _) => format!("{} and what was left behind", Count(goes, "install")),
        };
        let agreed = ui.ask(&format!("Remove {what}?"))?;
        if !agreed {
            ui.note("Nothing was removed.");
        }
        Ok(agreed)
    }

    fn carry_out(
        &self,
        ui: &Ui,
        context: &Context,
        plans: &[(&Runtime<'_>, Vec<Entry<'_>>)],
        leavings: Vec<Leaving>,
        report: &mut Report,
    ) -> Outcome {
        let mut freed = 0;
        for (runtime, plan) in plans {
            for entry in plan.iter().filter(|entry| entry.verdict == Verdict::Remove) {
                let called = runtime.called(entry.install);
                match remove_still_outdated(ui, runtime, entry) {
                    Ok(bytes) => {
                        freed += bytes;
                        if !self.json {
                            let called = styled(Palette::STRONG, called);
                            ui.result(format!("{called} is off the shelf."))?;
                        }
                    }
                    Err(failure) => {
                        report.failures.push(failure.message.clone());
                        ui.failure(&failure);
                    }
                }
            }
        }
        for leaving in leavings {
            match leaving.delete() {
                Ok(bytes) => freed += bytes,
                Err(failure) => ui.failure(&failure),
            }
        }
        let folders = context.folders()?;
        journal::forget_gone_projects(folders)
            .map_err(|error| file_failure(&folders.data, "written", error))?;
        report.freed = Some(freed);
        if !self.json {
            ui.result(format!("{} are free again.", megabytes(freed)))?;
            let mut entries = plans.iter().flat_map(|(_, plan)| plan);
            if entries.any(|entry| entry.verdict == Verdict::Remove) {
                ui.next("To get the installs back", "vshelf restore");
            }
        }
        Ok(())
    }
}

fn is_of_line(runtime: &Runtime<'_>, entry: &Entry<'_>, name: &str) -> bool {
    let line = runtime.outline().line_of(&entry.install.version);
    line.is_some_and(|line| line.name == name)
}

/// Removes what the plan removes, unless something came to keep it since the plan was made.
fn remove_still_outdated(
    ui: &Ui,
    runtime: &Runtime<'_>,
    entry: &Entry<'_>,
) -> Result<u64, Failure> {
    let context = runtime.context();
    let mut now = Runtime::open(context, runtime.definition.clone())?;
    now.today = runtime.today;
    let wishes = Wishes {
        include: vec![entry.install.key.clone()],
        except: Vec::new(),
    };
    let plan = tidying::plan(&now, &Surroundings::look(context)?, &wishes)?;
    let kept = plan.iter().find(|now| now.install == entry.install);
    if let Some(protection) = kept.and_then(|now| now.protections.first()) {
        let (called, why) = (
            runtime.called(entry.install),
            protection_in_words(protection),
        );
        return Err(Failure::new(
            Kind::Refused,
            format!("{called} stays: it is kept now ({why})"),
        ));
    }
    let reasons = entry
        .reasons
        .iter()
        .map(|reason| reason_in_words(reason, runtime));
    let done = Done {
        deed: Deed::Tidied,
        reasons: reasons.collect(),
    };
    removal::take_off(ui, &now, &entry.install.key, done, Running::Spared)
}

/// The keys of this runtime that selectors cover on the shelf.
fn keys_of(
    context: &Context,
    runtime: &Runtime<'_>,
    selectors: &[String],
) -> Result<Vec<String>, Failure> {
    let mut keys = Vec::new();
    for selector in selectors {
        let request: Request = selector.parse()?;
        if context.runtime_for(&request)?.name() != runtime.name() {
            continue;
        }
        let covered = runtime.covered(&request, Scope::Shelf)?;
        let before = keys.len();
        keys.extend((covered.iter()).filter_map(|candidate| Some(candidate.install?.key.clone())));
        if keys.len() == before {
            let message = format!("{selector} is not an install on the shelf");
            return Err(Failure::new(Kind::NoMatch, message).run("To see what is", "vshelf list"));
        }
    }
    Ok(keys)
}

/// Marks installs as kept, or not any more.
fn mark(ui: &Ui, context: &Context, selectors: &[String], keep: bool) -> Outcome {
    for selector in selectors {
        let request: Request = selector.parse()?;
        let runtime = context.runtime_for(&request)?;
        let keys = keys_of(context, &runtime, std::slice::from_ref(selector))?;
        runtime.shelf.change_state(|state| {
            for key in &keys {
                match keep {
                    true => state.kept.insert(key.clone()),
                    false => state.kept.remove(key),
                };
            }
        })?;
        let (title, names) = (&runtime.definition.title, listed(&keys, "and"));
        ui.result(match keep {
            true => format!("{title} {names}: no clean-up takes that away, until --let-go."),
            false => format!("{title} {names}: no longer kept by your word."),
        })?;
    }
    Ok(())
}

fn report(plans: &[(&Runtime<'_>, Vec<Entry<'_>>)], leavings: &[Leaving]) -> Report {
    let mut report = Report {
        installs: Vec::new(),
        left_behind: Vec::new(),
        frees: 0,
        freed: None,
        failures: Vec::new(),
    };
    for (runtime, plan) in plans {
        for entry in plan {
            if entry.verdict == Verdict::Remove {
                report.frees += entry.bytes;
            }
            let install = runtime.install(&entry.install.key);
            report.installs.push(InstallReport {
                runtime: runtime.name().to_owned(),
                key: entry.install.key.clone(),
                verdict: entry.verdict,
                reasons: entry.reasons.clone(),
                protections: entry.protections.clone(),
                size: entry.bytes,
                used: install.map_or(runtime.today, |install| runtime.used_on(install)),
                newer: entry.newer.clone(),
            });
        }
    }
    for leaving in leavings {
        report.frees += leaving.bytes;
        report.left_behind.push(LeavingReport {
            kind: leaving.kind,
            size: leaving.bytes,
        });
    }
    report
}

fn show(
    ui: &Ui,
    plans: &[(&Runtime<'_>, Vec<Entry<'_>>)],
    leavings: &[Leaving],
    frees: u64,
) -> Outcome {
    let mut goes = 0;
    let mut renewable = 0;
    for (runtime, plan) in plans {
        if plan.is_empty() {
            ui.result(format!("No {} is on the shelf.", runtime.definition.title))?;
            continue;
        }
        let going = |entry: &&Entry<'_>| entry.verdict == Verdict::Remove;
        let (here, all) = (
            plan.iter().filter(going).count(),
            Count(plan.len(), "install"),
        );
        goes += here;
        renewable += plan
            .iter()
            .filter(|entry| entry.verdict == Verdict::Renew)
            .count();
        let title = styled(Palette::STRONG, &runtime.definition.title);
        ui.result(match here {
            0 => format!("{title}: none of {all} is to go"),
            here => format!("{title}: {here} of {all} can go"),
        })?;
        ui.table(&table(runtime, plan))?;
    }
    for kind in LeavingKind::ALL {
        let same = leavings.iter().filter(|leaving| leaving.kind == kind);
        let bytes: Vec<u64> = same.map(|leaving| leaving.bytes).collect();
        if !bytes.is_empty() {
            let (what, size) = (kind.counted(bytes.len()), bytes.iter().sum());
            ui.result(format!("Left behind: {what}, {}", megabytes(size)))?;
        }
    }
    if goes + leavings.len() > 0 {
        ui.result(format!("This frees {}.", megabytes(frees)))?;
    } else {
        ui.result("Nothing is outdated.")?;
    }
    if renewable > 0 {
        ui.next("To get security releases that are out", "vshelf renew");
    }
    Ok(())
}

/// Shows what of the plan is not as it should be, and changes nothing.
pub fn list_outdated(ui: &Ui, context: &Context, runtimes: &[Runtime<'_>], json: bool) -> Outcome {
    let surroundings = Surroundings::look(context)?;
    let mut plans = Vec::new();
    for runtime in runtimes {
        let mut plan = tidying::plan(runtime, &surroundings, &Wishes::default())?;
        plan.retain(|entry| !entry.reasons.is_empty() || entry.verdict == Verdict::Renew);
        plans.push((runtime, plan));
    }
    if json {
        return print_json(ui, &report(&plans, &[]).installs);
    }
    let mut verdicts = Vec::new();
    for (runtime, plan) in &plans {
        verdicts.extend(plan.iter().map(|entry| entry.verdict));
        if plan.is_empty() {
            let title = &runtime.definition.title;
            ui.result(format!("Nothing of {title} is outdated."))?;
            continue;
        }
        let title = styled(Palette::STRONG, &runtime.definition.title);
        let (count, all) = (plan.len(), Count(runtime.installs.len(), "install"));
        ui.result(format!("{title}: {count} of {all} outdated"))?;
        ui.page(&table(runtime, plan))?;
    }
    if verdicts.contains(&Verdict::Remove) {
        ui.next("To clear away what goes", "vshelf tidy");
    }
    if verdicts.contains(&Verdict::Renew) {
        ui.next("To get the security releases", "vshelf renew");
    }
    Ok(())
}

/// The plan as a table.
fn table(runtime: &Runtime<'_>, plan: &[Entry<'_>]) -> Table {
    let columns = [
        Column::left("version"),
        Column::left("phase"),
        Column::right("size"),
        Column::left("used"),
        Column::left("plan"),
        Column::yielding("why"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for entry in plan {
        let line = runtime.outline().line_of(&entry.install.version);
        let phase = line.map(|line| line.phase_on(runtime.today));
        let install = runtime.install(&entry.install.key);
        let used = install.map(|install| ago(runtime.used_on(install), runtime.today));
        table.row(
            spine(phase),
            [
                Cell::new(runtime.spelled(entry.install), Palette::STRONG),
                phase_cell(phase),
                megabytes(entry.bytes).into(),
                used.unwrap_or_default().into(),
                match entry.verdict {
                    Verdict::Remove => Cell::new("goes", Palette::WARNING),
                    Verdict::Renew => Cell::new("renew", Palette::WARNING),
                    Verdict::Keep => Cell::new("stays", Palette::GOOD),
                },
                why(runtime, entry).into(),
            ],
        );
    }
    table
}

/// Why the plan says what it says.
fn why(runtime: &Runtime<'_>, entry: &Entry<'_>) -> String {
    let reasons = entry
        .reasons
        .iter()
        .map(|reason| reason_in_words(reason, runtime));
    let reasons = reasons.collect::<Vec<_>>().join(", ");
    let kept = entry.protections.iter().map(protection_in_words);
    let mut parts = vec![kept.collect::<Vec<_>>().join(", ")];
    if let (Verdict::Renew, Some(newer)) = (entry.verdict, &entry.newer) {
        parts.insert(0, format!("{} mends a security problem", newer.version));
    }
    match entry.protections.is_empty() {
        true => parts.push(reasons),
        false if reasons.is_empty() => {}
        false => parts.push(format!("though {reasons}")),
    }
    parts.retain(|part| !part.is_empty());
    parts.join("; ")
}
