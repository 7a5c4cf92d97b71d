//! The packages in an install, through the runtime's own package tool.

use std::process::{Command, Output, Stdio};
use std::time::Duration;

use vshelf_core::packages::{self, Package, PackageAction, PackageTool};
use vshelf_core::{Key, Pick};
use vshelf_files::action::FileAction;
use vshelf_shelf::probe;
use vshelf_shelf::record::Adopted;
use vshelf_shelf::store::program_named;

use super::found_packages;
use crate::admission;
use crate::daily;
use crate::error::{Done, Error, PackageAttempt, ToolProblem, file_error};
use crate::events::{Event, Listener, Task};
use crate::outcome::CarryOutcome;
use crate::runtime::Runtime;
use crate::session::Target;

/// How long a tool may take to list its packages.
const PATIENCE: Duration = Duration::from_secs(30);

/// The package tool of an install.
struct Tool<'r> {
    tool: &'r PackageTool,
    runtime: &'r Runtime<'r>,
    key: &'r Key,
}

impl Tool<'_> {
    fn command(&self, arguments: &[String]) -> Command {
        let folder = self.runtime.shelf.install_folder(self.key);
        let program = program_named(&folder, &self.runtime.definition, &self.tool.program);
        let mut command = Command::new(program);
        let target = Target::Pick(Pick::Install(self.key.clone()));
        for (name, value) in target.variables(self.runtime) {
            match value {
                Some(value) => command.env(name, value),
                None => command.env_remove(name),
            };
        }
        for (name, value) in &self.tool.environment {
            command.env(name, value.replace("{install}", &folder.to_string_lossy()));
        }
        command
            .args(arguments)
            // A project's own settings do not belong to what is installed for all.
            .current_dir(&folder)
            .stdin(Stdio::null());
        command
    }

    fn run(&self, arguments: &[String]) -> Result<Output, Error> {
        let output = self.command(arguments).output();
        output.map_err(|error| self.failed(ToolProblem::Start, error.to_string()))
    }

    fn failed(&self, problem: ToolProblem, cause: String) -> Error {
        Error::PackageTool {
            tool: self.tool.program.clone(),
            install: self.runtime.names().selector_of(self.key),
            problem,
            cause,
        }
    }
}

fn tool<'r>(runtime: &'r Runtime<'r>, key: &'r Key) -> Result<Tool<'r>, Error> {
    let tool = runtime.definition.packages.as_ref();
    let tool = tool.ok_or_else(|| Error::NoPackageTool {
        title: runtime.definition.title.clone(),
    })?;
    Ok(Tool { tool, runtime, key })
}

/// The packages in the install with this key, without those that came with its build.
pub fn list(runtime: &Runtime<'_>, key: &Key) -> Result<Vec<Package>, Error> {
    let tool = tool(runtime, key)?;
    if !tool.tool.found.is_empty() {
        let folder = runtime.shelf.install_folder(key);
        return found_packages::list(tool.tool, &folder)
            .map_err(file_error(&folder, FileAction::Read));
    }
    let unlisted = |cause: String| tool.failed(ToolProblem::List, cause);
    let output = probe::run(tool.command(&tool.tool.list), PATIENCE)
        .map_err(|error| unlisted(error.to_string()))?;
    let listed = String::from_utf8_lossy(&output.stdout);
    // Tools also end with a failure where a single package is not as it should be.
    if !output.status.success() && listed.trim().is_empty() {
        return Err(unlisted(complaint(&output)));
    }
    (tool.tool.read(&listed)).map_err(|error| unlisted(error.to_string()))
}

/// How many packages of one install another one does not have in any version. Only files are read: `None` if they do
/// not show the packages, or if that was said before.
pub fn newly_lacking(runtime: &Runtime<'_>, from: &Key, to: &Key) -> Option<usize> {
    let environment = runtime.environment();
    let tool = runtime.definition.packages.as_ref();
    let tool = tool.filter(|tool| !tool.found.is_empty())?;
    let stamp = format!(
        "lacking/{}-{}-{}",
        runtime.name(),
        from.as_str(),
        to.as_str()
    );
    // An unreadable stamp or package folder only drops this hint; the switch itself succeeded.
    if !daily::is_new(environment, &stamp).unwrap_or(false) {
        return None;
    }
    let packages = |key| found_packages::list(tool, &runtime.shelf.install_folder(key)).ok();
    let (packages_from, packages_to) = (packages(from)?, packages(to)?);
    let is_lacking = |one: &&Package| !packages_to.iter().any(|other| other.name == one.name);
    let lacking = packages_from.iter().filter(is_lacking).count();
    if lacking == 0 {
        return None;
    }
    daily::note(environment, &stamp).ok()?;
    Some(lacking)
}

/// The packages that go when the install with this key does: those that the person has put into it.
pub fn of_install(
    runtime: &Runtime<'_>,
    key: &Key,
    listener: &dyn Listener,
) -> Result<Vec<Package>, Error> {
    let Some(install) = runtime.snapshot.install(key) else {
        return Ok(Vec::new());
    };
    let record = &install.record.contents;
    // Of a link only the link goes; and what never started never installed anything.
    let has_none = record.adopted == Some(Adopted::Linked) || record.broken.is_some();
    if has_none || runtime.definition.packages.is_none() {
        return Ok(Vec::new());
    }
    let title = runtime.names().title_of(&install.id.key);
    let listed = Task::ListingPackages(&title).during(listener, || list(runtime, key));
    listed.map_err(|cause| Error::PackagesUnknown {
        title,
        selector: runtime.names().key_as_typed(key),
        cause: Box::new(cause),
    })
}

