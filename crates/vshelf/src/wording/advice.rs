//! The commands and options that advice stands for.

use std::path::Path;

use vshelf_core::diagnosis::{Action, InstallHow, OptionHint, RemoveHow};
use vshelf_shell::quote;

use super::paths::{edit, quoted};

/// The command line of an action.
#[expect(clippy::too_many_lines, reason = "one table")]
pub fn command(action: &Action) -> String {
    match action {
        Action::AdoptSystem => "vshelf adopt system".to_owned(),
        Action::Adopt(path) => format!("vshelf adopt {}", quoted(path)),
        Action::Catalog(part) => {
            let part = part.trim_end_matches('@');
            format!("vshelf catalog {part}").trim_end().to_owned()
        }
        Action::CheckUp => "vshelf checkup".to_owned(),
        Action::Connect(None) => "vshelf connect".to_owned(),
        Action::Connect(Some(shell)) => format!("vshelf connect {shell}"),
        Action::Define => "vshelf runtimes --add FILE".to_owned(),
        Action::Redefine(place) => {
            let place = quote::posix_where_needed(place, "@./_+=-:");
            format!("vshelf runtimes --add {place} --yes")
        }
        Action::Delete(path) => format!("rm {}", quoted(path)),
        Action::Edit(path) => edit(path),
        Action::HelpOnRunning => "vshelf help run".to_owned(),
        Action::History => "vshelf history".to_owned(),
        Action::Install(selector, how) => {
            let options = match how {
                InstallHow::Usual => "",
                InstallHow::Again => " --again",
                InstallHow::Build => " --build",
                InstallHow::BuildAgain => " --build --again",
                InstallHow::KeepBroken => " --keep-broken",
            };
            format!("vshelf install{options} {selector}")
        }
        Action::Labels => "vshelf label".to_owned(),
        Action::VersionFiles => "vshelf require --read".to_owned(),
        Action::Launchers => "vshelf launchers".to_owned(),
        Action::Line(line) => line.clone(),
        Action::List => "vshelf list".to_owned(),
        Action::Lock => "vshelf lock".to_owned(),
        Action::LockAgain { runtime, platform } => {
            let runtime = runtime.iter().map(|runtime| format!(" {runtime}"));
            let platform = platform.iter().map(|name| format!(" --platform {name}"));
            let rest: String = runtime.chain(platform).collect();
            format!("vshelf lock --renew{rest}")
        }
        Action::MirrorElsewhere(selectors) => {
            format!("vshelf mirror {} --to OTHER_FOLDER", selectors.join(" "))
        }
        Action::MoveData => "export VSHELF_DATA=\"$HOME/shelf\"".to_owned(),
        Action::Read(path) => format!("less {}", quoted(path)),
        Action::Remove(selector, how) => {
            let options = match how {
                RemoveHow::Usual => "",
                RemoveHow::Every => " --all",
                RemoveHow::EvenIfUsed => " --even-if-used",
            };
            format!("vshelf remove {selector}{options}")
        }
        Action::Required => "vshelf require".to_owned(),
        Action::Require { selector, file } => {
            let file = file
                .iter()
                .map(|file| format!(" --file {}", quoted(Path::new(file))));
            let file: String = file.collect();
            format!("vshelf require {}{file}", selector_word(selector))
        }
        Action::Run { selector, words } => {
            let words = words
                .iter()
                .map(|word| quote::posix_where_needed(word, "@./_+=-"));
            let words: Vec<String> = words.collect();
            format!("vshelf run {selector} -- {}", words.join(" "))
        }
        Action::Runtimes => "vshelf runtimes".to_owned(),
        Action::SetAside(path, suffix) => format!("mv {0} {0}{suffix}", quoted(path)),
        Action::Switch(selector) => format!("vshelf switch {}", selector_word(selector)),
        Action::Status => "vshelf status".to_owned(),
    }
}

/// A sentence about an option of the command that failed.
pub fn about_option(hint: &OptionHint) -> String {
    match hint {
        OptionHint::AdoptAs => "Choose another name for it with --as.".to_owned(),
        OptionHint::AdoptBeside => {
            "To adopt this one beside it, add --as with another version or publisher.".to_owned()
        }
        OptionHint::AdoptRuntime(name) => format!("Say which is meant: --as {name}@VERSION."),
        OptionHint::AdoptVersion => "To name the version yourself, add --as VERSION.".to_owned(),
        OptionHint::AdoptWithoutLink => "Without --link an archive is unpacked.".to_owned(),
        OptionHint::AskServers => "Leave --offline out to ask for it.".to_owned(),
        OptionHint::MirrorWithoutBuilds => {
            "Its definition says prefix = \"final\". Others can build it from its source, which is mirrored without --builds.".to_owned()
        }
        OptionHint::SignKey => {
            "Clients that expect it would refuse the new one: add --sign-key FILE.".to_owned()
        }
    }
}

/// A selector as it is typed in a shell.
pub fn selector_word(selector: &str) -> String {
    quote::posix_where_needed(selector, "@./-_^~+")
}

/// Words as they are typed in a shell.
pub fn joined<S: AsRef<str>>(words: impl IntoIterator<Item = S>) -> String {
    let words = words.into_iter();
    let quoted = words.map(|word| quote::posix_where_needed(word.as_ref(), "@./-_:=+,"));
    quoted.collect::<Vec<_>>().join(" ")
}
