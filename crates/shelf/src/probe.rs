//! Starting a program once to hear which version it is.

use std::ffi::OsString;
use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, ExitStatus, Output, Stdio};
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use object::Endianness;
use object::elf::{FileHeader32, FileHeader64};
use object::read::elf::{FileHeader, ProgramHeader};
use object::read::{FileKind, ReadCache, ReadRef};
use strip_ansi_escapes::strip_str;
use vshelf_core::Definition;
use vshelf_files::pieces::for_each_piece;
use vshelf_files::system;
use wait_timeout::ChildExt;

/// How long a program may take to say its version.
const PATIENCE: Duration = Duration::from_secs(20);

/// How often a program that is held for writing is started again, and after which pause.
const BUSY_ATTEMPTS: usize = 200;
const BUSY_PAUSE: Duration = Duration::from_millis(10);

/// How long the output of a program that has ended may stay open, because something that it started holds
/// it.
const LEFT_OPEN: Duration = Duration::from_millis(500);

/// How much of what a program writes is read, in bytes.
const MOST_READ: u64 = 4 << 20;

/// What the program said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// Its standard output.
    pub output: String,
    /// Its standard error.
    pub complaint: String,
}

impl Answer {
    /// The version in it, where it has the form that the definition says.
    pub fn version(&self, definition: &Definition) -> Option<String> {
        let said = [&self.output, &self.complaint];
        said.into_iter()
            .find_map(|text| definition.version_in(text))
    }

    /// The first line of it.
    pub fn first_line(&self) -> &str {
        let said = [&self.output, &self.complaint];
        let mut lines = said.into_iter().flat_map(|text| text.lines());
        lines
            .find(|line| !line.trim().is_empty())
            .unwrap_or_default()
    }
}

/// Why a program did not say its version.
#[derive(Debug, thiserror::Error)]
pub enum ProbeError {
    /// There is no such program, or it is none for this machine.
    #[error("{program} cannot be started")]
    Start {
        /// The program.
        program: PathBuf,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// It ended with a failure.
    #[error("{program} ended with {status}{}", .complaint.lines().next().map(|line| format!(": {line}")).unwrap_or_default())]
    Failed {
        /// The program.
        program: PathBuf,
        /// How it ended.
        status: ExitStatus,
        /// What it wrote on standard error.
        complaint: String,
    },
    /// It took too long.
    #[error("{program} gave no answer within {} seconds", patience.as_secs())]
    Silent {
        /// The program.
        program: PathBuf,
        /// How long it was waited for.
        patience: Duration,
    },
}

impl ProbeError {
    /// The program.
    pub fn program(&self) -> &Path {
        match self {
            ProbeError::Start { program, .. }
            | ProbeError::Failed { program, .. }
            | ProbeError::Silent { program, .. } => program,
        }
    }

    /// What the program wrote on standard error before it failed.
    pub fn complaint(&self) -> &str {
        match self {
            ProbeError::Failed { complaint, .. } => complaint,
            ProbeError::Start { .. } | ProbeError::Silent { .. } => "",
        }
    }

    /// The loader or interpreter that the program names and that is not on this system, if that is
    /// why it cannot be started.
    pub fn missing_interpreter(&self) -> Option<PathBuf> {
        match self {
            ProbeError::Start { program, source } if source.kind() == io::ErrorKind::NotFound => {
                interpreter_of(program)
                    .ok()
                    .flatten()
                    .filter(|interpreter| !interpreter.exists())
            }
            _ => None,
        }
    }
}

/// How much of a program is read at first.
const HEAD: usize = 4096;

/// What has to be started to start `program`: the path behind `#!`, or that in an ELF file's
/// interpreter segment (System V ABI, "Program Header").
pub fn interpreter_of(program: &Path) -> io::Result<Option<PathBuf>> {
    let mut file = File::open(program)?;
    let mut head = [0; HEAD];
    let length = file.read(&mut head)?;
    let head = &head[..length];
    if let Some(line) = head.strip_prefix(b"#!") {
        let line = String::from_utf8_lossy(line);
        return Ok(line.split_whitespace().next().map(PathBuf::from));
    }
    // Most name it in the first bytes; of the others no more is read than the headers.
    let found = interpreter_in(head).or_else(|_| interpreter_in(&ReadCache::new(file)));
    found.map_err(|error| io::Error::new(io::ErrorKind::InvalidData, error))
}

fn interpreter_in<'d>(data: impl ReadRef<'d>) -> object::Result<Option<PathBuf>> {
    match FileKind::parse(data) {
        Ok(FileKind::Elf64) => elf_interpreter::<FileHeader64<Endianness>>(data),
        Ok(FileKind::Elf32) => elf_interpreter::<FileHeader32<Endianness>>(data),
        // Another format, or none, names no interpreter.
        _ => Ok(None),
    }
}

