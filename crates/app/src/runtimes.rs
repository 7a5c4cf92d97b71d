//! The definitions that are known: listed, added, removed, and which runtime is the main one.

use std::fs;
use std::path::PathBuf;

use jiff::civil::Date;
use serde::Serialize;
use toml_edit::{ArrayOfTables, DocumentMut, TomlError};
use vshelf_core::definition::SourceDefinition;
use vshelf_core::{Catalog, Definition, Platform};
use vshelf_files::atomic;
use vshelf_shelf::Shelf;
use vshelf_sources::api::{Fetched, Known};
use vshelf_sources::merge::{Part, merge};
use vshelf_sources::oci::{Repository, is_repository};
use vshelf_sources::transport::{Document, Validators};
use vshelf_sources::{Address, PublishedCatalog, SourceError};

use crate::definitions;
use crate::environment::Environment;
use crate::error::{DefinitionProblem, Done, Error, file_error};
use crate::events::{Answer, Listener, Question, Task};
use crate::settings;

/// A runtime that is known.
#[derive(Clone, Debug)]
pub struct KnownRuntime {
    /// Its definition.
    pub definition: Definition,
    /// Whose definition it is.
    pub defined_by: DefinedBy,
    /// How many installs are on the shelf.
    pub installs: usize,
}

/// Whose a definition is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize)]
#[cfg_attr(feature = "schemas", derive(schemars::JsonSchema))]
#[serde(rename_all = "lowercase")]
pub enum DefinedBy {
    /// It comes with the program.
    Program,
    /// It is among the company's settings.
    Company,
    /// The person added it.
    Person,
}

/// Every runtime that is known, by name.
pub fn list(environment: &Environment) -> Result<Vec<KnownRuntime>, Error> {
    let folders = environment.folders()?;
    let own = definitions::names_in(&folders.config)?;
    let company = definitions::names_in(&folders.company)?;
    let names = definitions::names(folders)?.into_iter();
    names
        .map(|name| {
            Ok(KnownRuntime {
                definition: environment.definition(&name)?,
                defined_by: match () {
                    () if own.contains(&name) => DefinedBy::Person,
                    () if company.contains(&name) => DefinedBy::Company,
                    () => DefinedBy::Program,
                },
                installs: Shelf::new(folders, &name).contents()?.installs.len(),
            })
        })
        .collect()
}

/// Adds or replaces a definition by the one at this URL or path; gives back the definition and its file,
/// or nothing where the person does not want it in the place of one that is built in. `replace` says
/// that they do.
pub fn add(
    environment: &Environment,
    place: &str,
    replace: bool,
    listener: &dyn Listener,
) -> Result<Option<(Definition, PathBuf)>, Error> {
    let (text, definition) = read(environment, place)?;
    let file = definitions::file(&environment.folders()?.config, &definition.name);
    if !replace && definitions::is_built_in(&definition.name) && !file.exists() {
        let question = Question::ReplaceBuiltIn {
            title: &definition.title,
            place,
        };
        match listener.ask(&question)? {
            Answer::Yes => {}
            Answer::No => return Ok(None),
            Answer::Nobody => {
                return Err(Error::BuiltIn {
                    title: definition.title.clone(),
                    place: place.to_owned(),
                });
            }
        }
    }
    atomic::write_file(&file, text.as_bytes()).map_err(file_error(&file, "written"))?;
    Ok(Some((definition, file)))
}

/// The definition's text as it holds in another place: a catalog named by a path alone is beside
/// the definition, such as in a mirror.
fn beside(text: &str, place: &Address) -> Result<String, String> {
    let mut document: DocumentMut = text.parse().map_err(|e: TomlError| e.to_string())?;
    let place = match place {
        Address::File(path) => {
            Address::File(std::path::absolute(path).map_err(|error| error.to_string())?)
        }
        web => web.clone(),
    };
    let sources = document.get_mut("sources");
    let sources = sources.and_then(|sources| sources.as_array_of_tables_mut());
    for source in sources.into_iter().flat_map(ArrayOfTables::iter_mut) {
        let is_catalog = source.get("kind").and_then(|kind| kind.as_str()) == Some("catalog");
        if let Some(address) = source.get_mut("address").filter(|_| is_catalog)
            && let Some(written) = address.as_str()
        {
            let joined = place.join(written).map_err(|error| error.to_string())?;
            // The file is the person's own, and without a password the server would not answer.
            *address = toml_edit::value(joined.with_password());
        }
    }
    Ok(document.to_string())
}

