//! The static files that a shell's start-up file sources.
//!
//! Two files a shell: the hook with its functions, which changes with the program, and the list of
//! runtimes to enter, which changes with the shelf. Sourcing them starts no process.

use std::path::Path;

use vshelf_core::Definition;

use crate::Dialect;
use crate::quote;

/// The hook file's name below the hooks folder.
pub fn hook_file(dialect: Dialect) -> String {
    format!("hook.{}", dialect.name())
}

/// The name of the list of runtimes below the hooks folder.
pub fn runtimes_file(dialect: Dialect) -> String {
    format!("runtimes.{}", dialect.name())
}

/// The hook for a shell whose data folder and program are these.
pub fn render_hook(dialect: Dialect, data: &Path, program: &Path) -> String {
    let template = match dialect {
        Dialect::Bash => include_str!("../templates/hook.bash"),
    };
    // Filled in at once: text that one value brings is not searched for the next.
    let mut text = String::new();
    for line in template.lines() {
        let (key, value) = match line {
            "__vshelf_data=@DATA@" => ("__vshelf_data", data),
            "__vshelf_program=@PROGRAM@" => ("__vshelf_program", program),
            _ => {
                text.push_str(line);
                text.push('\n');
                continue;
            }
        };
        text.push_str(&format!(
            "{key}={}\n",
            quote::posix(&value.to_string_lossy())
        ));
    }
    text
}

/// The list of runtimes that a new shell enters.
pub fn render_runtimes(dialect: Dialect, definitions: &[Definition]) -> String {
    let mut text = String::new();
    for definition in definitions {
        let words: Vec<String> = [&definition.name]
            .into_iter()
            .chain([definition.home_variable.as_ref().unwrap_or(&String::new())])
            .chain(&definition.folders)
            .map(|word| quote::posix(word))
            .collect();
        match dialect {
            Dialect::Bash => text.push_str(&format!("__vshelf_enter {}\n", words.join(" "))),
        }
    }
    text
}
