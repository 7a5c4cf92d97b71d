//! `vshelf demo`: a full example on made-up data, in a throwaway home.

use std::fs;
use std::io;
use std::os::unix::fs::symlink;
use std::path::PathBuf;
use std::process::{Command, ExitStatus};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use clap::Args;
use signal_hook::consts::{SIGINT, SIGTERM};
use tempfile::TempDir;
use vshelf_demo::TODAY;
use vshelf_demo::server::{Fault, StandIn};
use vshelf_demo::story::STEPS;
use vshelf_shell::quote;
use vshelf_view::Palette;

use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::file_failure;
use crate::failure::{Failure, Kind, Outcome};
use crate::ui::{Ui, styled};

/// See it all at work on made-up data
///
/// The demo runs in a throwaway home with a stand-in release server on the loopback address. It
/// touches nothing of yours and leaves nothing behind. The data is that of Marram, a made-up
/// language, on 2026-11-23.
#[derive(Debug, Args)]
pub struct Demo {
    /// Open a connected shell on the same data, to play in
    #[arg(long, conflicts_with = "serve")]
    shell: bool,
    /// Only run the stand-in release server, until Ctrl-C
    #[arg(long)]
    serve: bool,
    /// The port of the server
    #[arg(long, value_name = "PORT", requires = "serve")]
    port: Option<u16>,
    /// Let the server misbehave: slow, cut, wrong-bytes, wrong-length, 404, 500, busy, redirect,
    /// no-ranges, hang
    #[arg(long, value_name = "FAULT", requires = "serve")]
    misbehave: Vec<Fault>,
}

impl CommandArgs for Demo {
    const NAME: &'static str = "demo";
    const GROUP: &'static str = "Connect";

    fn run(self, ui: &Ui, _: &Context) -> Outcome {
        let server = StandIn::start(self.port).map_err(|error| {
            Failure::new(
                Kind::Other,
                format!("the stand-in server does not start: {error}"),
            )
        })?;
        if self.serve {
            return serve(ui, server, &self.misbehave);
        }
        let home = Home::make(&server)?;
        let interrupted = watch_signals()?;
        let status = match self.shell {
            true => play(ui, &home)?,
            false => tell(ui, &home)?,
        };
        home.leave()?;
        if !self.shell && interrupted.load(Ordering::Relaxed) {
            let killed = signal_hook::low_level::emulate_default_handler(SIGINT);
            return killed.map_err(|error| Failure::new(Kind::Other, error.to_string()));
        }
        match status.success() || self.shell {
            true => Ok(()),
            false => Err(Failure::new(
                Kind::Other,
                format!("the demo ended early: {status}"),
            )),
        }
    }
}

fn serve(ui: &Ui, server: StandIn, faults: &[Fault]) -> Outcome {
    server.misbehave(faults);
    let address = server.address();
    ui.result(format!("The stand-in release server answers at {address}"))?;
    ui.result("These lines point a shelf of its own at it:")?;
    for line in [
        "export VSHELF_DATA=/tmp/vshelf-demo/data VSHELF_CACHE=/tmp/vshelf-demo/cache VSHELF_CONFIG=/tmp/vshelf-demo/config".to_owned(),
        format!("export VSHELF_TODAY={TODAY}"),
        format!("vshelf runtimes --add {address}/marram.toml"),
        "vshelf catalog marram@".to_owned(),
    ] {
        ui.result(format!("  {}", styled(Palette::COMMAND, line)))?;
    }
    ui.note("Ctrl-C ends it.");
    server.serve_on();
    Ok(())
}

/// A signal ends the shell of the demo; this process stays to clean up behind it.
fn watch_signals() -> Result<Arc<AtomicBool>, Failure> {
    let seen = Arc::new(AtomicBool::new(false));
    for signal in [SIGINT, SIGTERM] {
        signal_hook::flag::register(signal, Arc::clone(&seen))
            .map_err(|error| Failure::new(Kind::Other, error.to_string()))?;
    }
    Ok(seen)
}

/// A throwaway home whose settings know Marram.
struct Home {
    folder: TempDir,
}