/// The definition at this URL or path, and its text, in which addresses beside it are whole.
fn read(environment: &Environment, place: &str) -> Result<(String, Definition), Error> {
    // They say what servers are told.
    environment.settings()?;
    if is_repository(place) {
        return read_repository(environment, place);
    }
    let address = Address::read(place).map_err(SourceError::from)?;
    let document = environment
        .transport
        .document(&address, &Validators::default(), None)?;
    let Document::Body { bytes, .. } = document else {
        return Err(Error::NoDocument {
            address: address.to_string(),
        });
    };
    let no_definition = |problem: DefinitionProblem| Error::FetchedDefinition {
        address: address.to_string(),
        problem,
    };
    let text = String::from_utf8_lossy(&bytes);
    // What is wrong is told of the text as it was written.
    definitions::read(&text).map_err(no_definition)?;
    let syntax = |problem| no_definition(DefinitionProblem::Syntax(problem));
    let text = beside(&text, &address).map_err(syntax)?;
    let definition = definitions::read(&text).map_err(no_definition)?;
    Ok((text, definition))
}

/// The definition in a repository of a registry, with that repository as its source.
fn read_repository(environment: &Environment, place: &str) -> Result<(String, Definition), Error> {
    let repository = Repository::read(place).map_err(SourceError::from)?;
    let no_definition = |problem: DefinitionProblem| Error::FetchedDefinition {
        address: repository.to_string(),
        problem,
    };
    let text = repository.definition(&environment.transport)?;
    let text = text.ok_or_else(|| Error::NoDocument {
        address: repository.to_string(),
    })?;
    definitions::read(&text).map_err(no_definition)?;
    let syntax = |problem: TomlError| no_definition(DefinitionProblem::Syntax(problem.to_string()));
    let mut document: DocumentMut = text.parse().map_err(syntax)?;
    let sources = document.get_mut("sources");
    let sources = sources.and_then(|sources| sources.as_array_of_tables_mut());
    for source in sources.into_iter().flat_map(ArrayOfTables::iter_mut) {
        // It may have been copied from another registry.
        if source.get("kind").and_then(|kind| kind.as_str()) == Some("oci") {
            source.insert("address", toml_edit::value(repository.to_string()));
        }
    }
    let text = document.to_string();
    let definition = definitions::read(&text).map_err(no_definition)?;
    Ok((text, definition))
}

/// What a definition would publish, were it added.
#[derive(Debug)]
pub struct CheckedDefinition {
    /// The definition.
    pub definition: Definition,
    /// What each of its sources gives.
    pub sources: Vec<CheckedSource>,
    /// The day on which phases are computed.
    pub today: Date,
    /// What all of them give together; nothing where none with builds gives anything.
    pub catalog: Option<Catalog>,
    /// This platform.
    pub platform: Platform,
}

/// What one source of a definition gives.
#[derive(Debug)]
pub struct CheckedSource {
    /// Its name.
    pub name: String,
    /// What it gives, or why it gives nothing.
    pub published: Result<PublishedCatalog, Error>,
}

/// Asks every source of the definition at this URL or path, and keeps nothing.
pub fn check(
    environment: &Environment,
    place: &str,
    listener: &dyn Listener,
) -> Result<CheckedDefinition, Error> {
    let (_, definition) = read(environment, place)?;
    let fetch = |source: &SourceDefinition| -> Result<PublishedCatalog, Error> {
        let (platform, settings) = (environment.platform(), environment.registries());
        let opened = vshelf_sources::open(&definition.name, source, platform, &settings)?;
        let known = Known {
            validators: Validators::default(),
            updated: None,
            expires: None,
            now: environment.now()?,
        };
        match opened.fetch(&environment.transport, &known)? {
            Fetched::Changed(published) => Ok(*published),
            Fetched::Unchanged => Err(Error::CatalogChanged),
        }
    };
    let ask_all = || -> Result<Vec<CheckedSource>, Error> {
        let checked = definition.sources.iter().map(|source| CheckedSource {
            name: source.name.clone(),
            published: fetch(source),
        });
        Ok(checked.collect())
    };
    let sources = Task::LoadingCatalog(&definition.title).during(listener, ask_all)?;
    let parts: Vec<Part<'_>> = definition
        .sources
        .iter()
        .zip(&sources)
        .filter_map(|(source, checked)| {
            Some(Part {
                source,
                published: checked.published.as_ref().ok()?.clone(),
                offers: true,
            })
        })
        .collect();
    let has_any = parts.iter().any(|part| part.source.kind.has_builds());
    let catalog = has_any.then(|| merge(&definition, &parts).catalog);
    Ok(CheckedDefinition {
        today: environment.today()?,
        platform: environment.platform().clone(),
        definition,
        sources,
        catalog,
    })
}

/// Removes the person's own definition of a runtime; its installs stay.
pub fn remove(environment: &Environment, name: &str) -> Done {
    let config = &environment.folders()?.config;
    if !definitions::names_in(config)?.iter().any(|own| own == name) {
        return Err(Error::NoOwnDefinition {
            name: name.to_owned(),
        });
    }
    let file = definitions::file(config, name);
    fs::remove_file(&file).map_err(file_error(&file, "removed"))
}

/// Makes a runtime the one that selectors mean when they name none.
pub fn set_main(environment: &Environment, name: &str) -> Done {
    environment.definition(name)?;
    environment.settings()?;
    settings::set_main_runtime(&environment.folders()?.config, name)
}
