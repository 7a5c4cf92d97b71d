//! Examples for the long help, in the world of `vshelf demo`.

/// Commands by name: what is typed behind the name, and what that does.
const EXAMPLES: &[(&str, &[(&str, &str)])] = &[
    (
        "adopt",
        &[
            (
                "~/build/marram --link",
                "a build of your own, found again when you rebuild it",
            ),
            ("system", "the operating system's copy"),
        ],
    ),
    (
        "browse",
        &[
            ("", "the main runtime, beginning at what is active"),
            ("marram", "this runtime"),
        ],
    ),
    (
        "carry",
        &[(
            "6 8 --dry-run",
            "which packages would come along from 6 to 8",
        )],
    ),
    (
        "catalog",
        &[
            ("", "a row for each release line"),
            ("8", "the releases that begin with 8"),
            ("8.3.1", "all that is known of one release"),
            ("node", "the lines of Node.js"),
            ("dunefield/", "all that this publisher publishes"),
            (
                "--security --since 2026-01-01",
                "this year's releases that fix a security problem",
            ),
            ("--as-of 2027-06-01", "where each line stands then"),
        ],
    ),
    (
        "checkup",
        &[
            (
                "",
                "everything, each finding with the command that fixes it",
            ),
            ("6.2.11", "only whether this install is whole and starts"),
        ],
    ),
    (
        "config",
        &[("", "what is in force, and which file or variable says so")],
    ),
    (
        "connect",
        &[
            ("zsh", "another shell than the one in SHELL"),
            ("--print bash", "what bash sources, to read it"),
        ],
    ),
    (
        "default",
        &[
            ("", "what new shells get"),
            (
                "lts",
                "new shells get the newest of long-term support on the shelf",
            ),
        ],
    ),
    (
        "demo",
        &[
            ("", "the whole job on made-up data, told step by step"),
            ("--shell", "a connected shell to play in"),
        ],
    ),
    (
        "explain",
        &[
            ("\">=6 <9\"", "step by step, which release that is"),
            ("lts", "and why that one"),
        ],
    ),
    (
        "history",
        &[(
            "",
            "what was done, newest first; vshelf restore takes it back",
        )],
    ),
    (
        "install",
        &[
            (
                "lts",
                "the newest of long-term support; the first install becomes the default",
            ),
            (
                "6 8 dunefield/9",
                "several at a time, one from another publisher",
            ),
            ("node@lts", "of the runtime node, where several are known"),
            ("", "what the project here requires"),
            (
                "9 --switch --carry-from 8",
                "used here at once, with the packages of 8",
            ),
        ],
    ),
    (
        "label",
        &[
            ("board samphire", "board stands for line 6 from now on"),
            ("--remove board", "the label goes, the install stays"),
        ],
    ),
    (
        "launchers",
        &[(
            "",
            "programs for editors that follow what the project requires",
        )],
    ),
    (
        "list",
        &[
            ("", "what is on the shelf, with its phase and marks"),
            ("--size", "what was not used for long, as it is on the disk"),
        ],
    ),
    (
        "lock",
        &[
            (
                "",
                "what is required here, for every platform that is known",
            ),
            (
                "--check",
                "for a job: is all that is required locked, and stated by its sources?",
            ),
            ("--renew", "the newest releases that meet what is required"),
        ],
    ),
    (
        "mirror",
        &[
            ("lts 6 --to site", "the newest of both, for this platform"),
            (
                "9 --all --platform linux-arm64-gnu --to site",
                "every release of line 9, for another platform",
            ),
        ],
    ),
    (
        "path",
        &[
            (
                "default",
                "a path that does not change, for an editor's settings",
            ),
            ("8 --env dotenv", "the variables of 8, for a .env file"),
        ],
    ),
    (
        "require",
        &[
            ("lts", "the project here requires that"),
            ("8.3.1", "exactly this release"),
            (
                "--read .beach-version marram",
                "files of that name count for Marram in all your projects",
            ),
        ],
    ),
    (
        "remove",
        &[("6.20.1", "one install"), ("6 --all", "all of line 6")],
    ),
    (
        "renew",
        &[
            ("--dry-run", "what would change, and what follows"),
            ("8 --yes", "line 8, without a question"),
        ],
    ),
    (
        "restore",
        &[
            ("", "all that the last clean-up took"),
            ("6.20.1", "one of what went"),
        ],
    ),
    (
        "run",
        &[
            (
                "6 -- marram --version",
                "one command on 6; nothing else changes",
            ),
            ("node@22 -- npm test", "the same on Node.js 22"),
            (
                "--here --yes -- marram --version",
                "what the project requires, installed first where it is missing",
            ),
        ],
    ),
    (
        "runtimes",
        &[
            ("", "what is known"),
            (
                "--add site/marram/marram.toml",
                "a mirror, or any definition",
            ),
        ],
    ),
    ("status", &[("", "which version is it here, and why?")]),
    (
        "suggest",
        &[("-- install 8.3", "what completion offers there")],
    ),
    (
        "switch",
        &[
            ("6", "this shell, now"),
            (
                "node@lts",
                "the newest of long-term support that is installed",
            ),
            ("-", "the one before"),
            ("--follow", "the project's or the default again"),
        ],
    ),
    (
        "tidy",
        &[
            ("", "the plan, and a question"),
            (
                "--as-of 2027-01-01 --dry-run",
                "what will be outdated by then",
            ),
            ("6 --except 6.2.11", "of one line, and without that one"),
        ],
    ),
    (
        "timeline",
        &[
            ("", "each line as a bar, and today"),
            ("6 8 --svg support.svg", "the same as a drawing for a wiki"),
        ],
    ),
];

/// The examples of a command, as its long help shows them.
pub fn text(command: &str) -> String {
    let examples = EXAMPLES.iter().find(|(name, _)| *name == command);
    let mut text = String::from("Examples:\n");
    for (words, what) in examples.map_or(&[][..], |(_, examples)| examples) {
        let line = format!("vshelf {command} {words}");
        text.push_str(&format!("  {}\n      {what}\n", line.trim_end()));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commands::all;

    #[test]
    fn every_command_has_examples_that_it_understands() {
        let entries = all();
        assert_eq!(entries.len(), EXAMPLES.len());
        for entry in &entries {
            let (_, examples) = EXAMPLES
                .iter()
                .find(|(name, _)| *name == entry.name)
                .unwrap();
            for (words, _) in *examples {
                // As a shell tells words apart: none of these has a space within quotes but this one.
                let words = words.replace("\">=6 <9\"", ">=6,<9");
                // The parser adds the options of all commands.
                let words = words.split_whitespace().filter(|word| *word != "--yes");
                let words = std::iter::once(entry.name).chain(words);
                let parsed = (entry.build)().try_get_matches_from(words.clone());
                assert!(parsed.is_ok(), "{:?}", words.collect::<Vec<_>>());
            }
        }
    }
}
