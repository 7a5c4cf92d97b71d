//! Resolving requests among published releases or installs.

use vshelf_core::resolve::{self, Candidate, Choice, Explanation, ResolveError, Scope, World};
use vshelf_core::{Pick, Request, Selector, Version};
use vshelf_shelf::store::Untold;

use super::names::Names;
use crate::error::{Class, Done, Error};

/// Resolves requests for one runtime.
#[derive(Clone, Copy, Debug)]
pub struct Choosing<'r> {
    pub(super) names: Names<'r>,
}

impl<'r> Choosing<'r> {
    /// What `request`, which means the newest of a line, stands for among what is published.
    pub fn newest_of_line(self, request: &Request) -> Option<Version> {
        let world = World {
            catalog: self.names.published.heads(),
            ..self.world(Scope::Shelf)
        };
        match resolve::resolve(&world, request, Scope::Published).outcome {
            Ok(Choice::Version(chosen)) => Some(chosen.version.clone()),
            _ => None,
        }
    }

    /// All that choosing among what `scope` says depends on.
    pub fn world(self, scope: Scope) -> World<'r> {
        World {
            catalog: match scope {
                Scope::Published => self.names.published.catalog(),
                Scope::Shelf => self.names.published.outline(),
            },
            shelf: &self.names.shelf.ids,
            labels: &self.names.shelf.state.labels,
            spellings: &self.names.published.definition.spellings,
            default: self.names.shelf.default_selector(),
            default_pick: match scope {
                Scope::Published => None,
                Scope::Shelf => self.names.shelf.default_pick(),
            },
            previous: self
                .names
                .published
                .environment
                .shell
                .previous(&self.names.published.definition.name),
            platform: self.names.published.environment.platform(),
            today: self.names.published.today,
        }
    }

    /// How `request` becomes a choice.
    pub fn explain(self, request: &Request, scope: Scope) -> Explanation<'r> {
        let explanation = resolve::resolve(&self.world(scope), request, scope);
        match explanation.outcome {
            // A release that is not on the shelf may be published: only the whole catalog has it.
            Err(ResolveError::NotOnShelf { .. } | ResolveError::UnknownPublisher { .. }) => {
                resolve::resolve(&self.world(Scope::Published), request, scope)
            }
            _ => explanation,
        }
    }

    /// What `request` stands for.
    pub fn resolve(self, request: &Request, scope: Scope) -> Result<Choice<'r>, Error> {
        let outcome = self.explain(request, scope).outcome;
        outcome.map_err(|error| self.unmet(request, scope, error))
    }

    /// Why a request stands for nothing: the record of what it means may tell nothing.
    fn unmet(self, request: &Request, scope: Scope, error: ResolveError) -> Error {
        match self.untold_meant(request) {
            Some(untold) if scope == Scope::Shelf => self.names.untold_error(untold),
            _ => self.unresolved(error),
        }
    }

    /// The install without a usable record that a request means.
    fn untold_meant(self, request: &Request) -> Option<&'r Untold> {
        let Selector::Version(version) = &request.selector else {
            return None;
        };
        let means = |untold: &&Untold| {
            let publisher = request.publisher.as_deref().or(self.names.main_publisher());
            publisher.is_none_or(|publisher| publisher == untold.key.publisher())
                && (untold.key.version()).is_some_and(|known| known.begins_with(version))
        };
        self.names.shelf.untold.iter().find(means)
    }

    /// An error where a request means something whose record tells nothing.
    pub fn refuse_untold(self, request: &Request) -> Done {
        let untold = self.untold_meant(request);
        untold.map_or(Ok(()), |untold| Err(self.names.untold_error(untold)))
    }

    /// What `request` stands for on the shelf.
    pub fn resolve_pick(self, request: &Request) -> Result<Pick, Error> {
        let choice = self.resolve(request, Scope::Shelf)?;
        choice.pick().ok_or_else(|| Error::NotAnInstall {
            selector: request.to_string(),
            class: Class::NoMatch,
        })
    }

    /// The install or system copy that meets `request`, or `None`.
    pub fn pick_meeting(self, request: &Request) -> Option<Pick> {
        resolve::pick(&self.world(Scope::Shelf), request)
    }

    /// What on the shelf a label's selector stands for.
    pub fn pick_of_label(self, selector: &str) -> Option<Pick> {
        self.pick_meeting(&selector.parse().ok()?)
    }

    /// All that `request` covers among what `scope` says.
    pub fn covered(self, request: &Request, scope: Scope) -> Result<Vec<Candidate<'r>>, Error> {
        let world = World {
            default_pick: self.world(scope).default_pick,
            ..self.world(Scope::Published)
        };
        let covered = resolve::covered(&world, request, scope);
        covered.map_err(|error| self.unmet(request, scope, error))
    }

    /// Everything that is published.
    pub fn everything_published(self) -> Vec<Candidate<'r>> {
        resolve::candidates(&self.world(Scope::Published), Scope::Published)
    }

    /// Whether a request covers this version among what is published.
    pub fn covers(self, request: &Request, version: &Version) -> bool {
        let covered = self.covered(request, Scope::Published).unwrap_or_default();
        covered.iter().any(|one| one.version == version)
    }

    /// A failure to resolve a selector of this runtime.
    pub fn unresolved(self, error: ResolveError) -> Error {
        Error::Resolve {
            prefix: self
                .names
                .published
                .environment
                .prefix(&self.names.published.definition.name),
            error: Box::new(error),
        }
    }
}
