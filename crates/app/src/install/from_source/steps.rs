//! Running one step of a build: in a cleared environment, with an empty home, without a network where the
//! system can deny it, and with everything that it started ended with it.

use std::collections::{BTreeMap, VecDeque};
use std::fs::{self, File};
use std::io::{self, BufRead, BufReader, PipeReader, Read, Write};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Stdio};
use std::sync::OnceLock;
use std::sync::mpsc::{Receiver, RecvTimeoutError, Sender, channel};
use std::thread;
use std::time::{Duration, Instant};

use vshelf_files::system;
use vshelf_shelf::processes;

use crate::error::StepProblem;

/// Where steps find programs: nothing of a shelf, and nothing of a person's own.
pub const PATH: &str = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin";

/// How long one step may take.
pub const LONGEST_STEP: Duration = Duration::from_secs(3 * 60 * 60);

/// How often it is looked whether a step has ended, and told how far it is.
const LOOK: Duration = Duration::from_millis(200);

/// How long is waited for what is about to be there, and how often for the end of what a step wrote.
const PAUSE: Duration = Duration::from_millis(10);
const LOOKS_FOR_END: usize = 20;

/// The bytes of a step's log that are kept from its beginning and from its end.
const LOG_HEAD: usize = 8 << 20;
const LOG_TAIL: usize = 1 << 20;

/// The longest line of output that is passed on in one piece, in bytes.
const LONGEST_LINE: u64 = 64 << 10;

/// A step is stopped if fewer bytes than this are free, or less than a hundredth of a small disk: whatever else
/// runs on the machine needs some.
const LEAST_FREE: u64 = 64 << 20;

/// The time that a step may run with less: one that fails for want of space ends by itself with a better message.
const WITHOUT_SPACE: Duration = Duration::from_secs(1);

/// How much memory one job of a build is given, in bytes.
const MEMORY_OF_JOB: u64 = 1 << 30;

/// What takes the network from a program and all that it starts, and ends all of it with its first: user,
/// network and process namespaces (namespaces(7)), which need no rights where the system allows them.
const ALONE: [&str; 10] = [
    // Ends it when this program ends in whatever way (setpriv(1), prctl(2), PR_SET_PDEATHSIG).
    "setpriv",
    "--pdeathsig",
    "KILL",
    "unshare",
    "--user",
    "--map-current-user",
    "--net",
    "--pid",
    "--fork",
    "--kill-child",
];

/// What a step runs in.
pub struct Surroundings {
    /// The folder that it is started in.
    pub folder: PathBuf,
    /// Its home, empty at first.
    pub home: PathBuf,
    /// Its folder for temporary files.
    pub temporary: PathBuf,
    /// The log, which it adds to.
    pub log: PathBuf,
    /// Its own variables.
    pub environment: BTreeMap<String, String>,
    /// How long it may take.
    pub longest: Duration,
}

/// How many things a build does at a time: as many as there are cores and memory for.
pub fn jobs() -> u64 {
    let cores = thread::available_parallelism().map_or(1, |cores| cores.get() as u64);
    let text = fs::read_to_string("/proc/meminfo").unwrap_or_default();
    let available = text.lines().find_map(|line| {
        let kilobytes = line
            .strip_prefix("MemAvailable:")?
            .split_whitespace()
            .next()?;
        kilobytes.parse::<u64>().ok()
    });
    let by_memory = available.map_or(cores, |kilobytes| kilobytes * 1024 / MEMORY_OF_JOB);
    cores.min(by_memory).max(1)
}

/// Whether this system lets a program be alone.
fn can_be_alone() -> bool {
    static CAN: OnceLock<bool> = OnceLock::new();
    *CAN.get_or_init(|| {
        let mut command = Command::new(ALONE[0]);
        command.args(&ALONE[1..]).arg("true").stdin(Stdio::null());
        let output = command.output();
        output.is_ok_and(|output| output.status.success())
    })
}

/// Runs a program to its end, and tells the lines that it writes, those of a moment together, with the time
/// since it began.
pub fn run(
    surroundings: &Surroundings,
    arguments: &[String],
    said: &mut dyn FnMut(&[String], Duration),
) -> Result<(), StepProblem> {
    run_whole(surroundings, arguments, said, can_be_alone())
}

