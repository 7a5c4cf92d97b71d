//! Links to the newest install of a line, for editors and settings files: paths that follow renewals and removals.

use std::path::PathBuf;

use vshelf_core::{Key, Pick, Request, Selector, Version};
use vshelf_files::action::FileAction;
use vshelf_files::optional;

use crate::environment::Environment;
use crate::error::{Class, Done, Error, file_error};
use crate::runtime::Runtime;

/// The link to the newest install that a line's numbers cover, made if it is not there, and that install. It leads to
/// whatever is the newest from now on.
pub fn link(runtime: &Runtime<'_>, request: &Request) -> Result<(PathBuf, Pick), Error> {
    let Selector::Version(typed) = &request.selector else {
        return Err(Error::NotALine {
            selector: request.without_runtime().to_string(),
        });
    };
    let spelled = runtime.definition.spellings.rewritten(typed.as_str());
    let line = spelled.unwrap_or_else(|| typed.clone());
    let pick = runtime.choosing().resolve_pick(request)?;
    let key = pick.key().ok_or_else(|| Error::NotAnInstall {
        selector: request.to_string(),
        class: Class::NoMatch,
    })?;
    let name = match &request.publisher {
        Some(publisher) => Key::new(&line, publisher).as_str().to_owned(),
        None => line.to_string(),
    };
    runtime.shelf.point_line(&name, key)?;
    Ok((runtime.shelf.line_link(&name), pick))
}

/// Has every link that there is lead to the newest install of its line. One whose line has no install stays as it is, and
/// leads somewhere again as soon as there is one.
pub fn refresh(environment: &Environment) -> Done {
    let lines = environment.layout()?.lines();
    for name in optional::names(&lines).map_err(file_error(&lines, FileAction::Read))? {
        let runtime = match Runtime::named(environment, Some(&name)) {
            Ok(runtime) => runtime,
            Err(Error::UnknownRuntime { .. } | Error::Definition { .. }) => continue,
            Err(error) => return Err(error),
        };
        for name in runtime.shelf.line_links()? {
            let newest = request_of(&name).and_then(|line| runtime.choosing().pick_meeting(&line));
            if let Some(Pick::Install(key)) = newest {
                runtime.shelf.point_line(&name, &key)?;
            }
        }
    }
    Ok(())
}

/// The request that the link with this name stands for.
fn request_of(name: &str) -> Option<Request> {
    let of = |publisher, version| Request {
        runtime: None,
        publisher,
        selector: Selector::Version(version),
    };
    if let Ok(line) = name.parse::<Version>() {
        return Some(of(None, line));
    }
    let key: Key = name.parse().ok()?;
    Some(of(Some(key.publisher().to_owned()), key.version()?.clone()))
}
