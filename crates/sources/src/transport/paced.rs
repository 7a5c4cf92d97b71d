//! A limit to how slow bytes may come.

use std::io::{self, Read};
use std::time::{Duration, Instant};

/// The fewest bytes that have to come in a second, over a stretch as long as a stall may be.
const LEAST_RATE: u64 = 1000;

/// A reader that fails when what comes is next to nothing for long: a server that sends a byte now and then
/// must not hold a lock for ever.
pub(super) struct Paced<R> {
    inner: R,
    stretch: Duration,
    begun: Instant,
    came: u64,
}

impl<R> Paced<R> {
    pub(super) fn new(inner: R, stretch: Duration) -> Paced<R> {
        Paced {
            inner,
            stretch,
            begun: Instant::now(),
            came: 0,
        }
    }
}

impl<R: Read> Read for Paced<R> {
    fn read(&mut self, into: &mut [u8]) -> io::Result<usize> {
        let count = self.inner.read(into)?;
        self.came += count as u64;
        let passed = self.begun.elapsed();
        if count == 0 || passed < self.stretch {
            return Ok(count);
        }
        if (self.came as f64) < LEAST_RATE as f64 * passed.as_secs_f64() {
            let seconds = passed.as_secs();
            let text = format!("less than 1 kB a second came for {seconds} seconds");
            return Err(io::Error::new(io::ErrorKind::TimedOut, text));
        }
        (self.begun, self.came) = (Instant::now(), 0);
        Ok(count)
    }
}
