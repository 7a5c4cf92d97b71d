//! The overview of all commands.

use crate::commands::command::{CommandEntry, GROUPS};

/// All commands in groups, a line each.
pub fn text(entries: &[CommandEntry]) -> String {
    let mut text = String::from(
        "Keeps several versions of a language runtime side by side.\n\nUsage: vshelf COMMAND\n",
    );
    for group in GROUPS {
        text.push_str(&format!("\n{group}\n"));
        for entry in entries.iter().filter(|entry| entry.group == group) {
            let about = (entry.build)()
                .get_about()
                .map(ToString::to_string)
                .unwrap_or_default();
            text.push_str(&format!("  {:<10} {about}\n", entry.name));
        }
    }
    text.push_str(
        "\nWith every command\n  \
         -h, --help     What the command does, and its options; help COMMAND says more\n  \
         -q, --quiet    Leave out progress, notes and hints\n      \
         --offline  Ask no server; use what is on this machine\n      \
         --color    When to colour the output: auto, always, never\n\n\
         To see it all at work on made-up data: vshelf demo\n",
    );
    text
}
