//! `vshelf browse`: look around and act, on the whole screen.
//!
//! The view asks for nothing that the other commands do not do: a key gives one of them, on a thread
//! of its own, in the shell as the commands before it will have left it.

use std::collections::BTreeMap;
use std::io;
use std::panic;
use std::sync::mpsc::{Receiver, channel};
use std::thread::{self, JoinHandle};
use std::time::Duration;

use clap::Args;
use ratatui::DefaultTerminal;
use ratatui::crossterm::cursor::Show;
use ratatui::crossterm::event::{self, Event, KeyCode, KeyEvent, KeyEventKind, KeyModifiers};
use ratatui::crossterm::execute;
use rustix::event::{PollFd, PollFlags, Timespec};
use rustix::io::Errno;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use vshelf_core::activation::Rule;
use vshelf_core::resolve::Candidate;
use vshelf_core::{Release, Version};
use vshelf_shelf::Install;
use vshelf_view::browse::{Browser, Entry, Look, Spine, Stand, Told, Wish, draw};
use vshelf_view::words::{ago, megabytes, printable};

use super::catalog::card;
use super::{CommandArgs, all};
use crate::activity::Activity;
use crate::calling_shell::CallingShell;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::marks::{about_line, marks};
use crate::runtime::Runtime;
use crate::ui::{Said, Ui, plain};

/// How long the view waits for a key before it looks for news of a command.
const PATIENCE: Timespec = Timespec {
    tv_sec: 0,
    tv_nsec: 60_000_000,
};

/// Look around on the whole screen: filter, install, switch, remove
///
/// The lines stand on a shelf; of the one that stands out the releases are listed, and of the
/// chosen one the card is shown. Keys do what the other commands do, and show which command that is.
/// The key ? shows all of them.
#[derive(Debug, Args)]
pub struct Browse {
    /// The runtime, where several are on the shelf
    #[arg(value_name = "RUNTIME")]
    runtime: Option<String>,
    /// Begin with this text in the filter, as in lts or 6.2
    #[arg(
        long,
        value_name = "TEXT",
        default_value = "",
        hide_default_value = true
    )]
    filter: String,
}

impl CommandArgs for Browse {
    const NAME: &'static str = "browse";
    const GROUP: &'static str = "See";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let mut runtime = context.runtime(self.runtime.as_deref())?;
        if !ui.is_terminal() || !ui.can_ask() {
            let message = "browse draws on a terminal, and here is none";
            return Err(Failure::new(Kind::Usage, message)
                .run("To list what is published", "vshelf catalog"));
        }
        runtime.load_catalog(false)?;
        let mut browser = Browser::new();
        browser.show(stand(&runtime));
        if !self.filter.is_empty() {
            browser.filter(&self.filter);
        }
        watch_signals()?;
        let mut screen = Screen::open()?;
        let mut session = Session {
            ui,
            offline: context.transport.is_offline(),
            prefix: context.prefix(runtime.name())?,
            name: runtime.name().to_owned(),
            transcript: Vec::new(),
            shell: None,
        };
        let left = session.look(&mut screen, &mut browser, runtime);
        // The person sees what was done on the terminal that they come back to.
        drop(screen);
        for line in &session.transcript {
            ui.note(line);
        }
        match left? {
            Left::Quietly => {
                if let Some(shell) = session.shell {
                    context.shell.take_over(shell);
                }
                Ok(())
            }
            Left::By(signal) => signal_hook::low_level::emulate_default_handler(signal)
                .map_err(|error| Failure::new(Kind::Other, error.to_string())),
        }
    }
}

/// How the view was left.
enum Left {
    /// As it should be: what was chosen holds.
    Quietly,
    /// By the key, or the loss of the terminal, that stands for this signal.
    By(i32),
}

/// How a moment of the view ended.
enum End {
    /// The view was left.
    Left(Left),
    /// A command ended, and this is the shell that it leaves.
    Moved(CallingShell),
}

/// The terminal while the view has it; it is as before when this is gone, after a panic too.
struct Screen(DefaultTerminal);

