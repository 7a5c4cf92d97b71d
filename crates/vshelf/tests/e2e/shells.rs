//! Every function of every shell's hook, in the real shells, under strict mode where there is one,
//! in a home whose name has everything that breaks careless shell code.

use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use rstest::rstest;

use crate::hook::hostile;
use crate::scene::{PROGRAM, Scene, skipped};

/// A shell: its name for setup, its program, and what keeps it from the machine's own files.
#[derive(Clone, Copy)]
struct Shell {
    name: &'static str,
    program: &'static [&'static str],
}

const BASH: Shell = Shell {
    name: "bash",
    program: &["bash", "--noprofile", "--norc"],
};
const ZSH: Shell = Shell {
    name: "zsh",
    program: &["zsh", "-f"],
};
const FISH: Shell = Shell {
    name: "fish",
    program: &["fish", "--no-config"],
};
const DASH: Shell = Shell {
    name: "sh",
    program: &["dash"],
};
const ASH: Shell = Shell {
    name: "sh",
    program: &["busybox", "ash"],
};
const KSH: Shell = Shell {
    name: "ksh",
    program: &["ksh"],
};
const MKSH: Shell = Shell {
    name: "mksh",
    program: &["mksh"],
};

impl Shell {
    /// The shell in this scene; nothing where this machine does not have it.
    fn command(self, scene: &Scene, home: &Path) -> Option<Command> {
        let there = ["/usr/bin", "/bin"]
            .iter()
            .any(|folder| Path::new(folder).join(self.program[0]).exists());
        if !there {
            skipped(&format!("{} is not installed", self.program[0]));
            return None;
        }
        let mut command = scene.command(self.program[0]);
        command
            .args(&self.program[1..])
            .env("HOME", home)
            .env("LC_ALL", "C.UTF-8")
            .current_dir(home);
        Some(command)
    }

    fn connect(self, scene: &Scene, home: &Path) {
        let mut setup = scene.command(PROGRAM);
        setup
            .args(["--quiet", "setup", "--shell", self.name])
            .env("HOME", home);
        let ran = scene.run(&mut setup);
        assert_eq!(ran.code, 0, "{ran}");
    }
}

/// A hostile home with three installs, and projects below it that want versions.
fn home_with_projects(scene: &Scene) -> std::path::PathBuf {
    let home = hostile(scene);
    let mut install = scene.command(PROGRAM);
    install
        .args(["--quiet", "install", "8", "6", "9"])
        .env("HOME", &home);
    let ran = scene.run(&mut install);
    assert_eq!(ran.code, 0, "{ran}");
    let write = |file: &str, text: &str| {
        let file = home.join("projects").join(file);
        fs::create_dir_all(file.parent().unwrap()).unwrap();
        fs::write(file, text).unwrap();
    };
    write("tide $(touch pwned) board/.marram-version", "6\n");
    write("tide $(touch pwned) board/deep/er/x", "");
    write("spray-model/.marram-version", "9\n");
    write("old/.marram-version", "4\n");
    write("buoy-api/.marram-version", "lts\n");
    home
}

/// What both scripts have to print.
const EXPECTED: &str = "\
default marram 8.3.1
status 7
switched marram 6.20.2
home fits
off marram 8.3.1
failed with 3
project marram 6.20.2
nested marram 6.20.2
beside marram 9.2.0
left marram 8.3.1
lts marram 8.3.1
changed marram 9.2.0
back marram 8.3.1
switch wins marram 9.2.0
off again marram 6.20.2
missing marram 8.3.1
entries 1
";

