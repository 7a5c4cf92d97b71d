//! The command that is probably meant by words that are none: a plain word for what one of them does,
//! a version alone, a misspelled name, words in the wrong order.

use vshelf_core::{Request, Selector, near};
use vshelf_shell::quote;

/// Plain words for what a command does, with that command. `…` is what was typed behind the word; a
/// name in capitals stands there where nothing was.
const PLAIN_WORDS: &[(&[&str], &str)] = &[
    (
        &[
            "use", "shell", "activate", "select", "change", "enter", "with",
        ],
        "switch …",
    ),
    (&["deactivate", "unuse", "leave"], "switch --follow …"),
    (&["back", "previous", "prev"], "switch -"),
    (&["ls", "installed", "versions", "inventory"], "list …"),
    (
        &["outdated", "old", "stale", "expired"],
        "list --outdated …",
    ),
    (&["current", "active", "now", "state"], "status …"),
    (&["which", "what", "whereis", "bin"], "path --program …"),
    (
        &["where", "home", "dir", "folder", "prefix", "root"],
        "path …",
    ),
    (&["env", "environment", "export"], "path --env sh …"),
    (
        &["add", "get", "fetch", "download", "i"],
        "install SELECTOR…",
    ),
    (&["reinstall", "repair"], "install --again SELECTOR…"),
    (
        &["rm", "uninstall", "delete", "del", "erase", "drop", "un"],
        "remove SELECTOR…",
    ),
    (
        &["exec", "execute", "start", "x"],
        "run SELECTOR -- COMMAND",
    ),
    (&["alias", "name", "tag", "bind"], "label …"),
    (&["unlabel", "untag"], "label --remove NAME…"),
    (&["global", "set-default", "set"], "default …"),
    (&["local", "pin", "want", "project"], "require …"),
    (
        &["upgrade", "update", "patch", "bump", "refresh"],
        "renew …",
    ),
    (&["undo", "undelete", "revert", "recover"], "restore …"),
    (
        &["clean", "cleanup", "prune", "purge", "gc", "clear", "sweep"],
        "tidy …",
    ),
    (
        &["doctor", "check", "verify", "diagnose", "health", "test"],
        "checkup …",
    ),
    (
        &[
            "search",
            "find",
            "available",
            "remote",
            "info",
            "show",
            "view",
            "releases",
        ],
        "catalog …",
    ),
    (&["eol", "support", "lifecycle", "schedule"], "timeline …"),
    (&["why", "resolve"], "explain SELECTOR…"),
    (&["log", "journal"], "history …"),
    (
        &["settings", "preferences", "options", "configure"],
        "config …",
    ),
    (
        &["init", "initialize", "setup", "hook", "integrate"],
        "connect",
    ),
    (&["plugins", "plugin", "languages", "tools"], "runtimes …"),
    (&["import", "link", "register"], "adopt PATH…"),
    (&["migrate", "copy"], "carry --from SELECTOR --to SELECTOR"),
    (&["complete", "completion", "completions"], "help connect"),
    (&["tui", "ui", "interactive", "menu"], "browse …"),
    (&["version"], "--version"),
    (&["tour", "tutorial", "example"], "demo"),
];

/// The command line, without the program's name, that these words probably mean; `commands` are the
/// names of all commands.
pub fn command(words: &[&str], commands: &[&str]) -> Option<String> {
    let (first, rest) = words.split_first()?;
    let plain = |known: &&(&[&str], &str)| known.0.iter().any(|w| w.eq_ignore_ascii_case(first));
    if let Some((_, command)) = PLAIN_WORDS.iter().find(plain) {
        return Some(filled(command, rest));
    }
    if is_version(first) {
        return Some(match rest.iter().position(|word| commands.contains(word)) {
            // Words in the wrong order: `8 install`.
            Some(at) => {
                let others = rest.iter().enumerate().filter(|(place, _)| *place != at);
                let others = others.map(|(_, word)| *word);
                joined([rest[at], first].into_iter().chain(others))
            }
            None if rest.first() == Some(&"--") => run_on(first, &rest[1..]),
            None => joined(["switch", first]),
        });
    }
    let near = near::words(first, commands.iter().copied());
    let near = near.first()?;
    Some(joined(
        std::iter::once(near.as_str()).chain(rest.iter().copied()),
    ))
}

