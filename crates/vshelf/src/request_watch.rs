//! Says on a terminal which server is waited for, if that takes a while.

use std::any::Any;
use std::collections::HashSet;
use std::io::{self, Write};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::mpsc::{RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, OnceLock};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use anstream::{AutoStream, ColorChoice};
use vshelf_sources::OnWait;
use vshelf_view::words::printable;

/// How long nothing is said of what is waited for.
pub const PATIENCE: Duration = Duration::from_secs(1);

/// How long a request may take unmentioned if the command has waited longer than `PATIENCE` in all.
const GRACE: Duration = Duration::from_millis(100);

/// Mentions each server once.
struct RequestWatch {
    choice: ColorChoice,
    /// Whether the bars of transfers are drawn, between which nothing may be written.
    draws_bars: Arc<AtomicBool>,
    /// When the first request began.
    begun: OnceLock<Instant>,
    mentioned: Mutex<HashSet<String>>,
}

/// The hook of a transport whose requests are mentioned on standard error.
pub fn on_wait(choice: ColorChoice, draws_bars: Arc<AtomicBool>) -> Arc<OnWait> {
    let watch = Arc::new(RequestWatch {
        choice,
        draws_bars,
        begun: OnceLock::new(),
        mentioned: Mutex::default(),
    });
    Arc::new(move |server| Box::new(watch.begin(server)) as Box<dyn Any>)
}

impl RequestWatch {
    fn begin(self: &Arc<Self>, server: &str) -> Wait {
        let begun = self.begun.get_or_init(Instant::now);
        let patience = PATIENCE.saturating_sub(begun.elapsed()).max(GRACE);
        let (ended, end) = channel();
        let (watch, server) = (Arc::clone(self), server.to_owned());
        let mentioned = thread::spawn(move || {
            if end.recv_timeout(patience) == Err(RecvTimeoutError::Timeout) {
                watch.mention(&server);
            }
        });
        Wait(Some((ended, mentioned)))
    }

    fn mention(&self, server: &str) {
        let mut mentioned = self.mentioned.lock().expect("no listener panics");
        if self.draws_bars.load(Ordering::Relaxed) || !mentioned.insert(server.to_owned()) {
            return;
        }
        let mut err = AutoStream::new(io::stderr().lock(), self.choice);
        // If standard error is closed, nobody reads it.
        writeln!(err, "Waiting for {}.", printable(server)).unwrap_or_default();
    }
}

/// A request under way; it ended when this is dropped.
struct Wait(Option<(Sender<()>, JoinHandle<()>)>);

impl Drop for Wait {
    fn drop(&mut self) {
        if let Some((ended, mentioned)) = self.0.take() {
            drop(ended);
            mentioned.join().expect("mentioning does not panic");
        }
    }
}
