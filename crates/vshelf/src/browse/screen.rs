//! The terminal that the view is drawn on, and its keys.

use std::io;
use std::panic;
use std::thread;
use std::time::Duration;

use ratatui::DefaultTerminal;
use ratatui::crossterm::cursor::Show;
use ratatui::crossterm::event::{self, Event, KeyEvent, KeyEventKind};
use ratatui::crossterm::execute;
use rustix::event::{PollFd, PollFlags, Timespec};
use rustix::io::Errno;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use vshelf_view::browse::{Appearance, Browser, draw};

use crate::failure::{Failure, Kind, Outcome};

/// How long the view waits for a key before it looks for news of a command.
const PATIENCE: Timespec = Timespec {
    tv_sec: 0,
    tv_nsec: 60_000_000,
};

/// The terminal while the view has it; it is as before when this is gone, after a panic too.
pub struct Screen(DefaultTerminal);

impl Screen {
    /// Takes the terminal.
    pub fn open() -> Result<Screen, Failure> {
        let screen = ratatui::try_init().map(Screen).map_err(terminal_failure);
        let report = panic::take_hook();
        panic::set_hook(Box::new(move |panic| {
            give_back();
            report(panic);
        }));
        screen
    }

    /// Draws the view.
    pub fn draw(&mut self, browser: &Browser, appearance: Appearance) -> Outcome {
        let drawn = self.0.draw(|frame| draw(frame, browser, appearance));
        drawn.map(drop).map_err(terminal_failure)
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
pub fn watch_signals() -> Outcome {
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

/// What the person did.
pub enum Press {
    /// Nothing yet.
    None,
    /// A key was pressed.
    Key(KeyEvent),
    /// The terminal is gone.
    Gone,
}

/// What the person does soon, or has done already where `typed_ahead` may have been read.
pub fn next_press(typed_ahead: bool) -> Result<Press, Failure> {
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
