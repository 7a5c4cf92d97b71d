//! The static files that a shell's start-up file sources.
//!
//! Three files a shell: the hook and the functions that it reads when one is needed, which change with
//! the program, and the list of runtimes to enter, which changes with the shelf. Sourcing them starts
//! no process.

use std::path::Path;

use vshelf_core::Definition;
use vshelf_core::pin;

use crate::Dialect;

/// The hook file's name below the hooks folder.
pub fn hook_file(dialect: Dialect) -> String {
    format!("hook.{}", dialect.name())
}

/// The name of the file of functions below the hooks folder.
pub fn functions_file(dialect: Dialect) -> String {
    format!("functions.{}", dialect.name())
}

/// The name of the list of runtimes below the hooks folder.
pub fn runtimes_file(dialect: Dialect) -> String {
    format!("runtimes.{}", dialect.name())
}

/// The places that a hook knows.
#[derive(Clone, Copy, Debug)]
pub struct Places<'p> {
    /// The data folder.
    pub data: &'p Path,
    /// The program.
    pub program: &'p Path,
    /// The folder of stamps: what pin files came to when they were read last.
    pub stamps: &'p Path,
}

/// How a shell tells that it follows a project.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, serde::Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Following {
    /// It says which version it took.
    #[default]
    Announce,
    /// It asks before it follows.
    Ask,
    /// It says nothing.
    Quiet,
    /// It does not follow.
    Off,
}

/// Code of a shell with nothing of this machine in it.
fn template(dialect: Dialect, parts: &[&str]) -> String {
    let checked_as = match dialect {
        Dialect::Bash => "bash",
        Dialect::Ksh => "ksh",
        _ => "sh",
    };
    let text = parts.concat();
    let lines = text.lines().filter_map(|line| match line.trim() {
        // zsh reads POSIX code as such where it is told to.
        "@EMULATE@" if dialect == Dialect::Zsh => Some("  builtin emulate -L sh\n".to_owned()),
        "@EMULATE@" => None,
        _ => Some(format!("{line}\n")),
    });
    let text: String = lines.collect();
    text.replace("@SHELL@", dialect.name())
        .replace("@CHECKED_AS@", checked_as)
}

/// The functions that the hook reads when one is needed: a new shell parses what it uses at once.
pub fn render_functions(dialect: Dialect) -> String {
    const FUNCTIONS: &str = include_str!("../templates/functions.sh");
    let parts: &[&str] = match dialect {
        Dialect::Fish => &[include_str!("../templates/functions.fish")],
        Dialect::Bash => &[FUNCTIONS, include_str!("../templates/complete.bash")],
        Dialect::Zsh => &[FUNCTIONS, include_str!("../templates/complete.zsh")],
        Dialect::Sh | Dialect::Ksh | Dialect::Mksh => &[FUNCTIONS],
    };
    template(dialect, parts)
}

/// The hook for a shell whose places are these.
pub fn render_hook(dialect: Dialect, places: Places<'_>) -> String {
    const HOOK: &str = include_str!("../templates/hook.sh");
    let parts: &[&str] = match dialect {
        Dialect::Fish => &[include_str!("../templates/hook.fish")],
        Dialect::Bash => &[HOOK, include_str!("../templates/prompt.bash")],
        Dialect::Zsh => &[HOOK, include_str!("../templates/prompt.zsh")],
        Dialect::Sh | Dialect::Ksh | Dialect::Mksh => {
            &[HOOK, include_str!("../templates/prompt.sh")]
        }
    };
    // Filled in at once: text that one value brings is not searched for the next.
    let mut text = String::new();
    for line in template(dialect, parts).lines() {
        let value = match line
            .rsplit_once('@')
            .and_then(|(line, _)| line.rsplit_once('@'))
        {
            Some((before, "DATA")) => Some((before, places.data)),
            Some((before, "PROGRAM")) => Some((before, places.program)),
            Some((before, "STAMPS")) => Some((before, places.stamps)),
            _ => None,
        };
        match value {
            Some((before, value)) => {
                text.push_str(before);
                text.push_str(&dialect.quote(&value.to_string_lossy()));
            }
            None => text.push_str(line),
        }
        text.push('\n');
    }
    text
}

/// The list of runtimes that a new shell enters, and the files in which projects pin them.
pub fn render_runtimes(
    dialect: Dialect,
    definitions: &[Definition],
    following: Following,
) -> String {
    let mut pins: Vec<String> = Vec::new();
    let mut enter = String::new();
    for definition in definitions {
        let words: Vec<String> = [&definition.name]
            .into_iter()
            .chain([definition.home_variable.as_ref().unwrap_or(&String::new())])
            .chain(&definition.folders)
            .map(|word| dialect.quote(word))
            .collect();
        enter.push_str(&format!("  __vshelf_enter {}\n", words.join(" ")));
        for file in pin::files(&definition.name, &definition.pins) {
            if following != Following::Off && !pins.contains(&file.file) {
                pins.push(file.file);
            }
        }
    }
    let says = match following {
        Following::Announce => "announce",
        Following::Ask | Following::Quiet | Following::Off => "",
    };
    match dialect {
        Dialect::Fish => {
            let pins: Vec<String> = pins.iter().map(|pin| dialect.quote(pin)).collect();
            format!(
                "set -g __vshelf_pins {}\nset -g __vshelf_says {}\nfunction __vshelf_enter_all\n{enter}end\n",
                pins.join(" "),
                dialect.quote(says)
            )
        }
        _ => {
            // Unrolled, because a shell's loop costs many times what it tests.
            let tests = pins
                .iter()
                .map(|pin| format!("[ -f \"$1\"/{} ]", dialect.quote(pin)));
            let any: Vec<String> = tests.chain(["return 1".to_owned()]).collect();
            let pins: String = pins.iter().map(|pin| format!("{pin}\n")).collect();
            format!(
                "__vshelf_pins={}\n__vshelf_says={}\n__vshelf_has_pin() {{\n  {}\n}}\n__vshelf_enter_all() {{\n  :\n{enter}}}\n",
                dialect.quote(&pins),
                dialect.quote(says),
                any.join(" ||\n    "),
            )
        }
    }
}
