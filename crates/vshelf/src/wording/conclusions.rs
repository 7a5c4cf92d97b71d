//! The active versions and defaults after installs.

use vshelf_app::outcome::{Conclusion, DefaultState, ShellAfterInstall, Superseded, WayToConnect};
use vshelf_core::Pick;

use super::advice::selector_word;
use super::concerns::say_ended;
use super::shells::say_way_to_connect;
use crate::failure::{Failure, Outcome};
use crate::ui::Ui;

/// Says what is active now, and what the defaults are. Of several installs, each sentence names the one that it is
/// about.
pub fn say_conclusions(ui: &Ui, conclusions: &[Conclusion], of_several: bool) -> Outcome {
    let mut to_connect = None;
    for conclusion in conclusions {
        to_connect = say_conclusion(ui, conclusion, of_several)?.or(to_connect);
    }
    // One way serves all runtimes.
    if let Some(way) = to_connect {
        say_way_to_connect(ui, way);
    }
    Ok(())
}

/// The default, with the selector that it was set as, if that differs.
fn default_in_words(default: &DefaultState) -> String {
    let selector = default.selector.clone().unwrap_or_default();
    match &default.shown {
        Some(shown) if *shown != selector => format!("{shown} ({selector})"),
        _ => selector,
    }
}

/// The default that stays, as the beginning of a sentence.
fn default_stays(conclusion: &Conclusion, of_several: bool) -> String {
    let default = default_in_words(&conclusion.default);
    if of_several {
        let runtime = &conclusion.runtime_title;
        format!("The default of {runtime} stays {default}")
    } else {
        format!("The default stays {default}")
    }
}

/// Returns how the calling shell becomes connected, if that is the next step.
fn say_conclusion<'c>(
    ui: &Ui,
    conclusion: &'c Conclusion,
    of_several: bool,
) -> Result<Option<&'c WayToConnect>, Failure> {
    // The table of several installs shows the phases.
    if let (Some(line), false) = (&conclusion.ended_line, of_several) {
        say_ended(ui, line, conclusion.today);
    }
    say_superseded(ui, conclusion);
    let (subject, object) = if of_several {
        (conclusion.title.as_str(), conclusion.title.as_str())
    } else {
        ("It", "it")
    };
    let became = conclusion.became_default;
    let kept = if became {
        format!("{subject} is the default now")
    } else {
        default_stays(conclusion, of_several)
    };
    match &conclusion.shell {
        ShellAfterInstall::AsRequired => ui.done(format!(
            "This shell uses {object} now, as the project here requires. {kept}."
        ))?,
        ShellAfterInstall::RequiredOther(required) => ui.done(format!(
            "{kept}, and this shell stays on {required}, as the project here requires."
        ))?,
        ShellAfterInstall::Switched => {
            let selector = conclusion.default.selector.clone().unwrap_or_default();
            let rest = if became {
                "and new shells do too: it is the default now".to_owned()
            } else {
                format!("new shells use the default, {selector}")
            };
            ui.done(format!("This shell uses {object} now; {rest}."))?;
        }
        ShellAfterInstall::NotConnected(way) => {
            ui.done(format!("{kept}: new connected shells use it."))?;
            return Ok(Some(way));
        }
        ShellAfterInstall::AsDefault => {
            ui.done(format!("{kept}: this shell and new ones use it."))?;
        }
        ShellAfterInstall::StaysSwitched(before) => {
            ui.done(format!(
                "{kept}: new shells use it; this one stays on {before}, which it was switched to."
            ))?;
            ui.next("To follow the default here", "vshelf switch --follow");
        }
        ShellAfterInstall::Active => ui.done(format!("{subject} is active in this shell."))?,
        ShellAfterInstall::Stays {
            answering,
            to_connect,
        } => {
            let here = stays_on(answering.as_deref());
            ui.done(format!("{kept}{here}."))?;
            if to_connect.is_some() {
                return Ok(to_connect.as_ref());
            }
            say_ways_to_use(ui, conclusion, of_several);
        }
    }
    Ok(None)
}

/// Says that a selector means another publisher's install from now on.
fn say_superseded(ui: &Ui, conclusion: &Conclusion) {
    if let Some(Superseded { request, title }) = &conclusion.supersedes {
        let install = &conclusion.title;
        ui.note(format!(
            "{request} now means {install}; {title}, from another publisher, stays on the shelf."
        ));
    }
}

/// The end of a sentence about the version that this shell stays on.
fn stays_on(answering: Option<&str>) -> String {
    match answering {
        Some(other) if other == Pick::System.as_str() => {
            ", and this shell stays on the system's own copy".to_owned()
        }
        Some(other) => format!(", and this shell stays on {other}"),
        None => String::new(),
    }
}

/// Says how the calling shell and new ones come to use an install.
fn say_ways_to_use(ui: &Ui, conclusion: &Conclusion, of_several: bool) {
    let selector = &conclusion.selector;
    let purpose = if of_several {
        "To use one of them here"
    } else {
        "To use it here"
    };
    ui.next(purpose, &format!("vshelf switch {selector}"));
    if !of_several {
        ui.next(
            "To make it the default",
            &format!("vshelf default {}", selector_word(&conclusion.as_default)),
        );
    }
}
