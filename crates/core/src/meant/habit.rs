//! Command lines from habit: a plain word for what a command does, a version alone, a misspelled name, words in the
//! wrong order.

use super::near;
use crate::selector::{KEYWORDS, Request, Selector, is_name};

/// The command line that runs a program of a version.
const RUN: &str = "run SELECTOR -- COMMAND";

/// Plain words for what a command does, with that command. `…` is what was typed behind the word; a
/// name in capitals stands for it if nothing was.
const PLAIN_WORDS: &[(&[&str], &str)] = &[
    (
        &[
            "use", "shell", "activate", "select", "change", "enter", "with",
        ],
        "switch …",
    ),
    (
        &["deactivate", "unuse", "leave", "off"],
        "switch --follow …",
    ),
    (&["back", "previous", "prev"], "switch -"),
    (&["ls", "installed", "versions", "inventory"], "list …"),
    (&["outdated", "old", "stale", "expired"], "tidy --dry-run …"),
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
    (&["exec", "execute", "start", "x"], RUN),
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
        &[
            "clean", "cleanup", "prune", "purge", "gc", "clear", "sweep", "cache",
        ],
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
    (&["plugins", "plugin", "languages", "tools"], "runtimes"),
    (&["import", "link", "register"], "adopt PATH…"),
    (&["migrate", "copy"], "carry FROM TO"),
    (&["complete", "completion", "completions"], "help connect"),
    (&["tui", "ui", "interactive", "menu"], "browse …"),
    (&["version"], "--version"),
    (&["tour", "tutorial", "example"], "demo"),
];

/// Options from habit and from former versions, by command, with the command line that does it. `…` is everything else that
/// was typed behind the command; a name in capitals has to be given.
const OPTIONS: &[(&str, &[&str], &str)] = &[
    ("install", &["--required"], "install …"),
    (
        "install",
        &["--force", "-f", "--reinstall"],
        "install --again …",
    ),
    ("install", &["--lts"], "install lts"),
    ("install", &["--latest"], "install latest"),
    ("list", &["--outdated"], "tidy --dry-run"),
    ("list", &["--sort"], "list --size"),
    ("list", &["--remote", "--available", "-r"], "catalog …"),
    ("list", &["--all", "-a"], "catalog --all …"),
    ("tidy", &["--line"], "tidy …"),
    ("tidy", &["--include"], "remove …"),
    ("tidy", &["--keep"], "label NAME …"),
    ("timeline", &["--lines"], "timeline …"),
    ("timeline", &["--years", "--supported"], "timeline"),
    ("catalog", &["--supported"], "catalog --phase supported …"),
    ("catalog", &["--lts"], "catalog --phase lts …"),
    ("catalog", &["--newest-per-line"], "catalog"),
    ("catalog", &["--newest"], "catalog --all"),
    ("catalog", &["--publisher"], "catalog PUBLISHER/"),
    ("explain", &["--shelf"], "explain …"),
    ("browse", &["--filter"], "browse"),
    ("require", &["--exact"], "require …"),
    ("connect", &["--shell"], "connect …"),
    ("install", &["--verbose"], "install …"),
    ("install", &["--jobs"], "help install"),
    ("carry", &["--from", "--to"], "carry …"),
    ("remove", &["--every"], "remove --all …"),
    ("mirror", &["--every"], "mirror --all …"),
    ("remove", &["--force", "-f"], "remove --even-if-used …"),
    ("runtimes", &["--replace", "--fetch"], "runtimes --yes …"),
    ("switch", &["--default", "--global"], "default …"),
    ("switch", &["--install"], "install --switch …"),
    ("run", &["--install"], "run --yes …"),
    (
        "default",
        &["--unset", "--remove", "--clear"],
        "default system",
    ),
];

/// The words of a command line that words with an option from habit, or from a former version, probably mean.
pub fn option_meant(words: &[&str]) -> Option<Vec<String>> {
    let words = words.get(1..)?;
    let at = words.iter().position(|word| !word.starts_with('-'))?;
    let (command, rest) = (words[at], &words[at + 1..]);
    let own = rest.split(|word| *word == "--").next().unwrap_or_default();
    let name_of = |word: &str| word.split('=').next().unwrap_or_default().to_owned();
    let of_command = || OPTIONS.iter().filter(|(name, ..)| *name == command);
    let known =
        |word: &str| of_command().find(|(_, options, _)| options.contains(&&*name_of(word)));
    let (.., meant) = own.iter().find_map(|word| known(word))?;
    let rest = rest.iter().filter_map(|word| match known(word) {
        Some(_) => word.split_once('=').map(|(_, value)| value),
        None => Some(*word),
    });
    // Lists with commas were taken too.
    let rest = rest.flat_map(|word| word.split(','));
    Some(filled(meant, &rest.collect::<Vec<_>>()))
}

/// The words of a command line in which a runtime and a version are two words, as one.
pub fn runtime_and_version(words: &[&str], runtimes: &[String]) -> Option<Vec<String>> {
    let words = words.get(1..)?;
    let is_runtime = |word: &str| runtimes.iter().any(|runtime| runtime == word);
    let at = words.iter().position(|word| is_runtime(word))?;
    let version = words.get(at + 1).filter(|word| is_version(word))?;
    let joined = format!("{}@{version}", words[at]);
    Some(owned(
        (words[..at].iter().copied())
            .chain([joined.as_str()])
            .chain(words[at + 2..].iter().copied()),
    ))
}

