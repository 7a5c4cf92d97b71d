//! The overview of commands: all of them, or those of every day.

use crate::commands::command::{CommandEntry, GROUPS};

const ABOUT: &str = "Keeps several versions of a language runtime side by side.";

/// The commands of every day: what `vshelf` alone shows has to fit a terminal of 24 rows.
const EVERY_DAY: [&str; 15] = [
    "runtimes", "catalog", "list", "status", "checkup", "switch", "default", "require", "run",
    "install", "remove", "tidy", "renew", "connect", "demo",
];

/// The command that only the completion of shells calls.
const OF_SHELLS: &str = "suggest";

/// All commands in groups, a line each.
pub fn all(entries: &[CommandEntry]) -> String {
    let mut text = format!("{ABOUT}\n\nUsage: vshelf COMMAND\n");
    for group in GROUPS {
        text.push_str(&format!("\n{group}\n"));
        let of_group = |entry: &&CommandEntry| entry.group == group && entry.name != OF_SHELLS;
        for entry in entries.iter().filter(of_group) {
            text.push_str(&line(entry));
        }
    }
    text.push_str(
        "\nWith every command\n  \
         -h, --help     What the command does, and its options; help COMMAND says more\n  \
         -q, --quiet    Print nothing but what was asked for\n  \
         -y, --yes      Answer yes to what the command asks before it goes on\n      \
         --offline  Ask no server; use what is on this machine\n      \
         --color    When to colour the output: auto, always, never\n\n\
         What can be typed for a version: vshelf help selectors\n\
         What the words mean: vshelf help words\n\
         To see it all at work on made-up data: vshelf demo\n",
    );
    text
}

/// The commands of every day, a line each.
pub fn short(entries: &[CommandEntry]) -> String {
    let of_every_day = entries.iter();
    let of_every_day = of_every_day.filter(|entry| EVERY_DAY.contains(&entry.name));
    let lines: String = of_every_day.map(line).collect();
    format!(
        "{ABOUT}\n\nUsage: vshelf COMMAND\n\n{lines}\nAll commands: vshelf help\n\
         What one of them does, with examples: vshelf help COMMAND\n\
         What can be typed for a version: vshelf help selectors\n"
    )
}

fn line(entry: &CommandEntry) -> String {
    let about = (entry.build)().get_about().map(ToString::to_string);
    format!("  {:<10} {}\n", entry.name, about.unwrap_or_default())
}
