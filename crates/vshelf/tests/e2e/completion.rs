//! What can stand where a person is typing, asked directly and in the shells.

use rstest::rstest;

use crate::scene::{PROGRAM, Scene, program};
use crate::terminal::Terminal;

fn scene() -> Scene {
    let scene = Scene::new();
    scene.does(&["install", "8", "6", "6.2.11"]);
    scene.does(&["label", "board", "samphire"]);
    scene
}

/// The candidates for the last of these words.
fn suggested(scene: &Scene, words: &[&str]) -> Vec<String> {
    let ran = scene.does(&[&["suggest", "--"], words].concat());
    ran.stdout.lines().map(str::to_owned).collect()
}

#[rstest]
#[case(&["swi"], &["switch\tUse another version in this shell, now"])]
#[case(&["switch", "6."], &["6.20.2\tmaintenance, label board", "6.2.11\tmaintenance"])]
#[case(&["switch", "8"], &["8.3.1\tlts, default"])]
#[case(&["switch", "b"], &["board\tlabel: samphire"])]
#[case(&["switch", "s"], &["samphire\tline 6, maintenance", "stable\tchannel: 8", "system\tthe system's own copy"])]
#[case(&["switch", "g"], &[])]
#[case(&["install", "g"], &["glasswort\tline 4, ended"])]
#[case(&["install", "8.3.1", "8.3."], &["8.3.1\t2026-10-14, security", "8.3.0\t2026-06-26"])]
#[case(&["install", "dunefield/8.3"], &["dunefield/8.3.1\t2026-10-14, security", "dunefield/8.3.0\t2026-06-29"])]
#[case(&["install", "marram@8.3.0"], &["marram@8.3.0\t2026-06-26"])]
#[case(&["install", "8.2.1"], &[])]
#[case(&["install", "lt"], &["lts\tnow 8.3.1"])]
#[case(&["switch", "la"], &["latest\tnow 8.3.1"])]
#[case(&["install", "--ke"], &["--keep-broken\tKeep it on the shelf even if it does not start here"])]
#[case(&["connect", "f"], &["fish\t"])]
#[case(&["runtimes", "--main", "marr"], &["marram\tMarram"])]
#[case(&["list", "marr"], &["marram@\tMarram"])]
#[case(&["nonsense", "8"], &[])]
fn candidates_are_told_with_what_they_are(#[case] words: &[&str], #[case] expected: &[&str]) {
    assert_eq!(suggested(&scene(), words), expected);
}

#[test]
fn nothing_is_suggested_where_nothing_is_known_and_no_server_is_asked() {
    let scene = Scene::with_faults(&[]);
    assert_eq!(suggested(&scene, &["switch", "8"]), Vec::<String>::new());
    assert_eq!(suggested(&scene, &["install", "8"]), Vec::<String>::new());
    assert_eq!(scene.server().requests(), Vec::<String>::new());
}

#[test]
fn bash_completes_words_that_hold_what_it_cuts_them_at() {
    let scene = scene();
    scene.does(&["--quiet", "install", "dunefield/8.3.1"]);
    scene.write(".bashrc", "PS1='> '\n");
    scene.does(&["connect"]);
    let mut terminal = Terminal::open(&scene);
    for (typed, completed) in [
        ("vshelf path marram@6.2.\t", "vshelf path marram@6.2.11"),
        ("vshelf path dunef\t", "vshelf path dunefield/8.3.1"),
        (
            "vshelf path marram@dunef\t",
            "vshelf path marram@dunefield/8.3.1",
        ),
        ("vshelf label b\t", "vshelf label board"),
        ("vshelf label --remove b\t", "vshelf label --remove board"),
    ] {
        terminal.views(typed, completed);
        // The line is taken away again.
        terminal.presses("\u{15}\n", "> ");
    }
}

#[test]
fn bash_quotes_what_it_inserts() {
    let scene = scene();
    scene.write(".bashrc", "PS1='> '\n");
    scene.does(&["connect"]);
    // No name of a catalog is like that; whatever came through all the same is no code.
    scene.write("hostile", "#!/bin/sh\necho 'rr;touch x;'\n");
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o755);
    std::fs::set_permissions(scene.path("hostile"), mode).unwrap();
    let mut terminal = Terminal::open(&scene);
    terminal.types("__vshelf_program=~/hostile");
    terminal.views("vshelf switch r\t", "vshelf switch rr\\;touch\\ x\\;");
    terminal.presses("\n", "> ");
    assert!(!scene.path("x").exists());
}