impl Screen {
    fn open() -> Result<Screen, Failure> {
        let screen = ratatui::try_init().map(Screen).map_err(terminal_failure);
        let report = panic::take_hook();
        panic::set_hook(Box::new(move |panic| {
            give_back();
            report(panic);
        }));
        screen
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        give_back();
    }
}

/// Gives the terminal back as it was.
fn give_back() {
    ratatui::restore();
    // A terminal that is gone has no cursor either.
    execute!(io::stdout(), Show).unwrap_or_default();
}

fn terminal_failure(error: io::Error) -> Failure {
    Failure::new(
        Kind::Other,
        format!("the terminal cannot be drawn on: {error}"),
    )
}

/// Leaves the terminal as it was when a signal ends the program, whatever it is doing then.
fn watch_signals() -> Outcome {
    let failed = |error: io::Error| Failure::new(Kind::Other, error.to_string());
    let mut signals = Signals::new([SIGINT, SIGTERM, SIGHUP]).map_err(failed)?;
    thread::spawn(move || {
        for signal in &mut signals {
            give_back();
            // What cannot die by the signal goes on.
            signal_hook::low_level::emulate_default_handler(signal).unwrap_or_default();
        }
    });
    Ok(())
}

/// One time that the view is open.
struct Session<'s> {
    ui: &'s Ui,
    offline: bool,
    name: String,
    prefix: String,
    /// What the commands said, for the time after.
    transcript: Vec<String>,
    /// The calling shell as the commands so far leave it; nothing before the first.
    shell: Option<CallingShell>,
}

/// A command at work.
struct Work {
    said: Receiver<Said>,
    worker: JoinHandle<CallingShell>,
}

impl Session<'_> {
    /// Shows the view until it is left.
    fn look(
        &mut self,
        screen: &mut Screen,
        browser: &mut Browser,
        runtime: Runtime<'_>,
    ) -> Result<Left, Failure> {
        let mut end = self.look_at(screen, browser, &runtime)?;
        drop(runtime);
        loop {
            let shell = match end {
                End::Left(left) => return Ok(left),
                End::Moved(shell) => shell,
            };
            // What the command before changed shows, in the shell that it leaves.
            let context = Context::in_shell(shell, self.offline);
            let mut runtime = context.runtime(Some(&self.name))?;
            runtime.load_catalog(false)?;
            browser.show(stand(&runtime));
            end = self.look_at(screen, browser, &runtime)?;
            drop(runtime);
            self.shell = Some(context.shell);
        }
    }

    /// Shows what there is at this moment, until a command changed it or the view is left.
    fn look_at(
        &mut self,
        screen: &mut Screen,
        browser: &mut Browser,
        runtime: &Runtime<'_>,
    ) -> Result<End, Failure> {
        let look = Look {
            colours: self.ui.colours(),
            unicode: self.ui.is_unicode(),
        };
        let cards = Cards::new(runtime);
        let mut work: Option<Work> = None;
        let mut shown = None;
        let mut typed_ahead = false;
        loop {
            let chosen = browser.chosen().map(|entry| entry.name.clone());
            if chosen != shown {
                browser.set_card(
                    chosen
                        .as_deref()
                        .map_or_else(Vec::new, |name| cards.of(name)),
                );
                shown = chosen;
            }
            (screen.0)
                .draw(|frame| draw(frame, browser, look))
                .map_err(terminal_failure)?;
            let at_work = work.take_if(|work| work.worker.is_finished());
            if let Some(work) = work.as_ref().or(at_work.as_ref()) {
                self.hear(browser, work);
            }
            if let Some(work) = at_work {
                browser.end();
                let shell = work.worker.join().expect("a panic ends the program");
                return Ok(End::Moved(shell.moved_on()));
            }
            let press = next_press(typed_ahead)?;
            typed_ahead = matches!(press, Press::Key(_));
            let key = match press {
                Press::None => continue,
                Press::Gone => return Ok(End::Left(Left::By(SIGHUP))),
                Press::Key(key) => key,
            };
            if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('c') {
                return Ok(End::Left(Left::By(SIGINT)));
            }
            match browser.press(key) {
                None => {}
                Some(Wish::Leave) => return Ok(End::Left(Left::Quietly)),
                Some(wish) => {
                    let shell = runtime.context().shell.clone();
                    work = Some(self.begin(browser, &wish, shell));
                }
            }
        }
    }

    /// Begins the command that a wish stands for.
    fn begin(&mut self, browser: &mut Browser, wish: &Wish, shell: CallingShell) -> Work {
        let words = words(wish, &self.prefix);
        let command = format!("vshelf {}", words.join(" "));
        self.transcript.push(command.clone());
        browser.begin(command);
        let (sender, said) = channel();
        let ui = self.ui.within(sender);
        let offline = self.offline;
        let worker = thread::spawn(move || {
            let context = Context::in_shell(shell, offline);
            if let Err(failure) = run(&words, &ui, &context) {
                ui.failure(&failure);
            }
            context.shell
        });
        Work { said, worker }
    }

    /// Shows what a command said since it was listened to last.
    fn hear(&mut self, browser: &mut Browser, work: &Work) {
        for said in work.said.try_iter() {
            match said {
                Said::Headway(headway) => browser.set_headway(Some(headway)),
                Said::Line(text) => {
                    self.transcript.push(text.clone());
                    browser.tell(Told::Line(text));
                }
                Said::Failure(text) => {
                    self.transcript.push(text.clone());
                    browser.tell(Told::Failure(text));
                }
            }
        }
    }
}

