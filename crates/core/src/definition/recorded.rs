//! The part of a definition that its installs record, so that they can still be listed, switched to
//! and removed when the definition is gone or broken.

use serde::{Deserialize, Serialize};

use super::words::{is_inside, is_of_system, is_plain_file_name, is_variable};
use super::{Answers, Definition, Probe, bin_folder};
use crate::template::VersionSpellings;

/// The part of a definition that using an install needs.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct RecordedDefinition {
    /// The name for people.
    pub title: String,
    /// The program, without a folder.
    pub program: String,
    /// The folders of an install that go on PATH, relative to it.
    pub folders: Vec<String>,
    /// The variable that names the install's folder.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub home_variable: Option<String>,
}

impl RecordedDefinition {
    /// The recorded part of `definition`.
    pub fn of(definition: &Definition) -> RecordedDefinition {
        RecordedDefinition {
            title: definition.title.clone(),
            program: definition.program.clone(),
            folders: definition.folders.clone(),
            home_variable: definition.home_variable.clone(),
        }
    }

    /// The definition of the runtime `name` as far as it was recorded: it has no sources. Values that
    /// [`Definition::read`] would refuse are left out, because a record is only a file. Installs of version
    /// 0.1.0 recorded nothing: their program is taken to be `bin/<name>`.
    pub fn restore(name: &str, recorded: Option<&RecordedDefinition>) -> Definition {
        let program = recorded.map(|recorded| &recorded.program);
        let folders = recorded.map(|recorded| recorded.folders.iter());
        let folders: Vec<String> = folders
            .into_iter()
            .flatten()
            .filter(|folder| is_inside(folder))
            .cloned()
            .collect();
        let variable = recorded.and_then(|recorded| recorded.home_variable.clone());
        Definition {
            name: name.to_owned(),
            title: recorded.map_or(name, |recorded| &recorded.title).to_owned(),
            program: program
                .filter(|program| is_plain_file_name(program))
                .cloned()
                .unwrap_or_else(|| name.to_owned()),
            folders: if folders.is_empty() {
                bin_folder()
            } else {
                folders
            },
            home_variable: variable
                .filter(|variable| is_variable(variable) && !is_of_system(variable)),
            probe: Probe {
                arguments: Vec::new(),
                answer: Answers::One("{version}".to_owned()),
            },
            spellings: VersionSpellings::default(),
            runs_on: Vec::new(),
            requirement_files: Vec::new(),
            packages: None,
            line_numbers: None,
            supported_lines: None,
            lines: Vec::new(),
            build: None,
            publishers: Vec::new(),
            sources: Vec::new(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_values_that_a_definition_could_have_are_restored() {
        let recorded = RecordedDefinition {
            title: "Marram".into(),
            program: "../sh".into(),
            folders: vec!["bin".into(), "../..".into()],
            home_variable: Some("LD_PRELOAD".into()),
        };
        let restored = RecordedDefinition::restore("marram", Some(&recorded));
        assert_eq!((&*restored.title, &*restored.program), ("Marram", "marram"));
        assert_eq!(restored.folders, ["bin"]);
        assert_eq!(restored.home_variable, None);
        let unknown = RecordedDefinition::restore("sedge", None);
        assert_eq!(RecordedDefinition::of(&unknown).title, "sedge");
    }
}
