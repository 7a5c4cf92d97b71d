//! Connected shells, with hostile folder names and strict modes.

use std::fs::{self, Permissions};
use std::os::unix::fs::{PermissionsExt, symlink};

use rstest::rstest;
use snapbox::str;

use crate::scene::{PROGRAM, Scene};
use crate::shows;

/// A scene whose home has everything in its name that breaks careless shell code.
pub fn hostile(scene: &Scene) -> std::path::PathBuf {
    let home = scene.path("it's \"home\" $(touch pwned); `id` *\nDünenhafer");
    fs::create_dir_all(home.join(".config")).unwrap();
    fs::create_dir_all(home.join("bin")).unwrap();
    let config = scene.path(".config/vivid-shelf");
    symlink(config, home.join(".config/vivid-shelf")).unwrap();
    home
}

#[test]
fn every_function_works_in_a_hostile_home_under_strict_mode() {
    let scene = Scene::new();
    let home = hostile(&scene);
    let run = |program: &str, arguments: &[&str]| {
        let mut command = scene.command(program);
        let ran = scene.run(
            command
                .args(arguments)
                .env("HOME", &home)
                .current_dir(&home),
        );
        assert_eq!(ran.code, 0, "{program} {arguments:?}\n{ran}");
        ran.stdout
    };
    run(PROGRAM, &["install", "8", "6"]);
    run(PROGRAM, &["connect"]);
    let script = "set -euo pipefail
        PROMPT_COMMAND='echo theirs'
        source ~/.bashrc
        source ~/.bashrc
        (exit 7) || echo \"status $?\"
        marram --version
        vshelf switch 6 >/dev/null 2>&1
        marram --version
        test \"$MARRAM_HOME\" = \"$HOME/.local/share/vivid-shelf/shelf/marram/saltmarsh-6.20.2/build\"
        bash --noprofile --norc -c 'source ~/.bashrc; marram --version'
        vshelf switch nothing 2>/dev/null || echo \"failed with $?\"
        marram --version
        vshelf switch --follow >/dev/null
        vshelf run 6 -- marram --version
        IFS=/ ; vshelf switch 6 >/dev/null 2>&1; unset IFS
        marram --version
        printf '%s\\n' \"$PATH\" | grep -o marram/ | wc -l
        echo \"$PROMPT_COMMAND\"";
    let output = run("/bin/bash", &["--noprofile", "--norc", "-c", script]);
    assert_eq!(
        output,
        "status 7\nmarram 8.3.1\nmarram 6.20.2\nmarram 6.20.2\nfailed with 3\nmarram 6.20.2\n\
         marram 6.20.2\nmarram 6.20.2\n1\n\
         __vshelf_prompt; echo theirs\n"
    );
    assert!(!home.join("pwned").exists() && !scene.path("pwned").exists());
}

#[test]
fn other_prompt_hooks_stay_as_text_and_as_a_list() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    let script = "PROMPT_COMMAND=(one 'two 2')
        source ~/.bashrc
        source ~/.bashrc
        printf '%s|' \"${PROMPT_COMMAND[@]}\"; echo
        unset PROMPT_COMMAND
        source ~/.bashrc
        printf '%s|' \"${PROMPT_COMMAND[@]}\"; echo
        PROMPT_COMMAND='mine; '
        source ~/.bashrc
        printf '%s|' \"${PROMPT_COMMAND[@]}\"";
    let ran = scene.bash(script);
    assert_eq!(
        ran.stdout, "__vshelf_prompt; one|two 2|\n__vshelf_prompt|\n__vshelf_prompt; mine; |",
        "{ran}"
    );
}

#[test]
fn a_home_that_cannot_be_written_only_costs_more_questions() {
    let scene = Scene::new();
    scene.does(&["install", "8", "6"]);
    scene.write("tide-board/.marram-version", "6\n");
    scene.does(&["connect"]);
    // A file where the folder of stamps would be: as good as a read-only home, for root too.
    scene.write(".cache/vivid-shelf/stamps", "");
    let script = "source ~/.local/share/vivid-shelf/connect/shelf.bash
        cd ~/tide-board; __vshelf_look; __vshelf_look; marram --version
        cd ~; __vshelf_look; marram --version";
    let ran = scene.run(scene.command("/bin/bash").args(["--norc", "-c", script]));
    assert_eq!(ran.to_string(), "marram 6.20.2\nmarram 8.3.1\n");
}