/// The same, in separate namespaces or without.
fn run_whole(
    surroundings: &Surroundings,
    arguments: &[String],
    said: &mut dyn FnMut(&[String], Duration),
    alone: bool,
) -> Result<(), StepProblem> {
    let failed = |error: io::Error| StepProblem::Start(error.to_string());
    for folder in [&surroundings.home, &surroundings.temporary] {
        fs::create_dir_all(folder).map_err(failed)?;
    }
    let mut log = StepLog::open(&surroundings.log).map_err(failed)?;
    log.write(format!("# {}\n", arguments.join(" ")).as_bytes())
        .map_err(failed)?;
    let (reader, writer) = io::pipe().map_err(failed)?;
    let mut command = command_in(surroundings, arguments, alone);
    command
        .stdout(writer.try_clone().map_err(failed)?)
        .stderr(writer);
    let mut child = command.spawn().map_err(failed)?;
    // The command holds the other end of the pipe as long as it is there.
    drop(command);
    let (line_to, lines) = channel::<String>();
    let reading = thread::spawn(move || copy_lines(reader, log, &line_to));
    let begun = Instant::now();
    let status = wait(surroundings, &mut child, &lines, begun, said);
    if !alone {
        // Its own folder for temporary files tells what it started from all else.
        processes::end_all_with(&format!("TMPDIR={}", surroundings.temporary.display()));
    }
    // A process that a step leaves running may hold its output open, so the wait for the end is bounded.
    let is_whole = (0..LOOKS_FOR_END).any(|_| {
        let is_finished = reading.is_finished();
        if !is_finished {
            thread::sleep(PAUSE);
        }
        is_finished
    });
    let rest: Vec<String> = lines.try_iter().collect();
    said(&rest, begun.elapsed());
    let logged = if is_whole {
        reading.join().unwrap_or(Ok(()))
    } else {
        Ok(())
    };
    let status = status?;
    logged.map_err(failed)?;
    if status.success() {
        Ok(())
    } else {
        Err(StepProblem::Ended(status.to_string()))
    }
}

/// The command of a step, in separate namespaces or without.
fn command_in(surroundings: &Surroundings, arguments: &[String], alone: bool) -> Command {
    let before: &[&str] = if alone { &ALONE } else { &[] };
    let mut words = before
        .iter()
        .copied()
        .chain(arguments.iter().map(String::as_str));
    let mut command = Command::new(words.next().unwrap_or_default());
    command
        .args(words)
        .env_clear()
        .env("PATH", PATH)
        .env("HOME", &surroundings.home)
        .env("TMPDIR", &surroundings.temporary)
        .env("LC_ALL", "C")
        .envs(&surroundings.environment)
        .current_dir(&surroundings.folder)
        .stdin(Stdio::null());
    command
}

/// Writes the output of a step to its log, and passes its lines on.
fn copy_lines(output: PipeReader, mut log: StepLog, lines: &Sender<String>) -> io::Result<()> {
    let mut output = BufReader::new(output);
    let mut bytes = Vec::new();
    while (output.by_ref().take(LONGEST_LINE)).read_until(b'\n', &mut bytes)? > 0 {
        log.write(&bytes)?;
        let line = String::from_utf8_lossy(&bytes).trim_end().to_owned();
        bytes.clear();
        if !line.is_empty() && lines.send(line).is_err() {
            break;
        }
    }
    log.end()
}

/// Passes on the lines of a step until it ends, or stops it if it may not go on.
fn wait(
    surroundings: &Surroundings,
    child: &mut Child,
    lines: &Receiver<String>,
    begun: Instant,
    said: &mut dyn FnMut(&[String], Duration),
) -> Result<ExitStatus, StepProblem> {
    let failed = |error: io::Error| StepProblem::Start(error.to_string());
    let mut full_since = None;
    loop {
        let first = match lines.recv_timeout(LOOK) {
            Ok(line) => Some(line),
            Err(RecvTimeoutError::Timeout) => None,
            Err(RecvTimeoutError::Disconnected) => {
                // It writes nothing more, and is about to end as a rule.
                thread::sleep(PAUSE);
                None
            }
        };
        let new: Vec<String> = first.into_iter().chain(lines.try_iter()).collect();
        said(&new, begun.elapsed());
        if let Some(status) = child.try_wait().map_err(failed)? {
            return Ok(status);
        }
        full_since = if is_nearly_full(&surroundings.folder) {
            full_since.or_else(|| Some(Instant::now()))
        } else {
            None
        };
        let problem = if begun.elapsed() > surroundings.longest {
            StepProblem::TooLong(surroundings.longest)
        } else if full_since.is_some_and(|since| since.elapsed() > WITHOUT_SPACE) {
            StepProblem::DiskNearlyFull
        } else {
            continue;
        };
        child.kill().and_then(|()| child.wait()).map_err(failed)?;
        return Err(problem);
    }
}

