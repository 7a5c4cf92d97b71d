//! Every function of every shell's hook, in the real shells, under strict mode where there is one,
//! in a home whose name has everything that breaks careless shell code.

use std::fs;
use std::path::Path;
use std::process::Command;
use std::time::Duration;

use rstest::rstest;
use vshelf_shell::quote;

use crate::connect::hostile;
use crate::process;
use crate::scene::{PROGRAM, Scene, program, skipped};

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
const ELVISH: Shell = Shell {
    name: "elvish",
    program: &["elvish", "-norc"],
};
const TCSH: Shell = Shell {
    name: "tcsh",
    program: &["tcsh", "-f"],
};
const XONSH: Shell = Shell {
    name: "xonsh",
    program: &["xonsh", "--no-rc"],
};
const NU: Shell = Shell {
    name: "nu",
    program: &["nu", "--no-config-file"],
};

impl Shell {
    /// The shell in this scene; nothing where this machine does not have it.
    fn command(self, scene: &Scene, home: &Path) -> Option<Command> {
        let program = program(self.program[0])?;
        let mut command = scene.command(&program.to_string_lossy());
        command
            .args(&self.program[1..])
            .env("HOME", home)
            .env("LC_ALL", "C.UTF-8")
            .current_dir(home);
        Some(command)
    }

    /// Its hook file, below the data folder.
    fn hook(self) -> String {
        let dialect: vshelf_shell::Dialect = self.name.parse().unwrap();
        format!(
            "connect/{}",
            vshelf_shell::connection::integration_file(dialect)
        )
    }

    fn connect(self, scene: &Scene, home: &Path) {
        let mut setup = scene.command(PROGRAM);
        setup
            .args(["--quiet", "connect", self.name])
            .env("HOME", home);
        let ran = scene.run(&mut setup);
        assert_eq!(ran.code, 0, "{ran}");
    }
}

/// A hostile home with three installs, and projects below it that want versions, one of them of a runtime that is
/// not on the shelf.
fn home_with_projects(scene: &Scene) -> std::path::PathBuf {
    let home = hostile(scene);
    define_reed(scene, &home);
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
    write("old/.reed-version", "8\n");
    write("buoy-api/.marram-version", "lts\n");
    home
}

/// What all scripts have to print: which version answers, and which the shell says is active.
const EXPECTED: &str = "\
default marram 8.3.1, marram 8.3.1
status 7
switched marram 6.20.2, marram 6.20.2
home fits
off marram 8.3.1, marram 8.3.1
failed with 3
project marram 6.20.2, marram 6.20.2
nested marram 6.20.2, marram 6.20.2
beside marram 9.2.0, marram 9.2.0
left marram 8.3.1, marram 8.3.1
lts marram 8.3.1, marram 8.3.1
changed marram 9.2.0, marram 9.2.0
back marram 8.3.1, marram 8.3.1
switch wins marram 9.2.0, marram 9.2.0
off again marram 6.20.2, marram 6.20.2
missing marram 8.3.1, marram 8.3.1
entries 1
";

const POSIX: &str = r#"
set -eu
. "$HOOK"
. "$HOOK"
say() { echo "$1 $(marram --version), $VSHELF_ACTIVE"; }
go() { cd "$1"; __vshelf_look; }
say default
(exit 7) || echo "status $?"
vshelf switch 6 >/dev/null 2>&1
say switched
[ "$MARRAM_HOME" = "$DATA/shelf/marram/saltmarsh-6.20.2/build" ] && echo 'home fits'
vshelf switch --follow >/dev/null 2>&1
say off
vshelf switch nothing 2>/dev/null || echo "failed with $?"
go "$HOME/projects/tide \$(touch pwned) board/deep/er"
say project
"$SHELL_PROGRAM" $SHELL_ARGUMENTS -c '. "$HOOK"; echo "nested $(marram --version), $VSHELF_ACTIVE"'
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
vshelf switch --follow >/dev/null 2>&1
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
function say; echo "$argv[1] $(marram --version), $VSHELF_ACTIVE"; end
say default
sh -c 'exit 7'; or echo "status $status"
vshelf switch 6 >/dev/null 2>&1
say switched
test "$MARRAM_HOME" = "$DATA/shelf/marram/saltmarsh-6.20.2/build"; and echo 'home fits'
vshelf switch --follow >/dev/null 2>&1
say off
vshelf switch nothing 2>/dev/null; or echo "failed with $status"
cd "$HOME/projects/tide \$(touch pwned) board/deep/er"
say project
fish --no-config -c 'source $HOOK; echo "nested $(marram --version), $VSHELF_ACTIVE"'
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
vshelf switch --follow >/dev/null 2>&1
say 'off again'
cd "$HOME/projects/old"
cd "$HOME"
cd "$HOME/projects/old"
say missing
set -l ours 0
for entry in $PATH; string match -q -- '*/marram/*' $entry; and set ours (math $ours + 1); end
echo "entries $ours"
"#;