/// What the person did.
enum Press {
    /// Nothing yet.
    None,
    /// A key was pressed.
    Key(KeyEvent),
    /// The terminal is gone.
    Gone,
}

/// What the person does soon, or has done already where `typed_ahead` may have been read.
fn next_press(typed_ahead: bool) -> Result<Press, Failure> {
    // Whoever reads events reads the end of a terminal that is gone again and again.
    let stdin = rustix::stdio::stdin();
    let mut terminal = [PollFd::new(&stdin, PollFlags::IN)];
    let patience = if typed_ahead {
        Timespec::default()
    } else {
        PATIENCE
    };
    match rustix::event::poll(&mut terminal, Some(&patience)) {
        // A window of another size interrupts it.
        Ok(_) | Err(Errno::INTR) => {}
        Err(error) => return Err(terminal_failure(error.into())),
    }
    if terminal[0]
        .revents()
        .intersects(PollFlags::HUP | PollFlags::ERR)
    {
        return Ok(Press::Gone);
    }
    if !event::poll(Duration::ZERO).map_err(terminal_failure)? {
        return Ok(Press::None);
    }
    Ok(match event::read().map_err(terminal_failure)? {
        Event::Key(key) if key.kind != KeyEventKind::Release => Press::Key(key),
        _ => Press::None,
    })
}

/// The words of the command that a wish stands for; the entry's runtime goes in front where it has
/// to be named.
fn words(wish: &Wish, prefix: &str) -> Vec<String> {
    let selector = |name: &str| format!("{prefix}{name}");
    match wish {
        Wish::Install(name) => vec!["install".to_owned(), selector(name)],
        Wish::Switch(name) => vec!["switch".to_owned(), selector(name)],
        Wish::Default(name) => vec!["default".to_owned(), selector(name)],
        Wish::Label(label, name) => {
            let mut words = vec!["label".to_owned()];
            // No label begins so, and what is typed is no option.
            words.extend(label.starts_with('-').then(|| "--".to_owned()));
            words.extend([label.clone(), selector(name)]);
            words
        }
        Wish::Remove { name, in_use } => {
            let mut words = vec!["remove".to_owned(), selector(name)];
            words.extend(in_use.then(|| "--even-if-used".to_owned()));
            words
        }
        Wish::Leave => Vec::new(),
    }
}