/// Whether so little is free on the disk of a folder that a step is stopped. If that is not known, it goes on.
fn is_nearly_full(folder: &Path) -> bool {
    let space = system::free_bytes(folder).and_then(|free| Ok((free, system::disk_bytes(folder)?)));
    space.is_ok_and(|(free, disk)| free < LEAST_FREE.min(disk / 100))
}

/// The log of one step, added to that of the build: its first bytes as they come, and its last ones when it
/// ends.
struct StepLog {
    file: File,
    head: usize,
    tail: VecDeque<u8>,
    left_out: u64,
}

impl StepLog {
    fn open(path: &Path) -> io::Result<StepLog> {
        Ok(StepLog {
            file: File::options().create(true).append(true).open(path)?,
            head: 0,
            tail: VecDeque::new(),
            left_out: 0,
        })
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        if self.head < LOG_HEAD {
            self.head += bytes.len();
            return self.file.write_all(bytes);
        }
        self.tail.extend(bytes);
        let excess = self.tail.len().saturating_sub(LOG_TAIL);
        self.tail.drain(..excess);
        self.left_out += excess as u64;
        Ok(())
    }

    fn end(mut self) -> io::Result<()> {
        if self.left_out > 0 {
            writeln!(self.file, "\n# {} bytes are left out here", self.left_out)?;
        }
        let (one, other) = self.tail.as_slices();
        self.file.write_all(one)?;
        self.file.write_all(other)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn surroundings(folder: &Path) -> Surroundings {
        Surroundings {
            folder: folder.to_owned(),
            home: folder.join("home"),
            temporary: folder.join("tmp"),
            log: folder.join("log"),
            environment: BTreeMap::new(),
            longest: Duration::from_secs(60),
        }
    }

    fn shell(script: &str) -> [String; 3] {
        ["sh", "-c", script].map(str::to_owned)
    }

    /// Whether anything still runs that a step in this folder started. What was ended has no environment any more.
    fn leaves_running(folder: &Path) -> bool {
        let entry = format!("TMPDIR={}\0", folder.join("tmp").display());
        let processes = fs::read_dir("/proc").unwrap().flatten();
        let mut environments =
            processes.filter_map(|process| fs::read_to_string(process.path().join("environ")).ok());
        environments.any(|environment| environment.contains(&entry))
    }

    #[rstest]
    #[case::alone(true)]
    #[case::without_namespaces(false)]
    fn a_step_that_does_not_end_is_ended_with_all_that_it_started(#[case] alone: bool) {
        if alone && !can_be_alone() {
            return;
        }
        let folder = tempfile::tempdir().unwrap();
        let surroundings = Surroundings {
            longest: Duration::from_millis(600),
            ..surroundings(folder.path())
        };
        let script = "setsid sh -c 'echo >daemon; exec sleep 2718' & sleep 2718";
        let ended = run_whole(&surroundings, &shell(script), &mut |_, _| {}, alone);
        assert!(matches!(ended, Err(StepProblem::TooLong(_))), "{ended:?}");
        assert!(folder.path().join("daemon").exists());
        assert!(!leaves_running(folder.path()));
    }

    #[test]
    fn a_log_without_end_keeps_its_beginning_and_its_end() {
        let folder = tempfile::tempdir().unwrap();
        let script = "echo first; yes it goes on | head -c 16777216; echo; echo last";
        let surroundings = surroundings(folder.path());
        run_whole(&surroundings, &shell(script), &mut |_, _| {}, false).unwrap();
        let log = fs::read_to_string(&surroundings.log).unwrap();
        let bound = LOG_HEAD + LOG_TAIL + LONGEST_LINE as usize;
        assert!(log.len() < bound, "{} bytes", log.len());
        assert!(log.lines().nth(1) == Some("first") && log.ends_with("\nlast\n"));
        assert!(log.contains(" bytes are left out here\n"));
    }

    #[test]
    fn a_daemon_goes_with_its_step_without_namespaces_too() {
        let folder = tempfile::tempdir().unwrap();
        let script = "setsid sh -c 'echo 1 >daemon; exec sleep 2718' >/dev/null 2>&1 & while [ ! -s daemon ]; do :; done";
        let surroundings = surroundings(folder.path());
        run_whole(&surroundings, &shell(script), &mut |_, _| {}, false).unwrap();
        assert!(!leaves_running(folder.path()));
    }
}
