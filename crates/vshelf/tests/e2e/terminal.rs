//! Interactive shells on a pseudo-terminal, as a person has them.

use std::io::{Read, Write};
use std::num::NonZero;
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::thread;
use std::time::{Duration, Instant};

use portable_pty::{Child, CommandBuilder, MasterPty, PtySize, native_pty_system};
use rstest::rstest;

use crate::process;
use crate::scene::{PROGRAM, Scene, names_in, program};

/// A shell on a terminal of its own.
pub struct Terminal {
    child: Box<dyn Child + Send + Sync>,
    // Dropping it would hang up on the shell.
    master: Box<dyn MasterPty + Send>,
    /// What stands on it now.
    screen: vt100::Parser,
    writer: Box<dyn Write + Send>,
    output: Receiver<Vec<u8>>,
    seen: String,
    /// What is typed behind each line, to see that it ended and how.
    mark: &'static str,
}

/// The mark of shells whose `$?` is the status.
const MARK: &str = r#"; echo "rea""dy:$?""#;

impl Terminal {
    /// An interactive bash.
    pub fn open(scene: &Scene) -> Terminal {
        Terminal::open_shell(scene, &["/bin/bash", "--noprofile", "-i"])
    }

    pub fn open_shell(scene: &Scene, shell: &[&str]) -> Terminal {
        let size = PtySize {
            rows: 30,
            cols: 100,
            ..PtySize::default()
        };
        let pair = native_pty_system().openpty(size).unwrap();
        let mut command = CommandBuilder::new(shell[0]);
        command.args(&shell[1..]);
        command.env_clear();
        for (name, value) in [
            ("HOME", scene.home().to_str().unwrap()),
            ("PATH", "/usr/bin:/bin"),
            ("SHELL", "/bin/bash"),
            ("ENV", scene.path(".shrc").to_str().unwrap()),
            ("TERM", "xterm-256color"),
            ("LC_ALL", "C.UTF-8"),
            ("VSHELF_TODAY", vshelf_demo::TODAY),
        ] {
            command.env(name, value);
        }
        command.cwd(scene.home());
        let child = pair.slave.spawn_command(command).unwrap();
        let mut reader = pair.master.try_clone_reader().unwrap();
        let (send, output) = channel();
        thread::spawn(move || {
            let mut piece = [0; 4096];
            while let Ok(count @ 1..) = reader.read(&mut piece) {
                if send.send(piece[..count].to_vec()).is_err() {
                    return;
                }
            }
        });
        let writer = pair.master.take_writer().unwrap();
        Terminal {
            child,
            master: pair.master,
            screen: vt100::Parser::new(cells(size.rows), cells(size.cols), 0),
            writer,
            output,
            seen: String::new(),
            mark: MARK,
        }
    }

    /// Types a line, answers the question it asks, and gives back all that was written.
    pub fn asks(&mut self, line: &str, question: &str, answer: &str) -> String {
        self.writes(line);
        self.wait_for(line, |seen| seen.contains(question));
        writeln!(self.writer, "{answer}").unwrap();
        self.wait_for(line, is_ready);
        self.seen.clone()
    }

    /// Types keys and gives back all that was written until `answer` is there.
    pub fn presses(&mut self, keys: &str, answer: &str) -> String {
        self.seen.clear();
        write!(self.writer, "{keys}").unwrap();
        self.wait_for(keys, |seen| seen.contains(answer));
        self.seen.clone()
    }

    /// Types keys, or a line that does not end at once, and gives back the screen when `text` stands
    /// on it.
    pub fn views(&mut self, keys: &str, text: &str) -> String {
        write!(self.writer, "{keys}").unwrap();
        self.see(keys, |screen| screen.contains(text))
    }

    /// Waits until the screen is as it should be, and gives it back.
    pub fn see(&mut self, what: &str, is_right: impl Fn(&str) -> bool) -> String {
        self.reaches(what, |screen| is_right(&screen.contents()))
    }

    /// Waits until the terminal is in the state that is asked for, and gives its text back.
    pub fn reaches(&mut self, what: &str, is_right: impl Fn(&vt100::Screen) -> bool) -> String {
        let deadline = Instant::now() + Duration::from_secs(30);
        loop {
            let screen = self.screen.screen().contents();
            if is_right(self.screen.screen()) {
                return screen;
            }
            if let Err(error) = self.hear(deadline) {
                panic!("{what}: {error}\n{screen}");
            }
        }
    }

