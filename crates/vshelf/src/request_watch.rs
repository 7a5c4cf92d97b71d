//! Says on a terminal which server is waited for, if that takes a while.

use std::any::Any;
use std::collections::HashSet;
use std::io::{self, Write};
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::sync::{Arc, Mutex, OnceLock};
use std::thread::{self, JoinHandle};
use std::time::{Duration, Instant};

use anstream::{AutoStream, ColorChoice};
use vshelf_sources::OnWait;
use vshelf_view::words::printable;

use crate::progress::Bars;

/// How long nothing is said of what is waited for.
pub const PATIENCE: Duration = Duration::from_secs(1);

/// How long a request may take unmentioned if the command has waited longer than `PATIENCE` in all.
const GRACE: Duration = Duration::from_millis(100);

/// Mentions each server once.
struct RequestWatch {
    choice: ColorChoice,
    /// The bars of transfers under way, between which nothing may be written.
    bars: Arc<Mutex<Option<Bars>>>,
    /// When the first request began.
    begun: OnceLock<Instant>,
    mentioned: Mutex<HashSet<String>>,
}

/// The hook of a transport whose requests are mentioned on standard error.
pub fn on_wait(choice: ColorChoice, bars: Arc<Mutex<Option<Bars>>>) -> Arc<OnWait> {
    let watch = Arc::new(RequestWatch {
        choice,
        bars,
        begun: OnceLock::new(),
        mentioned: Mutex::default(),
    });
    Arc::new(move |server| Box::new(watch.begin(server)) as Box<dyn Any>)
}

impl RequestWatch {
    fn begin(self: &Arc<Self>, server: &str) -> Wait {
        let begun = self.begun.get_or_init(Instant::now);
        let patience = PATIENCE.saturating_sub(begun.elapsed()).max(GRACE);
        let (watch, server) = (Arc::clone(self), server.to_owned());
        Wait::begin(move |end| {
            if end.is_not_within(patience) {
                watch.mention(&server);
            }
        })
    }

    fn mention(&self, server: &str) {
        let mut mentioned = self.mentioned.lock().expect("no listener panics");
        let draws_bars = self.bars.lock().expect("no listener panics").is_some();
        if draws_bars || !mentioned.insert(server.to_owned()) {
            return;
        }
        let mut err = AutoStream::new(io::stderr().lock(), self.choice);
        // If standard error is closed, nobody reads it.
        writeln!(err, "Waiting for {}.", printable(server)).unwrap_or_default();
    }
}

/// Something that is waited for, with a thread that reports it; it ended when this is dropped.
pub struct Wait(Option<(Sender<()>, JoinHandle<()>)>);

/// The end of a wait.
pub struct WaitEnd(Receiver<()>);

impl WaitEnd {
    /// Waits for so long at the most. Returns whether the end did not come.
    pub fn is_not_within(&self, time: Duration) -> bool {
        self.0.recv_timeout(time) == Err(RecvTimeoutError::Timeout)
    }
}

impl Wait {
    /// Runs `report` on a separate thread, which is joined when the wait ends.
    pub fn begin(report: impl FnOnce(WaitEnd) + Send + 'static) -> Wait {
        let (ended, end) = channel();
        Wait(Some((ended, thread::spawn(move || report(WaitEnd(end))))))
    }
}

impl Drop for Wait {
    fn drop(&mut self) {
        if let Some((ended, reporting)) = self.0.take() {
            drop(ended);
            reporting.join().expect("reporting does not panic");
        }
    }
}
