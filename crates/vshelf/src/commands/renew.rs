//! `vshelf renew`: move lines to their newest patch.

use std::path::PathBuf;

use clap::Args;
use serde::Serialize;
use vshelf_core::outlook::Newer;
use vshelf_core::packages::Package;
use vshelf_core::resolve::{Scope, Shelved};
use vshelf_core::tidy::Protection;
use vshelf_core::{Request, Selector, pin, renewal};
use vshelf_shelf::journal::Deed;
use vshelf_shelf::shelf::Running;
use vshelf_shelf::{Install, atomic};
use vshelf_view::words::{Count, megabytes};
use vshelf_view::{Cell, Column, Palette, Table};

use crate::commands::{CommandArgs, carry, install, print_json};
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome, file_failure, shown};
use crate::fetch::Order;
use crate::hooks;
use crate::keeping::packages;
use crate::keeping::record::Done;
use crate::keeping::removal;
use crate::keeping::tidying::{
    self, ProjectWish, Surroundings, Wishes, project_wishes, projects_seen, protection_in_words,
};
use crate::marks::{phase_cell, spine};
use crate::runtime::Runtime;
use crate::switching;
use crate::ui::{Ui, styled};

/// Move the lines on the shelf to their newest release
///
/// The plan is shown first. Then, line by line: the newest release comes onto the shelf, the packages
/// come along, the default, the labels and this shell follow, and the old release goes unless
/// something still needs it. Where a step fails, the old release stays as it was.
#[derive(Debug, Args)]
pub struct Renew {
    /// Only these lines, as in 6 or marram@8; nothing is all on the shelf
    #[arg(value_name = "LINE")]
    lines: Vec<String>,
    /// Leave the old releases on the shelf
    #[arg(long)]
    keep_old: bool,
    /// Write the new version into projects that ask for the old one by its exact version
    #[arg(long)]
    pins: bool,
    /// Only show the plan
    #[arg(long)]
    dry_run: bool,
    /// Carry the plan out without asking
    #[arg(long, conflicts_with = "dry_run")]
    yes: bool,
    /// Show the plan as JSON, and do nothing
    #[arg(long, conflicts_with = "yes")]
    json: bool,
}

/// A line that has a newer release, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// The runtime's name.
    runtime: String,
    /// The line's name.
    line: String,
    /// The key of the newest install of the line.
    from: String,
    /// What is published since.
    #[cfg_attr(test, schemars(with = "crate::commands::schemas::NewerSchema"))]
    to: Newer,
    /// The packages that come along, as `name@version`; null where they cannot be listed.
    packages: Option<Vec<String>>,
    /// What follows: `default`, `this shell`, labels.
    follows: Vec<String>,
    /// The pin files that ask for the old release by its exact version.
    pins: Vec<PathBuf>,
}

/// A renewal with all that belongs to it.
struct Planned {
    line: String,
    from: Shelved,
    to: Newer,
    /// What comes along, or why that is not known.
    packages: Result<Vec<Package>, Failure>,
    follows: Vec<Follower>,
    pins: Vec<PathBuf>,
}

/// What goes on to the new release.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Follower {
    Default,
    ThisShell,
    Label(String),
}

impl Follower {
    fn in_words(&self) -> String {
        match self {
            Follower::Default => "default".to_owned(),
            Follower::ThisShell => "this shell".to_owned(),
            Follower::Label(label) => format!("label {label}"),
        }
    }
}

impl CommandArgs for Renew {
    const NAME: &'static str = "renew";
    const GROUP: &'static str = "Keep";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let mut plans: Vec<(Runtime<'_>, Vec<Planned>)> = Vec::new();
        for (mut runtime, keys) in self.meant(context)? {
            runtime.load_catalog(false)?;
            super::say_age(ui, &runtime);
            let plan = plan(&runtime, &keys)?;
            plans.push((runtime, plan));
        }
        if self.json {
            let reports = plans
                .iter()
                .flat_map(|(runtime, plan)| plan.iter().map(|planned| report(runtime, planned)));
            return print_json(ui, &reports.collect::<Vec<_>>());
        }
        let count: usize = plans.iter().map(|(_, plan)| plan.len()).sum();
        if count == 0 {
            return ui.result("Every line on the shelf has its newest release.");
        }
        for (runtime, plan) in plans.iter().filter(|(_, plan)| !plan.is_empty()) {
            show(ui, runtime, plan)?;
            self.say_pins(ui, plan);
        }
        if self.dry_run {
            return Ok(());
        }
        if !self.yes {
            if !ui.can_ask() {
                ui.next("To carry it out", "vshelf renew --yes");
                return Ok(());
            }
            if !ui.ask(&format!("Renew {}?", Count(count, "line")))? {
                ui.note("Nothing was changed.");
                return Ok(());
            }
        }
        let mut failures = Vec::new();
        for (runtime, plan) in &plans {
            for planned in plan {
                if let Err(failure) = self.renew(ui, runtime, planned) {
                    failures.push(failure);
                }
            }
        }
        hooks::refresh_runtimes(context)?;
        ui.end_with(failures)
    }
}