    /// The screen as it is.
    pub fn screen(&self) -> &vt100::Screen {
        self.screen.screen()
    }

    /// Sends a signal to what runs in the foreground.
    pub fn signal(&self, name: &str) {
        let group = self.master.process_group_leader().unwrap();
        let killed = process::status(process::command("kill").args([
            &format!("-{name}"),
            "--",
            &format!("-{group}"),
        ]));
        assert!(killed.success());
    }

    /// Makes the window larger or smaller.
    pub fn resize(&mut self, rows: u16, cols: u16) {
        let size = PtySize {
            rows,
            cols,
            ..PtySize::default()
        };
        self.screen.screen_mut().set_size(cells(rows), cells(cols));
        self.master.resize(size).unwrap();
    }

    /// Types a line and gives back what the shell writes until it is ready for the next.
    pub fn types(&mut self, line: &str) -> String {
        self.writes(line);
        self.wait_for(line, is_ready);
        self.seen.clone()
    }

    pub fn writes(&mut self, line: &str) {
        self.seen.clear();
        write!(self.writer, "{line}{}\r", self.mark).unwrap();
    }

    fn wait_for(&mut self, line: &str, done: impl Fn(&str) -> bool) {
        let deadline = Instant::now() + Duration::from_secs(60);
        while !done(&self.seen) {
            if let Err(error) = self.hear(deadline) {
                panic!("{line}: {error}\n{}", self.seen);
            }
        }
    }

    /// Takes in the next piece that is written.
    fn hear(&mut self, deadline: Instant) -> Result<(), RecvTimeoutError> {
        let left = deadline.saturating_duration_since(Instant::now());
        let piece = self.output.recv_timeout(left)?;
        self.screen.process(&piece);
        let piece = String::from_utf8_lossy(&piece);
        // Some shells wait until the terminal tells where its cursor is, and what it is.
        for (question, answer) in [("\u{1b}[6n", "\u{1b}[1;1R"), ("\u{1b}[c", "\u{1b}[?1;2c")] {
            if piece.contains(question) {
                write!(self.writer, "{answer}").unwrap();
            }
        }
        self.seen.push_str(&piece);
        Ok(())
    }
}

fn cells(count: u16) -> NonZero<u16> {
    NonZero::new(count).expect("a window has cells")
}

/// Whether the answer to the last line is there, and behind it the next prompt.
fn is_ready(seen: &str) -> bool {
    seen.rsplit_once("ready:")
        .is_some_and(|(_, behind)| behind.contains("> "))
}

impl Drop for Terminal {
    fn drop(&mut self) {
        self.child.kill().unwrap_or_default();
        self.child.wait().ok();
    }
}

#[test]
fn the_whole_job_in_an_interactive_bash() {
    let scene = Scene::new();
    scene.write(".bashrc", "PS1='> '\n");
    scene.does(&["connect"]);
    let mut first = Terminal::open(&scene);
    let installed = first.types("vshelf install lts");
    assert!(
        installed.contains("It is the default now: this shell and new ones use it."),
        "{installed}"
    );
    assert!(first.types("marram --version").contains("marram 8.3.1"));
    first.types("vshelf install 6");
    let switched = first.types("vshelf switch 6");
    assert!(
        switched.contains("This shell uses Marram 6.20.2 now"),
        "{switched}"
    );
    assert!(first.types("marram --version").contains("marram 6.20.2"));
    let list = first.types("vshelf list");
    assert!(
        list.contains("\u{1b}[38;5;29m▌"),
        "the spine has its colour: {list:?}"
    );
    assert!(list.contains("this shell"), "{list}");

    let mut second = Terminal::open(&scene);
    assert!(
        second.types("marram --version").contains("marram 8.3.1"),
        "a new shell has the default"
    );
    second.types("vshelf default 6");
    assert!(second.types("marram --version").contains("marram 6.20.2"));
    assert!(
        second
            .types("vshelf status")
            .contains("it is the default, set as 6")
    );

    let removed = first.types("vshelf switch --follow; vshelf remove 8");
    assert!(
        removed.contains(" was removed; its 0.4 MB stay in the trash until "),
        "{removed}"
    );
    assert!(first.types("marram --version").contains("marram 6.20.2"));
    assert_eq!(scene.on_shelf(), ["6.20.2"]);
}

