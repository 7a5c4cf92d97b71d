//! `vshelf browse` on a pseudo-terminal: keys go in, the screen is read.

use std::fs;
use std::process::Stdio;
use std::time::{Duration, Instant};

use rstest::rstest;
use vshelf_demo::server::Fault;

use crate::process::Started;
use crate::scene::{PROGRAM, Scene, program};
use crate::terminal::Terminal;

const RIGHT: &str = "\u{1b}[C";
const LEFT: &str = "\u{1b}[D";

/// A connected bash in this scene, with the view open.
fn browsing(scene: &Scene, arguments: &str) -> Terminal {
    scene.write(".bashrc", "PS1='> '\n");
    scene.does(&["connect"]);
    let mut terminal = Terminal::open(scene);
    terminal.types("true");
    terminal.writes(&format!("vshelf browse {arguments}"));
    terminal.see("the view", |screen| screen.contains("/ filter"));
    terminal
}

/// Takes the filter away.
fn without_filter(terminal: &mut Terminal) {
    terminal.views("\u{1b}", "Marram");
    terminal.see("no filter", |screen| !screen.contains("Filter:"));
}

#[test]
fn the_whole_job_without_typing_a_version() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    let mut terminal = browsing(&scene, "");
    let screen = terminal.views(RIGHT, "7: ended");
    assert!(screen.contains("default: 8.3.1"), "{screen}");
    terminal.views(RIGHT, "6 Samphire: maintenance");
    terminal.views(
        "i",
        "Marram 6.20.2 is on the shelf, published by saltmarsh.",
    );
    let screen = terminal.views("", "6.20.2           on the shelf");
    assert!(screen.contains("vshelf install 6.20.2"), "{screen}");
    assert_eq!(scene.on_shelf(), ["6.20.2", "8.3.1"]);
    terminal.views("s", "this shell: 6.20.2");
    // A command sees what those before it did to the shell.
    let screen = terminal.views("s", "This shell uses Marram 6.20.2 already.");
    assert!(screen.contains("vshelf switch 6.20.2"), "{screen}");
    terminal.views("lboard\r", "this shell, label board");
    terminal.views("d", "this shell, default, label board");
    terminal.views("r", "Remove Marram 6.20.2?");
    terminal.views(
        "",
        "It is the default, and there would be none. This shell uses it.",
    );
    terminal.views("n", "r remove");
    terminal.views(LEFT, "7: ended");
    let screen = terminal.views(LEFT, "8 Eelgrass: lts");
    assert!(screen.contains("installed from"), "{screen}");
    let screen = terminal.views(
        "r",
        "It moves to the trash (0.4 MB); vshelf restore brings it back.",
    );
    assert!(!screen.contains("It is the default"), "{screen}");
    terminal.views("y", "Marram 8.3.1 was removed");
    assert_eq!(scene.on_shelf(), ["6.20.2"]);
    // What was done is still there to be read, and the switch holds.
    let screen = terminal.presses("q", "ready:0");
    assert!(screen.contains("vshelf remove 8.3.1"), "{screen}");
    assert!(terminal.types("marram --version").contains("marram 6.20.2"));
    assert!(terminal.types("vshelf switch --follow").contains("6.20.2"));
    assert!(terminal.types("vshelf label").contains("board"));
}

#[test]
fn the_filter_finds_what_is_meant() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    let mut terminal = browsing(&scene, "");
    terminal.views("/dune8\r", "Filter: dune8");
    terminal.see("the release", |screen| screen.contains("dunefield/8.3.1"));
    without_filter(&mut terminal);
    let screen = terminal.views("9.2", "Filter: 9.2");
    assert!(screen.contains("Marram 9.2.0"), "{screen}");
    terminal.views("xyz", "Nothing matches the filter.");
    without_filter(&mut terminal);
    let screen = terminal.views("?", "any key back");
    assert!(screen.contains("switch this shell to it"), "{screen}");
    terminal.views("?", "q leave");
    terminal.presses("q", "ready:0");
}

#[test]
fn a_download_is_seen_and_can_be_broken_off() {
    let scene = Scene::with_faults(&[]);
    scene.does(&["install", "8"]);
    let mut terminal = browsing(&scene, "");
    terminal.views("/9.2.0\r", "Filter: 9.2.0");
    scene.server().misbehave(&[Fault::Slow(20_000)]);
    terminal.views("i", "Marram 9.2.0  ━");
    terminal.see("the size", |screen| screen.contains("of 0.2 MB"));
    terminal.views("q", "Leave, and cancel it?");
    terminal.presses("y", "ready:0");
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
    // It goes on where it was broken off.
    scene.server().misbehave(&[]);
    assert!(
        terminal
            .types("vshelf install 9.2.0")
            .contains("is on the shelf")
    );
}