#[test]
fn what_a_project_wants_is_told_when_something_else_changes() {
    let scene = Scene::new();
    scene.write("tide-board/.marram-version", "6\n");
    let script = "cd ~/tide-board; __vshelf_look 2>/dev/null
        vshelf install 8.3.1
        vshelf install
        marram --version
        vshelf install 9
        marram --version
        vshelf default 9 2>&1
        marram --version
        cd ~; __vshelf_look; marram --version";
    let ran = scene.bash(script);
    let told: Vec<&str> = (ran.stdout.lines())
        .filter(|line| {
            ["This shell", "The default", "It is", "Shells", "marram"]
                .iter()
                .any(|word| line.starts_with(word))
        })
        .collect();
    assert_eq!(
        told,
        [
            "It is the default now: this shell and new ones use it.",
            "This shell uses it now, as the project here requires. The default stays 8.3.1.",
            "marram 6.20.2",
            "The default stays 8.3.1, and this shell stays on 6.20.2, as the project here requires.",
            "marram 6.20.2",
            "Shells that follow the default have it at once. This one stays on 6.20.2, as the project here requires.",
            "marram 6.20.2",
            "marram 9.2.0",
        ],
        "{ran}"
    );
}

#[test]
fn a_missing_program_is_one_clear_line() {
    let scene = Scene::new();
    scene.does(&["install", "8"]);
    scene.does(&["connect"]);
    let hook = scene.data("connect/shelf.bash");
    let text = fs::read_to_string(&hook)
        .unwrap()
        .replace(PROGRAM, "/nowhere/vshelf");
    fs::write(&hook, text).unwrap();
    let script = "source ~/.bashrc; marram --version; vshelf list";
    let ran = scene.run(scene.command("/bin/bash").args(["--norc", "-c", script]));
    assert_eq!(ran.code, 127);
    assert_eq!(ran.stdout, "marram 8.3.1\n");
    assert_eq!(
        ran.stderr,
        "vshelf: the program is gone from /nowhere/vshelf; install it again and run: vshelf connect\n"
    );
}

#[test]
fn setup_is_safe_to_repeat_and_leaves_no_trace() {
    let scene = Scene::new();
    let before = "# mine\nalias l='ls'\n";
    scene.write("dotfiles/bashrc", before);
    symlink("dotfiles/bashrc", scene.path(".bashrc")).unwrap();
    let first = scene.does(&["connect"]).stdout;
    assert_eq!(
        first,
        "New bash shells are now connected, through ~/dotfiles/bashrc, login shells through ~/.profile.\n"
    );
    let connected = fs::read_to_string(scene.path("dotfiles/bashrc")).unwrap();
    let second = scene.does(&["connect"]).stdout;
    assert_eq!(second, "bash is connected already; nothing was changed.\n");
    assert_eq!(
        fs::read_to_string(scene.path(".bashrc")).unwrap(),
        connected
    );
    fs::write(scene.data("connect/shelf.bash"), "# of an older program\n").unwrap();
    let renewed = scene.does(&["connect"]).stdout;
    assert_eq!(
        renewed,
        "The file that bash shells source was updated; ~/dotfiles/bashrc needed no change.\n"
    );
    scene.does(&["connect", "--remove"]);
    assert_eq!(
        fs::read_to_string(scene.path("dotfiles/bashrc")).unwrap(),
        before
    );
    assert!(
        fs::symlink_metadata(scene.path(".bashrc"))
            .unwrap()
            .is_symlink()
    );
    let nothing = scene.does(&["connect", "--remove"]).stdout;
    let unchanged = "~/dotfiles/bashrc has no Vivid Shelf block; nothing was changed.\n";
    assert!(nothing.starts_with(unchanged), "{nothing}");
}

