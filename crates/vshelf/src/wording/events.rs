//! The terminal as a listener: what happens in words, questions asked.

use vshelf_app::events::{Deleting, Task};
use vshelf_app::{Answer, Error, Event, Listener, Question};
use vshelf_sources::address;
use vshelf_view::words::{Count, listed, printable};

use super::paths::{project_name, shown};
use super::shells::say_connected;
use super::{building, concerns, conclusions, holders, installing, keeping};
use crate::failure::{Failure, Outcome};
use crate::ui::Ui;

impl Listener for Ui {
    fn tell(&self, event: Event<'_>) {
        if let Err(failure) = tell(self, event) {
            self.keep_failure(failure);
        }
    }

    fn ask(&self, question: &Question<'_>) -> Result<Answer, Error> {
        let is_offer = matches!(question, Question::ConnectShell { .. });
        // To connect a shell is another job than the one that was given.
        if self.says_yes() && !is_offer {
            return Ok(Answer::Yes);
        }
        if !self.can_ask() || (is_offer && self.is_quiet()) {
            return Ok(Answer::Nobody);
        }
        let agreed = self
            .ask_yes_no(&in_words(question))
            .map_err(|source| Error::Listener { source })?;
        if agreed {
            return Ok(Answer::Yes);
        }
        match question {
            Question::Tidy { .. }
            | Question::RemoveNeeded { .. }
            | Question::RemoveUnlisted { .. } => {
                self.note("Nothing was removed.");
            }
            Question::Renew { .. } | Question::ReplaceBuiltIn { .. } => {
                self.note("Nothing was changed.");
            }
            Question::InstallMissing { .. }
            | Question::InstallRequired { .. }
            | Question::ConnectShell { .. }
            | Question::TryRelease { .. }
            | Question::FollowProject { .. } => {}
        }
        Ok(Answer::No)
    }
}

#[expect(clippy::too_many_lines, reason = "one table")]
fn tell(ui: &Ui, event: Event<'_>) -> Outcome {
    match event {
        Event::Catalog(status) => concerns::say_catalog(ui, status),
        Event::RequirementFound {
            file,
            title,
            request,
        } => ui.note(format!("{} requires {title} {request}.", shown(file))),
        Event::LockedWithdrawn { title, why } => ui.warn(format!(
            "{title} is locked, and was withdrawn: {}.",
            printable(why)
        )),
        Event::Waiting { title, holder } => ui.note_above_bars(&format!(
            "Another command ({holder}) is working on {title}; waiting for it."
        )),
        Event::TaskBegins(task) => {
            let (what, deleting) = waiting_for(task);
            ui.begin_wait(what, deleting);
        }
        Event::TaskEnds => ui.end_wait(),
        Event::TransfersBegin {
            count,
            longest_title,
            archives,
            builds,
        } => {
            ui.begin_bars(count > 1, longest_title);
            ui.announce_interruptions(archives, builds);
        }
        Event::Transfer { id, title, state } => ui.move_bar(id, title, state),
        Event::BuildBegins(plan) => building::say_plan(ui, plan),
        Event::Building {
            title,
            step,
            count,
            name,
            elapsed,
            lines,
        } => ui.show_step(
            title,
            &format!("step {step} of {count}, {name}"),
            elapsed,
            lines,
        ),
        Event::BuildEnds { title } => ui.hide_steps(title),
        Event::TransfersEnd => ui.end_bars(),
        Event::NoCompanion { package, title } => ui.note_above_bars(&format!(
            "No release of {package} supports {title}; it is installed without."
        )),
        Event::SourceFailed {
            source,
            next,
            title,
            error,
        } => {
            ui.warn(format!("{source} cannot provide {title}: {error}."));
            ui.note(format!("Trying {next} instead."));
        }
        Event::Installed(results) => return installing::say_results(ui, results),
        Event::InstallsPlanned(planned) => return installing::say_planned(ui, planned),
        Event::PackagesLost(lost) => return installing::say_packages_lost(ui, lost),
        Event::Connected(connected) => return say_connected(ui, connected),
        Event::Concluded {
            conclusions,
            of_several,
        } => return conclusions::say_conclusions(ui, conclusions, of_several),
        Event::Adopted {
            title,
            linked,
            from,
        } => return installing::say_adopted(ui, title, linked, from),
        Event::InstallingPackages(packages) => keeping::say_installing(ui, packages),
        Event::Carried(report) => return keeping::show_carried(ui, report),
        Event::Removed(removed) => return keeping::say_removed(ui, removed),
        Event::Renewal(step) => return keeping::say_renewal(ui, step),
        Event::Restored(restored) => return installing::say_restored(ui, restored),
        Event::NotGone { title } => {
            return ui.done(format!("{title} is already installed."));
        }
        Event::Failed(error) => ui.failure(&Failure::from_told(error)),
        Event::LeftUndone(error) => ui.warn(Failure::from_told(error).sentence()),
    }
    Ok(())
}