/// The command line that words behind `run` probably mean where nothing stands between the version and
/// the command.
pub fn run_without_dashes(words: &[&str]) -> Option<String> {
    let mut words = words.iter().copied().skip(1);
    // Another command may have an argument of that name.
    if words.find(|word| !word.starts_with('-')) != Some("run") {
        return None;
    }
    let version = words.next()?;
    let is_version = !version.starts_with('-') || version == "--here";
    let command: Vec<&str> = words.collect();
    let is_meant = is_version && !command.is_empty() && !command.contains(&"--");
    is_meant.then(|| run_on(version, &command))
}

/// A command line that runs these words on a version.
fn run_on(version: &str, command: &[&str]) -> String {
    joined(
        ["run", version, "--"]
            .into_iter()
            .chain(command.iter().copied()),
    )
}

/// Whether a word alone is a version, a range or a word for one.
fn is_version(word: &str) -> bool {
    let request: Option<Request> = word.parse().ok();
    request.is_some_and(|request| match request.selector {
        Selector::Name(_) => request.runtime.is_some(),
        _ => true,
    })
}

/// A command with what was typed in its place.
fn filled(command: &str, rest: &[&str]) -> String {
    if command == "run SELECTOR -- COMMAND" {
        let given: Vec<&str> = rest.iter().copied().filter(|word| *word != "--").collect();
        return match given.split_first() {
            Some((selector, [])) => run_on(selector, &["COMMAND"]),
            Some((selector, command)) => run_on(selector, command),
            None => command.to_owned(),
        };
    }
    let Some(before) = command.strip_suffix('…') else {
        return command.to_owned();
    };
    let (fixed, name) = match before.rsplit_once(' ') {
        Some((fixed, name)) if name.chars().all(|c| c.is_ascii_uppercase()) => (fixed, name),
        _ => (before.trim_end(), ""),
    };
    match (rest, name) {
        ([], "") => fixed.to_owned(),
        ([], name) => format!("{fixed} {name}"),
        (rest, _) => format!("{fixed} {}", joined(rest.iter().copied())),
    }
}

