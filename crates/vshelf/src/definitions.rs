//! The runtimes that are known: the person's own definitions, then those built in.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use vshelf_core::Definition;
use vshelf_core::definition::DefinitionError;
use vshelf_core::near;

use crate::failure::{Failure, Kind, place_in, quoted};

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
pub fn names(config: &Path) -> Result<Vec<String>, Failure> {
    let mut names: Vec<String> = BUILT_IN
        .iter()
        .map(|(name, _)| (*name).to_owned())
        .collect();
    names.extend(own_names(config)?);
    names.sort();
    names.dedup();
    Ok(names)
}

/// The names of the person's own definitions.
pub fn own_names(config: &Path) -> Result<Vec<String>, Failure> {
    let folder = folder(config);
    let unreadable = |error: &io::Error| {
        Failure::new(
            Kind::Disk,
            format!("{} cannot be read: {error}", folder.display()),
        )
    };
    let entries = match fs::read_dir(&folder) {
        Ok(entries) => entries,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
        Err(error) => return Err(unreadable(&error)),
    };
    let mut names = Vec::new();
    for entry in entries {
        let path = entry.map_err(|e| unreadable(&e))?.path();
        if path
            .extension()
            .is_some_and(|extension| extension == "toml")
            && let Some(name) = path.file_stem().and_then(|stem| stem.to_str())
        {
            names.push(name.to_owned());
        }
    }
    Ok(names)
}

/// The text of the definition of the runtime with this name, and where it stands.
pub fn text(config: &Path, name: &str) -> Result<(String, String), Failure> {
    let file = file(config, name);
    Ok(match fs::read_to_string(&file) {
        Ok(text) => (text, file.display().to_string()),
        Err(error) if error.kind() == io::ErrorKind::NotFound => {
            let built_in = BUILT_IN.iter().find(|(known, _)| *known == name);
            let Some((_, text)) = built_in else {
                return Err(unknown(config, name)?);
            };
            ((*text).to_owned(), "the built-in definition".to_owned())
        }
        Err(error) => {
            return Err(Failure::new(
                Kind::Disk,
                format!("{} cannot be read: {error}", file.display()),
            ));
        }
    })
}

/// The definition of the runtime with this name.
pub fn find(config: &Path, name: &str) -> Result<Definition, Failure> {
    let file = file(config, name);
    let (text, place) = text(config, name)?;
    let wrong = |problem: String| {
        Failure::new(
            Kind::Disk,
            format!("{place} is no definition of a runtime: {problem}"),
        )
        .run("To edit it", format!("${{EDITOR:-vi}} {}", quoted(&file)))
    };
    let definition = Definition::read(&text).map_err(|error| match error {
        DefinitionError::Syntax(error) => {
            wrong(error.message().to_owned()).say(place_in(&text, error.span()))
        }
        other => wrong(other.to_string()),
    })?;
    if definition.name != name {
        return Err(wrong(format!(
            "it is named {:?}, its file {name:?}",
            definition.name
        )));
    }
    Ok(definition)
}

fn unknown(config: &Path, name: &str) -> Result<Failure, Failure> {
    let known = names(config)?;
    let failure = Failure::new(
        Kind::NoMatch,
        format!("{name:?} is no runtime that is known here"),
    );
    let near = near::words(name, known.iter().map(String::as_str));
    let failure = match near.first() {
        Some(near) => failure.say(format!("Did you mean {near}?")),
        None => failure,
    };
    Ok(failure.run("To see the runtimes", "vshelf runtimes"))
}
