//! The terminal that the view is drawn on, and its keys.

use std::io::{self, Write};
use std::panic;
use std::thread;
use std::time::Duration;

use crossterm::cursor::{Hide, MoveTo, Show};
use crossterm::event::{self, Event, KeyEvent, KeyEventKind};
use crossterm::style::Print;
use crossterm::terminal::{
    self, Clear, ClearType, EnterAlternateScreen, LeaveAlternateScreen, disable_raw_mode,
    enable_raw_mode,
};
use crossterm::{execute, queue};
use rustix::event::{PollFd, PollFlags, Timespec};
use rustix::io::Errno;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use vshelf_view::browse::{Appearance, Browser, draw};

use crate::failure::{Class, Failure, Outcome};

/// How long the view waits for a key before it looks for news of a command.
const PATIENCE: Timespec = Timespec {
    tv_sec: 0,
    tv_nsec: 60_000_000,
};

/// The terminal while the view has it; it is as before when this is gone, after a panic too.
pub struct Screen {
    size: (u16, u16),
    /// The rows that it shows.
    shown: Vec<String>,
}

impl Screen {
    /// Takes the terminal.
    pub fn open() -> Result<Screen, Failure> {
        let report = panic::take_hook();
        panic::set_hook(Box::new(move |panic| {
            give_back();
            report(panic);
        }));
        let screen = Screen {
            size: (0, 0),
            shown: Vec::new(),
        };
        enable_raw_mode()
            .and_then(|()| execute!(io::stdout(), EnterAlternateScreen, Hide))
            .map_err(terminal_failure)?;
        Ok(screen)
    }

    /// Draws the view: the rows that are not as they were.
    pub fn draw(&mut self, browser: &Browser, appearance: Appearance) -> Outcome {
        self.try_draw(browser, appearance).map_err(terminal_failure)
    }

    fn try_draw(&mut self, browser: &Browser, appearance: Appearance) -> io::Result<()> {
        let mut terminal = io::stdout().lock();
        let size = terminal::size()?;
        if size != self.size {
            queue!(terminal, Clear(ClearType::All))?;
            self.size = size;
            self.shown.clear();
        }
        let rows = draw(size, browser, appearance).rows();
        for (y, row) in rows.iter().enumerate() {
            if self.shown.get(y) != Some(row) {
                let (start, rest) = (MoveTo(0, y as u16), Clear(ClearType::UntilNewLine));
                queue!(terminal, start, rest, Print(row))?;
            }
        }
        self.shown = rows;
        terminal.flush()
    }
}

impl Drop for Screen {
    fn drop(&mut self) {
        give_back();
    }
}

/// Gives the terminal back as it was.
fn give_back() {
    // A terminal that is gone has nothing to be given back.
    disable_raw_mode().unwrap_or_default();
    execute!(io::stdout(), LeaveAlternateScreen, Show).unwrap_or_default();
}

fn terminal_failure(error: io::Error) -> Failure {
    Failure::new(
        Class::Other,
        format!("the terminal cannot be drawn on: {error}"),
    )
}

/// Leaves the terminal as it was when a signal ends the program, whatever it is doing then.
pub fn watch_signals() -> Outcome {
    let failed = |error: io::Error| Failure::new(Class::Other, error.to_string());
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