const POSIX: &str = r#"
set -eu
. "$HOOK"
. "$HOOK"
say() { echo "$1 $(marram --version)"; }
go() { cd "$1"; __vshelf_look; }
say default
(exit 7) || echo "status $?"
vshelf switch 6 >/dev/null 2>&1
say switched
[ "$MARRAM_HOME" = "$DATA/marram/installs/6.20.2" ] && echo 'home fits'
vshelf switch --off >/dev/null 2>&1
say off
vshelf switch nothing 2>/dev/null || echo "failed with $?"
go "$HOME/projects/tide \$(touch pwned) board/deep/er"
say project
"$SHELL_PROGRAM" $SHELL_ARGUMENTS -c '. "$HOOK"; echo "nested $(marram --version)"'
go "$HOME/projects/spray-model"
say beside
go "$HOME"
say left
go "$HOME/projects/buoy-api"
say lts
sleep 1.1
echo 9 > .marram-version
__vshelf_look
say changed
rm .marram-version
__vshelf_look
say back
vshelf switch 9 >/dev/null 2>&1
go "$HOME/projects/tide \$(touch pwned) board"
say 'switch wins'
vshelf switch --off >/dev/null 2>&1
say 'off again'
go "$HOME/projects/old"
go "$HOME"
go "$HOME/projects/old"
say missing
echo "entries $(printf '%s\n' "$PATH" | tr ':' '\n' | grep -c /marram/)"
"#;

const FISH_SCRIPT: &str = r#"
source $HOOK
source $HOOK
function say; echo "$argv[1] $(marram --version)"; end
say default
sh -c 'exit 7'; or echo "status $status"
vshelf switch 6 >/dev/null 2>&1
say switched
test "$MARRAM_HOME" = "$DATA/marram/installs/6.20.2"; and echo 'home fits'
vshelf switch --off >/dev/null 2>&1
say off
vshelf switch nothing 2>/dev/null; or echo "failed with $status"
cd "$HOME/projects/tide \$(touch pwned) board/deep/er"
say project
fish --no-config -c 'source $HOOK; echo "nested $(marram --version)"'
cd "$HOME/projects/spray-model"
say beside
cd "$HOME"
say left
cd "$HOME/projects/buoy-api"
say lts
sleep 1.1
echo 9 > .marram-version
__vshelf_look
say changed
rm .marram-version
__vshelf_look
say back
vshelf switch 9 >/dev/null 2>&1
cd "$HOME/projects/tide \$(touch pwned) board"
say 'switch wins'
vshelf switch --off >/dev/null 2>&1
say 'off again'
cd "$HOME/projects/old"
cd "$HOME"
cd "$HOME/projects/old"
say missing
set -l ours 0
for entry in $PATH; string match -q -- '*/marram/*' $entry; and set ours (math $ours + 1); end
echo "entries $ours"
"#;

#[rstest]
#[case::bash(BASH, POSIX)]
#[case::zsh(ZSH, POSIX)]
#[case::dash(DASH, POSIX)]
#[case::ash(ASH, POSIX)]
#[case::ksh(KSH, POSIX)]
#[case::mksh(MKSH, POSIX)]
#[case::fish(FISH, FISH_SCRIPT)]
fn every_function_works(#[case] shell: Shell, #[case] script: &str) {
    let scene = Scene::new();
    let home = home_with_projects(&scene);
    let Some(mut command) = shell.command(&scene, &home) else {
        return;
    };
    shell.connect(&scene, &home);
    let data = home.join(".local/share/vivid-shelf");
    let hook = data.join(format!("hooks/hook.{}", shell.name));
    command
        .env("HOOK", hook)
        .env("DATA", data)
        .env("SHELL_PROGRAM", shell.program[0])
        .env("SHELL_ARGUMENTS", shell.program[1..].join(" "));
    let ran = scene.run(command.args(["-c", script]));
    assert_eq!(ran.code, 0, "{ran}");
    assert_eq!(ran.stdout, EXPECTED, "{ran}");
    // Once, although the folder is entered twice.
    let unmet =
        "vshelf: old wants Marram 4, which is not on the shelf; to get it: vshelf install 4\n";
    assert_eq!(ran.stderr, unmet, "{ran}");
    assert!(!home.join("pwned").exists(), "{ran}");
}