#[test]
fn a_switch_to_what_is_published_offers_to_install_it() {
    let scene = Scene::new();
    scene.write(".bashrc", "PS1='> '\n");
    scene.does(&["connect"]);
    scene.does(&["install", "8"]);
    let mut terminal = Terminal::open(&scene);
    let asked = terminal.asks("vshelf switch 9", "[y/N] ", "n");
    assert!(
        asked.contains("Marram 9.2.0 is published, but not on the shelf. Install it now?"),
        "{asked}"
    );
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
    terminal.asks("vshelf switch 9", "[y/N] ", "y");
    assert!(terminal.types("marram --version").contains("marram 9.2.0"));
    assert_eq!(scene.on_shelf(), ["8.3.1", "9.2.0"]);
}

#[test]
fn long_output_goes_through_the_pager_on_a_terminal_only() {
    let scene = Scene::new();
    scene.write(".bashrc", "PS1='> '\nexport PAGER='sed \"s/^/paged /\"'\n");
    scene.does(&["connect"]);
    let mut terminal = Terminal::open(&scene);
    assert!(terminal.types("vshelf catalog --all").contains("paged "));
    assert!(
        !terminal.types("vshelf catalog").contains("paged "),
        "it fits on the screen"
    );
    assert!(
        !terminal
            .types("vshelf catalog --all | cat")
            .contains("paged ")
    );
}

#[test]
fn the_demo_shell_is_connected_and_leaves_nothing_behind() {
    let scene = Scene::new();
    scene.write(".bashrc", "PS1='> '\nexport TMPDIR=~/tmp\nmkdir -p ~/tmp\n");
    let mut terminal = Terminal::open(&scene);
    writeln!(
        terminal.writer,
        "{PROGRAM} demo --shell; echo \"rea\"\"dy:$?\""
    )
    .unwrap();
    terminal.wait_for("demo --shell", |seen| seen.ends_with("gull-point ~> "));
    writeln!(terminal.writer, "vshelf install 8").unwrap();
    terminal.wait_for("install", |seen| {
        seen.contains("this shell and new ones use it.")
    });
    writeln!(terminal.writer, "marram -e 'print home'; exit").unwrap();
    terminal.wait_for("exit", |seen| {
        seen.contains("ready:") && seen.ends_with("> ")
    });
    assert!(
        terminal.seen.contains("vivid-shelf/default/marram"),
        "{}",
        terminal.seen
    );
    assert!(names_in(&scene.path("tmp")).is_empty());
    assert!(
        scene.on_shelf().is_empty(),
        "the person's own shelf is untouched"
    );
}

#[test]
fn an_interrupted_demo_cleans_up_and_dies_by_the_signal() {
    let scene = Scene::new();
    scene.write(".bashrc", "PS1='> '\nexport TMPDIR=~/tmp\nmkdir -p ~/tmp\n");
    let mut terminal = Terminal::open(&scene);
    writeln!(terminal.writer, "{PROGRAM} demo").unwrap();
    terminal.wait_for("demo", |seen| seen.contains("Connect bash once."));
    terminal.writer.write_all(b"\x03").unwrap();
    terminal.wait_for("Ctrl-C", |seen| seen.ends_with("> "));
    assert!(
        terminal
            .types("echo \"ended with $?\"")
            .contains("ended with 130"),
        "{}",
        terminal.seen
    );
    assert!(names_in(&scene.path("tmp")).is_empty());
}

#[test]
fn progress_is_drawn_on_a_terminal_and_cleared() {
    let scene = Scene::with_faults(&[vshelf_demo::server::Fault::Slow(200_000)]);
    scene.write(".bashrc", "PS1='> '\n");
    let mut terminal = Terminal::open(&scene);
    let output = terminal.asks(&format!("{PROGRAM} install 8"), "[y/N]", "");
    assert!(
        output.contains("left"),
        "rate and time left are shown: {output:?}"
    );
    assert!(output.contains("Marram 8.3.1"), "{output}");
}

/// The mark of shells whose `$status` is the status.
const STATUS_MARK: &str = r#"; echo "rea""dy:$status""#;

/// The mark of shells that stop a line at what fails.
const BARE_MARK: &str = r#"; sh -c 'echo rea""dy:'"#;

