//! The packages in an install, through the runtime's own package tool.

use std::process::{Command, Output, Stdio};
use std::time::Duration;

use vshelf_core::packages::{self, Package, PackageTool, Step};

use vshelf_shelf::probe;
use vshelf_shelf::shelf::program_named;
use vshelf_shell::quote;

use crate::failure::{Failure, Kind};
use crate::runtime::Runtime;
use crate::switching::Target;

/// How long a tool may take to list its packages.
const PATIENCE: Duration = Duration::from_secs(30);

/// What came of carrying one package.
#[derive(Clone, Debug, PartialEq, Eq, serde::Serialize)]
#[serde(tag = "outcome", rename_all = "kebab-case")]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub enum Carried {
    /// It would be brought.
    Planned,
    /// It is there now.
    Came,
    /// It was there, in this version.
    There {
        /// The version, where the tool tells it.
        version: Option<String>,
    },
    /// It came from elsewhere than a registry, and stays behind.
    Stays {
        /// The folder or address that it came from.
        from: String,
    },
    /// It could not be installed.
    Failed {
        /// What the tool said.
        why: String,
    },
}

/// The package tool of an install.
struct Tool<'r> {
    tool: &'r PackageTool,
    runtime: &'r Runtime<'r>,
    key: &'r str,
}

impl Tool<'_> {
    fn command(&self, arguments: &[String]) -> Command {
        let folder = self.runtime.shelf.install_folder(self.key);
        let program = program_named(&folder, &self.runtime.definition, &self.tool.program);
        let mut command = Command::new(program);
        for (name, value) in Target::of_key(self.key).variables(self.runtime) {
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

    fn run(&self, arguments: &[String]) -> Result<Output, Failure> {
        self.command(arguments).output().map_err(|error| {
            let message = format!("{} of {} cannot be started", self.tool.program, self.key);
            let mut failure = Failure::new(Kind::Other, message);
            failure.causes.push(error.to_string());
            failure
        })
    }
}

fn tool<'r>(runtime: &'r Runtime<'r>, key: &'r str) -> Result<Tool<'r>, Failure> {
    let tool = runtime.definition.packages.as_ref().ok_or_else(|| {
        let title = &runtime.definition.title;
        let message = format!("the definition of {title} names no package tool");
        Failure::new(Kind::Refused, message).run("To see the definition", "vshelf runtimes")
    })?;
    Ok(Tool { tool, runtime, key })
}

/// The packages in the install with this key, without those that came with its build.
pub fn list(runtime: &Runtime<'_>, key: &str) -> Result<Vec<Package>, Failure> {
    let tool = tool(runtime, key)?;
    let unlisted = |cause: String| {
        let message = format!("{} of {key} does not list its packages", tool.tool.program);
        let mut failure = Failure::new(Kind::Other, message);
        failure.causes.push(cause);
        failure
    };
    let output = probe::run(tool.command(&tool.tool.list), PATIENCE)
        .map_err(|error| unlisted(error.to_string()))?;
    let listed = String::from_utf8_lossy(&output.stdout);
    // Tools also end with a failure where a single package is not as it should be.
    if !output.status.success() && listed.trim().is_empty() {
        return Err(unlisted(complaint(&output)));
    }
    (tool.tool.read(&listed)).map_err(|error| unlisted(error.to_string()))
}

/// What has to be done to have the packages of one install in another.
pub fn plan(
    runtime: &Runtime<'_>,
    from: &str,
    to: &str,
) -> Result<Vec<(Package, Carried)>, Failure> {
    let from = list(runtime, from)?;
    let to = list(runtime, to)?;
    let steps = packages::plan(&from, &to)
        .into_iter()
        .map(|(package, step)| {
            let carried = match step {
                Step::Bring => Carried::Planned,
                Step::There(version) => Carried::There { version },
                Step::Stays(from) => Carried::Stays { from },
            };
            (package.clone(), carried)
        });
    Ok(steps.collect())
}

/// Installs what is planned into the install with this key: together where the tool can, and one at a
/// time where that fails, so that one package keeps no other from coming.
pub fn bring(
    runtime: &Runtime<'_>,
    to: &str,
    planned: &mut [(Package, Carried)],
    mut on_each: impl FnMut(&str),
) -> Result<(), Failure> {
    let tool = tool(runtime, to)?;
    let waiting = |(_, carried): &&mut (Package, Carried)| *carried == Carried::Planned;
    let mut left: Vec<&mut (Package, Carried)> = planned.iter_mut().filter(waiting).collect();
    if tool.tool.several && left.len() > 1 {
        on_each(&format!("{} packages", left.len()));
        let all: Vec<String> = left.iter().map(|(package, _)| package.spelled()).collect();
        if tool
            .run(&tool.tool.install_arguments(&all))?
            .status
            .success()
        {
            for (_, carried) in &mut left {
                *carried = Carried::Came;
            }
            return Ok(());
        }
    }
    for (package, carried) in left {
        on_each(&package.name);
        let output = tool.run(&tool.tool.install_arguments(&[package.spelled()]))?;
        *carried = match output.status.success() {
            true => Carried::Came,
            false => Carried::Failed {
                why: complaint(&output),
            },
        };
    }
    Ok(())
}

/// The commands that install these packages, as `name@version`, into an install by hand.
pub fn commands(
    runtime: &Runtime<'_>,
    key: &str,
    spelled: &[String],
) -> Result<Vec<String>, Failure> {
    let Some(tool) = &runtime.definition.packages else {
        return Ok(Vec::new());
    };
    let prefix = runtime.context().prefix(runtime.name())?;
    let install = runtime.install(key);
    let version = install.map_or_else(|| key.to_owned(), |i| runtime.spelled(&i.shelved));
    let command = |packages: &[String]| {
        let arguments = tool.install_arguments(packages);
        let words = arguments
            .iter()
            .map(|word| quote::posix_where_needed(word, "@./_+=-"));
        let words = words.collect::<Vec<_>>().join(" ");
        format!("vshelf run {prefix}{version} -- {} {words}", tool.program)
    };
    Ok(match tool.several {
        true => vec![command(spelled)],
        false => spelled.chunks(1).map(command).collect(),
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