/// The words that require a version, if `words` lock one: a lock records what is required.
pub fn lock_of_version(words: &[&str]) -> Option<Vec<String>> {
    let mut words = words.iter().skip(1).filter(|word| !word.starts_with('-'));
    let is_lock = *words.next()? == "lock";
    let version = words.next().filter(|word| is_lock && is_version(word))?;
    Some(owned(["require", version]))
}

/// The words of a command line, without the program's name, that these words probably mean; `commands` are the
/// names of all commands.
pub fn command(words: &[&str], commands: &[&str]) -> Option<Vec<String>> {
    let (first, rest) = words.split_first()?;
    let is_plain = |known: &&(&[&str], &str)| known.0.iter().any(|w| w.eq_ignore_ascii_case(first));
    if let Some((_, command)) = PLAIN_WORDS.iter().find(is_plain) {
        return Some(filled(command, rest));
    }
    if is_version(first) {
        return Some(match rest.iter().position(|word| commands.contains(word)) {
            // Words in the wrong order: `8 install`.
            Some(at) => [&[rest[at], *first], &rest[..at], &rest[at + 1..]]
                .concat()
                .iter()
                .map(ToString::to_string)
                .collect(),
            None if rest.first() == Some(&"--") => run_on(first, &rest[1..]),
            None => owned(["switch", *first]),
        });
    }
    let near = near::words(first, commands.iter().copied());
    let near = near.first()?;
    Some(owned(
        [near.as_str()].into_iter().chain(rest.iter().copied()),
    ))
}

/// The known option that an unknown one probably means; both with their dashes.
pub fn option<'k>(typed: &str, known: impl IntoIterator<Item = &'k str>) -> Option<String> {
    near::words(typed, known).into_iter().next()
}

/// The words of a command line that the words behind `run` probably mean if nothing separates the version and the
/// command.
pub fn run_without_dashes(words: &[&str]) -> Option<Vec<String>> {
    let mut words = words.iter().copied().skip(1);
    // Another command may have an argument of that name.
    if words.find(|word| !word.starts_with('-')) != Some("run") {
        return None;
    }
    let version = words.next()?;
    let is_version = !version.starts_with('-') || version == "--here";
    let command: Vec<&str> = words.collect();
    let is_meant = is_version && !command.is_empty() && !command.contains(&"--");
    // Options alone belong to the program of the runtime that is named.
    if is_meant && command[0].starts_with('-') && !version.starts_with('-') {
        let program = version.split('@').next().unwrap_or(version);
        return is_program(program).then(|| run_on(version, &[&[program], &command[..]].concat()));
    }
    is_meant.then(|| run_on(version, &command))
}

/// Whether a word can be the name of a runtime and its program.
fn is_program(word: &str) -> bool {
    is_name(word) && !KEYWORDS.contains(&word)
}

/// The command line of each plain word, with a name in capitals for what has to be given.
pub fn plain_words() -> impl Iterator<Item = (&'static str, Vec<String>)> {
    PLAIN_WORDS.iter().flat_map(|(words, command)| {
        let filled = filled(command, &[]);
        words.iter().map(move |word| (*word, filled.clone()))
    })
}

/// A command line that runs these words on a version.
fn run_on(version: &str, command: &[&str]) -> Vec<String> {
    owned(
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

/// The words of a command line with those that were typed in the place of `…`.
fn filled(command: &str, rest: &[&str]) -> Vec<String> {
    if command == RUN {
        let given: Vec<&str> = rest.iter().copied().filter(|word| *word != "--").collect();
        return match given.split_first() {
            Some((selector, [])) => run_on(selector, &["COMMAND"]),
            Some((selector, command)) => run_on(selector, command),
            None => owned(command.split(' ')),
        };
    }
    let Some(before) = command.strip_suffix('…') else {
        return owned(command.split(' '));
    };
    let mut words: Vec<&str> = before.split_whitespace().collect();
    let is_name = |word: &&str| word.chars().all(|c| c.is_ascii_uppercase());
    if !rest.is_empty() && words.last().is_some_and(is_name) {
        words.pop();
    }
    owned(words.into_iter().chain(rest.iter().copied()))
}

fn owned<'w>(words: impl IntoIterator<Item = &'w str>) -> Vec<String> {
    words.into_iter().map(str::to_owned).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Words that people type, and the answered commands.
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
        ("outdated", "tidy --dry-run"),
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
        ("download >=6", "install >=6"),
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
        ("import ~/build", "adopt ~/build"),
        ("link", "adopt PATH"),
        ("migrate", "carry FROM TO"),
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
    fn habitual_words_are_answered_with_our_commands() {
        let names = ["install", "list", "switch", "status", "run", "label"];
        for (typed, answer) in ANSWERS {
            let words: Vec<&str> = typed.split(' ').collect();
            let answered = command(&words, &names).map(|words| words.join(" "));
            assert_eq!(answered.as_deref(), Some(*answer), "{typed}");
        }
        assert_eq!(command(&["kelp"], &names), None);
    }

    #[test]
    fn a_command_to_run_is_told_from_the_version_that_it_runs_on() {
        let meant = |typed: &str| {
            let words: Vec<&str> = typed.split(' ').collect();
            run_without_dashes(&words).map(|words| words.join(" "))
        };
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
}
