//! From a definition's source to what reads it: the only module that knows every kind.

use vshelf_core::Platform;
use vshelf_core::definition::{SourceDefinition, SourceKind};

use crate::address::Addresses;
use crate::api::{Source, SourceError};
use crate::kinds::archive_names::ArchiveNames;
use crate::kinds::facts::Facts;
use crate::kinds::folder::ArchiveFolder;
use crate::kinds::json::Json;
use crate::kinds::maven::{Artifact, Maven};
use crate::kinds::npm_packages::NpmPackages;
use crate::kinds::own_catalog::{OwnCatalog, Place};
use crate::kinds::release_list::ReleaseList;
use crate::kinds::table::Table;
use crate::kinds::wheels::Wheels;
use crate::npm::NpmRegistry;
use crate::oci::Repository;
use crate::registries::UserSettings;

#[expect(clippy::too_many_lines, reason = "one table of the kinds")]
/// The source that `definition` describes, for the runtime of this name.
pub fn open(
    runtime: &str,
    definition: &SourceDefinition,
    platform: &Platform,
    settings: &UserSettings,
) -> Result<Box<dyn Source>, SourceError> {
    let runtime = runtime.to_owned();
    let registry = || NpmRegistry::new(settings.clone());
    Ok(match definition.kind.clone() {
        SourceKind::Catalog {
            address,
            mirrors,
            key,
            publisher: _,
        } => Box::new(OwnCatalog::new(
            &runtime,
            Place::Files(Addresses::read(&address, &mirrors)?),
            key,
        )),
        SourceKind::Oci {
            address,
            key,
            publisher: _,
        } => Box::new(OwnCatalog::new(
            &runtime,
            Place::Repository(Repository::read(&address)?),
            key,
        )),
        SourceKind::ReleaseList {
            address,
            mirrors,
            checksums,
            archives,
            publisher: _,
        } => Box::new(ReleaseList {
            runtime,
            definition: definition.clone(),
            addresses: Addresses::read(&address, &mirrors)?,
            checksums,
            archives,
        }),
        SourceKind::Npm {
            packages,
            publisher: _,
        } => Box::new(NpmPackages {
            runtime,
            definition: definition.clone(),
            packages: packages
                .into_iter()
                .filter(|(built_for, _)| built_for.runs_on(platform))
                .collect(),
            registry: registry(),
        }),
        SourceKind::Wheels {
            package,
            publisher: _,
        } => Box::new(Wheels {
            runtime,
            definition: definition.clone(),
            package,
            settings: settings.clone(),
        }),
        SourceKind::Folder {
            address,
            mirrors,
            pattern,
            platforms,
            checksums,
            publisher: _,
        } => Box::new(ArchiveFolder {
            runtime,
            definition: definition.clone(),
            lists: Addresses::read(&address, &mirrors)?.map(|folder| folder.below(&checksums))?,
            names: ArchiveNames { pattern, platforms },
        }),
        SourceKind::Table {
            address,
            mirrors,
            pattern,
            platforms,
            publisher: _,
        } => Box::new(Table {
            runtime,
            definition: definition.clone(),
            addresses: Addresses::read(&address, &mirrors)?,
            names: ArchiveNames { pattern, platforms },
        }),
        SourceKind::Json(source) => Box::new(Json {
            runtime,
            definition: definition.clone(),
            source: *source,
            platform: platform.clone(),
        }),
        SourceKind::Maven {
            artifact,
            classifier,
            extension,
            without_digests,
            address,
            publisher: _,
        } => {
            let (group, name) = artifact.split_once(':').unwrap_or((&artifact, ""));
            Box::new(Maven {
                runtime,
                definition: definition.clone(),
                artifact: Artifact {
                    group: group.to_owned(),
                    name: name.to_owned(),
                    classifier,
                    extension,
                    without_digests,
                },
                address,
                settings: settings.clone(),
            })
        }
        SourceKind::Facts {
            package,
            releases,
            lines,
            publisher: _,
        } => Box::new(Facts {
            runtime,
            definition: definition.clone(),
            package,
            releases,
            lines,
            registry: registry(),
        }),
    })
}