#[test]
fn fish_completes_with_descriptions() {
    if program("fish").is_none() {
        return;
    }
    let scene = scene();
    scene.does(&["connect", "fish"]);
    let script = "source ~/.config/fish/config.fish; complete -C 'vshelf switch 6.'";
    let mut command = scene.command("fish");
    let ran = scene.run(command.args(["--no-config", "-c", script]));
    assert_eq!(
        ran.stdout, "6.20.2\tmaintenance, label board\n6.2.11\tmaintenance\n",
        "{ran}"
    );
}

#[test]
fn zsh_completes_in_an_interactive_shell() {
    if program("zsh").is_none() {
        return;
    }
    let scene = scene();
    // As most people have it: the completion system behind our block as well.
    scene.write(".zshrc", "PS1='> '\n");
    scene.does(&["connect", "zsh"]);
    let start_up = std::fs::read_to_string(scene.path(".zshrc")).unwrap();
    let later = "autoload -Uz compinit; compinit -u -d ~/.zcompdump\n";
    scene.write(".zshrc", &(start_up + later));
    let mut terminal = Terminal::open_shell(&scene, &["zsh", "-i"]);
    terminal.types("true");
    let listed = terminal.presses("vshelf switch 6.\t\t", "maintenance");
    assert!(listed.contains("6.20.2"), "{listed}");
}

#[test]
fn elvish_completes_with_descriptions() {
    if program("elvish").is_none() {
        return;
    }
    let scene = scene();
    scene.write(".config/elvish/rc.elv", "set edit:prompt = { put '> ' }\n");
    scene.does(&["connect", "elvish"]);
    let mut terminal = Terminal::open_shell(&scene, &["elvish", "-i"]);
    terminal.presses("", "> ");
    let listed = terminal.presses("vshelf switch 6.\t\t", "6.2.11  maintenance");
    assert!(
        listed.contains("6.20.2  maintenance, label board"),
        "{listed}"
    );
}

/// A home with the program on PATH and the completion that a package has for a shell, in the file of this name.
fn with_package(shell: &str, file: &str) -> Scene {
    let scene = scene();
    let text = scene.does(&["suggest", "--for-package", shell]).stdout;
    scene.write(file, &text);
    std::fs::create_dir(scene.path("bin")).unwrap();
    std::os::unix::fs::symlink(PROGRAM, scene.path("bin/vshelf")).unwrap();
    scene
}

#[test]
fn a_shell_that_is_not_connected_completes_by_what_a_package_has() {
    let scene = with_package("bash", "vshelf.bash");
    scene.write(
        ".bashrc",
        "PS1='> '\nPATH=~/bin:$PATH\nsource ~/vshelf.bash\n",
    );
    let mut terminal = Terminal::open(&scene);
    terminal.views("vshelf label b\t", "vshelf label board");
    terminal.presses("\u{15}\n", "> ");

    let scene = with_package("zsh", "completions/_vshelf");
    scene.write(
        ".zshrc",
        "PS1='> '\npath=(~/bin $path)\nfpath=(~/completions $fpath)\nautoload -Uz compinit; compinit -u -d ~/.zcompdump\n",
    );
    if program("zsh").is_some() {
        let mut terminal = Terminal::open_shell(&scene, &["zsh", "-i"]);
        terminal.types("true");
        let listed = terminal.presses("vshelf switch 6.\t\t", "maintenance");
        assert!(listed.contains("6.20.2"), "{listed}");
    }

    let scene = with_package("fish", "vshelf.fish");
    let script = "set -p PATH ~/bin; source ~/vshelf.fish; complete -C 'vshelf switch 6.'";
    if program("fish").is_some() {
        let mut command = scene.command("fish");
        let ran = scene.run(command.args(["--no-config", "-c", script]));
        assert!(ran.stdout.starts_with("6.20.2\tmaintenance"), "{ran}");
    }
    let scene = with_package("elvish", "vshelf.elv");
    scene.write(
        ".config/elvish/rc.elv",
        "set edit:prompt = { put '> ' }\nset paths = [~/bin $@paths]\neval (slurp < ~/vshelf.elv)\n",
    );
    if program("elvish").is_some() {
        let mut terminal = Terminal::open_shell(&scene, &["elvish", "-i"]);
        terminal.presses("", "> ");
        let listed = terminal.presses("vshelf switch 6.\t\t", "6.2.11  maintenance");
        assert!(listed.contains("6.20.2"), "{listed}");
    }
    // Those without one have no file.
    assert_eq!(
        scene.does(&["suggest", "--for-package", "tcsh"]).stdout,
        "\n"
    );
}
