//! Which runtimes a command is about.

use vshelf_core::{Request, Selector};
use vshelf_shelf::Shelf;

use super::Runtime;
use crate::activity::is_program;
use crate::definitions;
use crate::environment::Environment;
use crate::error::Error;
use crate::project;

/// The request that is meant by one which is only the name of a runtime: its stable release, unless
/// something of the runtime that is meant anyway has that name.
pub fn read_name(environment: &Environment, request: Request) -> Result<Request, Error> {
    let name = match &request.selector {
        Selector::Name(name) if request.runtime.is_none() => name,
        _ => return Ok(request),
    };
    if !definitions::names(environment.folders()?)?.contains(name) {
        return Ok(request);
    }
    let is_taken = meant(environment).is_ok_and(|meant| {
        let outline = meant.published.outline();
        let labels = &meant.snapshot.state.labels;
        labels.contains_key(name)
            || outline.channel(name).is_some()
            || outline.line_named(name).is_some()
    });
    Ok(if is_taken {
        request
    } else {
        Request {
            runtime: Some(name.clone()),
            publisher: request.publisher,
            selector: Selector::Stable,
        }
    })
}

/// The runtime that is meant if no name is given. The person is not asked.
pub fn meant(environment: &Environment) -> Result<Runtime<'_>, Error> {
    Runtime::named(environment, Some(&environment.meant_runtime()?))
}

/// The runtime with this name. Without a name, all runtimes on the shelf, or else the one that is meant: no runtime if
/// the shelf is empty and several could be meant.
pub fn shown<'c>(
    environment: &'c Environment,
    name: Option<&str>,
) -> Result<Vec<Runtime<'c>>, Error> {
    if name.is_some() {
        return Ok(vec![Runtime::named(environment, name)?]);
    }
    named_or_meant(environment, &Shelf::runtimes(environment.folders()?)?)
}

/// The runtimes with these names, or else the one that is meant, unless several could be meant.
fn named_or_meant<'c>(
    environment: &'c Environment,
    names: &[String],
) -> Result<Vec<Runtime<'c>>, Error> {
    if names.is_empty() {
        return match meant(environment) {
            Ok(runtime) => Ok(vec![runtime]),
            Err(Error::SeveralRuntimes { .. }) => Ok(Vec::new()),
            Err(error) => Err(error),
        };
    }
    names
        .iter()
        .map(|name| Runtime::named(environment, Some(name)))
        .collect()
}

/// The runtimes whose state here is of interest: those on the shelf, and others that the project here requires. If
/// there are none, the runtime that is meant, unless several could be meant.
pub fn concerned(environment: &Environment) -> Result<Vec<Runtime<'_>>, Error> {
    let on_shelf = Shelf::runtimes(environment.folders()?)?;
    let mut concerned = required_beside(environment, &on_shelf)?;
    if on_shelf.is_empty() && !concerned.is_empty() {
        return Ok(concerned);
    }
    let mut shown = named_or_meant(environment, &on_shelf)?;
    shown.append(&mut concerned);
    Ok(shown)
}

/// The runtimes that the project here requires, or may require in a file that cannot be used, without those named.
pub fn required_beside<'c>(
    environment: &'c Environment,
    others: &[String],
) -> Result<Vec<Runtime<'c>>, Error> {
    let mut mentioned = project::mentioned_runtimes(environment)?;
    mentioned.retain(|name| !others.contains(name));
    let mut required = usable(environment, &mentioned)?;
    required.retain(|runtime| project::required(runtime).concerns());
    Ok(required)
}

/// Every runtime with a definition that can be used, and the first error of another one. A definition that
/// is broken stops nothing that is about other runtimes.
pub fn defined<'c>(
    environment: &'c Environment,
) -> Result<(Vec<Runtime<'c>>, Option<Error>), Error> {
    let mut defined = Vec::new();
    let mut broken = None;
    for name in definitions::names(environment.folders()?)? {
        match environment.definition(&name) {
            Ok(definition) => defined.push(Runtime::open(environment, definition)?),
            Err(error @ Error::Definition { .. }) => broken = broken.or(Some(error)),
            Err(error) => return Err(error),
        }
    }
    Ok((defined, broken))
}

/// The runtimes that shells enter, and others that the project here requires.
pub fn followed(environment: &Environment) -> Result<Vec<Runtime<'_>>, Error> {
    let names = environment.entered_runtimes()?;
    let mut followed = usable(environment, &names)?;
    followed.extend(required_beside(environment, &names)?);
    Ok(followed)
}

/// The names and titles of the known runtimes whose definitions can be used.
pub fn titles(environment: &Environment) -> Vec<(String, String)> {
    let names = environment.folders().and_then(definitions::names);
    let runtimes = names.and_then(|names| usable(environment, &names));
    let runtimes = runtimes.unwrap_or_default().into_iter();
    let title =
        |runtime: Runtime<'_>| (runtime.name().to_owned(), runtime.definition.title.clone());
    runtimes.map(title).collect()
}

/// The names of runtimes in the order in which they are likely to be meant: required here, on the shelf, defined by the
/// person, on PATH, and all others.
pub fn likely(environment: &Environment, mut names: Vec<String>) -> Vec<String> {
    let required = project::mentioned_runtimes(environment).unwrap_or_default();
    let folders = environment.folders();
    let shelf = folders.and_then(|folders| Ok(Shelf::runtimes(folders)?));
    let shelf = shelf.unwrap_or_default();
    let own = environment.folders();
    let own = own.and_then(|folders| definitions::names_in(&folders.config));
    let own = own.unwrap_or_default();
    let is_on_path = |name: &str| {
        let Ok(runtime) = Runtime::named(environment, Some(name)) else {
            return false;
        };
        let mut folders = std::env::split_paths(environment.shell.path());
        folders.any(|folder| is_program(&folder.join(&runtime.definition.program)))
    };
    names.sort_by_cached_key(|name| {
        let reasons = [
            required.contains(name),
            shelf.contains(name),
            own.contains(name),
            is_on_path(name),
        ];
        reasons.map(|applies| !applies)
    });
    names
}

/// The runtimes that shells enter: those on the shelf, and the main one.
pub fn entered(environment: &Environment) -> Result<Vec<Runtime<'_>>, Error> {
    usable(environment, &environment.entered_runtimes()?)
}

/// The runtimes with these names whose definitions can be used.
fn usable<'c, 'n>(
    environment: &'c Environment,
    names: impl IntoIterator<Item = &'n String>,
) -> Result<Vec<Runtime<'c>>, Error> {
    let mut usable = Vec::new();
    for name in names {
        match Runtime::named(environment, Some(name)) {
            Ok(runtime) => usable.push(runtime),
            // Commands about this runtime report it.
            Err(Error::UnknownRuntime { .. } | Error::Definition { .. }) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(usable)
}