#[test]
fn who_leaves_is_told_what_stays_and_one_line_takes_all_of_it() {
    let scene = Scene::new();
    let untouched = |scene: &Scene| crate::scene::names_in(scene.home());
    scene.write(".bashrc", "# mine\n");
    scene.does(&["--quiet", "install", "8"]);
    for shell in ["bash", "zsh"] {
        scene.does(&["--quiet", "connect", shell]);
    }
    let first = scene.does(&["connect", "bash", "--remove"]);
    assert!(
        first.stderr.contains("zsh stays connected, through ~/.zshrc. To take that out too: vshelf connect zsh --remove")
            && !first.stderr.contains("rm -rf"),
        "{first}"
    );
    let second = scene.does(&["connect", "zsh", "--remove"]);
    shows!(
        second,
        str![[r#"
~/.zshrc no longer connects zsh to the shelf.
stays                         size
~/.local/share/vivid-shelf  0.4 MB  what is on the shelf
~/.cache/vivid-shelf        0.2 MB  catalogs, which can be fetched again
~/.config/vivid-shelf       0.1 MB  settings and definitions of your own
--- stderr
To remove all of it for good: rm -rf ~/.local/share/vivid-shelf ~/.cache/vivid-shelf ~/.config/vivid-shelf

"#]]
    );
    let (_, line) = second.stderr.split_once(": rm -rf ").unwrap();
    let line = format!("rm -rf {}", line.lines().next().unwrap());
    let ran = scene.run(scene.command("/bin/bash").args(["-c", &line]));
    assert_eq!(ran.code, 0, "{ran}");
    assert_eq!(
        fs::read_to_string(scene.path(".bashrc")).unwrap(),
        "# mine\n"
    );
    assert_eq!(
        untouched(&scene),
        [".bashrc", ".cache", ".config", ".local", ".zshrc"]
    );
    for folder in [".cache", ".config", ".local/share"] {
        assert!(
            crate::scene::names_in(&scene.path(folder)).is_empty(),
            "{folder}"
        );
    }
}

#[test]
fn the_short_status_is_for_scripts_and_prompts() {
    let scene = Scene::new();
    assert_eq!(scene.does(&["status", "--short"]).stdout, "");
    scene.does(&["--quiet", "install", "8", "dunefield/8"]);
    let short = |selector: &str| {
        let script = format!("{PROGRAM} default {selector} >/dev/null; {PROGRAM} status --short");
        scene
            .run(scene.command("/bin/sh").args(["-c", &script]))
            .stdout
    };
    assert_eq!(short("8.3.1"), "marram 8.3.1\n");
    assert_eq!(short("dunefield/8"), "marram dunefield/8.3.1\n");
    // A requirement that is not met leaves the default active.
    scene.write("project/.marram-version", "6\n");
    let mut status = scene.command(PROGRAM);
    status
        .args(["status", "--short"])
        .current_dir(scene.path("project"));
    assert_eq!(scene.run(&mut status).stdout, "marram dunefield/8.3.1\n");
}

#[test]
fn without_shell_in_the_environment_the_calling_shell_is_connected() {
    let scene = Scene::new();
    let call = format!("env -u SHELL {PROGRAM} connect; true");
    let ran = scene.run(scene.command("/bin/bash").args(["--norc", "-c", &call]));
    let connected =
        "New bash shells are now connected, through ~/.bashrc, login shells through ~/.profile.\n";
    assert_eq!(ran.stdout, connected, "{ran}");
    // The test itself is no shell.
    let mut command = scene.command(PROGRAM);
    let ran = scene.run(command.env_remove("SHELL").arg("connect"));
    assert_eq!(ran.code, 2, "{ran}");
    assert!(ran.stderr.contains("SHELL is not set"), "{ran}");
}

#[test]
fn a_changed_setting_reaches_what_shells_source() {
    let scene = Scene::new();
    scene.does(&["connect"]);
    let settings = "main-runtime = \"marram\"\nfollowing = \"quiet\"\n";
    scene.write(".config/vivid-shelf/shelf.toml", settings);
    let ran = scene.does(&["connect"]);
    assert!(ran.stdout.contains("source was updated"), "{ran}");
    let ran = scene.does(&["connect"]);
    assert!(ran.stdout.contains("nothing was changed"), "{ran}");
}

#[test]
fn zsh_without_its_completion_system_is_told_the_line() {
    let scene = Scene::new();
    let line = "autoload -Uz compinit && compinit";
    let ran = scene.does(&["connect", "zsh"]);
    assert!(ran.stderr.contains(line), "{ran}");
    scene.write(".zshrc", &format!("{line}\n"));
    let ran = scene.does(&["connect", "zsh"]);
    assert!(!ran.stderr.contains("compinit"), "{ran}");
    let ran = scene.does(&["connect"]);
    assert!(!ran.stderr.contains("compinit"), "{ran}");
}

#[test]
fn in_bash_a_version_follows_the_change_of_folder_itself() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1", "6"]);
    scene.write("project/.marram-version", "6\n");
    fs::create_dir_all(scene.path("project/deep/er")).unwrap();
    let ran = scene.bash(
        "marram --version
        cd project && marram --version
        (cd .. && marram --version)
        there() { pushd project/deep >/dev/null; marram --version; popd >/dev/null; }
        cd ..; there; marram --version
        cd nowhere 2>/dev/null || echo \"failed with $?\"
        cd project/deep/er; cd - >/dev/null; marram --version
        cd -P project; marram --version
        bash --noprofile --norc -euc 'source ~/.bashrc; cd ..; marram --version; cd project; marram --version'",
    );
    let versions = "8 6 8 6 8 failed 8 6 8 6";
    let told: Vec<&str> = (ran.stdout.lines())
        .map(|line| line.strip_prefix("marram ").unwrap_or(line))
        .map(|line| line.split(['.', ' ']).next().unwrap())
        .collect();
    assert_eq!(told.join(" "), versions, "{ran}");
    assert_eq!(ran.code, 0, "{ran}");
}

#[test]
fn a_function_of_the_persons_own_for_changing_folders_stays() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1"]);
    scene.does(&["connect"]);
    let script = "cd() { builtin cd \"$@\" && echo own; }
        source ~/.bashrc; source ~/.bashrc; cd /; pushd /tmp >/dev/null; declare -f pushd | head -1";
    let ran = scene.run(scene.command("/bin/bash").args(["--norc", "-c", script]));
    assert_eq!(ran.stdout, "own\npushd () \n");
    assert_eq!(ran.stderr, "");
}