const POSIX_PROMPT: &str =
    "PS1='> '\nunset zle_bracketed_paste\nunsetopt prompt_sp 2>/dev/null || :\n";
const FISH_PROMPT: &str = "function fish_prompt; echo -n '> '; end\n";
const ELVISH_PROMPT: &str = "set edit:prompt = { put '> ' }\nset edit:rprompt = { put '' }\n";
const NU_PROMPT: &str = "$env.config.show_banner = false
$env.PROMPT_COMMAND = {|| '' }
$env.PROMPT_COMMAND_RIGHT = {|| '' }
$env.PROMPT_INDICATOR = '> '\n";
const XONSH_PROMPT: &str = "$SHELL_TYPE = 'readline'\n$PROMPT = '> '\n";

/// Each shell by its name for setup, with its start-up file and how it is started.
#[rstest]
#[case::bash("bash", ".bashrc", POSIX_PROMPT, MARK, &["bash", "--noprofile", "-i"])]
#[case::zsh("zsh", ".zshrc", POSIX_PROMPT, MARK, &["zsh", "-i"])]
#[case::dash("sh", ".shrc", POSIX_PROMPT, MARK, &["dash", "-i"])]
#[case::ash("sh", ".shrc", POSIX_PROMPT, MARK, &["busybox", "ash", "-i"])]
#[case::ksh("ksh", ".shrc", POSIX_PROMPT, MARK, &["ksh", "-i"])]
#[case::mksh("mksh", ".shrc", POSIX_PROMPT, MARK, &["mksh", "-i"])]
#[case::fish("fish", ".config/fish/config.fish", FISH_PROMPT, STATUS_MARK, &["fish", "-i"])]
#[case::tcsh("tcsh", ".tcshrc", "set prompt = '> '\n", STATUS_MARK, &["tcsh", "-i"])]
#[case::elvish("elvish", ".config/elvish/rc.elv", ELVISH_PROMPT, BARE_MARK, &["elvish", "-i"])]
#[case::xonsh("xonsh", ".config/xonsh/rc.xsh", XONSH_PROMPT, BARE_MARK, &["xonsh", "-i"])]
#[case::nu("nu", ".config/nushell/config.nu", NU_PROMPT, BARE_MARK, &["nu", "-i"])]
fn an_interactive_shell_follows_the_project(
    #[case] name: &str,
    #[case] file: &str,
    #[case] prompt: &str,
    #[case] mark: &'static str,
    #[case] shell: &[&str],
) {
    let Some(program) = program(shell[0]) else {
        return;
    };
    let program = program.to_string_lossy();
    let shell = &[&[&*program], &shell[1..]].concat();
    let scene = Scene::new();
    scene.does(&["install", "8", "6", "9"]);
    scene.write(file, prompt);
    let mut setup = scene.command(PROGRAM);
    setup
        .args(["connect", name])
        .env("ENV", scene.path(".shrc"));
    let ran = scene.run(&mut setup);
    assert_eq!(ran.code, 0, "{ran}");
    scene.write("tide-board/.marram-version", "6\n");
    let mut terminal = Terminal::open_shell(&scene, shell);
    terminal.mark = mark;
    let version = |seen: &str| {
        let mut answers = seen.split("marram ").skip(1);
        let answer = answers.find(|rest| rest.starts_with(|c: char| c.is_ascii_digit()));
        answer.and_then(|rest| Some(rest.split_whitespace().next()?.to_owned()))
    };
    assert_eq!(
        version(&terminal.types("marram --version")).as_deref(),
        Some("8.3.1")
    );
    terminal.types("cd tide-board");
    let entered = terminal.types("marram --version");
    assert_eq!(version(&entered).as_deref(), Some("6.20.2"), "{entered}");
    // What the program itself writes is followed at once.
    let pinned = terminal.types("vshelf require 9");
    assert!(
        pinned.contains("vshelf: marram 9.2.0 here, as the project requires"),
        "{pinned}"
    );
    let left = terminal.types("cd ..");
    let again = "vshelf: marram follows the default again";
    assert!(left.contains(again), "{left}");
    // A switch takes precedence over what the project requires.
    terminal.types("vshelf switch 8");
    let entered = terminal.types("cd tide-board");
    let stays = "vshelf: marram 9.2.0 is required here; this shell stays switched to 8.3.1";
    assert!(entered.contains(stays), "{entered}");
    assert!(!entered.contains("as the project requires"), "{entered}");
    let off = terminal.types("vshelf switch --follow");
    let again = "This shell follows the project here again: Marram 9.2.0.";
    assert!(off.contains(again), "{off}");
    terminal.types("cd ..");
    // A switch to what is required is nothing to announce.
    terminal.types("vshelf switch 9");
    let entered = terminal.types("cd tide-board");
    assert!(!entered.contains("is required here"), "{entered}");
    terminal.types("vshelf switch --follow");
    terminal.types("cd ..");
    assert_eq!(
        version(&terminal.types("marram --version")).as_deref(),
        Some("8.3.1")
    );
    // The full-screen view gives the shell what was chosen there.
    terminal.writes("vshelf browse");
    terminal.see("the view", |screen| screen.contains("q leave"));
    terminal.views("/6.20.2\r", "Filter: 6.20.2");
    terminal.views("s", "this shell: 6.20.2");
    terminal.presses("q", "ready:");
    let switched = terminal.types("marram --version");
    assert_eq!(version(&switched).as_deref(), Some("6.20.2"), "{switched}");
    if mark != BARE_MARK {
        let failed = terminal.types("false");
        assert!(failed.contains("ready:1"), "{failed}");
        // Nor does what runs before the prompt change it.
        terminal.presses("false\r", "> ");
        terminal.presses(&format!("{}\r", &mark[2..]), "ready:1");
    }
}

