//! What the names of archives tell: of which version, and for which platform.

use std::collections::BTreeMap;

use vshelf_core::Platform;
use vshelf_core::definition::SourceDefinition;
use vshelf_core::template::Template;

/// How a publisher names its archives.
pub struct ArchiveNames {
    /// A name, with `{version}` and, where there are several platforms, `{platform}`.
    pub(crate) pattern: Template,
    /// What stands for each platform.
    pub(crate) platforms: BTreeMap<Platform, String>,
}

impl ArchiveNames {
    /// The spelling of the version and the platform in a name that the pattern fits.
    pub(crate) fn read<'n>(
        &self,
        definition: &SourceDefinition,
        name: &'n str,
    ) -> Option<(&'n str, &Platform)> {
        self.platforms.iter().find_map(|(platform, word)| {
            let allows = |place: &str, value: &str| match place {
                "platform" => value == word,
                _ => definition.versions.read(value).is_some(),
            };
            let values = self.pattern.values(name, &allows)?;
            let version = self.pattern.places().position(|place| place == "version")?;
            Some((values[version], platform))
        })
    }
}
