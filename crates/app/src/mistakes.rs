//! Mistakes in the files in which the project here says what it requires: what would silently not
//! count.

use std::path::{Path, PathBuf};

use vshelf_core::file_trust::Distrust;
use vshelf_core::meant::near;
use vshelf_core::requirement::{OWN_FILE, project_folder};
use vshelf_files::action::FileAction;
use vshelf_files::optional;

use crate::definitions;
use crate::environment::Environment;
use crate::error::{Error, file_error};
use crate::project;
use crate::runtime::Runtime;

/// Something in a project's files that does not count.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Mistake {
    /// A table or key that our file does not have.
    UnknownKey {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: usize,
        /// The key.
        key: String,
        /// What may have been meant.
        near: Option<String>,
    },
    /// Two files of one folder require different versions of one runtime.
    Disagreement {
        /// The runtime's title.
        title: String,
        /// The file that counts, and what it requires.
        counts: (PathBuf, String),
        /// The file that does not, and what it requires.
        other: (PathBuf, String),
    },
    /// A plain file has a second line, which does not count.
    FurtherLine {
        /// The file.
        file: PathBuf,
        /// The line, counted from 1.
        line: usize,
    },
    /// A file that somebody else may have put there.
    Distrusted {
        /// The file.
        file: PathBuf,
        /// Why it does not count.
        distrust: Distrust,
    },
}

/// The mistakes in the files of the project here.
pub fn find(environment: &Environment) -> Result<Vec<Mistake>, Error> {
    let known = definitions::names(environment.folders()?)?;
    let mut mistakes = Vec::new();
    if let Ok(here) = environment.here() {
        let own = here.ancestors().map(|folder| folder.join(OWN_FILE));
        if let Some(file) = own.into_iter().find(|file| file.is_file()) {
            let text = optional::read_text_within(&file, definitions::LARGEST)
                .map_err(file_error(&file, FileAction::Read))?;
            mistakes.extend(unknown_keys(&file, &text.unwrap_or_default(), &known));
        }
    }
    for name in &known {
        // A definition that cannot be used is told by what needs it.
        if let Ok(runtime) = Runtime::named(environment, Some(name)) {
            mistakes.extend(disagreement(&runtime));
            for (file, kind) in project::requirement_files(&runtime) {
                if let Some(line) = project::further_line(&runtime, &file, &kind)? {
                    mistakes.push(Mistake::FurtherLine { file, line });
                }
            }
            for (file, distrust) in project::distrusted(&runtime)? {
                let mistake = Mistake::Distrusted { file, distrust };
                // One file can speak for several runtimes.
                if !mistakes.contains(&mistake) {
                    mistakes.push(mistake);
                }
            }
        }
    }
    Ok(mistakes)
}

/// The tables and keys in the text of our file that say nothing; of a text that is no TOML there are
/// none: what reads it says so.
fn unknown_keys(file: &Path, text: &str, runtimes: &[String]) -> Vec<Mistake> {
    let table: toml::Table = text.parse().unwrap_or_default();
    let mut unknown = Vec::new();
    let mut look = |key: &str, known: &[&str]| {
        if !known.contains(&key) {
            unknown.push(Mistake::UnknownKey {
                file: file.to_owned(),
                line: line_of(text, key),
                key: key.to_owned(),
                near: near::words(key, known.iter().copied()).into_iter().next(),
            });
        }
    };
    table.keys().for_each(|key| look(key, &["runtimes"]));
    let names: Vec<&str> = runtimes.iter().map(String::as_str).collect();
    let required = table.get("runtimes").and_then(toml::Value::as_table);
    let required = required.into_iter().flat_map(toml::Table::keys);
    required.for_each(|key| look(key, &names));
    unknown
}

/// The line that begins with a key or the head of a table, counted from 1.
fn line_of(text: &str, key: &str) -> usize {
    let begins = |line: &str| {
        let line = line.trim_start_matches([' ', '\t', '[', '"']);
        line.strip_prefix(key)
            .is_some_and(|rest| !rest.starts_with(|c: char| c.is_alphanumeric() || c == '-'))
    };
    text.lines().position(begins).map_or(1, |at| at + 1)
}

/// Another file beside the one that counts which requires something else.
fn disagreement(runtime: &Runtime<'_>) -> Option<Mistake> {
    // What a lock says of the others is looked at where it is read.
    let files = project::requirement_files(runtime).into_iter();
    let files = files.filter(|(_, kind)| !kind.is_lock());
    let mut said = files.filter_map(|(path, kind)| {
        let found = project::read_requirement(runtime, &path, &kind)
            .ok()
            .flatten();
        Some((path, found?.what.to_string()))
    });
    let counts = said.next()?;
    let folder = project_folder(&counts.0).to_owned();
    let other = said.find(|(path, text)| {
        project_folder(path) == folder && *path != counts.0 && *text != counts.1
    })?;
    Some(Mistake::Disagreement {
        title: runtime.definition.title.clone(),
        counts,
        other,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_our_file_does_not_have_is_found_with_its_line() {
        let text =
            "# ours\n[runtime]\nsedge = \"2\"\n\n[runtimes]\nmarram = \"8\"\nmaram = \"6\"\n";
        let known = ["marram".to_owned(), "sedge".to_owned()];
        let found = unknown_keys(Path::new("f"), text, &known);
        let unknown = |line, key: &str, near: &str| Mistake::UnknownKey {
            file: PathBuf::from("f"),
            line,
            key: key.to_owned(),
            near: Some(near.to_owned()),
        };
        assert_eq!(
            found,
            [
                unknown(2, "runtime", "runtimes"),
                unknown(7, "maram", "marram")
            ]
        );
        assert_eq!(unknown_keys(Path::new("f"), "[runtimes", &known), []);
    }
}
