//! Starting programs from tests, whatever started the tests.
//!
//! A test run in a terminal shares it with every child: an interactive shell would take the terminal, and
//! a process in another group would be stopped when it writes to it. A test run under `nohup` or from a
//! script passes on ignored signals. So each program gets its own session without a controlling terminal,
//! default signal dispositions and a deadline.

use std::ffi::OsStr;
use std::fs;
use std::io::Read;
use std::ops::{Deref, DerefMut};
use std::process::{Child, Command, ExitStatus, Output, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::{Duration, Instant};

use rustix::process::{Pid, Signal, kill_process_group};

/// How long a program may run before its test fails. Builds of real runtimes have their own limit.
pub const DEADLINE: Duration = Duration::from_secs(240);

/// How often a running program is looked at.
const POLL: Duration = Duration::from_millis(1);

/// Programs that run the one that is meant in a new session, with all signals at their defaults. Each
/// replaces itself by the next, so that the process id is that of the program.
const SESSION: [&str; 3] = ["/usr/bin/setsid", "/usr/bin/env", "--default-signal"];

/// A command that runs in its own session; it reads nothing unless told otherwise.
pub fn command(program: impl AsRef<OsStr>) -> Command {
    let mut command = Command::new(SESSION[0]);
    command
        .args(&SESSION[1..])
        .arg(program)
        .stdin(Stdio::null());
    command
}

/// The program and arguments of a [`command`], for one that another program is to run.
pub fn words(command: &Command) -> impl Iterator<Item = &OsStr> {
    command.get_args().skip(SESSION.len() - 1)
}

/// Runs a [`command`] to its end and returns what it wrote.
pub fn output(command: &mut Command) -> Output {
    output_within(DEADLINE, command)
}

/// Like [`output`], with another deadline.
pub fn output_within(limit: Duration, command: &mut Command) -> Output {
    let deadline = Instant::now() + limit;
    let mut started = Started::start(command.stdout(Stdio::piped()).stderr(Stdio::piped()));
    let stdout = Collected::from(started.stdout.take().expect("it is piped"));
    let stderr = Collected::from(started.stderr.take().expect("it is piped"));
    let status = started.wait_until(deadline);
    // Its child processes may still hold the pipes.
    let ended = status.is_some() && stdout.wait_until(deadline) && stderr.wait_until(deadline);
    let [stdout, stderr] = [stdout, stderr].map(Collected::bytes);
    match status.filter(|_| ended) {
        Some(status) => Output {
            status,
            stdout,
            stderr,
        },
        None => panic!(
            "{command:?} did not end within {limit:?}\n{}\n{}",
            String::from_utf8_lossy(&stdout),
            String::from_utf8_lossy(&stderr)
        ),
    }
}

/// Runs a [`command`] to its end.
pub fn status(command: &mut Command) -> ExitStatus {
    Started::start(command).wait()
}

/// A program that was started with [`command`]; dropped, it is killed with its process group.
#[derive(Debug)]
pub struct Started(Child);

impl Started {
    /// Starts a [`command`]. Returns when the program itself runs.
    pub fn start(command: &mut Command) -> Started {
        let started = Started(command.spawn().expect("setsid can be started"));
        let exe = format!("/proc/{}/exe", started.id());
        let is_preparing = || {
            let program = fs::read_link(&exe);
            program.is_ok_and(|program| program.ends_with("setsid") || program.ends_with("env"))
        };
        while is_preparing() {
            thread::sleep(POLL);
        }
        started
    }

    /// Waits until it ends; after [`DEADLINE`] the test fails.
    pub fn wait(&mut self) -> ExitStatus {
        let ended = self.wait_until(Instant::now() + DEADLINE);
        ended.unwrap_or_else(|| panic!("process {} did not end within {DEADLINE:?}", self.id()))
    }

    fn wait_until(&mut self, deadline: Instant) -> Option<ExitStatus> {
        loop {
            let ended = self.try_wait().expect("it is this process's child");
            if ended.is_some() || Instant::now() > deadline {
                return ended;
            }
            thread::sleep(POLL);
        }
    }

    /// Kills it and all of its process group, and waits until it is gone.
    pub fn end(&mut self) {
        if let Ok(None) = self.try_wait() {
            // It may end in this moment.
            kill_process_group(Pid::from_child(self), Signal::KILL).unwrap_or_default();
            self.wait();
        }
    }
}

impl Deref for Started {
    type Target = Child;

    fn deref(&self) -> &Child {
        &self.0
    }
}

impl DerefMut for Started {
    fn deref_mut(&mut self) -> &mut Child {
        &mut self.0
    }
}

impl Drop for Started {
    fn drop(&mut self) {
        self.end();
    }
}

/// The output of a program to a pipe, collected while it runs.
struct Collected {
    bytes: Arc<Mutex<Vec<u8>>>,
    ended: Receiver<()>,
}

impl Collected {
    fn from(mut pipe: impl Read + Send + 'static) -> Collected {
        let bytes = Arc::new(Mutex::new(Vec::new()));
        let (end, ended) = channel();
        let shared = Arc::clone(&bytes);
        thread::spawn(move || {
            let mut piece = [0; 8192];
            while let Ok(count @ 1..) = pipe.read(&mut piece) {
                let mut bytes = shared.lock().expect("no holder panics");
                bytes.extend_from_slice(&piece[..count]);
            }
            // The test may have given up.
            end.send(()).unwrap_or_default();
        });
        Collected { bytes, ended }
    }

    fn wait_until(&self, deadline: Instant) -> bool {
        let left = deadline.saturating_duration_since(Instant::now());
        self.ended.recv_timeout(left).is_ok()
    }

    fn bytes(self) -> Vec<u8> {
        self.bytes.lock().expect("no holder panics").clone()
    }
}