fn elf_interpreter<'d, H: FileHeader<Endian = Endianness>>(
    data: impl ReadRef<'d>,
) -> object::Result<Option<PathBuf>> {
    let header = H::parse(data)?;
    let endian = header.endian()?;
    for segment in header.program_headers(endian, data)? {
        if let Some(path) = segment.interpreter(endian, data)? {
            let path = String::from_utf8_lossy(path);
            return Ok(Some(PathBuf::from(path.trim_end_matches('\0'))));
        }
    }
    Ok(None)
}

/// The folders and variables that a program needs beside its own folder, such as those of the runtime that it runs on.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Surroundings {
    /// Folders on PATH.
    pub folders: Vec<PathBuf>,
    /// Variables.
    pub variables: Vec<(String, OsString)>,
}

/// Starts `program` with `arguments` in an environment without the user's own settings.
pub fn ask(
    program: &Path,
    arguments: &[String],
    surroundings: &Surroundings,
) -> Result<Answer, ProbeError> {
    let folder = program.parent().unwrap_or(Path::new("/"));
    let needed = surroundings.folders.iter().map(PathBuf::as_path);
    let system = [Path::new("/usr/bin"), Path::new("/bin")];
    let folders = [folder].into_iter().chain(needed).chain(system);
    let path = std::env::join_paths(folders).unwrap_or_default();
    let mut command = Command::new(program);
    command
        .args(arguments)
        .env_clear()
        .envs(
            surroundings
                .variables
                .iter()
                .map(|(name, value)| (name, value)),
        )
        .env("PATH", path)
        .env("LC_ALL", "C")
        .current_dir("/")
        .stdin(Stdio::null());
    let output = run(command, PATIENCE)?;
    // A program may colour what it says even though nobody watches.
    let text = |bytes: &[u8]| strip_str(String::from_utf8_lossy(bytes));
    let complaint = text(&output.stderr);
    if !output.status.success() {
        return Err(ProbeError::Failed {
            program: program.to_owned(),
            status: output.status,
            complaint,
        });
    }
    Ok(Answer {
        output: text(&output.stdout),
        complaint,
    })
}

/// Runs a command and gives back all that it wrote. One that takes longer than `patience` is ended with
/// all that it started; so is what it leaves behind with its output still open.
pub fn run(mut command: Command, patience: Duration) -> Result<Output, ProbeError> {
    let program = PathBuf::from(command.get_program());
    let failed = |source| ProbeError::Start {
        program: program.clone(),
        source,
    };
    system::in_own_group(&mut command)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let mut child = start(&mut command).map_err(failed)?;
    let stdout = Drain::begin(child.stdout.take());
    let stderr = Drain::begin(child.stderr.take());
    let Some(status) = child.wait_timeout(patience).map_err(failed)? else {
        system::end_group(&child);
        child.wait().map_err(failed)?;
        return Err(ProbeError::Silent { program, patience });
    };
    if !(stdout.ends_within(LEFT_OPEN) && stderr.ends_within(LEFT_OPEN)) {
        system::end_group(&child);
    }
    Ok(Output {
        status,
        stdout: stdout.bytes(),
        stderr: stderr.bytes(),
    })
}

/// Starts a program. While another thread starts one, its child still holds every file that this
/// process has open for writing, and a program that is held so cannot be started (execve(2),
/// ETXTBSY); that passes as soon as the child has become the other program.
fn start(command: &mut Command) -> io::Result<Child> {
    for _ in 0..BUSY_ATTEMPTS {
        match command.spawn() {
            Err(error) if error.kind() == io::ErrorKind::ExecutableFileBusy => {
                thread::sleep(BUSY_PAUSE);
            }
            started => return started,
        }
    }
    command.spawn()
}

/// A stream that is read to its end on a thread of its own, so that a full pipe never stops the program.
struct Drain {
    came: Arc<Mutex<Vec<u8>>>,
    ended: Receiver<()>,
}