/// What has to be done to have the packages of one install in another.
pub fn plan(
    runtime: &Runtime<'_>,
    from: &Key,
    to: &Key,
) -> Result<Vec<(Package, CarryOutcome)>, Error> {
    let from = list(runtime, from)?;
    let to = list(runtime, to)?;
    let planned = packages::plan(&from, &to)
        .into_iter()
        .map(|(package, action)| {
            let outcome = match action {
                PackageAction::Install => CarryOutcome::Planned,
                PackageAction::AlreadyThere(version) => CarryOutcome::AlreadyThere { version },
                PackageAction::FromElsewhere(from) => CarryOutcome::FromElsewhere { from },
            };
            (package.clone(), outcome)
        });
    Ok(planned.collect())
}

/// Installs what is planned into the install with this key: together where the tool can, and one at a
/// time where that fails, so that one package keeps no other from being installed.
pub fn install(
    runtime: &Runtime<'_>,
    to: &Key,
    planned: &mut [(Package, CarryOutcome)],
    mut on_each: impl FnMut(&[&Package]),
) -> Done {
    admission::check_packages(runtime)?;
    let tool = tool(runtime, to)?;
    for (package, outcome) in planned.iter_mut() {
        if *outcome == CarryOutcome::Planned && !package.is_plain() {
            let why = "it is not a name, or a name and a version".to_owned();
            *outcome = CarryOutcome::Failed { why };
        }
    }
    let waiting = |(_, outcome): &&mut (Package, CarryOutcome)| *outcome == CarryOutcome::Planned;
    let mut left: Vec<&mut (Package, CarryOutcome)> = planned.iter_mut().filter(waiting).collect();
    if tool.tool.several && left.len() > 1 {
        let all: Vec<&Package> = left.iter().map(|(package, _)| package).collect();
        on_each(&all);
        let output = tool.run(&tool.tool.install_arguments(&all))?;
        if output.status.success() {
            for (_, outcome) in &mut left {
                *outcome = CarryOutcome::Installed;
            }
            return Ok(());
        }
    }
    for (package, outcome) in left {
        on_each(&[package]);
        let output = tool.run(&tool.tool.install_arguments(&[package]))?;
        *outcome = match output.status.success() {
            true => CarryOutcome::Installed,
            false => CarryOutcome::Failed {
                why: complaint(&output),
            },
        };
    }
    Ok(())
}

/// Installs the packages that every new install gets into the one with this key, as far as they are not in it;
/// gives back what that resulted in.
pub fn install_always(
    runtime: &Runtime<'_>,
    key: &Key,
    always: &[Package],
    listener: &dyn Listener,
) -> Result<Vec<(Package, CarryOutcome)>, Error> {
    if always.is_empty() {
        return Ok(Vec::new());
    }
    let there = list(runtime, key)?;
    let outcome = |package: &Package| {
        let known = there.iter().find(|other| other.name == package.name);
        match known {
            Some(known) => CarryOutcome::AlreadyThere {
                version: known.version.clone(),
            },
            None => CarryOutcome::Planned,
        }
    };
    let mut planned: Vec<(Package, CarryOutcome)> = (always.iter())
        .map(|package| (package.clone(), outcome(package)))
        .collect();
    install(runtime, key, &mut planned, |packages| {
        listener.tell(Event::InstallingPackages(packages));
    })?;
    Ok(planned)
}

/// The packages that could not be installed.
pub fn failed(packages: &[(Package, CarryOutcome)]) -> Vec<Package> {
    let has_failed =
        |(_, outcome): &&(Package, CarryOutcome)| matches!(outcome, CarryOutcome::Failed { .. });
    let failed = packages.iter().filter(has_failed);
    failed.map(|(package, _)| package.clone()).collect()
}

/// The calls that install these packages into an install by hand; nothing where the runtime has no
/// package tool.
pub fn attempt(runtime: &Runtime<'_>, key: &Key, packages: &[Package]) -> Option<PackageAttempt> {
    let tool = runtime.definition.packages.as_ref()?;
    let packages: Vec<&Package> = packages.iter().collect();
    let calls = match tool.several {
        true => vec![tool.install_arguments(&packages)],
        false => (packages.chunks(1))
            .map(|package| tool.install_arguments(package))
            .collect(),
    };
    Some(PackageAttempt {
        prefix: runtime.environment().prefix(runtime.name()),
        selector: runtime.names().selector_of(key),
        tool: tool.program.clone(),
        calls,
    })
}

/// The line of what a tool said that tells most.
fn complaint(output: &Output) -> String {
    let text = String::from_utf8_lossy(&output.stderr);
    let lines = || text.lines().map(str::trim).filter(|line| !line.is_empty());
    let telling = lines().find(|line| {
        let line = line.to_lowercase();
        line.contains("error") && line.len() > 20
    });
    match telling.or_else(|| lines().next_back()) {
        Some(line) => line.to_owned(),
        None => format!("it ended with {}", output.status),
    }
}
