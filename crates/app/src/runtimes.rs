//! The definitions that are known: listed, added, removed, and which runtime is the main one.

use std::fmt;
use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use jiff::civil::Date;
use serde::Serialize;
use toml_edit::{ArrayOfTables, DocumentMut, TomlError};
use vshelf_core::definition::{SourceDefinition, is_repository};
use vshelf_core::{Catalog, Definition, Platform};
use vshelf_files::action::FileAction;
use vshelf_files::atomic;
use vshelf_shelf::Shelf;
use vshelf_sources::api::{Fetched, Known};
use vshelf_sources::merge::{Part, merge};
use vshelf_sources::oci::Repository;
use vshelf_sources::transport::{Document, Validators};
use vshelf_sources::{Address, PublishedCatalog, SourceError};

use crate::conclude::{Changed, conclude};
use crate::definitions;
use crate::environment::Environment;
use crate::error::{DefinitionProblem, Done, Error, file_error};
use crate::events::{Answer, Event, Listener, Question};
use crate::runtime::Runtime;
use crate::runtime::published::Extent;
use crate::settings;

/// A runtime that is known.
#[derive(Clone, Debug)]
pub struct KnownRuntime {
    /// Its definition.
    pub definition: Arc<Definition>,
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

/// Every runtime that is known, by name, and why the other definitions cannot be used.
pub fn list(environment: &Environment) -> Result<(Vec<KnownRuntime>, Vec<Error>), Error> {
    let folders = environment.folders()?;
    let own = definitions::names_in(&folders.config)?;
    let company = definitions::names_in(&folders.company)?;
    let (mut known, mut broken) = (Vec::new(), Vec::new());
    for name in definitions::names(folders)? {
        let definition = match environment.definition(&name) {
            Err(error @ Error::Definition { .. }) => {
                broken.push(error);
                continue;
            }
            definition => definition?,
        };
        known.push(KnownRuntime {
            definition,
            defined_by: if own.contains(&name) {
                DefinedBy::Person
            } else if company.contains(&name) {
                DefinedBy::Company
            } else {
                DefinedBy::Program
            },
            installs: Shelf::new(folders, &name).contents()?.installs.len(),
        });
    }
    Ok((known, broken))
}

/// Adds or replaces a definition by the one at this URL or path; gives back the definition and its file,
/// or `None` if the person does not want it in the place of one that is built in.
pub fn add(
    environment: &Environment,
    place: &str,
    listener: &dyn Listener,
) -> Result<Option<(Definition, PathBuf)>, Error> {
    let (from, text, definition) = read(environment, place)?;
    let file = definitions::file(&environment.folders()?.config, &definition.name);
    if definitions::is_built_in(&definition.name) && !file.exists() {
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
    atomic::write_file(&file, text.as_bytes()).map_err(file_error(&file, FileAction::Write))?;
    environment.forget_definition(&definition.name);
    // Shells watch the requirement files of every known runtime.
    conclude(environment, Changed::Shelf)?;
    if !matches!(from, ReadFrom::File(Address::File(_))) {
        // The definition came over the network, and so can what its sources state. If they do not answer now,
        // the next command that needs it asks again.
        let mut runtime = Runtime::named(environment, Some(&definition.name))?;
        if let Err(error) = runtime.published.load(Extent::Releases) {
            listener.tell(Event::LeftUndone(&error));
        }
    }
    Ok(Some((definition, file)))
}

/// Where a definition was read.
enum ReadFrom {
    /// A file, whose catalogs named by a path alone are beside it, such as in a mirror.
    File(Address),
    /// A repository, which may have been copied from another registry.
    Repository(Repository),
}

impl ReadFrom {
    /// The address that a source of this kind has, of what is written in the definition; nothing where that stays.
    fn address(&self, kind: &str, written: &str) -> Result<Option<String>, String> {
        match self {
            ReadFrom::File(Address::File(path)) if kind == "catalog" => {
                let path = std::path::absolute(path).map_err(|error| error.to_string())?;
                ReadFrom::beside(&Address::File(path), written)
            }
            ReadFrom::File(web) if kind == "catalog" => ReadFrom::beside(web, written),
            ReadFrom::Repository(repository) if kind == "oci" => Ok(Some(repository.to_string())),
            _ => Ok(None),
        }
    }

    fn beside(place: &Address, written: &str) -> Result<Option<String>, String> {
        let joined = place.join(written).map_err(|error| error.to_string())?;
        // The file is the person's own, and without a password the server would not answer.
        Ok(Some(joined.with_password()))
    }

    /// The definition's text as it holds in another place.
    fn moved(&self, text: &str) -> Result<String, String> {
        let mut document: DocumentMut = text.parse().map_err(|e: TomlError| e.to_string())?;
        let sources = document.get_mut("sources");
        let sources = sources.and_then(|sources| sources.as_array_of_tables_mut());
        for source in sources.into_iter().flat_map(ArrayOfTables::iter_mut) {
            let text_of = |key: &str| source.get(key).and_then(|value| value.as_str());
            if let (Some(kind), Some(written)) = (text_of("kind"), text_of("address"))
                && let Some(address) = self.address(kind, written)?
            {
                source.insert("address", toml_edit::value(address));
            }
        }
        Ok(document.to_string())
    }
}

impl fmt::Display for ReadFrom {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            ReadFrom::File(address) => address.fmt(f),
            ReadFrom::Repository(repository) => repository.fmt(f),
        }
    }
}