impl Renew {
    /// The runtimes that are meant, each with the keys of the installs whose lines are.
    fn meant<'c>(&self, context: &'c Context) -> Result<Vec<(Runtime<'c>, Vec<String>)>, Failure> {
        let keys = |runtime: &Runtime<'_>| {
            let keys = runtime
                .installs
                .iter()
                .map(|install| install.shelved.key.clone());
            keys.collect::<Vec<_>>()
        };
        if self.lines.is_empty() {
            let runtimes = context.shown_runtimes(None)?;
            return Ok((runtimes.into_iter())
                .map(|runtime| {
                    let keys = keys(&runtime);
                    (runtime, keys)
                })
                .collect());
        }
        let mut meant: Vec<(Runtime<'_>, Vec<String>)> = Vec::new();
        for line in &self.lines {
            let request: Request = line.parse()?;
            let runtime = context.runtime_for(&request)?;
            let covered = runtime.covered(&request, Scope::Shelf)?;
            let found: Vec<String> = (covered.iter())
                .filter_map(|candidate| Some(candidate.install?.key.clone()))
                .collect();
            if found.is_empty() {
                let message = format!("nothing on the shelf is of the line {line:?}");
                return Err(
                    Failure::new(Kind::NoMatch, message).run("To see what is", "vshelf list")
                );
            }
            match meant
                .iter_mut()
                .find(|(known, _)| known.name() == runtime.name())
            {
                Some((_, keys)) => keys.extend(found),
                None => meant.push((runtime, found)),
            }
        }
        Ok(meant)
    }

    /// Says which projects ask for the old release, and what becomes of their wish.
    fn say_pins(&self, ui: &Ui, plan: &[Planned]) {
        for planned in plan {
            for file in &planned.pins {
                let (file, old, new) = (shown(file), &planned.from.version, &planned.to.version);
                ui.note(match self.pins {
                    true => format!("{file} says {new} then, and no longer {old}."),
                    false => format!("{file} asks for {old}, which stays; --pins moves it too."),
                });
            }
        }
    }

    /// Renews one line.
    fn renew(&self, ui: &Ui, runtime: &Runtime<'_>, planned: &Planned) -> Outcome {
        let context = runtime.context();
        let old = runtime.called(&planned.from);
        let stays = |failure: Failure| failure.say(format!("{old} stays as it was."));
        let release = (runtime.catalog())
            .release(&planned.to.version, &planned.from.publisher)
            .ok_or_else(install::no_catalog)
            .map_err(stays)?;
        let (source, builds) = install::offered(runtime, release).map_err(stays)?;
        let order = Order::new(runtime, source, release, builds, Default::default())?;
        let key = order.key.clone();
        let mut orders = [order];
        install::bring_from_any(ui, context, &mut orders)
            .pop()
            .unwrap_or_else(|| Err(install::no_catalog()))
            .map_err(stays)?;
        let new = Runtime::open(context, runtime.definition.clone())?;
        let title = styled(Palette::GOOD, orders[0].title());
        ui.result(format!("{title} is on the shelf."))?;
        self.carry(ui, &new, planned, &key).map_err(|failure| {
            failure.say(format!("{old} stays, so that its packages are not lost."))
        })?;
        follow(ui, &new, planned, &key)?;
        if self.pins {
            move_pins(ui, runtime, planned)?;
        }
        if self.keep_old {
            return ui.result(format!("{old} stays on the shelf."));
        }
        let now = Runtime::open(context, runtime.definition.clone())?;
        remove_old(ui, &now, planned)
    }

    fn carry(&self, ui: &Ui, runtime: &Runtime<'_>, planned: &Planned, key: &str) -> Outcome {
        match &planned.packages {
            Ok(packages) if packages.is_empty() => Ok(()),
            // Asked anew: what kept the tool from answering may have passed.
            _ => carry::carry(ui, runtime, &planned.from.key, key),
        }
    }
}

