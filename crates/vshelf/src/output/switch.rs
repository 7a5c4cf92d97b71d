//! What the calling shell uses after a switch.

use vshelf_app::base::base_of_pick;
use vshelf_app::events::{Event, Listener};
use vshelf_app::switch::{Followed, LackingPackages, Switched};
use vshelf_app::{Activity, Runtime};
use vshelf_core::Pick;
use vshelf_view::words::Count;

use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::shells::{self, say_way_to_default};

/// Says what the calling shell uses now.
pub fn say_switched(ui: &Ui, switched: &Switched<'_>) -> Outcome {
    let Switched {
        runtime,
        activity,
        pick,
        already,
        ..
    } = switched;
    let named = called(runtime, pick, activity);
    let was = match activity.active() {
        Some(before) if before != pick => {
            format!(", and no longer {}", called(runtime, before, activity))
        }
        _ => String::new(),
    };
    ui.done(match already {
        true => format!("This shell uses {named} already."),
        false => format!("This shell uses {named} now{was}."),
    })?;
    match base_of_pick(runtime, pick) {
        Ok(Some(base)) => ui.note(format!("It runs on {}.", base.title)),
        Ok(None) => {}
        Err(error) => ui.tell(Event::LeftUndone(&error)),
    }
    if let Some(publisher) = &switched.usual_publisher {
        ui.note(format!(
            "No install from {publisher} matches {}, so another publisher's was taken.",
            switched.request.selector
        ));
    }
    if let Some(newer) = &switched.newer {
        let prefix = runtime.environment().prefix(runtime.name());
        let request = switched.request.without_runtime();
        let publisher = request.publisher.as_ref();
        let publisher = publisher.map_or_else(String::new, |publisher| format!("{publisher}/"));
        ui.next(
            &format!("{publisher}{newer} is published for {request}; to get it"),
            &format!("vshelf install {prefix}{publisher}{newer} --switch"),
        );
    }
    if let Some(LackingPackages { count, from, to }) = &switched.lacking {
        let (is, it) = if *count == 1 {
            ("is", "it")
        } else {
            ("are", "them")
        };
        let packages = Count(*count, "package");
        ui.next(
            &format!("{packages} of {from} {is} not in {to}; to carry {it} over"),
            &format!("vshelf carry {from} {to}"),
        );
    }
    if let (Some(default), false) = (runtime.snapshot.default_selector(), already)
        && runtime.snapshot.default_pick() != Some(pick)
    {
        ui.note(format!("New shells still get the default, {default}."));
    }
    Ok(())
}

/// Says what the calling shell follows again.
pub fn say_followed(ui: &Ui, followed: &Followed<'_>) -> Outcome {
    let (runtime, activity) = (&followed.runtime, &followed.activity);
    let title = &runtime.definition.title;
    if !followed.changes {
        return ui.done(format!(
            "This shell is not switched; it follows the default of {title} already."
        ));
    }
    match (&followed.required, runtime.snapshot.default_pick()) {
        (Some(pick), _) => ui.done(format!(
            "This shell follows the project here again: {}.",
            called(runtime, pick, activity)
        )),
        (None, Some(pick)) => ui.done(format!(
            "This shell follows the default of {title} again: {}.",
            called(runtime, pick, activity)
        )),
        (None, None) => {
            ui.done(format!(
                "This shell is no longer switched, and {title} has no default."
            ))?;
            say_way_to_default(ui, runtime);
            Ok(())
        }
    }
}

fn called(runtime: &Runtime<'_>, pick: &Pick, activity: &Activity) -> String {
    shells::called(runtime, pick, activity.system_copy())
}