#[test]
fn a_person_can_be_asked_before_a_project_is_followed() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"marram\"\nfollowing = \"ask\"\n",
    );
    let folder = std::path::Path::new(PROGRAM).parent().unwrap();
    scene.write(
        ".bashrc",
        &format!("PS1='> '\nPATH={}:$PATH\n", folder.display()),
    );
    scene.does(&["connect"]);
    for project in ["tide-board", "buoy-api"] {
        scene.write(&format!("{project}/.marram-version"), "6\n");
    }
    let mut terminal = Terminal::open(&scene);
    terminal.types("true");
    let question = "tide-board requires Marram 6.20.2. Use it here? [y/N]";
    // The question comes with the prompt of the folder.
    terminal.presses("cd tide-board\n", question);
    terminal.presses("y\n", "> ");
    let taken = terminal.types("marram --version");
    assert!(taken.contains("marram 6.20.2"), "{taken}");
    terminal.presses("cd ../buoy-api\n", "buoy-api requires Marram 6.20.2.");
    terminal.presses("\n", "> ");
    let refused = terminal.types("marram --version");
    assert!(refused.contains("marram 8.3.1"), "{refused}");
    let status = terminal.types("vshelf status | cat");
    assert!(
        status.contains("Marram 8.3.1 is active here: it is the default"),
        "{status}"
    );
    assert!(status.contains("buoy-api requires 6"), "{status}");
    assert!(status.contains("which you chose not to follow"), "{status}");
    // Both answers are kept.
    let again = terminal.types("cd ../tide-board") + &terminal.types("cd ../buoy-api");
    assert!(!again.contains("Use it here?"), "{again}");
}

#[test]
fn a_first_install_offers_to_connect_the_shell() {
    let scene = Scene::new();
    let folder = std::path::Path::new(PROGRAM).parent().unwrap();
    let path = format!("PS1='> '\nPATH={}:$PATH\n", folder.display());
    scene.write(".bashrc", &path);
    let start_up = || std::fs::read_to_string(scene.path(".bashrc")).unwrap();
    let mut terminal = Terminal::open(&scene);
    let question = "No shell is connected. Connect new bash shells, by a block in ~/.bashrc? [y/N]";
    terminal.asks("vshelf install marram@6", question, "");
    assert!(!start_up().contains("vivid-shelf"));
    let agreed = terminal.asks("vshelf install marram@8", question, "y");
    assert!(
        agreed.contains("New bash shells are now connected, through ~/.bashrc, login shells"),
        "{agreed}"
    );
    assert!(start_up().contains("vivid-shelf"));
    // What this shell lacks is said once, and nothing is asked again.
    assert_eq!(agreed.matches("source ~/.local").count(), 1, "{agreed}");
    let third = terminal.types("vshelf install marram@7");
    assert!(!third.contains("[y/N]"), "{third}");
}

