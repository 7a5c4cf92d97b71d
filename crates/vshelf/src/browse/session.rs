//! One time that the view is open.
//!
//! A key begins the use case that one of the other commands does, on a thread of its own, in the shell
//! as those before it leave it.

use std::sync::mpsc::{Receiver, channel};
use std::thread::{self, JoinHandle};

use crossterm::event::{KeyCode, KeyModifiers};
use signal_hook::consts::{SIGHUP, SIGINT};
use vshelf_app::calling_shell::CallingShell;
use vshelf_app::runtime::published::Extent;
use vshelf_app::{Environment, Runtime};
use vshelf_view::browse::{Action, Appearance, Browser, Message};

use super::cards::Cards;
use super::screen::{Press, Screen, next_press, watch_signals};
use super::{action, snapshot};
use crate::failure::Failure;
use crate::ui::{Output, Ui};

/// How the view was left.
pub enum Left {
    /// As it should be: what was chosen holds, in the shell as the commands leave it where there were
    /// any.
    Quietly(Option<CallingShell>),
    /// By the key, or the loss of the terminal, that stands for this signal.
    By(i32),
}

/// Shows the view of a runtime until it is left.
pub fn look(ui: &Ui, runtime: Runtime<'_>) -> Result<Left, Failure> {
    let mut browser = Browser::new();
    browser.show(snapshot::take(&runtime));
    watch_signals()?;
    let mut screen = Screen::open()?;
    let mut session = Session {
        ui,
        offline: runtime.environment().transport.is_offline(),
        prefix: runtime.environment().prefix(runtime.name()),
        name: runtime.name().to_owned(),
        transcript: Vec::new(),
    };
    let left = session.look(&mut screen, &mut browser, runtime);
    // The person sees what was done on the terminal that they come back to.
    drop(screen);
    for line in &session.transcript {
        ui.note(line);
    }
    left
}

/// How a moment of the view ended.
enum End {
    /// The view was left.
    Left(Left),
    /// A command ended, and this is the shell that it leaves.
    Moved(CallingShell),
}

/// One time that the view is open.
struct Session<'s> {
    ui: &'s Ui,
    offline: bool,
    name: String,
    prefix: String,
    /// What the commands said, for the time after.
    transcript: Vec<String>,
}

/// A command at work.
struct Work {
    said: Receiver<Output>,
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
        let mut left_behind = None;
        loop {
            let shell = match end {
                End::Left(Left::Quietly(_)) => return Ok(Left::Quietly(left_behind)),
                End::Left(left) => return Ok(left),
                End::Moved(shell) => shell,
            };
            // What the command before changed shows, in the shell that it leaves.
            let environment = Environment::in_shell(shell, self.offline);
            let mut runtime = Runtime::named(&environment, Some(&self.name))?;
            runtime.published.load(Extent::Releases)?;
            browser.show(snapshot::take(&runtime));
            end = self.look_at(screen, browser, &runtime)?;
            drop(runtime);
            left_behind = Some(environment.shell);
        }
    }

    /// Shows what there is at this moment, until a command changed it or the view is left.
    fn look_at(
        &mut self,
        screen: &mut Screen,
        browser: &mut Browser,
        runtime: &Runtime<'_>,
    ) -> Result<End, Failure> {
        let appearance = Appearance {
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
                let card = chosen.as_deref().map(|name| cards.of(name));
                browser.set_card(card.unwrap_or_default());
                shown = chosen;
            }
            screen.draw(browser, appearance)?;
            let ended = work.take_if(|work| work.worker.is_finished());
            if let Some(work) = work.as_ref().or(ended.as_ref()) {
                self.hear(browser, work);
            }
            if let Some(work) = ended {
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
                Some(Action::Leave) => return Ok(End::Left(Left::Quietly(None))),
                Some(action) => {
                    let shell = runtime.environment().shell.clone();
                    work = Some(self.begin(browser, action, shell));
                }
            }
        }
    }

    /// Begins what an action asks for.
    fn begin(&mut self, browser: &mut Browser, action: Action, shell: CallingShell) -> Work {
        let command = action::command(&action, &self.prefix);
        self.transcript.push(command.clone());
        browser.begin(command);
        let (sender, said) = channel();
        let ui = self.ui.within(sender);
        let (offline, runtime) = (self.offline, self.name.clone());
        let worker = thread::spawn(move || {
            let environment = Environment::in_shell(shell, offline);
            if let Err(failure) = action::run(&action, &runtime, &ui, &environment) {
                ui.failure(&failure);
            }
            environment.shell
        });
        Work { said, worker }
    }

    /// Shows what a command said since it was listened to last.
    fn hear(&mut self, browser: &mut Browser, work: &Work) {
        for said in work.said.try_iter() {
            match said {
                Output::Progress(progress) => browser.set_progress(Some(progress)),
                Output::Line(text) => {
                    self.transcript.push(text.clone());
                    browser.tell(Message::Line(text));
                }
                Output::Failure(text) => {
                    self.transcript.push(text.clone());
                    browser.tell(Message::Failure(text));
                }
            }
        }
    }
}