/// What there is to renew among the lines of these installs.
fn plan(runtime: &Runtime<'_>, keys: &[String]) -> Result<Vec<Planned>, Failure> {
    let context = runtime.context();
    let all: Vec<Shelved> = (runtime.installs.iter())
        .map(|install| install.shelved.clone())
        .collect();
    let catalog = runtime.catalog();
    let lines: Vec<&str> = (all.iter())
        .filter(|install| keys.contains(&install.key))
        .filter_map(|install| Some(catalog.line_of(&install.version)?.name.as_str()))
        .collect();
    let wishes = project_wishes(runtime, &projects_seen(context)?);
    let renewals = renewal::plan(catalog, &all, &followed(runtime), &context.platform);
    let meant = renewals
        .into_iter()
        .filter(|renewal| lines.contains(&renewal.line));
    Ok(meant
        .map(|renewal| Planned {
            line: renewal.line.to_owned(),
            from: renewal.from.clone(),
            packages: match runtime.definition.packages {
                Some(_) => packages::list(runtime, &renewal.from.key),
                None => Ok(Vec::new()),
            },
            follows: followers(runtime, &renewal.members),
            pins: exact_pins(&wishes, renewal.from),
            to: renewal.to,
        })
        .collect())
}

/// What can follow, each with the key that it stands for now.
fn standing(runtime: &Runtime<'_>) -> Vec<(Follower, String)> {
    let mut standing = Vec::new();
    standing.extend(runtime.default_key().map(|key| (Follower::Default, key)));
    let shell = &runtime.context().shell;
    if let Some(key) = shell
        .switched(runtime.name())
        .filter(|_| shell.can_change())
    {
        standing.push((Follower::ThisShell, key.to_owned()));
    }
    for (label, selector) in &runtime.state.labels {
        let key = runtime.key_of_label(selector);
        standing.extend(key.map(|key| (Follower::Label(label.clone()), key)));
    }
    standing
}

/// The keys that something stands for.
fn followed(runtime: &Runtime<'_>) -> Vec<String> {
    standing(runtime).into_iter().map(|(_, key)| key).collect()
}

/// What stands for one of these installs of a line.
fn followers(runtime: &Runtime<'_>, members: &[&Shelved]) -> Vec<Follower> {
    let mut standing = standing(runtime);
    standing.retain(|(_, key)| members.iter().any(|member| member.key == *key));
    standing.into_iter().map(|(follower, _)| follower).collect()
}

/// The pin files that ask for exactly this version.
fn exact_pins(wishes: &[ProjectWish], from: &Shelved) -> Vec<PathBuf> {
    let is_exact = |wish: &&ProjectWish| match &wish.request.selector {
        Selector::Version(version) => *version == from.version,
        _ => false,
    };
    let exact = wishes.iter().filter(is_exact);
    exact.map(|wish| wish.file.clone()).collect()
}

/// Has the default, the labels and this shell go on to the new release.
fn follow(ui: &Ui, runtime: &Runtime<'_>, planned: &Planned, key: &str) -> Outcome {
    let new = runtime
        .install(key)
        .map(|install: &Install| runtime.spelled(&install.shelved));
    let new = new.unwrap_or_else(|| key.to_owned());
    // What a selector such as 8 or lts stands for moves by itself; an exact version does not.
    let moved = |selector: &str| match runtime.key_of_label(selector).as_deref() {
        Some(now) if now == key => selector.to_owned(),
        _ => new.clone(),
    };
    for follower in &planned.follows {
        match follower {
            Follower::Default => {
                let selector = moved(runtime.state.default.as_deref().unwrap_or_default());
                runtime.shelf.set_default(key, &selector)?;
                ui.result(format!("It is the default now, kept as {selector}."))?;
            }
            Follower::ThisShell => {
                switching::plan_switch(runtime, key, Some(&planned.from.key));
                ui.result("This shell uses it now.")?;
            }
            Follower::Label(label) => {
                let before = runtime.state.labels.get(label).cloned().unwrap_or_default();
                let selector = moved(&before);
                if selector != before {
                    runtime.shelf.change_state(|state| {
                        state.labels.insert(label.clone(), selector.clone());
                    })?;
                }
                ui.result(format!("The label {label} stands for it now."))?;
            }
        }
    }
    Ok(())
}

