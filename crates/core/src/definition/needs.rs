//! What a build needs of a system, once that system was looked at.

/// What of a build's needs is there, and what is not.
#[derive(Clone, Debug, Default)]
pub struct Needs {
    /// The libraries that are there.
    pub found: Vec<FoundLibrary>,
    /// What is not there.
    pub missing: Vec<Missing>,
    /// What the C compiler calls itself.
    pub compiler: Option<String>,
}

/// A library that is there.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct FoundLibrary {
    /// Its name.
    pub name: String,
    /// Its version, where pkg-config knows it.
    pub version: Option<String>,
}

/// Something that a build needs and this system does not have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Missing {
    /// Its name.
    pub name: String,
    /// What needs it.
    pub needed_for: String,
    /// Whether nothing is built without it.
    pub required: bool,
    /// The package that brings it on this system, where that is known.
    pub package: Option<String>,
}

impl Missing {
    /// Its name and purpose, as a sentence.
    pub fn sentence(&self) -> String {
        let package = self.package.as_ref();
        let package = package.map(|package| format!(" (package {package})"));
        let rank = if self.required { "" } else { " and optional" };
        format!(
            "{} is missing{rank}{}: it is for {}.",
            self.name,
            package.unwrap_or_default(),
            self.needed_for
        )
    }
}

impl Needs {
    /// Whether anything is missing that nothing is built without.
    pub fn forbid_building(&self) -> bool {
        self.missing.iter().any(|missing| missing.required)
    }

    /// The packages that bring what is missing, where they are known.
    pub fn missing_packages(&self) -> impl Iterator<Item = &str> {
        self.missing
            .iter()
            .filter_map(|missing| missing.package.as_deref())
    }
}