/// How many processes a script starts, itself not counted.
fn processes(scene: &Scene, shell: Shell, script: &str) -> Option<usize> {
    let inner = shell.command(scene, scene.home())?;
    let trace = scene.path("trace");
    let mut command = scene.command("strace");
    command
        .args([
            "-f",
            "-qq",
            "-e",
            "trace=execve,clone,clone3,fork,vfork",
            "-o",
        ])
        .arg(&trace)
        .arg(inner.get_program())
        .args(inner.get_args())
        .args(["-c", script]);
    let output = command.output().ok()?;
    assert!(output.status.success(), "{output:?}");
    // Its own threads are no processes.
    let calls = fs::read_to_string(&trace).unwrap();
    let started = calls.lines().filter(|line| {
        let thread = line.contains("CLONE_THREAD") || line.contains("resumed");
        !thread && !line.contains("---") && !line.contains("+++")
    });
    Some(started.count() - 1)
}

#[rstest]
#[case::bash(BASH)]
#[case::zsh(ZSH)]
#[case::dash(DASH)]
#[case::ash(ASH)]
#[case::ksh(KSH)]
#[case::mksh(MKSH)]
#[case::fish(FISH)]
fn nothing_is_started_without_need(#[case] shell: Shell) {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    shell.connect(&scene, scene.home());
    scene.write("project/.marram-version", "6\n");
    scene.write("other/.marram-version", "6.20\n");
    fs::create_dir(scene.path("plain")).unwrap();
    let hook = scene.data(&format!("hooks/hook.{}", shell.name));
    let source = match shell.name {
        "fish" => format!("source {}", hook.display()),
        _ => format!(". {}", hook.display()),
    };
    let count = |script: &str| processes(&scene, shell, &format!("{source}\n{script}"));
    let Some(bare) = processes(&scene, shell, "true") else {
        skipped("strace is not installed");
        return;
    };
    let home = scene.home().display().to_string();
    assert_eq!(count("true"), Some(bare), "a new shell");
    assert_eq!(
        count("__vshelf_look; __vshelf_look"),
        Some(bare),
        "a prompt"
    );
    let plain = format!("cd {home}/plain; __vshelf_look");
    assert_eq!(count(&plain), Some(bare), "a folder without a pin");
    let pinned = format!("cd {home}/project; __vshelf_look; __vshelf_look");
    let first = count(&pinned).unwrap() - bare;
    // One program, and the fork for what it prints.
    assert!((1..=2).contains(&first), "{first} for a pinned folder");
    assert_eq!(count(&pinned), Some(bare), "a pinned folder that is known");
    std::thread::sleep(Duration::from_millis(20));
    scene.does(&["install", "9"]);
    assert!(count(&pinned) > Some(bare), "the shelf is another");
}

#[test]
fn following_can_be_quiet_or_off_and_says_what_it_does_otherwise() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    scene.write("project/.marram-version", "6\n");
    let run = |following: &str| {
        let settings = format!("main-runtime = \"marram\"\n{following}\n");
        scene.write(".config/vivid-shelf/settings.toml", &settings);
        scene.does(&["--quiet", "setup"]);
        let script = "source ~/.bashrc; cd ~/project; __vshelf_look; marram --version";
        let mut command = scene.command("/bin/bash");
        // Interactive, but on no terminal.
        command.args(["--noprofile", "--norc", "-i", "-c", script]);
        let ran = scene.run(&mut command);
        let said = ran.stderr.lines().find(|line| line.starts_with("vshelf:"));
        (ran.stdout.clone(), said.map(str::to_owned))
    };
    let six = "marram 6.20.2\n".to_owned();
    let said = "vshelf: marram 6.20.2 here, as the project wants".to_owned();
    assert_eq!(run(""), (six.clone(), Some(said)));
    assert_eq!(run("following = \"quiet\""), (six, None));
    assert_eq!(
        run("following = \"off\""),
        ("marram 8.3.1\n".to_owned(), None)
    );
}

#[test]
fn hooks_are_clean_shell_code() {
    let scene = Scene::new();
    for name in ["bash", "sh", "ksh", "mksh"] {
        let file = format!("hook.{name}");
        scene.write(&file, &scene.does(&["hook", name]).stdout);
        let mut command = scene.command("shellcheck");
        match command.arg(scene.path(&file)).output() {
            Ok(output) => assert!(
                output.status.success(),
                "{}",
                String::from_utf8_lossy(&output.stdout)
            ),
            Err(_) => return skipped("shellcheck is not installed"),
        }
    }
}
