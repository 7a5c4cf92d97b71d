//! The runtimes that are known: the person's own definitions, then those of the company, then those built in.

use std::path::{Path, PathBuf};

use vshelf_core::Definition;
use vshelf_core::meant::near;
use vshelf_files::action::FileAction;
use vshelf_files::optional;
use vshelf_shelf::Folders;

use crate::error::{DefinitionProblem, Error, TextLine, file_error};

/// The largest file of settings or of a definition that is read, in bytes.
pub const LARGEST: u64 = 4 << 20;

/// A definition that comes with the program.
struct BuiltIn {
    name: &'static str,
    /// Its text, as a person would write it.
    text: &'static str,
    /// The same as JSON.
    json: &'static str,
    /// The names of its requirement files, which are looked for far more often than the rest is read.
    requirement_files: &'static [&'static str],
}

/// The definitions that come with the program, by name.
const BUILT_IN: &[BuiltIn] = include!(concat!(env!("OUT_DIR"), "/built_in.rs"));

fn built_in(name: &str) -> Option<&'static BuiltIn> {
    BUILT_IN.iter().find(|known| known.name == name)
}

/// The definition of a runtime that comes with the program, as JSON.
pub fn built_in_json(name: &str) -> Option<&'static str> {
    built_in(name).map(|known| known.json)
}

/// The folder of definitions in a folder of settings.
pub fn folder(settings: &Path) -> PathBuf {
    settings.join("runtimes")
}

/// The file of a definition in a folder of settings.
pub fn file(settings: &Path, name: &str) -> PathBuf {
    folder(settings).join(format!("{name}.toml"))
}

/// A runtime that is known.
#[derive(Clone, Debug)]
pub struct KnownName {
    /// Its name.
    pub name: String,
    /// The names of its requirement files, if its definition is built in; else the definition has them.
    pub requirement_files: Option<&'static [&'static str]>,
}

/// All runtimes that are known, by name.
pub fn known(folders: &Folders) -> Result<Vec<KnownName>, Error> {
    let mut written = names_in(&folders.company)?;
    written.extend(names_in(&folders.config)?);
    let built_in = BUILT_IN.iter().map(|known| KnownName {
        name: known.name.to_owned(),
        requirement_files: Some(known.requirement_files),
    });
    let mut known: Vec<KnownName> = built_in
        .filter(|known| !written.contains(&known.name))
        .collect();
    known.extend(written.into_iter().map(|name| KnownName {
        name,
        requirement_files: None,
    }));
    known.sort_by(|a, b| a.name.cmp(&b.name));
    known.dedup_by(|a, b| a.name == b.name);
    Ok(known)
}

/// The names of all runtimes that are known, in order.
pub fn names(folders: &Folders) -> Result<Vec<String>, Error> {
    let known = known(folders)?.into_iter();
    Ok(known.map(|known| known.name).collect())
}

/// Whether a runtime of this name is built in.
pub fn is_built_in(name: &str) -> bool {
    built_in(name).is_some()
}

/// The names of the definitions in a folder of settings, the person's or the company's.
pub fn names_in(settings: &Path) -> Result<Vec<String>, Error> {
    let folder = folder(settings);
    let names = optional::names(&folder).map_err(file_error(&folder, FileAction::Read))?;
    let own = names.iter().filter_map(|name| name.strip_suffix(".toml"));
    Ok(own.map(str::to_owned).collect())
}

/// The text of a definition, and its file; a built-in one has none.
pub fn text(folders: &Folders, name: &str) -> Result<(String, Option<PathBuf>), Error> {
    if let Some((text, file)) = written_text(folders, name)? {
        return Ok((text, Some(file)));
    }
    match built_in(name) {
        Some(known) => Ok((known.text.to_owned(), None)),
        None => Err(unknown(folders, name)?),
    }
}

/// The text of a definition of the person, or else of the company, and its file.
fn written_text(folders: &Folders, name: &str) -> Result<Option<(String, PathBuf)>, Error> {
    for settings in [&folders.config, &folders.company] {
        let file = file(settings, name);
        let text = optional::read_text_within(&file, LARGEST)
            .map_err(file_error(&file, FileAction::Read))?;
        if let Some(text) = text {
            return Ok(Some((text, file)));
        }
    }
    Ok(None)
}

/// The definition of the runtime with this name.
pub fn find(folders: &Folders, name: &str) -> Result<Definition, Error> {
    let Some((text, file)) = written_text(folders, name)? else {
        let known = built_in(name).map(|known| Definition::of_json(known.json));
        return match known {
            Some(definition) => Ok(definition.expect("a test reads every one of them")),
            None => Err(unknown(folders, name)?),
        };
    };
    let wrong = |problem: DefinitionProblem| Error::Definition {
        name: name.to_owned(),
        file: Some(file.clone()),
        problem,
    };
    let definition = read(&text).map_err(wrong)?;
    match definition.name == name {
        true => Ok(definition),
        false => Err(wrong(DefinitionProblem::OtherName(definition.name))),
    }
}

/// Reads a definition; the error says on which line it is.
pub fn read(text: &str) -> Result<Definition, DefinitionProblem> {
    Definition::read(text).map_err(|error| {
        let place = error.place_in(text).map(|at| at..at);
        DefinitionProblem::Text(error, TextLine::of(text, place))
    })
}

fn unknown(folders: &Folders, name: &str) -> Result<Error, Error> {
    let known = names(folders)?;
    let near = near::words(name, known.iter().map(String::as_str));
    Ok(Error::UnknownRuntime {
        name: name.to_owned(),
        near: near.into_iter().next(),
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn those_built_in_are_the_same_in_both_forms() {
        for known in BUILT_IN {
            let definition = read(known.text).unwrap();
            assert_eq!(definition, Definition::of_json(known.json).unwrap());
            assert_eq!(definition.name, known.name);
            let files = definition.requirement_files.iter();
            assert!(
                files
                    .map(|file| &file.file)
                    .all(|file| known.requirement_files.contains(&file.as_str()))
            );
        }
        assert_eq!(BUILT_IN.len(), 14);
    }
}