/// The text at this URL, path or repository, as it is written there, and which of them that is.
fn fetch(environment: &Environment, place: &str) -> Result<(ReadFrom, String), Error> {
    let transport = &environment.transport;
    let (from, text) = match is_repository(place) {
        true => {
            let repository = Repository::read(place).map_err(SourceError::from)?;
            let text = repository.definition(transport)?;
            (ReadFrom::Repository(repository), text)
        }
        false => {
            let address = Address::read(place).map_err(SourceError::from)?;
            let text = match transport.document(&address, &Validators::default(), None)? {
                Document::Body { bytes, .. } => Some(String::from_utf8_lossy(&bytes).into_owned()),
                Document::Unchanged => None,
            };
            (ReadFrom::File(address), text)
        }
    };
    match text {
        Some(text) => Ok((from, text)),
        None => Err(Error::NoDocument {
            address: from.to_string(),
        }),
    }
}

/// The definition at this URL, path or repository, with its origin and its text. The sources in the text have
/// absolute addresses.
fn read(environment: &Environment, place: &str) -> Result<(ReadFrom, String, Definition), Error> {
    // They say what servers are told.
    environment.settings()?;
    let (from, text) = fetch(environment, place)?;
    let no_definition = |problem: DefinitionProblem| Error::FetchedDefinition {
        address: from.to_string(),
        problem,
    };
    // What is wrong is told of the text as it was written.
    definitions::read(&text).map_err(no_definition)?;
    let syntax = |problem| no_definition(DefinitionProblem::Syntax(problem));
    let text = from.moved(&text).map_err(syntax)?;
    let definition = definitions::read(&text).map_err(no_definition)?;
    Ok((from, text, definition))
}

/// What a definition would publish, were it added.
#[derive(Debug)]
pub struct CheckedDefinition {
    /// The definition.
    pub definition: Definition,
    /// Its text.
    pub text: String,
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
pub fn check(environment: &Environment, place: &str) -> Result<CheckedDefinition, Error> {
    let (_, text, definition) = read(environment, place)?;
    let fetch = |source: &SourceDefinition| -> Result<PublishedCatalog, Error> {
        let (platform, settings) = (environment.platform(), environment.registries());
        let opened = vshelf_sources::open(&definition.name, source, platform, &settings)?;
        let known = Known::nothing(environment.now()?);
        match opened.fetch(&environment.transport, &known)? {
            Fetched::Changed(published) => Ok(*published),
            // Nothing was known that could be unchanged.
            Fetched::Unchanged => Err(Error::NoDocument {
                address: source.name.clone(),
            }),
        }
    };
    let sources = definition.sources.iter().map(|source| CheckedSource {
        name: source.name.clone(),
        published: fetch(source),
    });
    let sources: Vec<CheckedSource> = sources.collect();
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
        text,
        sources,
        catalog,
    })
}

/// Removes the person's own definition of a runtime. Returns the selectors of its installs, which stay, as
/// commands need them, and whether another definition of it is in force now.
pub fn remove(environment: &Environment, name: &str) -> Result<(Vec<String>, bool), Error> {
    let config = &environment.folders()?.config;
    if !definitions::names_in(config)?.iter().any(|own| own == name) {
        return Err(Error::NoOwnDefinition {
            name: name.to_owned(),
        });
    }
    let file = definitions::file(config, name);
    fs::remove_file(&file).map_err(file_error(&file, FileAction::Remove))?;
    environment.forget_definition(name);
    conclude(environment, Changed::Shelf)?;
    let is_defined = definitions::names(environment.folders()?)?
        .iter()
        .any(|other| other == name);
    let stay = match Runtime::named(environment, Some(name)) {
        Ok(runtime) => (runtime.names().installs_main_first().iter())
            .map(|install| format!("{name}@{}", runtime.names().selector_of(&install.id.key)))
            .collect(),
        Err(Error::UnknownRuntime { .. }) => Vec::new(),
        Err(error) => return Err(error),
    };
    Ok((stay, is_defined))
}

/// Makes a runtime the one that selectors mean when they name none.
pub fn set_main(environment: &Environment, name: &str) -> Done {
    environment.definition(name)?;
    environment.settings()?;
    settings::set_main_runtime(&environment.folders()?.config, name)?;
    conclude(&environment.anew(), Changed::Shelf)
}