#[test]
fn a_project_is_followed_however_long_its_path_is() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1", "6"]);
    let deep = format!("{0}/{0}/{0}", "p".repeat(200));
    scene.write(&format!("{deep}/.marram-version"), "6\n");
    let script = format!(
        "cd {deep}; marram --version; echo 8 > .marram-version; cd .; marram --version
        VSHELF_PROGRAM=none; __vshelf_program=/nowhere; cd ..; cd -; marram --version"
    );
    let ran = scene.bash(&script);
    let versions: Vec<&str> = (ran.stdout.lines())
        .filter(|line| line.starts_with("marram "))
        .collect();
    // The last is known without the program.
    assert_eq!(
        versions,
        ["marram 6.20.2", "marram 8.3.1", "marram 8.3.1"],
        "{ran}"
    );
}

#[test]
fn the_nearest_ten_folders_with_requirement_files_count() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1", "6"]);
    let mut folder = "top".to_owned();
    scene.write("top/.marram-version", "6\n");
    for level in 0..150 {
        folder += "/d";
        if level % 2 == 0 {
            scene.write(&format!("{folder}/vivid-shelf.toml"), "");
        }
        fs::create_dir_all(scene.path(&folder)).unwrap();
    }
    let script = format!("cd top/d; marram --version; cd ~/{folder}; marram --version");
    let ran = scene.bash(&script);
    let answers: Vec<&str> = (ran.stdout.lines())
        .filter(|line| line.starts_with("marram "))
        .collect();
    assert_eq!(answers, ["marram 6.20.2", "marram 8.3.1"], "{ran}");
    let looked = scene.path(".cache/vivid-shelf/stamps");
    let find = format!("find {} -type f | wc -l", looked.display());
    let stamps = scene
        .run(scene.command("/bin/sh").args(["-c", &find]))
        .stdout;
    assert!(stamps.trim().parse::<usize>().unwrap() <= 12, "{stamps}");
}

/// The program that a new bash finds.
fn opened(scene: &Scene, login: bool) -> String {
    let mut bash = scene.command("/bin/bash");
    if login {
        bash.arg("--login");
    }
    let ran = scene.run(bash.args(["-i", "-c", "command -v marram"]));
    ran.stdout.trim_end().to_owned()
}

#[rstest]
#[case::nothing(&[], ".profile")]
#[case::a_file_that_leads_there(&[(".profile", "if [ -n \"$BASH_VERSION\" ]; then . ~/.bashrc; fi\n")], "")]
#[case::a_file_that_does_not(&[(".profile", ". ~/.bashrc\n"), (".bash_profile", "umask 22\n")], ".bash_profile")]
#[case::a_second_file(&[(".bash_login", "# . ~/.bashrc\n")], ".bash_login")]
#[case::a_file_that_ends_before(&[(".profile", "return 0\n. ~/.bashrc\n")], "")]
fn login_shells_are_connected_too(#[case] files: &[(&str, &str)], #[case] with_block: &str) {
    let scene = Scene::new();
    for (name, text) in files {
        scene.write(name, text);
    }
    scene.does(&["--quiet", "install", "8"]);
    let connected = scene.does(&["connect"]).stdout;
    let ends_before = files.iter().any(|(_, text)| text.starts_with("return"));
    let default = "[HOME]/.local/share/vivid-shelf/default/marram/bin/marram";
    assert_eq!(opened(&scene, false), default, "{connected}");
    let checkup = scene.vshelf(&["checkup", "--offline"]);
    if ends_before {
        // A block behind such a line is not read.
        assert!(
            checkup
                .stdout
                .contains("~/.profile: does not connect login shells"),
            "{checkup}"
        );
        return;
    }
    assert_eq!(opened(&scene, true), default, "{connected}");
    assert!(!checkup.stdout.contains("login"), "{checkup}");
    let said = match with_block {
        "" => "New bash shells are now connected, through ~/.bashrc.\n".to_owned(),
        file => format!(
            "New bash shells are now connected, through ~/.bashrc, login shells through ~/{file}.\n"
        ),
    };
    assert_eq!(connected, said);
    assert_eq!(
        scene.does(&["connect"]).stdout,
        "bash is connected already; nothing was changed.\n"
    );
    scene.does(&["connect", "--remove"]);
    for (name, text) in files {
        assert_eq!(fs::read_to_string(scene.path(name)).unwrap(), *text);
    }
    assert_eq!(opened(&scene, true), "");
}