#[test]
fn what_fails_is_told_and_nothing_is_lost() {
    let scene = Scene::with_faults(&[]);
    scene.does(&["install", "8"]);
    let mut terminal = browsing(&scene, "");
    terminal.views("/9.2.0\r", "Filter: 9.2.0");
    scene.server().misbehave(&[Fault::WrongBytes]);
    let screen = terminal.views("i", "Error:");
    assert!(
        screen.contains("Marram 9.2.0") && screen.contains("q leave"),
        "{screen}"
    );
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
    // A label that hides something else.
    without_filter(&mut terminal);
    terminal.views(RIGHT, "8 Eelgrass: lts");
    terminal.views("llts\r", "Error: \"lts\" is a keyword");
    terminal.presses("q", "ready:0");
}

#[rstest]
#[case::a_key("q", None)]
#[case::an_interrupt("\u{3}", None)]
#[case::a_termination("", Some("TERM"))]
fn the_terminal_is_left_as_it_was(#[case] keys: &str, #[case] signal: Option<&str>) {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    scene.write(".bashrc", "PS1='> '\n");
    scene.does(&["connect"]);
    let mut terminal = Terminal::open(&scene);
    terminal.types("stty -a > before");
    terminal.views("vshelf browse\r", "8 Eelgrass: lts");
    assert!(terminal.screen().alternate_screen());
    if signal.is_none() && keys != "q" {
        // A planned switch that is given up.
        terminal.views(&format!("{RIGHT}{RIGHT}"), "6 Samphire");
        terminal.views("s", "this shell: 6.20.2");
    }
    if let Some(signal) = signal {
        terminal.signal(signal);
    }
    terminal.views(keys, "> ");
    terminal.reaches("the shell", |screen| {
        screen.contents().trim_end().ends_with('>')
            && !screen.alternate_screen()
            && !screen.hide_cursor()
    });
    terminal.types("stty -a > after");
    let read = |name: &str| fs::read_to_string(scene.path(name)).unwrap();
    assert_eq!(read("before"), read("after"));
    assert!(terminal.types("marram --version").contains("marram 8.3.1"));
}

#[rstest]
#[case::told("")]
#[case::not_told("trap '' HUP; ")]
fn it_ends_with_its_terminal(#[case] before: &str) {
    // It has the terminal's other end, which goes with it.
    let Some(script) = program("script") else {
        return;
    };
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    let mut command = scene.command(&script.to_string_lossy());
    command
        .args([
            "-qfc",
            &format!("{before}stty rows 30 cols 100; echo $$ > id; exec {PROGRAM} browse"),
        ])
        .arg("seen")
        .env("SHELL", "/bin/sh")
        .env("TERM", "xterm")
        .stdin(Stdio::piped())
        .stdout(Stdio::null())
        .current_dir(scene.home());
    let mut holder = Started::start(&mut command);
    let within_a_while = |is_so: &dyn Fn() -> bool| {
        let begun = Instant::now();
        while !is_so() {
            assert!(begun.elapsed() < Duration::from_secs(20));
            std::thread::sleep(Duration::from_millis(20));
        }
    };
    let seen = || fs::read(scene.path("seen")).unwrap_or_default();
    within_a_while(&|| String::from_utf8_lossy(&seen()).contains("filter"));
    let id = fs::read_to_string(scene.path("id")).unwrap();
    holder.kill().unwrap();
    holder.wait();
    let process = format!("/proc/{}/stat", id.trim());
    // Gone, or dead and not yet waited for.
    within_a_while(&|| fs::read_to_string(&process).map_or(true, |stat| stat.contains(") Z ")));
}

#[test]
fn it_follows_the_size_of_the_window() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    let mut terminal = browsing(&scene, "");
    terminal.resize(20, 70);
    terminal.see("too small", |screen| {
        screen.starts_with("This view needs 80 columns and 24 rows")
    });
    terminal.resize(40, 140);
    terminal.see("large", |screen| {
        screen.contains("8 Eelgrass: lts") && screen.contains("q leave")
    });
    terminal.presses("q", "ready:0");
}

#[test]
fn without_a_terminal_it_says_what_else_there_is() {
    let scene = Scene::new();
    let ran = scene.vshelf(&["browse"]);
    assert_eq!((ran.code, ran.stdout.as_str()), (2, ""), "{ran}");
    assert_eq!(
        ran.stderr,
        "Error: browse needs a terminal.\n  To list what is published: vshelf catalog\n"
    );
}
