//! The home that the demo plays in: made for it, and gone with it.

use std::fs;
use std::io;
use std::os::unix::fs::symlink;
use std::path::PathBuf;
use std::process::{Command, ExitStatus, Stdio};

use tempfile::TempDir;
use vshelf_app::error::file_error;
use vshelf_app::integrate::files::own_program;
use vshelf_demo::TODAY;
use vshelf_demo::server::StandIn;
use vshelf_demo::story::steps;
use vshelf_files::action::FileAction;
use vshelf_shell::quote;
use vshelf_view::Palette;

use crate::failure::{Class, Failure, Outcome};
use crate::sentences::wrapped;
use crate::ui::{Ui, styled};

/// A throwaway home whose settings know Marram and Orache.
pub struct Home {
    folder: TempDir,
    shell: &'static str,
}

impl Home {
    /// Makes it, for this server.
    pub fn make(server: &StandIn) -> Result<Home, Failure> {
        let folder = tempfile::Builder::new()
            .prefix("vivid-shelf-demo-")
            .tempdir()
            .map_err(file_error(&std::env::temp_dir(), FileAction::Write))?;
        let home = Home {
            folder,
            shell: shell_here(),
        };
        let write = |name: &str, text: &str| {
            let path = home.path(name);
            path.parent()
                .map_or(Ok(()), fs::create_dir_all)
                .and_then(|()| fs::write(&path, text))
        };
        let program = own_program()?;
        write(
            ".config/vivid-shelf/runtimes/marram.toml",
            &vshelf_demo::definition(&server.address()),
        )
        .and_then(|()| {
            write(
                ".config/vivid-shelf/runtimes/orache.toml",
                &vshelf_demo::orache::definition(&server.address()),
            )
        })
        .and_then(|()| {
            write(
                ".config/vivid-shelf/shelf.toml",
                "main-runtime = \"marram\"\n",
            )
        })
        .and_then(|()| write(home.start_up_file(), home.prompt()))
        .and_then(|()| fs::create_dir(home.path("bin")))
        .and_then(|()| symlink(program, home.path("bin/vshelf")))
        .map_err(file_error(home.folder.path(), FileAction::Write))?;
        Ok(home)
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// The shell's start-up file.
    fn start_up_file(&self) -> &'static str {
        match self.shell {
            "bash" => ".bashrc",
            _ => ".shrc",
        }
    }

    /// The line that sets its prompt.
    fn prompt(&self) -> &'static str {
        match self.shell {
            "bash" => "PS1='gull-point \\w> '\n",
            _ => "PS1='gull-point> '\n",
        }
    }

    /// The shell in this home, with nothing of the person's own shelf about it.
    fn shell(&self) -> Command {
        let mut command = Command::new(self.shell);
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
            .env("SHELL", format!("/bin/{}", self.shell))
            // What sh reads where bash reads its own file.
            .env("ENV", self.path(self.start_up_file()))
            .env("PATH", path)
            .env("VSHELF_TODAY", TODAY)
            .env_remove("MARRAM_HOME")
            .env_remove("ORACHE_HOME")
            .env_remove("BASH_ENV")
            .env_remove("PROMPT_COMMAND")
            .current_dir(self.folder.path());
        command
    }

    /// Removes it.
    pub fn leave(self) -> Outcome {
        let path = self.folder.path().to_owned();
        let closed = self.folder.close();
        Ok(closed.map_err(file_error(&path, FileAction::Remove))?)
    }
}

/// The shell that the demo plays in: bash, and where that is not here, the one that every system has.
fn shell_here() -> &'static str {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let mut folders = std::env::split_paths(&path);
    match folders.any(|folder| folder.join("bash").is_file()) {
        true => "bash",
        false => "sh",
    }
}

fn no_shell(error: &io::Error) -> Failure {
    Failure::new(
        Class::Other,
        format!("the shell that the demo plays in cannot be started: {error}"),
    )
    .run("To look at the data without it", "vshelf demo --serve")
}

/// Tells the story: each command line as typed, and its real output.
pub fn tell(ui: &Ui, home: &Home) -> Result<ExitStatus, Failure> {
    let mut script = String::new();
    for step in steps(home.shell) {
        let why = wrapped(&step.why, ui.columns(), "");
        let heading = styled(Palette::QUIET, &why);
        let typed = styled(Palette::COMMAND, &step.command);
        let text = if ui.colours() {
            format!("\n{heading}\n{typed}")
        } else {
            format!("\n{why}\n{}", step.command)
        };
        // An interactive shell without a terminal of its own complains about that first.
        let aside = if step.command.contains("sh -i") {
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
    let plain: &[&str] = match home.shell {
        "bash" => &["--noprofile", "--norc"],
        _ => &[],
    };
    let status = home
        .shell()
        .args(plain)
        .args(["-c", &script])
        // Nobody is asked anything: the story goes on by itself.
        .stdin(Stdio::null())
        .status()
        .map_err(|error| no_shell(&error))?;
    ui.note("\nThat was the demo; nothing of it is left on this machine.");
    ui.next("To play with the same data", "vshelf demo --shell");
    ui.next("To begin for real", "vshelf connect");
    Ok(status)
}

/// Opens a connected shell.
pub fn play(ui: &Ui, home: &Home) -> Result<ExitStatus, Failure> {
    let program = home.path("bin/vshelf");
    let connected = home
        .shell()
        .args(["-c", "\"$0\" --quiet connect >/dev/null"])
        .arg(&program)
        .status()
        .map_err(|error| no_shell(&error))?;
    if !connected.success() {
        return Ok(connected);
    }
    ui.result("A connected shell on made-up data; exit leaves it, and nothing stays behind.")?;
    ui.next("To begin", "vshelf catalog");
    home.shell()
        .arg("-i")
        .status()
        .map_err(|error| no_shell(&error))
}