/// Writes the new version into the plain pin files that ask for the old one.
fn move_pins(ui: &Ui, runtime: &Runtime<'_>, planned: &Planned) -> Outcome {
    let files = pin::files(runtime.name(), &runtime.definition.pins);
    for path in &planned.pins {
        let name = path.file_name().unwrap_or_default();
        let plain = files
            .iter()
            .any(|file| file.value.is_none() && name == file.file.as_str());
        if !plain {
            ui.note(format!(
                "{} holds more than a version, and is yours to edit.",
                shown(path)
            ));
            continue;
        }
        let text = format!("{}\n", planned.to.version);
        atomic::write_file(path, text.as_bytes()).map_err(|e| file_failure(path, "written", e))?;
        ui.result(format!("{} says {} now.", shown(path), planned.to.version))?;
    }
    Ok(())
}

/// Takes the old release off the shelf, unless something still needs it.
fn remove_old(ui: &Ui, runtime: &Runtime<'_>, planned: &Planned) -> Outcome {
    let key = &planned.from.key;
    let old = runtime.called(&planned.from);
    let wishes = Wishes {
        include: vec![key.clone()],
        except: Vec::new(),
    };
    let plan = tidying::plan(runtime, &Surroundings::look(runtime.context())?, &wishes)?;
    let entry = plan.iter().find(|entry| entry.install.key == *key);
    // The environment of this command is still that of the shell before it follows.
    let needs = |protection: &&Protection| {
        !(**protection == Protection::ThisShell && planned.follows.contains(&Follower::ThisShell))
    };
    let needed = entry.and_then(|entry| entry.protections.iter().find(needs));
    if let Some(protection) = needed {
        let why = protection_in_words(protection);
        return ui.result(format!("{old} stays: {why}."));
    }
    let done = Done {
        deed: Deed::Renewed,
        reasons: vec![format!("{} took its place", planned.to.version)],
    };
    let freed = removal::take_off(ui, runtime, key, done, Running::Spared)?;
    ui.result(format!(
        "{old} is off the shelf; {} are free again.",
        megabytes(freed)
    ))
}

fn report(runtime: &Runtime<'_>, planned: &Planned) -> Report {
    Report {
        runtime: runtime.name().to_owned(),
        line: planned.line.clone(),
        from: planned.from.key.clone(),
        to: planned.to.clone(),
        packages: (planned.packages.as_ref().ok())
            .map(|packages| packages.iter().map(Package::spelled).collect()),
        follows: planned.follows.iter().map(Follower::in_words).collect(),
        pins: planned.pins.clone(),
    }
}

fn show(ui: &Ui, runtime: &Runtime<'_>, plan: &[Planned]) -> Outcome {
    let title = styled(Palette::STRONG, &runtime.definition.title);
    ui.result(format!("{title}: {} to renew", Count(plan.len(), "line")))?;
    let columns = [
        Column::left("line"),
        Column::left("phase"),
        Column::left("from"),
        Column::left("to"),
        Column::left("why"),
        Column::left("packages"),
        Column::yielding("what follows"),
    ];
    let mut table = Table::new(&columns, Palette::HEADING);
    for planned in plan {
        let line = runtime.outline().line_of(&planned.from.version);
        let phase = line.map(|line| line.phase_on(runtime.today));
        let follows: Vec<String> = planned.follows.iter().map(Follower::in_words).collect();
        let packages = match planned.packages.as_ref().map(Vec::len) {
            Ok(0) => String::new(),
            Ok(count) => count.to_string(),
            Err(_) => "unknown".to_owned(),
        };
        table.row(
            spine(phase),
            [
                planned.line.clone().into(),
                phase_cell(phase),
                Cell::new(runtime.spelled(&planned.from), Palette::STRONG),
                Cell::new(planned.to.version.to_string(), Palette::GOOD),
                match planned.to.security {
                    true => Cell::new("security", Palette::WARNING),
                    false => "newer".into(),
                },
                packages.into(),
                follows.join(", ").into(),
            ],
        );
    }
    ui.table(&table)
}