/// Gives the command with these words.
fn run(words: &[String], ui: &Ui, context: &Context) -> Outcome {
    let entries = all();
    let entry = (entries.iter())
        .find(|entry| Some(entry.name) == words.first().map(String::as_str))
        .ok_or_else(|| Failure::new(Kind::Usage, format!("{words:?} is no command")))?;
    let matches = (entry.build)()
        .try_get_matches_from(words)
        .map_err(|error| {
            let text = error.render().to_string();
            let first = text.lines().next().unwrap_or_default();
            Failure::new(Kind::Usage, first.trim_start_matches("error: "))
        })?;
    (entry.run)(&matches, ui, context)
}

/// What there is at this moment.
fn stand(runtime: &Runtime<'_>) -> Stand {
    let catalog = runtime.catalog();
    let published = runtime.published();
    let activity = Activity::of(runtime);
    let has_any = |line: &&vshelf_core::Line| {
        let installed = |install: &Install| line.covers(&install.shelved.version);
        published
            .iter()
            .any(|candidate| line.covers(candidate.version))
            || runtime.installs.iter().any(installed)
    };
    let lines: Vec<_> = catalog.lines.iter().filter(has_any).collect();
    let spine_of = |version: &Version| lines.iter().position(|line| line.covers(version));
    let spines = lines.iter().map(|line| Spine {
        name: line.name.clone(),
        codename: line.codename.clone().unwrap_or_default(),
        phase: line.phase_on(runtime.today),
        about: plain(&about_line(line, runtime.today)),
    });
    let mut entries: Vec<(Version, Entry)> = published
        .iter()
        .map(|candidate| {
            let mut entry = entry(
                runtime,
                &activity,
                &runtime.selector_for(candidate.version, candidate.publisher),
                candidate.install,
            );
            entry.spine = spine_of(candidate.version);
            if let Some(release) = candidate.release {
                describe(&mut entry, release, runtime);
            }
            (candidate.version.clone(), entry)
        })
        .collect();
    for install in &runtime.installs {
        let shelved = &install.shelved;
        let is_published = |candidate: &Candidate<'_>| {
            candidate
                .install
                .is_some_and(|other| other.key == shelved.key)
        };
        if !published.iter().any(is_published) {
            let name = runtime.spelled(shelved);
            let mut entry = entry(runtime, &activity, &name, Some(shelved));
            entry.spine = spine_of(&shelved.version);
            let place = entries.partition_point(|(version, _)| *version > shelved.version);
            entries.insert(place, (shelved.version.clone(), entry));
        }
    }
    Stand {
        title: runtime.definition.title.clone(),
        active: active_in_words(&activity),
        spines: spines.collect(),
        entries: entries.into_iter().map(|(_, entry)| entry).collect(),
    }
}

fn entry(
    runtime: &Runtime<'_>,
    activity: &Activity,
    name: &str,
    install: Option<&vshelf_core::resolve::Shelved>,
) -> Entry {
    let key = install.map(|install| install.key.as_str());
    let is_default = key.is_some() && runtime.default_key().as_deref() == key;
    let is_active = key.is_some() && activity.active_key() == key;
    Entry {
        spine: None,
        name: name.to_owned(),
        date: None,
        on_shelf: install.is_some(),
        in_use: is_default || is_active,
        removal: key.map_or_else(String::new, |key| {
            removal(runtime, key, is_default, is_active)
        }),
        refused: None,
        remarks: Vec::new(),
        marks: key.map_or_else(Vec::new, |key| marks(runtime, activity, key)),
    }
}

/// What taking an install off the shelf comes to.
fn removal(runtime: &Runtime<'_>, key: &str, is_default: bool, is_active: bool) -> String {
    let mut sentences = Vec::new();
    if is_default {
        sentences.push("It is the default, and there would be none.".to_owned());
    }
    if is_active {
        sentences.push("This shell uses it.".to_owned());
    }
    let install = runtime.install(key);
    let contents = install.map(|install| &install.receipt.contents);
    if let Some(contents) = contents.filter(|contents| contents.adopted.is_none()) {
        let size = megabytes(contents.unpacked_size);
        sentences.push(format!(
            "{size} are free then; vshelf restore brings it back."
        ));
    }
    sentences.join(" ")
}

