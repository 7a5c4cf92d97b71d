//! The runtime that a build tool runs on, as it is here: what is active of it, or else what there is.

use std::path::Path;

use vshelf_core::definition::RunsOn;
use vshelf_core::{Definition, InstallId, Key, Pick, Version};
use vshelf_shelf::probe::{self, Surroundings};

use crate::activity::Activity;
use crate::environment::Environment;
use crate::error::Error;
use crate::runtime::Runtime;

/// A copy of a runtime that another one runs on.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Base {
    /// The name for people: `Java 21.0.4`.
    pub title: String,
    /// The folders and variables that programs on it need.
    pub surroundings: Surroundings,
}

/// The runtime that this version of a definition needs, as it is here: `None` if it needs none. Fails if it needs one that
/// is not here.
pub fn base_of(
    environment: &Environment,
    definition: &Definition,
    version: &Version,
) -> Result<Option<Base>, Error> {
    let title = || format!("{} {version}", definition.title);
    let needed = definition.runs_on(version);
    needed
        .map(|needed| need(environment, title, needed))
        .transpose()
}

/// The runtime that what is picked runs on, as it is here: `None` if it needs none, or is the system's own copy.
pub fn base_of_pick(runtime: &Runtime<'_>, pick: &Pick) -> Result<Option<Base>, Error> {
    let version = pick.key().and_then(|key| Some(key.version()?.clone()));
    let base = version.map(|version| base_of(runtime.environment(), &runtime.definition, &version));
    base.transpose().map(Option::flatten)
}

/// The runtime that is needed, as it is here. `title` is what needs it.
pub fn need(
    environment: &Environment,
    title: impl FnOnce() -> String,
    needed: &RunsOn,
) -> Result<Base, Error> {
    let found = match Runtime::named(environment, Some(&needed.runtime)) {
        Ok(runtime) => find(&runtime, needed),
        Err(Error::UnknownRuntime { .. }) => None,
        Err(error) => return Err(error),
    };
    found.ok_or_else(|| Error::NoBase {
        title: title(),
        needs: needed.to_string(),
        runtime: needed.runtime.clone(),
    })
}

/// The active version of the runtime if it fits, else the newest install that does, else the system's copy.
fn find(runtime: &Runtime<'_>, needed: &RunsOn) -> Option<Base> {
    let activity = Activity::of(runtime);
    let system = || of_system(runtime, activity.system_copy()?, needed);
    let active = match activity.active() {
        Some(Pick::Install(key)) => {
            let fits = key
                .version()
                .is_some_and(|version| needed.is_met_by(&version));
            fits.then(|| of_install(runtime, key))
        }
        Some(Pick::System) => system(),
        None => None,
    };
    let newest = || {
        let mut installs = runtime.names().installs_main_first();
        // A build tool may need the parts that a trimmed build lacks.
        let is_trimmed = |id: &InstallId| runtime.definition.trimmed_by(&id.publisher).is_some();
        installs.sort_by_key(|install| is_trimmed(&install.id));
        let mut installs = installs.into_iter();
        let fits = installs.find(|install| needed.is_met_by(&install.id.version))?;
        Some(of_install(runtime, &fits.id.key))
    };
    active.or_else(newest).or_else(system)
}

fn of_install(runtime: &Runtime<'_>, key: &Key) -> Base {
    let definition = &runtime.definition;
    let folder = runtime.shelf.install_folder(key);
    let home = definition.home_variable.iter();
    Base {
        title: runtime.names().title_of(key),
        surroundings: Surroundings {
            folders: definition
                .folders
                .iter()
                .map(|part| folder.join(part))
                .collect(),
            variables: home
                .map(|name| (name.clone(), folder.clone().into()))
                .collect(),
        },
    }
}

fn of_system(runtime: &Runtime<'_>, program: &Path, needed: &RunsOn) -> Option<Base> {
    let definition = &runtime.definition;
    let answer = probe::ask(
        program,
        &definition.probe.arguments,
        &Surroundings::default(),
    )
    .ok()?;
    let version: Version = answer.version(definition)?.parse().ok()?;
    let folder = program.parent()?.to_owned();
    needed.is_met_by(&version).then(|| Base {
        title: format!("the {} {version} of the system", definition.title),
        surroundings: Surroundings {
            folders: vec![folder],
            variables: Vec::new(),
        },
    })
}
