//! The lines on the shelf that a clean-up or a renewal is about.

use vshelf_core::resolve::Scope;
use vshelf_core::{Key, Request};

use crate::environment::Environment;
use crate::error::Error;
use crate::runtime::{Runtime, opening};

/// A word for lines on the shelf.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum LineWord {
    /// All lines of this runtime.
    Runtime(String),
    /// The lines of what this request covers.
    Line(Request),
}

/// The runtimes that are meant, each with the keys of the installs whose lines are: all if no word is given.
pub fn meant<'c>(
    environment: &'c Environment,
    words: &[LineWord],
) -> Result<Vec<(Runtime<'c>, Vec<Key>)>, Error> {
    if words.is_empty() {
        let runtimes = opening::shown(environment, None)?.into_iter();
        return Ok(runtimes.map(with_all_keys).collect());
    }
    let mut meant: Vec<(Runtime<'_>, Vec<Key>)> = Vec::new();
    for word in words {
        let (runtime, found) = match word {
            LineWord::Runtime(name) => with_all_keys(Runtime::named(environment, Some(name))?),
            LineWord::Line(request) => with_keys_of(environment, request)?,
        };
        let mut known = meant.iter_mut();
        match known.find(|(known, _)| known.name() == runtime.name()) {
            Some((_, keys)) => keys.extend(found),
            None => meant.push((runtime, found)),
        }
    }
    Ok(meant)
}

fn with_all_keys(runtime: Runtime<'_>) -> (Runtime<'_>, Vec<Key>) {
    let installs = runtime.snapshot.installs.iter();
    let keys = installs.map(|install| install.id.key.clone()).collect();
    (runtime, keys)
}

fn with_keys_of<'c>(
    environment: &'c Environment,
    request: &Request,
) -> Result<(Runtime<'c>, Vec<Key>), Error> {
    let runtime = Runtime::of_request(environment, request)?;
    let covered = runtime.choosing().covered(request, Scope::Shelf)?;
    let keys: Vec<Key> = (covered.iter())
        .filter_map(|candidate| Some(candidate.install?.key.clone()))
        .collect();
    if keys.is_empty() {
        let line = request.to_string();
        return Err(Error::NoSuchLine { line });
    }
    Ok((runtime, keys))
}