/// Adds what the catalog says of a release.
fn describe(entry: &mut Entry, release: &Release, runtime: &Runtime<'_>) {
    entry.date = release.date;
    if release.security {
        entry.remarks.push("security".to_owned());
    }
    if let Some(reason) = &release.withdrawn {
        entry.remarks.push("withdrawn".to_owned());
        entry.refused = Some(format!("it was withdrawn: {}", printable(reason)));
    }
    let platform = &runtime.context().platform;
    if !release.runs_on(platform) {
        entry.remarks.push("no build here".to_owned());
        entry.refused = Some(format!("there is no build for {platform}"));
    }
}

fn active_in_words(activity: &Activity) -> String {
    let key = activity.active_key().unwrap_or_default();
    match activity.rule() {
        Some(Rule::Switch) => format!("this shell: {key}"),
        Some(Rule::Pin) => format!("pinned here: {key}"),
        Some(Rule::Default) => format!("default: {key}"),
        Some(Rule::System) => "the system's own copy is active".to_owned(),
        None => "nothing is active".to_owned(),
    }
}

/// The cards of releases and installs.
struct Cards<'r, 'c> {
    runtime: &'r Runtime<'c>,
    published: BTreeMap<String, Candidate<'r>>,
}

impl<'r, 'c> Cards<'r, 'c> {
    fn new(runtime: &'r Runtime<'c>) -> Cards<'r, 'c> {
        let published = runtime.published().into_iter();
        Cards {
            runtime,
            published: published
                .map(|candidate| {
                    (
                        runtime.selector_for(candidate.version, candidate.publisher),
                        candidate,
                    )
                })
                .collect(),
        }
    }

    /// The card of the entry with this name: names and facts.
    fn of(&self, name: &str) -> Vec<(String, String)> {
        let runtime = self.runtime;
        let mut facts = Vec::new();
        if let Some(candidate) = self.published.get(name)
            && let Some(release) = candidate.release
        {
            // A card that cannot be read is a short one.
            let details = runtime
                .kept_catalog()
                .and_then(|loaded| loaded.details(release).ok());
            let details = details.unwrap_or_default();
            let platform = runtime.context().platform.to_string();
            facts = card::facts(runtime, candidate, release, &details);
            // Of the builds only the one for this machine can be chosen.
            facts.retain(|(name, fact)| *name != "build" || fact.starts_with(&platform));
        }
        let spelled = |install: &&Install| runtime.spelled(&install.shelved) == name;
        if let Some(install) = runtime.installs.iter().find(spelled) {
            let contents = &install.receipt.contents;
            let used = ago(runtime.used_on(install), runtime.today);
            let size = megabytes(contents.unpacked_size);
            let place = facts.len().min(1);
            facts.insert(place, ("on disk", format!("{size}, used {used}")));
            facts.push(("came from", printable(&contents.source)));
        }
        let facts = facts.into_iter();
        facts
            .map(|(name, fact)| (name.to_owned(), plain(&fact)))
            .collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Wish::Install("8.3.1".to_owned()), "install marram@8.3.1")]
    #[case(Wish::Label("old".to_owned(), "6.20.2".to_owned()), "label old marram@6.20.2")]
    #[case(Wish::Label("--drop".to_owned(), "6.20.2".to_owned()), "label -- --drop marram@6.20.2")]
    #[case(Wish::Remove { name: "6.20.2".to_owned(), in_use: false }, "remove marram@6.20.2")]
    #[case(Wish::Remove { name: "6.20.2".to_owned(), in_use: true }, "remove marram@6.20.2 --even-if-used")]
    fn a_wish_is_a_command(#[case] wish: Wish, #[case] command: &str) {
        let words = words(&wish, "marram@");
        assert_eq!(words.join(" "), command);
        let entries = all();
        let entry = entries.iter().find(|entry| entry.name == words[0]).unwrap();
        assert!((entry.build)().try_get_matches_from(&words).is_ok());
    }
}
