//! What changes in the calling shell when it gets another version.

use std::path::{Path, PathBuf};

use vshelf_shell::changes::path_with;
use vshelf_shell::hook::Following;

use crate::activity::Activity;
use crate::runtime::Runtime;

/// The folder of launchers, beside those of the runtimes.
pub const LAUNCHERS: &str = "launchers";

/// What a shell can be given.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Target<'a> {
    /// The install with this key.
    Install(&'a str),
    /// Whatever the default is.
    Default,
    /// The system's own copy.
    System,
}

impl<'a> Target<'a> {
    /// The target that a key stands for.
    pub fn of_key(key: &'a str) -> Target<'a> {
        match key {
            "system" => Target::System,
            key => Target::Install(key),
        }
    }

    /// The folder that the runtime's home variable names.
    fn base(self, runtime: &Runtime<'_>) -> Option<PathBuf> {
        match self {
            Target::Install(key) => Some(runtime.shelf.install_folder(key)),
            Target::Default => Some(runtime.shelf.default_link()),
            Target::System => None,
        }
    }

    /// The folders that go in front of PATH.
    pub fn folders(self, runtime: &Runtime<'_>) -> Vec<PathBuf> {
        let base = self.base(runtime);
        let folders = runtime.definition.folders.iter();
        base.map_or_else(Vec::new, |base| folders.map(|f| base.join(f)).collect())
    }

    /// The variables of a process that uses the target: their names, and their values where they
    /// are set.
    pub fn variables(self, runtime: &Runtime<'_>) -> Vec<(String, Option<String>)> {
        let base = self.base(runtime);
        let folders = self.folders(runtime);
        // A launcher that found itself again would never end.
        let launchers = runtime.shelf.folder().with_file_name(LAUNCHERS);
        let path = path_with(
            runtime.context().shell.path(),
            &[runtime.shelf.folder(), &launchers],
            &folders,
        );
        let text = |path: &Path| path.to_string_lossy().into_owned();
        let mut variables = vec![("PATH".to_owned(), Some(text(Path::new(&path))))];
        if let Some(name) = &runtime.definition.home_variable {
            let exists = base.as_deref().filter(|base| base.is_dir());
            let ours = (runtime.context().shell.variable(name))
                .is_some_and(|value| Path::new(&value).starts_with(runtime.shelf.folder()));
            if exists.is_some() || ours {
                variables.push((name.clone(), exists.map(text)));
            }
        }
        variables
    }

    /// Plans these changes of the calling shell.
    pub fn plan(self, runtime: &Runtime<'_>) {
        let shell = &runtime.context().shell;
        for (name, value) in self.variables(runtime) {
            shell.set(&name, value.as_deref());
        }
    }
}

/// Plans a switch of the calling shell to `key`; `before` is what it used until now.
pub fn plan_switch(runtime: &Runtime<'_>, key: &str, before: Option<&str>) {
    Target::of_key(key).plan(runtime);
    runtime.note_use(key);
    let before = before.filter(|before| *before != key);
    runtime
        .context()
        .shell
        .set_switch(runtime.name(), Some(key), before);
}

/// The key that the calling shell follows where it is not switched, because the project here wants
/// it.
pub fn followed_key(runtime: &Runtime<'_>) -> Option<String> {
    let settings = runtime.context().settings().ok()?;
    let follows = settings.following != Following::Off && runtime.context().shell.can_change();
    match follows {
        true => Activity::of(runtime).pin()?.met_by.clone(),
        false => None,
    }
}

/// Plans that the calling shell follows the project here again, or else the default, or the system's
/// copy where that is it. Gives back the key that the project wants, where it is followed.
pub fn plan_following(runtime: &Runtime<'_>, before: Option<&str>) -> Option<String> {
    let followed = followed_key(runtime);
    match &followed {
        Some(key) => Target::of_key(key).plan(runtime),
        None if runtime.default_key().as_deref() == Some("system") => Target::System.plan(runtime),
        None => Target::Default.plan(runtime),
    }
    runtime
        .context()
        .shell
        .set_switch(runtime.name(), None, before);
    followed
}
