//! The runtimes that are known: the person's own definitions, then those built in.

use std::path::{Path, PathBuf};

use vshelf_core::Definition;
use vshelf_core::definition::DefinitionError;
use vshelf_core::near;
use vshelf_files::optional;

use crate::error::{DefinitionProblem, Error, TextLine, file_error};

/// The definitions that come with the program, by name.
const BUILT_IN: [(&str, &str); 3] = [
    ("bun", include_str!("../definitions/bun.toml")),
    ("deno", include_str!("../definitions/deno.toml")),
    ("node", include_str!("../definitions/node.toml")),
];

/// The folder of the person's own definitions.
pub fn folder(config: &Path) -> PathBuf {
    config.join("runtimes")
}

/// The file of a person's own definition.
pub fn file(config: &Path, name: &str) -> PathBuf {
    folder(config).join(format!("{name}.toml"))
}

/// The names of all runtimes that are known, in order.
pub fn names(config: &Path) -> Result<Vec<String>, Error> {
    let mut names: Vec<String> = BUILT_IN
        .iter()
        .map(|(name, _)| (*name).to_owned())
        .collect();
    names.extend(own_names(config)?);
    names.sort();
    names.dedup();
    Ok(names)
}

/// Whether a runtime of this name is built in.
pub fn is_built_in(name: &str) -> bool {
    BUILT_IN.iter().any(|(known, _)| *known == name)
}

/// The names of the person's own definitions.
pub fn own_names(config: &Path) -> Result<Vec<String>, Error> {
    let folder = folder(config);
    let names = optional::names(&folder).map_err(file_error(&folder, "read"))?;
    let own = names.iter().filter_map(|name| name.strip_suffix(".toml"));
    Ok(own.map(str::to_owned).collect())
}

/// The text of a definition, and its file; a built-in one has none.
pub fn text(config: &Path, name: &str) -> Result<(String, Option<PathBuf>), Error> {
    let file = file(config, name);
    if let Some(text) = optional::read_text(&file).map_err(file_error(&file, "read"))? {
        return Ok((text, Some(file)));
    }
    match BUILT_IN.iter().find(|(known, _)| *known == name) {
        Some((_, text)) => Ok(((*text).to_owned(), None)),
        None => Err(unknown(config, name)?),
    }
}

/// The definition of the runtime with this name.
pub fn find(config: &Path, name: &str) -> Result<Definition, Error> {
    let (text, file) = text(config, name)?;
    let wrong = |problem: DefinitionProblem| Error::Definition {
        name: name.to_owned(),
        file: file.clone(),
        problem,
    };
    let definition = Definition::read(&text).map_err(|error| {
        let span = match &error {
            DefinitionError::Syntax(error) => error.span(),
            DefinitionError::Value { .. } => None,
        };
        wrong(DefinitionProblem::Text(error, TextLine::of(&text, span)))
    })?;
    match definition.name == name {
        true => Ok(definition),
        false => Err(wrong(DefinitionProblem::OtherName(definition.name))),
    }
}

fn unknown(config: &Path, name: &str) -> Result<Error, Error> {
    let known = names(config)?;
    let near = near::words(name, known.iter().map(String::as_str));
    Ok(Error::UnknownRuntime {
        name: name.to_owned(),
        near: near.into_iter().next(),
    })
}
