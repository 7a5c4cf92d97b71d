//! Examples of requirements for a project without one.

use std::collections::BTreeSet;

use crate::environment::Environment;
use crate::error::{Error, ExampleRequirement};
use crate::project;
use crate::runtime::Runtime;
use crate::runtime::opening;

/// The error that no file here states a requirement of any of these runtimes.
pub fn no_requirement(environment: &Environment, runtimes: &[Runtime<'_>]) -> Error {
    Error::NoRequirement {
        files: project::file_names(runtimes),
        examples: examples(environment),
    }
}

/// The most runtimes for which an example is given.
const MOST_EXAMPLES: usize = 3;

/// Requirements that could be written here: the stable release of each runtime that has a requirement file here, such as
/// a manifest without a version, or else of the main runtime.
pub fn examples(environment: &Environment) -> Vec<ExampleRequirement> {
    // An error is reported by the command that reads the file.
    let mentioned = project::mentioned_runtimes(environment).unwrap_or_else(|_| BTreeSet::new());
    let likely = opening::likely(environment, mentioned.into_iter().collect());
    let titled = likely.iter().filter_map(|name| {
        let definition = environment.definition(name).ok()?;
        Some(ExampleRequirement {
            title: Some(definition.title.clone()),
            selector: format!("{}stable", environment.prefix(name)),
        })
    });
    let examples: Vec<ExampleRequirement> = titled.take(MOST_EXAMPLES).collect();
    if examples.is_empty() {
        return vec![ExampleRequirement {
            title: None,
            selector: "stable".to_owned(),
        }];
    }
    examples
}
