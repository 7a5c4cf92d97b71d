//! Starting a program once to hear which version it is.

use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::process::{Command, ExitStatus, Stdio};
use std::thread;
use std::time::{Duration, Instant};

/// How long a program may take to say its version.
const PATIENCE: Duration = Duration::from_secs(20);

/// What the program said.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// Its standard output.
    pub output: String,
    /// Its standard error.
    pub complaint: String,
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
    #[error("{program} gave no answer within {} seconds", PATIENCE.as_secs())]
    Silent {
        /// The program.
        program: PathBuf,
    },
}

/// Starts `program` with `arguments` in an environment without the user's own settings.
pub fn ask(program: &Path, arguments: &[String]) -> Result<Answer, ProbeError> {
    let failed = |source| ProbeError::Start {
        program: program.to_owned(),
        source,
    };
    let folder = program.parent().unwrap_or(Path::new("/"));
    let path = std::env::join_paths([folder, Path::new("/usr/bin"), Path::new("/bin")])
        .unwrap_or_default();
    let mut child = Command::new(program)
        .args(arguments)
        .env_clear()
        .env("PATH", path)
        .env("LC_ALL", "C")
        .current_dir("/")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .map_err(failed)?;
    let output = drain(child.stdout.take());
    let complaint = drain(child.stderr.take());
    let deadline = Instant::now() + PATIENCE;
    let status = loop {
        if let Some(status) = child.try_wait().map_err(failed)? {
            break status;
        }
        if Instant::now() > deadline {
            child.kill().map_err(failed)?;
            child.wait().map_err(failed)?;
            return Err(ProbeError::Silent {
                program: program.to_owned(),
            });
        }
        thread::sleep(Duration::from_millis(2));
    };
    let text = |thread: thread::JoinHandle<String>| thread.join().unwrap_or_default();
    let (output, complaint) = (text(output), text(complaint));
    if !status.success() {
        return Err(ProbeError::Failed {
            program: program.to_owned(),
            status,
            complaint,
        });
    }
    Ok(Answer { output, complaint })
}

/// Reads a stream to its end on a thread of its own, so that a full pipe never stops the program.
fn drain(stream: Option<impl Read + Send + 'static>) -> thread::JoinHandle<String> {
    thread::spawn(move || {
        let mut bytes = Vec::new();
        // What arrived before a failure is still the answer.
        if let Some(stream) = stream
            && stream.take(64 << 10).read_to_end(&mut bytes).is_err()
        {
            bytes.push(b'\n');
        }
        String::from_utf8_lossy(&bytes).into_owned()
    })
}