const ELVISH_SCRIPT: &str = r#"
var names = $nil
fn source { eval &on-end={|found| set names = $found } (slurp < $E:HOOK) }
source
source
fn vshelf {|@arguments| $names[vshelf~] $@arguments }
fn say {|what| echo $what' '(marram --version)', '$E:VSHELF_ACTIVE }
fn quiet {|@arguments| vshelf $@arguments >/dev/null 2>&1 }
say default
try { sh -c 'exit 7' } catch e { echo 'status '$e[reason][exit-status] }
quiet switch 6
say switched
if (eq $E:MARRAM_HOME $E:DATA/shelf/marram/saltmarsh-6.20.2/build) { echo 'home fits' }
quiet switch --follow
say off
try { quiet switch nothing } catch e { echo 'failed with '$e[reason][exit-status] }
cd $E:HOME/projects/'tide $(touch pwned) board'/deep/er
say project
elvish -norc -c 'eval (slurp < $E:HOOK); echo "nested "(marram --version)", "$E:VSHELF_ACTIVE'
cd $E:HOME/projects/spray-model
say beside
cd $E:HOME
say left
cd $E:HOME/projects/buoy-api
say lts
echo 9 > .marram-version
$names[look~]
say changed
rm .marram-version
$names[look~]
say back
quiet switch 9
cd $E:HOME/projects/'tide $(touch pwned) board'
say 'switch wins'
quiet switch --follow
say 'off again'
cd $E:HOME/projects/old
cd $E:HOME
cd $E:HOME/projects/old
say missing
use str
echo entries (count [(each {|entry| if (str:contains $entry /marram/) { put $entry } } $paths)])
"#;