#[test]
fn what_a_project_requires_can_be_installed_when_it_is_entered() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    scene.write(
        ".config/vivid-shelf/shelf.toml",
        "main-runtime = \"marram\"\nfollowing = \"install\"\n",
    );
    scene.write(".bashrc", "PS1='> '\n");
    scene.does(&["connect"]);
    scene.write("tide-board/.marram-version", "6\n");
    let mut terminal = Terminal::open(&scene);
    terminal.types("true");
    let question = "tide-board requires Marram 6, which is not on the shelf.";
    terminal.presses("cd tide-board\n", question);
    terminal.presses("\n", "> ");
    assert!(terminal.types("marram --version").contains("marram 8.3.1"));
    // Ctrl-C is no answer: the shell goes on, and it is asked when the folder is entered again.
    scene.write("tide-board/.marram-version", "6.20\n");
    terminal.presses("true\n", "Marram 6.20, which");
    terminal.presses("\x03", "> ");
    terminal.types("cd ..");
    terminal.presses("cd tide-board\n", "Marram 6.20, which");
    terminal.presses("y\n", "marram 6.20.2 here, as the project requires");
    let taken = terminal.types("marram --version");
    assert!(taken.contains("marram 6.20.2"), "{taken}");
    // From now on it is only said.
    scene.write("tide-board/.marram-version", "7.2.2\n");
    terminal.presses("true\n", "marram 7.2.2 here, as the project requires");
    assert_eq!(scene.on_shelf(), ["6.20.2", "7.2.2", "8.3.1"]);
}

#[test]
fn what_is_waited_for_is_said_after_a_second() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8", "6"]);
    scene.write(".bashrc", "PS1='> '\n");
    scene.does(&["connect"]);
    let mut terminal = Terminal::open(&scene);
    let swift = terminal.types("vshelf remove 6");
    assert!(!swift.contains("Asking for"), "{swift}");
    terminal.types("vshelf install 6");
    let tool = scene.data("shelf/marram/saltmarsh-6.20.2/build/bin/tussock");
    std::fs::write(tool, "#!/bin/sh\nsleep 2\n").unwrap();
    let slow = terminal.types("vshelf remove 6");
    assert!(
        slow.contains("Asking for the packages of Marram 6.20.2."),
        "{slow}"
    );
    assert!(slow.contains("was removed"), "{slow}");
}

#[test]
fn a_person_is_asked_before_anything_goes_or_moves() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.0", "6.20.1", "6.20.2"]);
    scene.write(".bashrc", "PS1='> '\n");
    scene.does(&["connect"]);
    let mut terminal = Terminal::open(&scene);
    let refused = terminal.asks("vshelf tidy", "Remove 1 install? [y/N] ", "");
    assert!(refused.contains("Nothing was removed."), "{refused}");
    assert_eq!(scene.on_shelf(), ["6.20.1", "6.20.2", "8.3.0"]);
    let agreed = terminal.asks("vshelf tidy", "[y/N] ", "y");
    assert!(agreed.contains("0.3 MB moved to the trash."), "{agreed}");
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.0"]);
    terminal.types("vshelf switch 8.3.0");
    let refused = terminal.asks(
        "vshelf renew",
        "Renew 1 line and remove 1 install? [y/N] ",
        "n",
    );
    assert!(refused.contains("Nothing was changed."), "{refused}");
    let agreed = terminal.asks("vshelf renew", "[y/N] ", "yes");
    assert!(agreed.contains("This shell uses it now."), "{agreed}");
    assert!(terminal.types("marram --version").contains("marram 8.3.1"));
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.1"]);
    // What was undone is asked for by nobody.
    terminal.types("vshelf restore 6.20.1");
    assert_eq!(scene.on_shelf(), ["6.20.1", "6.20.2", "8.3.1"]);
    // What nothing needs goes without a question, and what a label or the shell needs with one.
    terminal.types("vshelf remove 6.20.1");
    terminal.types("vshelf label board 6");
    let question = "Marram 6.20.2 is in use (label board). Remove it anyway? [y/N] ";
    let refused = terminal.asks("vshelf remove 6", question, "");
    assert!(refused.contains("Nothing was removed."), "{refused}");
    let question = "Marram 8.3.1 is in use (this shell, default). Remove it anyway? [y/N] ";
    terminal.asks("vshelf remove 8", question, "n");
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.1"]);
    terminal.asks("vshelf remove 6", "[y/N] ", "y");
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
}
