//! The cards of releases and installs.

use std::collections::BTreeMap;

use vshelf_app::Runtime;
use vshelf_core::resolve::Candidate;
use vshelf_shelf::Install;
use vshelf_view::words::{ago, megabytes, printable};

use crate::output::card;
use crate::ui::plain;

/// The cards of releases and installs.
pub struct Cards<'r, 'c> {
    runtime: &'r Runtime<'c>,
    published: BTreeMap<String, Candidate<'r>>,
}

impl<'r, 'c> Cards<'r, 'c> {
    /// The cards of a runtime.
    pub fn new(runtime: &'r Runtime<'c>) -> Cards<'r, 'c> {
        let published = runtime.choosing().everything_published().into_iter();
        Cards {
            runtime,
            published: published
                .map(|candidate| {
                    (
                        runtime
                            .names()
                            .selector_for(candidate.version, candidate.publisher),
                        candidate,
                    )
                })
                .collect(),
        }
    }

    /// The card of the entry with this name: names and facts.
    pub fn of(&self, name: &str) -> Vec<(String, String)> {
        let runtime = self.runtime;
        let mut facts = Vec::new();
        if let Some(candidate) = self.published.get(name)
            && let Some(release) = candidate.release
        {
            // A card that cannot be read is a short one.
            let details = runtime.published.details(release).unwrap_or_default();
            let platform = runtime.environment().platform().to_string();
            facts = card::facts(runtime, candidate, release, &details);
            // Of the builds only the one for this machine can be chosen.
            facts.retain(|(name, fact)| *name != "build" || fact.starts_with(&platform));
        }
        let is_named = |install: &&Install| runtime.names().selector_of(&install.id.key) == name;
        if let Some(install) = runtime.snapshot.installs.iter().find(is_named) {
            let contents = &install.record.contents;
            let used = ago(runtime.used_on(install), runtime.today());
            let size = megabytes(contents.unpacked_size);
            // The facts of the install repeat these.
            facts.retain(|(name, fact)| {
                *name != "on the shelf" && !(*name == "source" && *fact == contents.source)
            });
            let place = facts.len().min(1);
            let of_install = [
                ("on disk", format!("{size}, used {used}")),
                ("installed from", printable(&contents.source)),
            ];
            facts.splice(place..place, of_install);
        }
        let facts = facts.into_iter();
        facts
            .map(|(name, fact)| (name.to_owned(), plain(&fact)))
            .collect()
    }
}