#[test]
fn a_checkup_names_the_file_that_keeps_shells_from_being_connected() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8"]);
    scene.write(".profile", ". ~/.bashrc\n");
    scene.does(&["--quiet", "connect"]);
    scene.write(".bash_profile", "umask 22\n");
    let checkup = scene.vshelf(&["checkup", "--offline"]);
    let finding = "~/.bash_profile: does not connect login shells (ssh, su -, WSL): it does not read ~/.bashrc
  To fix it: vshelf connect
";
    assert!(checkup.stdout.contains(finding), "{checkup}");
    let again = scene.does(&["connect"]).stdout;
    assert_eq!(
        again,
        "bash was connected through ~/.bashrc; now also login shells through ~/.bash_profile.\n"
    );
    assert!(
        !scene
            .vshelf(&["checkup", "--offline"])
            .stdout
            .contains("login")
    );
    let text = fs::read_to_string(scene.path(".bashrc")).unwrap();
    scene.write(".bashrc", &format!("return 0\n{text}"));
    let checkup = scene.vshelf(&["checkup", "--offline"]);
    assert!(
        checkup
            .stdout
            .contains("~/.bashrc: does not connect new shells: "),
        "{checkup}"
    );
}

#[test]
fn programs_of_the_desktop_get_the_default_on_request() {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8", "6"]);
    let file = scene.path(".config/environment.d/60-vivid-shelf.conf");
    let ran = scene.vshelf(&["connect", "--desktop"]);
    assert_eq!(ran.code, 7, "no systemd runs: {ran}");
    assert!(ran.stderr.contains("vshelf launchers"), "{ran}");
    assert!(!file.exists());
    fs::create_dir_all(scene.path("run/systemd")).unwrap();
    let connect = |arguments: &[&str]| {
        let mut command = scene.command(PROGRAM);
        command.arg("connect").args(arguments);
        // A relative folder does not count.
        command.env("XDG_CONFIG_HOME", "elsewhere");
        let ran = scene.run(command.env("XDG_RUNTIME_DIR", scene.path("run")));
        assert_eq!(ran.code, 0, "{ran}");
        ran.stdout
    };
    let told = connect(&["--desktop"]);
    let expected = "Programs started from the desktop get the default from your next login on, \
                    through ~/.config/environment.d/60-vivid-shelf.conf.\n";
    assert_eq!(told, expected);
    // A shell reads such lines as systemd does.
    let answers = || {
        let script = format!(
            ". {}; echo \"$MARRAM_HOME\"; marram --version",
            file.display()
        );
        let ran = scene.run(scene.command("/bin/sh").args(["-c", &script]));
        ran.stdout
    };
    let home = "[HOME]/.local/share/vivid-shelf/default/marram\n";
    assert_eq!(answers(), format!("{home}marram 8.3.1\n"));
    scene.does(&["default", "6"]);
    assert_eq!(answers(), format!("{home}marram 6.20.2\n"));
    scene.write("system/bin/marram", "#!/bin/sh\n");
    fs::set_permissions(
        scene.path("system/bin/marram"),
        Permissions::from_mode(0o755),
    )
    .unwrap();
    let mut system = scene.command(PROGRAM);
    system
        .args(["default", "system"])
        .env("PATH", scene.path("system/bin"));
    assert_eq!(scene.run(&mut system).code, 0);
    assert!(!fs::read_to_string(&file).unwrap().contains("PATH="));
    scene.does(&["default", "6"]);
    assert!(connect(&["--desktop"]).contains("already; nothing was changed."));
    // It stays connected if one shell leaves, and goes if all does.
    let ran = scene.does(&["connect", "bash", "--remove"]);
    assert!(
        ran.stderr.contains("vshelf connect --desktop --remove"),
        "{ran}"
    );
    assert!(!ran.stderr.contains("rm -rf"), "{ran}");
    let ran = scene.does(&["connect", "--remove"]);
    assert!(
        ran.stdout.contains("60-vivid-shelf.conf was removed"),
        "{ran}"
    );
    assert!(!file.exists());
}
