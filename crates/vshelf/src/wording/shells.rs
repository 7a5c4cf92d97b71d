//! What shells are told: notices of projects, and picks in sentences.

use vshelf_app::Runtime;
use vshelf_app::integrate::entering::Notice;
use vshelf_app::outcome::{Connected, WayToConnect};
use vshelf_core::Pick;
use vshelf_core::lock_file::LOCK_FILE;
use vshelf_shell::quote;
use vshelf_view::words::printable;

use super::paths::{project_name, shown};
use crate::failure::{Failure, Outcome};
use crate::sentences::{hint, wrapped};
use crate::ui::{Ui, plain};

/// The notice that a shell prints when it enters a project, broken into lines if the terminal is narrower.
pub fn notice(notice: Notice, columns: Option<usize>) -> String {
    let (text, command) = match notice {
        Notice::Unusable(error) | Notice::NotInstalled(error) => {
            let failure = Failure::from(error);
            match with_first_step(&failure) {
                Some((text, command)) => (text, command),
                None => {
                    let text = printable(&format!("vshelf: {}", failure.message));
                    return wrapped(&text, columns, "");
                }
            }
        }
        Notice::Undecided {
            file,
            title,
            runtime,
            request,
        } => {
            let project = project_name(&file);
            let text = format!(
                "what {title} {request} in {project} means is unknown without a catalog; to get one"
            );
            (text, format!("vshelf catalog {runtime}"))
        }
        Notice::Unmet {
            file,
            title,
            request,
            prefix,
        } => {
            // Without a selector exactly the locked bytes are installed.
            let selector = if file.ends_with(LOCK_FILE) {
                String::new()
            } else {
                let selector = format!("{prefix}{request}");
                format!(" {}", quote::posix_where_needed(&selector, "@./-"))
            };
            let project = project_name(&file);
            let text = format!(
                "{project} requires {title} {request}, which is not on the shelf; to get it"
            );
            (text, format!("vshelf install{selector}"))
        }
    };
    let (text, command) = (printable(&format!("vshelf: {text}")), printable(&command));
    plain(&hint(&text, &command, columns, ""))
}

/// The message of a failure with the purpose of the first command that helps, and that command.
fn with_first_step(failure: &Failure) -> Option<(String, String)> {
    let (why, command) = failure.steps().next()?;
    let mut letters = why.chars();
    let first = letters.next().map(|first| first.to_ascii_lowercase());
    let why: String = first.into_iter().chain(letters).collect();
    Some((format!("{}; {why}", failure.message), command.to_owned()))
}

/// Says how a shell was connected.
pub fn say_connected(ui: &Ui, connected: &Connected) -> Outcome {
    let (name, file) = (connected.dialect.name(), shown(&connected.start_up_file));
    if let Some(lines) = connected.new_lines.as_ref().filter(|_| ui.is_terminal()) {
        ui.note(format!("These lines are in {file} now:"));
        ui.excerpt(lines);
    }
    let login = connected.login.as_ref();
    let login = login.map(|(file, is_new)| (shown(file), *is_new));
    let of_login = |begin: &str| match &login {
        Some((file, _)) => format!("{begin}login shells through {file}"),
        None => String::new(),
    };
    let is_new_login = login.as_ref().is_some_and(|(_, is_new)| *is_new);
    ui.done(match (&connected.new_lines, connected.renewed) {
        (Some(_), _) => format!(
            "New {name} shells are now connected, through {file}{}.",
            of_login(", ")
        ),
        (None, _) if is_new_login => format!(
            "{name} was connected through {file}; now also {}.",
            of_login("")
        ),
        (None, true) => {
            format!("The file that {name} shells source was updated; {file} needed no change.")
        }
        (None, false) => format!("{name} is connected already; nothing was changed."),
    })?;
    if let Some(line) = connected.completion_line {
        let why = format!(
            "Should Tab complete nothing, {file} does not start zsh's completion yet; with this line it does"
        );
        ui.next(&why, line);
    }
    if let Some(line) = &connected.source_line {
        ui.next("To connect this shell too", line);
    }
    Ok(())
}

/// Says how the calling shell becomes connected.
pub fn say_way_to_connect(ui: &Ui, way: &WayToConnect) {
    let command = match way {
        WayToConnect::Source(line) => line,
        WayToConnect::Connect => "vshelf connect",
    };
    ui.next("This shell is not connected; to connect it", command);
}

/// Says how a runtime gets a default.
pub fn say_way_to_default(ui: &Ui, runtime: &Runtime<'_>) {
    match runtime.names().newest_on_shelf() {
        Some(newest) => ui.next(
            "To choose the newest on the shelf for new shells",
            &format!("vshelf default {newest}"),
        ),
        None => {
            let prefix = runtime.environment().prefix(runtime.name());
            ui.next("To install one", &format!("vshelf install {prefix}stable"));
        }
    }
}

/// What an install or the system's copy is called in sentences; `system_copy` is where the latter is.
pub fn called(runtime: &Runtime<'_>, pick: &Pick, system_copy: Option<&std::path::Path>) -> String {
    let title = &runtime.definition.title;
    match (pick, system_copy) {
        (Pick::System, Some(program)) => {
            format!("the system's own {title} ({})", shown(program))
        }
        (Pick::System, None) => format!("the system's own {title}"),
        (Pick::Install(key), _) => runtime.names().title_of(key),
    }
}