const TCSH_SCRIPT: &str = r#"
source $HOOK:q
source $HOOK:q
alias say 'echo \!* "`marram --version`, $VSHELF_ACTIVE"'
alias go 'cd \!*; __vshelf_look'
say default
sh -c 'exit 7'
echo "status $status"
vshelf switch 6 >& /dev/null
say switched
if ( $MARRAM_HOME:q == $DATA:q/shelf/marram/saltmarsh-6.20.2/build ) echo 'home fits'
vshelf switch --follow >& /dev/null
say off
vshelf switch nothing >& /dev/null
echo "failed with $status"
go $HOME:q/'projects/tide $(touch pwned) board/deep/er'
say project
tcsh -f -c 'source $HOOK:q; echo "nested `marram --version`, $VSHELF_ACTIVE"'
go $HOME:q/projects/spray-model
say beside
go $HOME:q
say left
go $HOME:q/projects/buoy-api
say lts
sleep 1.1
echo 9 > .marram-version
__vshelf_look
say changed
rm .marram-version
__vshelf_look
say back
vshelf switch 9 >& /dev/null
go $HOME:q/'projects/tide $(touch pwned) board'
say 'switch wins'
vshelf switch --follow >& /dev/null
say 'off again'
go $HOME:q/projects/old
go $HOME:q
go $HOME:q/projects/old
say missing
set ours = 0
foreach entry ($path:q)
  if ( $entry:q =~ */marram/* ) @ ours++
end
echo "entries $ours"
"#;

const XONSH_SCRIPT: &str = r#"
import os
exec(open($HOOK).read(), {})
exec(open($HOOK).read(), {})
home = $HOME
def say(what): print(what, $(marram --version).strip() + ",", $VSHELF_ACTIVE, flush=True)
def go(folder):
    cd @(folder)
say('default')
status = !(sh -c 'exit 7')
print('status', status.returncode, flush=True)
vshelf switch 6 > /dev/null e> /dev/null
say('switched')
if $MARRAM_HOME == $DATA + '/shelf/marram/saltmarsh-6.20.2/build': print('home fits', flush=True)
vshelf switch --follow > /dev/null e> /dev/null
say('off')
failed = !(vshelf switch nothing > /dev/null e> /dev/null)
print('failed with', failed.returncode, flush=True)
go(home + '/projects/tide $(touch pwned) board/deep/er')
say('project')
nested = 'exec(open($' + 'HOOK).read(), {})\nprint("nested", $' + '(marram --version).strip() + ",", $' + 'VSHELF_ACTIVE)'
xonsh --no-rc -c @(nested)
go(home + '/projects/spray-model')
say('beside')
go(home)
say('left')
go(home + '/projects/buoy-api')
say('lts')
_ = open('.marram-version', 'w').write('9')
__vshelf_look()
say('changed')
os.remove('.marram-version')
__vshelf_look()
say('back')
vshelf switch 9 > /dev/null e> /dev/null
go(home + '/projects/tide $(touch pwned) board')
say('switch wins')
vshelf switch --follow > /dev/null e> /dev/null
say('off again')
go(home + '/projects/old')
go(home)
go(home + '/projects/old')
say('missing')
print('entries', len([entry for entry in $PATH if '/marram/' in entry]))
"#;

const NU_SCRIPT: &str = r#"
const hook = @HOOK@
source $hook
source $hook
def say [what: string] { print $"($what) (^marram --version | str trim), ($env.VSHELF_ACTIVE)" }
say default
try { ^sh -c 'exit 7' } catch { print $"status ($env.LAST_EXIT_CODE)" }
vshelf switch 6 o+e> /dev/null
say switched
if $env.MARRAM_HOME == $"($env.DATA)/shelf/marram/saltmarsh-6.20.2/build" { print 'home fits' }
vshelf switch --follow o+e> /dev/null
say off
try { vshelf switch nothing o+e> /dev/null } catch { print $"failed with ($env.LAST_EXIT_CODE)" }
cd ($env.HOME | path join 'projects' 'tide $(touch pwned) board' deep er)
__vshelf_look
say project
^$nu.current-exe --no-config-file -c $"const hook = ($hook | to nuon); source $hook; print $'nested \(^marram --version | str trim), \($env.VSHELF_ACTIVE)'"
cd ($env.HOME | path join projects spray-model)
__vshelf_look
say beside
cd $env.HOME
__vshelf_look
say left
cd ($env.HOME | path join projects buoy-api)
__vshelf_look
say lts
"9\n" | save --force .marram-version
__vshelf_look
say changed
rm .marram-version
__vshelf_look
say back
vshelf switch 9 o+e> /dev/null
cd ($env.HOME | path join 'projects' 'tide $(touch pwned) board')
__vshelf_look
say 'switch wins'
vshelf switch --follow o+e> /dev/null
say 'off again'
cd ($env.HOME | path join projects old)
__vshelf_look
cd $env.HOME
__vshelf_look
cd ($env.HOME | path join projects old)
__vshelf_look
say missing
print $"entries ($env.PATH | where $it =~ '/marram/' | length)"
"#;

#[rstest]
#[case::bash(BASH, POSIX)]
#[case::zsh(ZSH, POSIX)]
#[case::dash(DASH, POSIX)]
#[case::ash(ASH, POSIX)]
#[case::ksh(KSH, POSIX)]
#[case::mksh(MKSH, POSIX)]
#[case::fish(FISH, FISH_SCRIPT)]
#[case::elvish(ELVISH, ELVISH_SCRIPT)]
#[case::tcsh(TCSH, TCSH_SCRIPT)]
#[case::xonsh(XONSH, XONSH_SCRIPT)]
#[case::nu(NU, NU_SCRIPT)]
fn every_function_works(#[case] shell: Shell, #[case] script: &str) {
    let scene = Scene::new();
    let home = home_with_projects(&scene);
    let Some(mut command) = shell.command(&scene, &home) else {
        return;
    };
    shell.connect(&scene, &home);
    let data = home.join(".local/share/vivid-shelf");
    let hook = data.join(shell.hook());
    let script = script.replace("@HOOK@", &quote::escaped(&hook.to_string_lossy()));
    command
        .env("HOOK", hook)
        .env("DATA", data)
        .env("SHELL_PROGRAM", shell.program[0])
        .env("SHELL_ARGUMENTS", shell.program[1..].join(" "));
    let ran = scene.run(command.args(["-c", &script]));
    assert_eq!(ran.code, 0, "{ran}");
    assert_eq!(ran.stdout, EXPECTED, "{ran}");
    // Each time that the folder is entered.
    let unmet = "vshelf: old requires Marram 4, which is not on the shelf; to get it: vshelf install 4\n\
                 vshelf: old requires Reed 8, which is not on the shelf; to get it: vshelf install reed@8\n";
    assert_eq!(ran.stderr, unmet.repeat(2), "{ran}");
    assert!(!home.join("pwned").exists(), "{ran}");
}

/// A second runtime in this home, which differs from the first by its names alone.
fn define_reed(scene: &Scene, home: &Path) {
    let marram = scene
        .home()
        .join(".config/vivid-shelf/runtimes/marram.toml");
    let reed = fs::read_to_string(marram)
        .unwrap()
        .replace("name = \"marram\"", "name = \"reed\"")
        .replace("title = \"Marram\"", "title = \"Reed\"")
        .replace(".marram-version", ".reed-version")
        .replace("MARRAM_HOME", "REED_HOME");
    let runtimes = home.join(".config/vivid-shelf/runtimes");
    fs::write(runtimes.join("reed.toml"), reed).unwrap();
}

#[rstest]
#[case::bash(BASH, ".")]
#[case::zsh(ZSH, ".")]
#[case::dash(DASH, ".")]
#[case::ash(ASH, ".")]
#[case::ksh(KSH, ".")]
#[case::mksh(MKSH, ".")]
#[case::fish(FISH, "source")]
fn a_file_that_appears_in_a_remembered_folder_is_noticed_when_that_is_entered(
    #[case] shell: Shell,
    #[case] source: &str,
) {
    let scene = Scene::new();
    define_reed(&scene, scene.home());
    let Some(mut command) = shell.command(&scene, scene.home()) else {
        return;
    };
    shell.connect(&scene, scene.home());
    fs::create_dir_all(scene.path("tide:/a/b/c")).unwrap();
    fs::create_dir_all(scene.path("spray/a")).unwrap();
    let steps = [
        ("", "tide:/a/b"),
        ("echo 8 >$HOME/tide:/a/.reed-version", "tide:/a/b/c"),
        ("", "tide:/a"),
        ("", "spray/a"),
        ("", "tide:/a/b/c"),
        ("echo 6 >$HOME/spray/.reed-version", "spray/a"),
        (
            "rm $HOME/spray/.reed-version $HOME/tide:/a/.reed-version",
            "tide:/a",
        ),
    ];
    let mut script = format!("{source} \"$HOOK\"\n");
    for (before, folder) in steps {
        script += &format!("{before}\ncd \"$HOME/{folder}\"\n__vshelf_look\n");
        script += &format!("echo in {folder} >/dev/stderr\n");
    }
    let ran = scene.run(
        command
            .env("HOOK", scene.data(&shell.hook()))
            .args(["-c", &script]),
    );
    let said = "in tide:/a/b
in tide:/a/b/c
vshelf: a requires Reed 8, which is not on the shelf; to get it: vshelf install reed@8
in tide:/a
in spray/a
vshelf: a requires Reed 8, which is not on the shelf; to get it: vshelf install reed@8
in tide:/a/b/c
vshelf: spray requires Reed 6, which is not on the shelf; to get it: vshelf install reed@6
in spray/a
in tide:/a
";
    assert_eq!(ran.stderr, said, "{ran}");
}

#[rstest]
#[case::bash(BASH, ".", "__vshelf_look")]
#[case::zsh(ZSH, ".", "__vshelf_look")]
#[case::dash(DASH, ".", "__vshelf_look")]
#[case::ash(ASH, ".", "__vshelf_look")]
#[case::ksh(KSH, ".", "__vshelf_look")]
#[case::mksh(MKSH, ".", "__vshelf_look")]
#[case::fish(FISH, "source", "__vshelf_look")]
#[case::tcsh(TCSH, "source", "__vshelf_part enter")]
fn what_is_active_is_said_as_status_says_it(
    #[case] shell: Shell,
    #[case] source: &str,
    #[case] look: &str,
) {
    let scene = Scene::new();
    define_reed(&scene, scene.home());
    scene.does(&["--quiet", "install", "marram@8", "dunefield/8", "6"]);
    let build = scene.data("shelf/marram/saltmarsh-8.3.1/build");
    let build = build.to_string_lossy();
    scene.does(&["--quiet", "adopt", &build, "--as", "reed@8.3.1"]);
    scene.does(&["--quiet", "default", "reed@8.3.1"]);
    let Some(mut command) = shell.command(&scene, scene.home()) else {
        return;
    };
    shell.connect(&scene, scene.home());
    let script = format!(
        "{source} \"$HOOK\"
         echo \"$VSHELF_ACTIVE\"
         \"$PROGRAM\" --quiet default marram@6
         {look}
         echo \"$VSHELF_ACTIVE\"
         vshelf --quiet switch marram@dunefield/8
         echo \"$VSHELF_ACTIVE\"
         vshelf status --short
         vshelf run marram@6 -- sh -c 'echo \"${{VSHELF_ACTIVE-nothing}}\"'
         vshelf --quiet remove reed@8 --even-if-used
         echo \"$VSHELF_ACTIVE\"
        "
    );
    let hook = scene.data(&shell.hook());
    command.env("HOOK", hook).env("PROGRAM", PROGRAM);
    let ran = scene.run(command.args(["-c", &script]));
    let expected = "\
marram 8.3.1, reed adopted/8.3.1
marram 6.20.2, reed adopted/8.3.1
marram dunefield/8.3.1, reed adopted/8.3.1
marram dunefield/8.3.1
reed adopted/8.3.1
nothing
marram dunefield/8.3.1
";
    assert_eq!(ran.stdout, expected, "{ran}");
    assert_eq!(ran.stderr, "", "{ran}");
}

/// A program that is replaced, by a newer or an older one, writes what shells source anew: in some shells when the
/// next one starts, in all with the first command there.
#[rstest]
#[case::bash(BASH, ". $HOOK", true)]
#[case::zsh(ZSH, ". $HOOK", true)]
#[case::dash(DASH, ". $HOOK", true)]
#[case::ash(ASH, ". $HOOK", true)]
#[case::ksh(KSH, ". $HOOK", true)]
#[case::mksh(MKSH, ". $HOOK", true)]
#[case::fish(FISH, "source $HOOK", true)]
#[case::tcsh(TCSH, "source $HOOK", false)]
#[case::xonsh(XONSH, "exec(open($HOOK).read(), {})", false)]
#[case::elvish(ELVISH, "eval (slurp < $E:HOOK)", false)]
fn what_is_sourced_is_renewed_with_the_program(
    #[case] shell: Shell,
    #[case] source: &str,
    #[case] at_start: bool,
) {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    if shell.command(&scene, scene.home()).is_none() {
        return;
    }
    let program = scene.path("vshelf");
    let program_text = program.to_string_lossy().into_owned();
    // By other programs: what this process has open for writing, a child that another test starts has open too, and
    // then it cannot be started.
    let change = |words: &[&str]| {
        let ran = scene.run(scene.command(words[0]).args(&words[1..]));
        assert_eq!(ran.code, 0, "{ran}");
    };
    change(&["cp", PROGRAM, &program_text]);
    let connect = ["--quiet", "connect", shell.name];
    let ran = scene.run(scene.command(&program_text).args(connect));
    assert_eq!(ran.code, 0, "{ran}");
    let hook = scene.data(&shell.hook());
    let start_up = || {
        let files = [
            ".bashrc", ".zshrc", ".profile", ".kshrc", ".mkshrc", ".cshrc",
        ];
        let texts =
            files.map(|file| fs::read_to_string(scene.home().join(file)).unwrap_or_default());
        texts.concat()
    };
    let whole = fs::read_to_string(&hook).unwrap();
    let connected = start_up();
    for age in [60, 10_000] {
        // As another version wrote it, whose program has another time.
        fs::write(&hook, format!("{whole}# of another version\n")).unwrap();
        change(&["touch", "-d", &format!("{age} seconds ago"), &program_text]);
        let start = |script: &str| {
            let mut command = shell.command(&scene, scene.home()).unwrap();
            let ran = scene.run(command.env("HOOK", &hook).args(["-c", script]));
            assert_eq!((ran.code, ran.stderr.as_str()), (0, ""), "{ran}");
        };
        start(source);
        let renewed = fs::read_to_string(&hook).unwrap() == whole;
        assert_eq!(renewed, at_start, "{}", shell.name);
        let first_command = match shell.name {
            "elvish" => "eval &on-end={|names| $names[vshelf~] --quiet status } (slurp < $E:HOOK)",
            _ => &format!("{source}\nvshelf --quiet status"),
        };
        start(first_command);
        assert_eq!(fs::read_to_string(&hook).unwrap(), whole, "{}", shell.name);
        assert_eq!(start_up(), connected);
    }
    if !at_start {
        return;
    }
    // What this shell read of the other version, because it needed it at once, does not stay.
    let functions = scene.data(&shell.hook().replace("shelf.", "functions."));
    let of_it = match shell.name {
        "fish" => "function __vshelf_call; echo old >&2; end\n",
        _ => "__vshelf_call() { echo old >&2; }\n",
    };
    let mut text = fs::read_to_string(&functions).unwrap();
    text.push_str(of_it);
    fs::write(&functions, text).unwrap();
    change(&["touch", "-d", "90 seconds ago", &program_text]);
    let mut command = shell.command(&scene, scene.home()).unwrap();
    command
        .env("HOOK", &hook)
        .env("VSHELF_SWITCHED", "marram=saltmarsh-8.3.1");
    let script = format!("{source}\nvshelf --quiet status");
    let ran = scene.run(command.args(["-c", &script]));
    assert!(!ran.stderr.contains("old"), "{ran}");
}

#[rstest]
#[case::bash(BASH, ".bashrc", "marram --version")]
#[case::zsh(ZSH, ".zshrc", "marram --version")]
#[case::dash(DASH, ".profile", "marram --version")]
#[case::ash(ASH, ".profile", "marram --version")]
#[case::ksh(KSH, ".kshrc", "marram --version")]
#[case::mksh(MKSH, ".mkshrc", "marram --version")]
#[case::fish(FISH, ".config/fish/config.fish", "marram --version")]
// Where there is no line to type on, there is nothing to give the function to.
#[case::elvish(ELVISH, ".config/elvish/rc.elv", "marram --version")]
#[case::tcsh(TCSH, ".cshrc", "marram --version")]
#[case::xonsh(XONSH, ".config/xonsh/rc.xsh", "marram --version")]
#[case::nu(NU, ".config/nushell/config.nu", "^marram --version")]
fn the_block_in_the_start_up_file_works_and_is_harmless_without_the_hook(
    #[case] shell: Shell,
    #[case] file: &str,
    #[case] version: &str,
) {
    let scene = Scene::new();
    let home = home_with_projects(&scene);
    if shell.command(&scene, &home).is_none() {
        return;
    }
    shell.connect(&scene, &home);
    let block = fs::read_to_string(home.join(file)).unwrap();
    let block = block.replace("edit:add-var vshelf~", "nop");
    let run = |script: &str| {
        let mut command = shell.command(&scene, &home).unwrap();
        scene.run(command.args(["-c", script]))
    };
    let ran = run(&format!("{block}\n{version}"));
    assert_eq!(ran.to_string(), "marram 8.3.1\n");
    let hook = home.join(".local/share/vivid-shelf").join(shell.hook());
    fs::remove_file(hook).unwrap();
    let ran = run(&format!("{block}\necho well"));
    assert_eq!(ran.to_string(), "well\n");
    assert!(!home.join("pwned").exists());
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
        .args(process::words(&inner))
        .args(["-c", script]);
    let output = process::output(&mut command);
    assert!(output.status.success(), "{output:?}");
    // Its own threads are no processes, nor is a call that it ended in before strace could read it.
    let calls = fs::read_to_string(&trace).unwrap();
    let started = calls.lines().filter(|line| {
        let thread =
            line.contains("CLONE_THREAD") || line.contains("resumed") || line.contains("???");
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
#[case::elvish(ELVISH)]
#[case::tcsh(TCSH)]
#[case::xonsh(XONSH)]
#[case::nu(NU)]
fn nothing_is_started_without_need(#[case] shell: Shell) {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    shell.connect(&scene, scene.home());
    scene.write("project/.marram-version", "6\n");
    scene.write("other/.marram-version", "6.20\n");
    fs::create_dir(scene.path("plain")).unwrap();
    let hook = scene.data(&shell.hook());
    let hook = hook.display();
    // How it is sourced, how its function to look around is called, and what separates commands.
    let (source, look) = match shell.name {
        "elvish" => (
            format!(
                "var names = $nil; eval &on-end={{|found| set names = $found }} (slurp < {hook})"
            ),
            "$names[look~]",
        ),
        "xonsh" => (
            format!("exec(open('{hook}').read(), {{}})"),
            "__vshelf_look()",
        ),
        "fish" | "tcsh" | "nu" => (format!("source {hook}"), "__vshelf_look"),
        _ => (format!(". {hook}"), "__vshelf_look"),
    };
    let count = |script: &str| {
        let script = script.replace("LOOK", look).replace("; ", "\n");
        processes(&scene, shell, &format!("{source}\n{script}"))
    };
    let Some(bare) = processes(&scene, shell, "cd .") else {
        skipped("strace is not installed");
        return;
    };
    let home = scene.home().display().to_string();
    assert_eq!(count("cd ."), Some(bare), "a new shell");
    assert_eq!(count("LOOK; LOOK"), Some(bare), "a prompt");
    let plain = format!("cd {home}/plain; LOOK");
    assert_eq!(count(&plain), Some(bare), "a folder without a pin");
    let pinned = format!("cd {home}/project; LOOK; LOOK");
    let first = count(&pinned).unwrap() - bare;
    // One program, and the fork for what it prints.
    assert!((1..=2).contains(&first), "{first} for a pinned folder");
    // These two cannot read what another shell came to, and know only what they asked themselves.
    let known = match shell.name {
        "elvish" | "tcsh" => bare + first,
        _ => bare,
    };
    assert_eq!(count(&pinned), Some(known), "a pinned folder that is known");
    let again = format!("{pinned}; cd {home}/plain; LOOK; {pinned}");
    assert_eq!(count(&again), Some(known), "and entered again");
    std::thread::sleep(Duration::from_millis(20));
    scene.does(&["install", "9"]);
    assert!(count(&pinned) > Some(bare), "the shelf is another");
}

/// Says what a shell entered.
const ENTERED: &str = ". \"$HOOK\"; marram --version; echo \"$MARRAM_HOME\"";

// These enter and look by short ways, which leave what is out of the ordinary to the long ones.
#[rstest]
#[case::bash(BASH, ENTERED)]
#[case::zsh(ZSH, ENTERED)]
#[case::dash(DASH, ENTERED)]
#[case::ash(ASH, ENTERED)]
#[case::ksh(KSH, ENTERED)]
#[case::mksh(MKSH, ENTERED)]
#[case::elvish(
    ELVISH,
    "eval (slurp < $E:HOOK); marram --version; echo $E:MARRAM_HOME"
)]
#[case::tcsh(TCSH, "source $HOOK:q; marram --version; echo $MARRAM_HOME:q")]
#[case::fish(FISH, "source $HOOK; marram --version; echo $MARRAM_HOME")]
fn a_new_shell_takes_the_long_way_where_it_has_to(#[case] shell: Shell, #[case] script: &str) {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    shell.connect(&scene, scene.home());
    let deep = "project/1/2/3/4/5/6/7/8/9/10/11/12/13/14";
    scene.write(&format!("{deep}/x"), "");
    if shell.command(&scene, scene.home()).is_none() {
        return;
    }
    let opened = |folder: &str, variables: &[(&str, &str)]| {
        let mut command = shell.command(&scene, scene.home()).unwrap();
        command
            .env("HOOK", scene.data(&shell.hook()))
            .envs(variables.iter().copied())
            .current_dir(scene.path(folder));
        let ran = scene.run(command.args(["-c", script]));
        assert_eq!(ran.stderr, "");
        ran.stdout
    };
    let data = "[HOME]/.local/share/vivid-shelf";
    let default = format!("marram 8.3.1\n{data}/default/marram\n");
    let six = format!("marram 6.20.2\n{data}/shelf/marram/saltmarsh-6.20.2/build\n");
    assert_eq!(opened(deep, &[]), default);
    let left_over = scene
        .data("shelf/marram/saltmarsh-4.8.3/build")
        .display()
        .to_string();
    assert_eq!(opened(deep, &[("MARRAM_HOME", &left_over)]), default);
    // As a connected shell hands it on, and with another folder in front of it since.
    let bin = scene.data("default/marram/bin").display().to_string();
    let path = std::env::var("PATH").unwrap();
    let handed_on = [format!("{bin}:{path}"), format!("{path}:{bin}")];
    let base = scene.data("default/marram").display().to_string();
    for path in &handed_on {
        let variables = [("PATH", path.as_str()), ("MARRAM_HOME", &base)];
        assert_eq!(opened(deep, &variables), default);
    }
    assert_eq!(
        opened(deep, &[("VSHELF_SWITCHED", "marram=saltmarsh-6.20.2")]),
        six
    );
    scene.write("project/.marram-version", "6\n");
    assert_eq!(opened(deep, &[]), six);
    assert_eq!(opened("project", &[]), six);
}

#[test]
fn following_can_be_quiet_or_off_and_says_what_it_does_otherwise() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    scene.write("project/.marram-version", "6\n");
    let run = |following: &str| {
        let settings = format!("main-runtime = \"marram\"\n{following}\n");
        scene.write(".config/vivid-shelf/shelf.toml", &settings);
        scene.does(&["--quiet", "connect"]);
        let script = "source ~/.bashrc; cd ~/project; __vshelf_look; marram --version";
        let mut command = scene.command("/bin/bash");
        // Interactive, but on no terminal.
        command.args(["--noprofile", "--norc", "-i", "-c", script]);
        let ran = scene.run(&mut command);
        let said = ran.stderr.lines().find(|line| line.starts_with("vshelf:"));
        (ran.stdout.clone(), said.map(str::to_owned))
    };
    let six = "marram 6.20.2\n".to_owned();
    let said = "vshelf: marram 6.20.2 here, as the project requires".to_owned();
    assert_eq!(run(""), (six.clone(), Some(said)));
    assert_eq!(run("following = \"quiet\""), (six, None));
    assert_eq!(
        run("following = \"off\""),
        ("marram 8.3.1\n".to_owned(), None)
    );
}

#[test]
fn hooks_are_clean_shell_code() {
    let Some(shellcheck) = program("shellcheck") else {
        return;
    };
    let shellcheck = shellcheck.to_string_lossy();
    let scene = Scene::new();
    for name in ["bash", "sh", "ksh", "mksh"] {
        let file = format!("shelf.{name}");
        scene.write(&file, &scene.does(&["connect", "--print", name]).stdout);
        let mut command = scene.command(&shellcheck);
        let ran = scene.run(command.arg(scene.path(&file)));
        assert_eq!(ran.code, 0, "{ran}");
    }
}
