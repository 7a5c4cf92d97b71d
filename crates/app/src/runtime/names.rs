//! Installs of one runtime as commands name them.

use std::fmt;

use vshelf_core::{Key, Line, Pick, Request, Version};
use vshelf_shelf::Install;
use vshelf_shelf::store::Untold;

use super::published::Published;
use crate::error::{Done, Error};
use crate::events::{Event, Listener};
use crate::snapshot::ShelfSnapshot;

/// The selectors, titles and order of a runtime's installs, all of which depend on its main publisher.
#[derive(Clone, Copy, Debug)]
pub struct Names<'r> {
    pub(super) published: &'r Published<'r>,
    pub(super) shelf: &'r ShelfSnapshot,
}

/// The publisher that a selector means if it names none, as the catalog says, or else the definition's first source.
pub fn stated_main_publisher<'p>(published: &'p Published<'_>) -> Option<&'p str> {
    let first_source = || published.definition.sources.first()?.kind.publisher();
    published
        .outline()
        .main_publisher_id()
        .or_else(first_source)
}

/// The publisher of all installs that were fetched, if they are of one.
fn only_publisher(installs: &[Install]) -> Option<&str> {
    let fetched = installs.iter().map(|install| &install.record.contents);
    let mut publishers = fetched
        .filter(|record| record.adopted.is_none())
        .map(|record| record.publisher.as_str());
    let first = publishers.next()?;
    publishers.all(|other| other == first).then_some(first)
}

impl<'r> Names<'r> {
    /// The publisher that a selector means if it names none: as the catalog says, or else the definition's
    /// first source. If neither is known, that of the installs, as long as they are all of one.
    pub fn main_publisher(self) -> Option<&'r str> {
        stated_main_publisher(self.published).or_else(|| only_publisher(&self.shelf.installs))
    }

    /// The shortest selector that means exactly the install with this key.
    pub fn selector_of(self, key: &Key) -> String {
        key.short_selector(self.main_publisher())
    }

    /// The shortest selector that means exactly what is picked.
    pub fn selector_of_pick(self, pick: &Pick) -> String {
        pick.short_selector(self.main_publisher())
    }

    /// A request as a person would write it: without its publisher if that is meant anyway.
    pub fn shown(self, request: &Request) -> Request {
        let main = self.main_publisher();
        let is_named = |publisher: &String| main != Some(publisher);
        Request {
            publisher: request.publisher.clone().filter(is_named),
            ..request.clone()
        }
    }

    /// The selector that means exactly what this publisher published as this version.
    pub fn selector_for(self, version: &Version, publisher: &str) -> String {
        self.selector_of(&Key::new(version, publisher))
    }

    /// A selector of this runtime as commands need it: with the runtime where another could be meant.
    pub fn as_typed(self, selector: impl fmt::Display) -> String {
        format!(
            "{}{selector}",
            self.published
                .environment
                .prefix(&self.published.definition.name)
        )
    }

    /// The selector of an install, as commands need it.
    pub fn key_as_typed(self, key: &Key) -> String {
        self.as_typed(self.selector_of(key))
    }

    /// An install as people call it: `Marram 8.3.1`.
    pub fn title_of(self, key: &Key) -> String {
        format!(
            "{} {}",
            self.published.definition.title,
            self.selector_of(key)
        )
    }

    /// The installs, newest first; of one version, that of the main publisher comes first.
    pub fn installs_main_first(self) -> Vec<&'r Install> {
        let main = self.main_publisher();
        let mut installs: Vec<&'r Install> = self.shelf.installs.iter().collect();
        installs.sort_by(|a, b| {
            let is_other = |install: &Install| main != Some(&install.id.publisher);
            let newest_first = b.id.version.cmp(&a.id.version);
            newest_first.then_with(|| is_other(a).cmp(&is_other(b)))
        });
        installs
    }

    /// The installs of a line.
    pub fn installs_of(self, line: &Line) -> impl Iterator<Item = &'r Install> {
        let installs = self.installs_main_first().into_iter();
        installs.filter(|install| line.covers(&install.id.version))
    }

    /// The selector of the newest install, as commands need it, or `None` if the shelf is empty.
    pub fn newest_on_shelf(self) -> Option<String> {
        self.newest_besides(None)
    }

    /// The selector of the newest install besides the one with this key.
    pub fn newest_besides(self, key: Option<&Key>) -> Option<String> {
        let installs = self.installs_main_first().into_iter();
        let mut others = installs.filter(|install| Some(&install.id.key) != key);
        others
            .next()
            .map(|install| self.key_as_typed(&install.id.key))
    }

    /// An error where the record of what has this key tells nothing.
    pub fn refuse_untold_key(self, key: &Key) -> Done {
        let untold = self.shelf.untold.iter().find(|untold| untold.key == *key);
        untold.map_or(Ok(()), |untold| Err(self.untold_error(untold)))
    }

    pub(super) fn untold_error(self, untold: &Untold) -> Error {
        Error::Untold {
            title: self.title_of(&untold.key),
            selector: self.key_as_typed(&untold.key),
            error: untold.error.clone(),
        }
    }

    /// Reports the installs whose records cannot be read.
    pub fn tell_untold(self, listener: &dyn Listener) {
        for untold in &self.shelf.untold {
            listener.tell(Event::LeftUndone(&self.untold_error(untold)));
        }
    }
}