impl Home {
    fn make(server: &StandIn) -> Result<Home, Failure> {
        let folder = tempfile::Builder::new()
            .prefix("vivid-shelf-demo-")
            .tempdir()
            .map_err(|e| file_failure(&std::env::temp_dir(), "written", e))?;
        let home = Home { folder };
        let write = |name: &str, text: &str| {
            let path = home.path(name);
            path.parent()
                .map_or(Ok(()), fs::create_dir_all)
                .and_then(|()| fs::write(&path, text))
        };
        let program = std::env::current_exe();
        write(
            ".config/vivid-shelf/runtimes/marram.toml",
            &vshelf_demo::definition(&server.address()),
        )
        .and_then(|()| {
            write(
                ".config/vivid-shelf/settings.toml",
                "main-runtime = \"marram\"\n",
            )
        })
        .and_then(|()| write(".bashrc", "PS1='gull-point \\w> '\n"))
        .and_then(|()| fs::create_dir(home.path("bin")))
        .and_then(|()| symlink(program?, home.path("bin/vshelf")))
        .map_err(|e| file_failure(home.folder.path(), "written", e))?;
        Ok(home)
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// Bash in this home, with nothing of the person's own shelf about it.
    fn bash(&self) -> Command {
        let mut command = Command::new("bash");
        let path = std::env::var_os("PATH").unwrap_or_default();
        // A shelf that is connected outside has no place in here.
        let others = std::env::split_paths(&path)
            .filter(|folder| !folder.iter().any(|part| part == "vivid-shelf"));
        let folders = std::iter::once(self.path("bin")).chain(others);
        let path = std::env::join_paths(folders).unwrap_or(path);
        for (name, _) in std::env::vars_os() {
            let text = name.to_string_lossy();
            if text.starts_with("VSHELF_") || text.starts_with("XDG_") {
                command.env_remove(&name);
            }
        }
        command
            .env("HOME", self.folder.path())
            .env("SHELL", "/bin/bash")
            .env("PATH", path)
            .env("VSHELF_TODAY", TODAY)
            .env_remove("MARRAM_HOME")
            .env_remove("BASH_ENV")
            .env_remove("PROMPT_COMMAND")
            .current_dir(self.folder.path());
        command
    }

    fn leave(self) -> Outcome {
        let path = self.folder.path().to_owned();
        self.folder
            .close()
            .map_err(|e| file_failure(&path, "removed", e))
    }
}

fn no_bash(error: &io::Error) -> Failure {
    Failure::new(
        Kind::Other,
        format!("bash, in which the demo plays, cannot be started: {error}"),
    )
    .run("To look at the data without it", "vshelf demo --serve")
}

/// Tells the story: each command line as typed, and its real output.
fn tell(ui: &Ui, home: &Home) -> Result<ExitStatus, Failure> {
    let mut script = String::new();
    for step in &STEPS {
        let heading = styled(Palette::QUIET, step.why);
        let typed = styled(Palette::COMMAND, step.command);
        let text = if ui.colours() {
            format!("\n{heading}\n{typed}")
        } else {
            format!("\n{}\n{}", step.why, step.command)
        };
        // An interactive shell without a terminal of its own complains about that first.
        let aside = if step.command.contains("bash -i") {
            " 2>/dev/null"
        } else {
            ""
        };
        script.push_str(&format!(
            "printf '%s\\n' {}\n{}{aside}\n",
            quote::posix(&text),
            step.command
        ));
    }
    script.push_str("exit 0\n");
    let status = home
        .bash()
        .args(["--noprofile", "--norc", "-c", &script])
        .status()
        .map_err(|error| no_bash(&error))?;
    ui.note("\nThat was all; nothing of it is left on this machine.");
    ui.next("To play with the same data", "vshelf demo --shell");
    ui.next("To begin for real", "vshelf setup");
    Ok(status)
}

/// Opens a connected shell.
fn play(ui: &Ui, home: &Home) -> Result<ExitStatus, Failure> {
    let program = home.path("bin/vshelf");
    let connected = home
        .bash()
        .args(["-c", "\"$0\" --quiet setup >/dev/null"])
        .arg(&program)
        .status()
        .map_err(|error| no_bash(&error))?;
    if !connected.success() {
        return Ok(connected);
    }
    ui.result("A connected shell on made-up data; exit leaves it, and nothing stays behind.")?;
    ui.next("To begin", "vshelf catalog");
    home.bash()
        .arg("-i")
        .status()
        .map_err(|error| no_bash(&error))
}
