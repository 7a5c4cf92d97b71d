//! What changes in the calling shell when it uses another version.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use vshelf_core::Pick;
use vshelf_files::action::FileAction;
use vshelf_shelf::shells::note_shell;
use vshelf_shell::changes::path_with;
use vshelf_shell::connection::Following;

use crate::activity::Activity;
use crate::base::Base;
use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use crate::events::{Event, Listener};
use crate::runtime::Runtime;

/// What a shell can be given.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Target {
    /// This install, or the system's own copy.
    Pick(Pick),
    /// Whatever the default is.
    Default,
}

impl Target {
    /// The folder that the runtime's home variable names.
    fn base(&self, runtime: &Runtime<'_>) -> Option<PathBuf> {
        match self {
            Target::Pick(Pick::Install(key)) => Some(runtime.shelf.install_folder(key)),
            Target::Pick(Pick::System) => None,
            Target::Default => Some(runtime.shelf.default_link()),
        }
    }

    /// The folders that go in front of PATH.
    pub fn folders(&self, runtime: &Runtime<'_>) -> Vec<PathBuf> {
        let base = self.base(runtime);
        let folders = runtime.definition.folders.iter();
        base.map_or_else(Vec::new, |base| folders.map(|f| base.join(f)).collect())
    }

    /// The variables of a process that uses the target: their names, and their values where they
    /// are set.
    pub fn variables(&self, runtime: &Runtime<'_>) -> Vec<(String, Option<OsString>)> {
        self.variables_on(runtime, None)
    }

    /// The same for a process that also uses the runtime that the target runs on.
    pub fn variables_on(
        &self,
        runtime: &Runtime<'_>,
        base: Option<&Base>,
    ) -> Vec<(String, Option<OsString>)> {
        let surroundings = base
            .map(|base| base.surroundings.clone())
            .unwrap_or_default();
        let shell = &runtime.environment().shell;
        let [default, installs] = runtime.shelf.folders_on_path();
        // A launcher that found itself again would never end.
        let ours = [default, installs, runtime.shelf.launchers()];
        let folders = [self.folders(runtime), surroundings.folders].concat();
        let path = path_with(shell.path(), &ours, &folders);
        let mut variables = vec![("PATH".to_owned(), Some(path))];
        let of_base = surroundings.variables.into_iter();
        variables.extend(of_base.map(|(name, value)| (name, Some(value))));
        if let Some(name) = &runtime.definition.home_variable {
            let base = self.base(runtime);
            let exists = base.as_deref().filter(|base| base.is_dir());
            let value = shell.variable(name);
            let ours = value.is_some_and(|value| runtime.shelf.holds(Path::new(&value)));
            if exists.is_some() || ours {
                variables.push((name.clone(), exists.map(OsString::from)));
            }
        }
        variables
    }

    /// Plans these changes of the calling shell.
    pub fn plan(&self, runtime: &Runtime<'_>) {
        let shell = &runtime.environment().shell;
        for (name, value) in self.variables(runtime) {
            shell.set(&name, value.as_deref());
        }
    }
}

/// Plans a switch of the calling shell; `before` is what it used until now.
pub fn plan_switch(runtime: &Runtime<'_>, pick: &Pick, before: Option<&Pick>) {
    Target::Pick(pick.clone()).plan(runtime);
    runtime.note_use(pick);
    let before = before.filter(|before| *before != pick);
    let shell = &runtime.environment().shell;
    shell.set_switch(runtime.name(), Some(pick), before);
}

/// Gives the calling shell its changes, and notes what it is switched to. That it could not be noted is
/// told: a clean-up would not know of it.
pub fn hand_over(environment: &Environment, listener: &dyn Listener) -> Done {
    let shell = &environment.shell;
    shell.hand_over()?;
    if let (Some(id), Some(switches)) = (shell.id(), shell.new_switches()) {
        let layout = environment.layout()?;
        if let Err(error) = note_shell(&layout, id, &switches) {
            let error = file_error(&layout.shells(), FileAction::Write)(error);
            listener.tell(Event::LeftUndone(&error));
        }
    }
    Ok(())
}

/// Whether connected shells follow projects.
pub fn follows_projects(environment: &Environment) -> Result<bool, Error> {
    Ok(environment.settings()?.following != Following::Off)
}

/// What the calling shell follows where it is not switched, because the project here requires it.
pub fn followed(runtime: &Runtime<'_>) -> Option<Pick> {
    let environment = runtime.environment();
    let follows = follows_projects(environment).ok()? && environment.shell.can_change();
    match follows {
        true => Activity::of(runtime).requirement()?.met_by.clone(),
        false => None,
    }
}

/// Plans that the calling shell follows the project here again, or else the default, or the system's
/// copy where that is it. Gives back what the project requires, where it is followed.
pub fn plan_following(runtime: &Runtime<'_>, before: Option<&Pick>) -> Option<Pick> {
    let followed = followed(runtime);
    let target = match (&followed, runtime.snapshot.default_pick()) {
        (Some(pick), _) => Target::Pick(pick.clone()),
        (None, Some(Pick::System)) => Target::Pick(Pick::System),
        (None, _) => Target::Default,
    };
    target.plan(runtime);
    let shell = &runtime.environment().shell;
    shell.set_switch(runtime.name(), None, before);
    followed
}