impl Drain {
    fn begin(stream: Option<impl Read + Send + 'static>) -> Drain {
        let came = Arc::<Mutex<Vec<u8>>>::default();
        let (end, ended) = channel();
        let into = Arc::clone(&came);
        thread::spawn(move || {
            if let Some(stream) = stream {
                let keep = |piece: &[u8]| {
                    into.lock()
                        .expect("nothing panics in here")
                        .extend_from_slice(piece);
                    Ok(())
                };
                // What arrived before a failure is still the answer.
                for_each_piece(&mut stream.take(MOST_READ), |error| error, keep)
                    .unwrap_or_default();
            }
            // Nobody may be waiting any more.
            end.send(()).unwrap_or_default();
        });
        Drain { came, ended }
    }

    /// Waits for the end of the stream, for so long at the most; says whether it came.
    fn ends_within(&self, patience: Duration) -> bool {
        self.ended.recv_timeout(patience) != Err(RecvTimeoutError::Timeout)
    }

    /// What came, up to the end, or until nothing more comes soon.
    fn bytes(self) -> Vec<u8> {
        self.ends_within(LEFT_OPEN);
        std::mem::take(&mut self.came.lock().expect("nothing panics in here"))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::fs;
    use std::os::unix::fs::PermissionsExt;

    /// Whether a process ends soon: one that was killed takes its time to go.
    fn has_ended(id: &str) -> bool {
        let stat = format!("/proc/{}/stat", id.trim());
        let is_gone = || !fs::read_to_string(&stat).is_ok_and(|state| !state.contains(") Z "));
        (0..1000).any(|_| {
            thread::sleep(Duration::from_millis(10));
            is_gone()
        })
    }

    #[test]
    fn what_a_program_leaves_behind_is_not_waited_for() {
        let begun = std::time::Instant::now();
        let mut command = Command::new("sh");
        command.args(["-c", "echo marram 8.3.1; sleep 300 & echo $! >&2"]);
        let output = run(command, Duration::from_secs(60)).unwrap();
        assert_eq!(output.stdout, b"marram 8.3.1\n");
        assert!(begun.elapsed() < Duration::from_secs(30));
        assert!(has_ended(&String::from_utf8(output.stderr).unwrap()));
    }

    #[test]
    fn one_that_takes_too_long_is_ended_with_all_that_it_started() {
        let folder = tempfile::tempdir().unwrap();
        let mut command = Command::new("sh");
        command
            .args(["-c", "sleep 300 & echo $! > left; sleep 300"])
            .current_dir(folder.path());
        let error = run(command, Duration::from_millis(300)).unwrap_err();
        assert!(matches!(error, ProbeError::Silent { .. }));
        assert!(has_ended(
            &fs::read_to_string(folder.path().join("left")).unwrap()
        ));
    }

    #[test]
    #[cfg(target_os = "linux")]
    fn a_program_names_its_loader() {
        let found = interpreter_of(&std::env::current_exe().unwrap()).unwrap();
        assert!(found.is_some_and(|path| path.exists()));
    }

    #[test]
    fn a_missing_interpreter_is_named_and_no_other_failure_is_taken_for_it() {
        let folder = tempfile::tempdir().unwrap();
        let program = folder.path().join("marram");
        for (text, missing) in [
            ("#!/no/such/bell -x\n", Some("/no/such/bell")),
            ("#!/bin/sh\nexit 3\n", None),
        ] {
            fs::write(&program, text).unwrap();
            fs::set_permissions(&program, PermissionsExt::from_mode(0o755)).unwrap();
            let error = ask(&program, &[], &Surroundings::default()).unwrap_err();
            assert_eq!(error.missing_interpreter(), missing.map(PathBuf::from));
        }
        fs::remove_file(&program).unwrap();
        assert_eq!(
            ask(&program, &[], &Surroundings::default())
                .unwrap_err()
                .missing_interpreter(),
            None
        );
    }

    #[test]
    fn a_program_that_is_held_for_writing_is_started_when_it_is_free_and_its_colours_are_dropped() {
        let folder = tempfile::tempdir().unwrap();
        let program = folder.path().join("marram");
        fs::write(
            &program,
            "#!/bin/sh\nprintf '\\033[1mmarram\\033[0m 8.3.1\\n'\n",
        )
        .unwrap();
        fs::set_permissions(&program, PermissionsExt::from_mode(0o755)).unwrap();
        let held = File::options().append(true).open(&program).unwrap();
        let released = thread::spawn(move || {
            thread::sleep(10 * BUSY_PAUSE);
            drop(held);
        });
        assert_eq!(
            ask(&program, &[], &Surroundings::default())
                .unwrap()
                .output
                .trim(),
            "marram 8.3.1"
        );
        released.join().unwrap();
    }
}
