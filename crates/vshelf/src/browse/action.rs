//! What a key begins: a use case, and the command that would do the same.

use vshelf_app::install::request::InstallRequest;
use vshelf_app::install::run::install;
use vshelf_app::keep::remove::{RemoveRequest, remove};
use vshelf_app::{Environment, Error, defaults, labels, switch};
use vshelf_core::Request;
use vshelf_view::browse::Action;

use crate::failure::Outcome;
use crate::output;
use crate::ui::Ui;

/// The command that does what an action does; the runtime goes in front of selectors where it has to
/// be named.
pub fn command(action: &Action, prefix: &str) -> String {
    let words = match action {
        Action::Install(name) => format!("install {prefix}{name}"),
        Action::Switch(name) => format!("switch {prefix}{name}"),
        Action::Default(name) => format!("default {prefix}{name}"),
        // What begins so is no option: no label does.
        Action::Label(label, name) if label.starts_with('-') => {
            format!("label -- {label} {prefix}{name}")
        }
        Action::Label(label, name) => format!("label {label} {prefix}{name}"),
        Action::Remove { name, in_use: true } => {
            format!("remove {prefix}{name} --even-if-used")
        }
        Action::Remove { name, .. } => format!("remove {prefix}{name}"),
        Action::Leave => String::new(),
    };
    format!("vshelf {words}")
}

/// Does what is asked for.
pub fn run(action: &Action, runtime: &str, ui: &Ui, environment: &Environment) -> Outcome {
    let request =
        |name: &str| -> Result<Request, Error> { Ok(format!("{runtime}@{name}").parse()?) };
    match action {
        Action::Install(name) => {
            let asked = InstallRequest {
                requests: vec![request(name)?],
                ..InstallRequest::default()
            };
            Ok(install(environment, asked, ui)?)
        }
        Action::Switch(name) => {
            let asked = Some(request(name)?);
            let switched = switch::switch(environment, asked, ui)?;
            output::switch::say_switched(ui, &switched)
        }
        Action::Default(name) => {
            let set = defaults::set(environment, &request(name)?)?;
            output::default::say_set(ui, &set)
        }
        Action::Label(label, name) => {
            let set = labels::set(environment, label, &request(name)?)?;
            output::label::say_set(ui, &set)
        }
        Action::Remove { name, in_use } => {
            let asked = RemoveRequest {
                requests: vec![request(name)?],
                every: false,
                even_if_used: *in_use,
                for_good: false,
            };
            Ok(remove(environment, &asked, ui)?)
        }
        Action::Leave => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    use crate::commands;

    #[rstest]
    #[case(Action::Install("8.3.1".to_owned()), "install marram@8.3.1")]
    #[case(Action::Switch("8.3.1".to_owned()), "switch marram@8.3.1")]
    #[case(Action::Default("8.3.1".to_owned()), "default marram@8.3.1")]
    #[case(Action::Label("old".to_owned(), "6.20.2".to_owned()), "label old marram@6.20.2")]
    #[case(Action::Label("--remove".to_owned(), "6.20.2".to_owned()), "label -- --remove marram@6.20.2")]
    #[case(Action::Remove { name: "6.20.2".to_owned(), in_use: false }, "remove marram@6.20.2")]
    #[case(Action::Remove { name: "6.20.2".to_owned(), in_use: true }, "remove marram@6.20.2 --even-if-used")]
    fn an_action_is_shown_as_a_command_that_is_one(#[case] action: Action, #[case] shown: &str) {
        let command = command(&action, "marram@");
        assert_eq!(command, format!("vshelf {shown}"));
        let words: Vec<&str> = shown.split(' ').collect();
        let entries = commands::all();
        let entry = entries.iter().find(|entry| entry.name == words[0]).unwrap();
        assert!((entry.build)().try_get_matches_from(&words).is_ok());
    }
}