/// What is waited for, and how far it is where that is known.
fn waiting_for(task: Task<'_>) -> (String, Option<Deleting>) {
    match task {
        Task::ListingPackages(title) => (format!("Asking for the packages of {title}."), None),
        Task::Removing(title, deleting) => (format!("Removing {title}"), Some(deleting)),
        Task::RemovingLeftovers(deleting) => {
            let what = "Removing what was left behind".to_owned();
            (what, Some(deleting))
        }
    }
}

fn in_words(question: &Question<'_>) -> String {
    match question {
        Question::InstallMissing { title, version } => {
            format!("{title} {version} is published, but not on the shelf. Install it now?")
        }
        Question::InstallRequired {
            file,
            title,
            request,
        } => format!(
            "{} requires {title} {}, which is not on the shelf. Install it, now and whenever something is missing there?",
            project_name(file),
            request.without_runtime()
        ),
        Question::ConnectShell { dialect, file } => {
            let (name, file) = (dialect.name(), shown(file));
            format!("No shell is connected. Connect new {name} shells, by a block in {file}?")
        }
        Question::FollowProject {
            file,
            title,
            selector,
        } => {
            format!(
                "{} requires {title} {selector}. Use it here?",
                project_name(file)
            )
        }
        Question::RemoveNeeded { title, needed_by } => {
            let needed_by = holders::protections(*needed_by);
            format!("{title} is in use ({needed_by}). Remove it anyway?")
        }
        Question::RemoveUnlisted { title, cause } => format!(
            "The packages in {title} cannot be listed: {}. Remove it with them?",
            printable(cause)
        ),
        Question::ReplaceBuiltIn { title, place } => format!(
            "{title} is built in. Have the definition at {} take its place?",
            printable(&address::shown(place))
        ),
        Question::Tidy {
            installs,
            leftovers,
            empties_trash,
        } => clean_up_in_words(*installs, *leftovers, *empties_trash),
        Question::TryRelease { title } => {
            format!(
                "Fetch the newest {title} to see whether it can be installed? Nothing of it is kept."
            )
        }
        Question::Renew { lines, removals: 0 } => format!("Renew {}?", Count(*lines, "line")),
        Question::Renew { lines, removals } => {
            let removed = Count(*removals, "install");
            format!("Renew {} and remove {removed}?", Count(*lines, "line"))
        }
    }
}

/// The question whether to carry out a clean-up that removes this many installs and leftovers.
fn clean_up_in_words(installs: usize, leftovers: usize, empties_trash: bool) -> String {
    let installs = (installs > 0).then(|| Count(installs, "install").to_string());
    let leftovers = (leftovers > 0).then(|| "the leftovers".to_owned());
    let removed: Vec<String> = installs.into_iter().chain(leftovers).collect();
    match (removed.is_empty(), empties_trash) {
        (true, _) => "Empty the trash?".to_owned(),
        (false, true) => format!("Remove {}, and empty the trash?", listed(&removed, "and")),
        (false, false) => format!("Remove {}?", listed(&removed, "and")),
    }
}
