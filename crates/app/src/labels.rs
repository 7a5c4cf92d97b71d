//! A person's own names for selectors.

use vshelf_core::meant::near;
use vshelf_core::resolve::Scope;
use vshelf_core::selector::{KEYWORDS, is_name};
use vshelf_core::{Pick, Request};

use crate::conclude::{Changed, conclude};
use crate::defaults::kept_as;
use crate::environment::Environment;
use crate::error::{Done, Error, Taken};
use crate::runtime::published::Extent;
use crate::runtime::{Runtime, opening};

/// A label.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Label {
    /// The runtime.
    pub runtime: String,
    /// The label.
    pub name: String,
    /// What it is bound to.
    pub selector: String,
    /// What on the shelf it stands for now.
    pub pick: Option<Pick>,
    /// The selector that means exactly that.
    pub shown: Option<String>,
}

/// A label that was set.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewLabel {
    /// The label.
    pub name: String,
    /// What it is bound to.
    pub selector: String,
    /// What commands need in front of it.
    pub prefix: String,
    /// What it was bound to before, where that was something else.
    pub before: Option<String>,
    /// Whether something on the shelf meets it.
    pub on_shelf: bool,
}

/// The labels of all runtimes on the shelf, and whether there are several such runtimes.
pub fn all(environment: &Environment) -> Result<(Vec<Label>, bool), Error> {
    let runtimes = opening::shown(environment, None)?;
    let labels = runtimes.iter().flat_map(labels_of).collect();
    Ok((labels, runtimes.len() > 1))
}

fn labels_of(runtime: &Runtime<'_>) -> Vec<Label> {
    let labels = runtime.snapshot.state.labels.iter();
    let label = |(name, selector): (&String, &String)| {
        let pick = runtime.choosing().pick_of_label(selector);
        Label {
            runtime: runtime.name().to_owned(),
            name: name.clone(),
            selector: selector.clone(),
            shown: (pick.as_ref()).map(|pick| runtime.names().selector_of_pick(pick)),
            pick,
        }
    };
    labels.map(label).collect()
}

/// The label with this name; case does not matter.
pub fn find(environment: &Environment, name: &str) -> Result<Label, Error> {
    let (labels, _) = all(environment)?;
    let is_meant = |label: &Label| label.name.eq_ignore_ascii_case(name);
    match labels.iter().position(is_meant) {
        Some(place) => Ok(labels[place].clone()),
        None => Err(unknown(name, &labels)),
    }
}

fn unknown(name: &str, labels: &[Label]) -> Error {
    Error::UnknownLabel {
        name: name.to_owned(),
        near: near::words(name, labels.iter().map(|label| label.name.as_str())),
    }
}

/// Removes the label with this name; gives it back as it was written.
pub fn remove(environment: &Environment, name: &str) -> Result<String, Error> {
    let runtimes = opening::shown(environment, None)?;
    for runtime in &runtimes {
        let mut labels = runtime.snapshot.state.labels.keys();
        if let Some(label) = labels.find(|label| label.eq_ignore_ascii_case(name)) {
            runtime.shelf.change_state(|state| {
                state.labels.remove(label);
            })?;
            conclude(environment, Changed::Requirements)?;
            return Ok(label.clone());
        }
    }
    let labels: Vec<Label> = runtimes.iter().flat_map(labels_of).collect();
    Err(unknown(name, &labels))
}

/// Binds a label to a selector. It may be set before its install is there, but not on what does not
/// exist.
pub fn set(environment: &Environment, name: &str, request: &Request) -> Result<NewLabel, Error> {
    let mut runtime = Runtime::of_request(environment, request)?;
    refuse_taken(&runtime, name)?;
    let selector = kept_as(request);
    let on_shelf = runtime
        .choosing()
        .explain(request, Scope::Shelf)
        .outcome
        .is_ok();
    if !on_shelf {
        runtime.published.load(Extent::Releases)?;
        runtime.choosing().resolve(request, Scope::Published)?;
    }
    if selector.eq_ignore_ascii_case(name) {
        return Err(Error::LabelCircle {
            name: name.to_owned(),
        });
    }
    let before = runtime.snapshot.state.labels.get(name);
    let before = before.filter(|before| **before != selector).cloned();
    runtime.shelf.change_state(|state| {
        state.labels.insert(name.to_owned(), selector.clone());
    })?;
    conclude(environment, Changed::Requirements)?;
    Ok(NewLabel {
        name: name.to_owned(),
        selector,
        prefix: environment.prefix(runtime.name()),
        before,
        on_shelf,
    })
}

/// A label may not hide a version, a keyword, a channel or a code name.
fn refuse_taken(runtime: &Runtime<'_>, name: &str) -> Done {
    if !is_name(name) {
        return Err(Error::NotAName {
            name: name.to_owned(),
        });
    }
    let is_keyword = KEYWORDS.iter().any(|word| word.eq_ignore_ascii_case(name));
    let number = name.strip_prefix(['v', 'V']);
    let is_version = number.is_some_and(|rest| rest.starts_with(|c: char| c.is_ascii_digit()));
    let catalog = runtime.published.outline();
    let by = match () {
        () if is_keyword => Taken::Keyword,
        () if is_version => Taken::Version,
        () if catalog.channel(name).is_some() => Taken::Channel,
        () if catalog.line_named(name).is_some() => Taken::CodeName,
        () => return Ok(()),
    };
    Err(Error::NameTaken {
        name: name.to_owned(),
        by,
    })
}