/// Words as a shell is given them.
pub fn joined<'w>(words: impl IntoIterator<Item = &'w str>) -> String {
    let words = words.into_iter();
    let quoted = words.map(|word| quote::posix_where_needed(word, "@./-_:=+,"));
    quoted.collect::<Vec<_>>().join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::commands;

    /// What is typed, and the command that is answered.
    const ANSWERS: &[(&str, &str)] = &[
        ("use 20", "switch 20"),
        ("use node@lts", "switch node@lts"),
        ("use", "switch"),
        ("shell 8.3.1", "switch 8.3.1"),
        ("activate lts", "switch lts"),
        ("deactivate", "switch --follow"),
        ("back", "switch -"),
        ("prev", "switch -"),
        ("ls", "list"),
        ("ls node", "list node"),
        ("installed", "list"),
        ("versions", "list"),
        ("outdated", "list --outdated"),
        ("current", "status"),
        ("active", "status"),
        ("now", "status"),
        ("which", "path --program"),
        ("which 20", "path --program 20"),
        ("where 20", "path 20"),
        ("home", "path"),
        ("env", "path --env sh"),
        ("env 20", "path --env sh 20"),
        ("add 20", "install 20"),
        ("get 20 22", "install 20 22"),
        ("download >=6", "install '>=6'"),
        ("fetch", "install SELECTOR"),
        ("i lts", "install lts"),
        ("reinstall 20", "install --again 20"),
        ("rm 20", "remove 20"),
        ("uninstall 20.1.0", "remove 20.1.0"),
        ("uninstall", "remove SELECTOR"),
        ("delete 20", "remove 20"),
        ("del 20", "remove 20"),
        ("exec 20 node -v", "run 20 -- node -v"),
        ("exec 20 -- node -v", "run 20 -- node -v"),
        ("exec", "run SELECTOR -- COMMAND"),
        ("x 20", "run 20 -- COMMAND"),
        ("alias board 6", "label board 6"),
        ("alias", "label"),
        ("unlabel board", "label --remove board"),
        ("global 20", "default 20"),
        ("set 20", "default 20"),
        ("local 20", "require 20"),
        ("pin 20", "require 20"),
        ("pin", "require"),
        ("upgrade", "renew"),
        ("upgrade 20", "renew 20"),
        ("update", "renew"),
        ("undo", "restore"),
        ("recover 6.20.1", "restore 6.20.1"),
        ("clean", "tidy"),
        ("prune", "tidy"),
        ("gc", "tidy"),
        ("purge", "tidy"),
        ("doctor", "checkup"),
        ("check", "checkup"),
        ("verify 20", "checkup 20"),
        ("search 20", "catalog 20"),
        ("available", "catalog"),
        ("info 20.1.0", "catalog 20.1.0"),
        ("show lts", "catalog lts"),
        ("releases", "catalog"),
        ("eol", "timeline"),
        ("why lts", "explain lts"),
        ("log", "history"),
        ("settings", "config"),
        ("init", "connect"),
        ("setup", "connect"),
        ("plugins", "runtimes"),
        ("import ~/build", "adopt '~/build'"),
        ("link", "adopt PATH"),
        ("migrate", "carry --from SELECTOR --to SELECTOR"),
        ("completion", "help connect"),
        ("menu", "browse"),
        ("version", "--version"),
        ("20", "switch 20"),
        ("v20", "switch v20"),
        ("lts", "switch lts"),
        ("latest", "switch latest"),
        ("node@20", "switch node@20"),
        ("-", "switch -"),
        ("20 -- node -v", "run 20 -- node -v"),
        ("8 install", "install 8"),
        ("8 install --switch", "install 8 --switch"),
        ("instal 8", "install 8"),
        ("satus", "status"),
        ("lsit", "list"),
    ];

    #[test]
    fn what_people_type_is_answered_with_the_command_that_does_it() {
        let entries = commands::all();
        let names: Vec<&str> = entries.iter().map(|entry| entry.name).collect();
        for (typed, answer) in ANSWERS {
            let words: Vec<&str> = typed.split(' ').collect();
            assert_eq!(command(&words, &names).as_deref(), Some(*answer), "{typed}");
        }
        assert_eq!(command(&["kelp"], &names), None);
    }

    #[test]
    fn a_command_to_run_is_told_from_the_version_that_it_runs_on() {
        let meant = |typed: &str| run_without_dashes(&typed.split(' ').collect::<Vec<_>>());
        assert_eq!(
            meant("vshelf run 20 node -v").as_deref(),
            Some("run 20 -- node -v")
        );
        let here = meant("vshelf run --here node -v");
        assert_eq!(here.as_deref(), Some("run --here -- node -v"));
        assert_eq!(meant("vshelf run 20"), None);
        assert_eq!(meant("vshelf label run 8 9"), None);
        assert_eq!(meant("vshelf run --unknown 8"), None);
        assert_eq!(meant("vshelf run 20 -- node"), None);
    }

    #[test]
    fn every_answer_is_a_command_that_is_understood() {
        let entries = commands::all();
        let answers = ANSWERS.iter().map(|(_, answer)| *answer);
        let plain = PLAIN_WORDS.iter().map(|(_, command)| filled(command, &[]));
        for answer in answers.map(str::to_owned).chain(plain) {
            let words: Vec<&str> = answer
                .split(' ')
                .map(|word| word.trim_matches('\''))
                .collect();
            if words[0] == "--version" || words[0] == "help" {
                continue;
            }
            let entry = entries.iter().find(|entry| entry.name == words[0]);
            let parsed = (entry.unwrap().build)().try_get_matches_from(&words);
            assert!(parsed.is_ok(), "{answer}: {parsed:?}");
        }
    }

    #[test]
    fn no_plain_word_is_a_command_or_stands_for_two() {
        let entries = commands::all();
        let mut seen = std::collections::BTreeSet::new();
        for word in PLAIN_WORDS.iter().flat_map(|(words, _)| *words) {
            assert!(seen.insert(word), "{word} stands for two");
            assert!(entries.iter().all(|entry| entry.name != *word), "{word}");
        }
    }
}
