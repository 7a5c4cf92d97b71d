//! What the README and the docs show is true: commands, options, definitions, links.

use std::fs;
use std::path::{Path, PathBuf};

use rstest::rstest;
use vshelf_core::Definition;

use crate::scene::Scene;

pub fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

/// The README and every page in `docs`, by path and text.
fn pages() -> Vec<(PathBuf, String)> {
    let mut paths = vec![root().join("README.md")];
    for entry in fs::read_dir(root().join("docs")).unwrap() {
        let path = entry.unwrap().path();
        if path.extension().is_some_and(|extension| extension == "md") {
            paths.push(path);
        }
    }
    paths
        .into_iter()
        .map(|path| (path.clone(), fs::read_to_string(path).unwrap()))
        .collect()
}

/// The blocks of code in `language`.
pub fn blocks<'t>(text: &'t str, language: &str) -> Vec<&'t str> {
    let fence = format!("```{language}\n");
    text.split(&fence)
        .skip(1)
        .filter_map(|rest| rest.split("```").next())
        .collect()
}

#[test]
fn every_shown_command_and_option_exists() {
    let scene = Scene::new();
    let mut shown = 0;
    for (path, text) in pages() {
        for line in blocks(&text, "sh").iter().flat_map(|block| block.lines()) {
            let line = line.split(" #").next().unwrap_or_default().trim();
            let Some(words) = line.strip_prefix("vshelf ") else {
                continue;
            };
            let words: Vec<&str> = words.split_whitespace().collect();
            let help = scene.does(&[words[0], "--help"]).stdout;
            // Behind the two dashes are words of another program.
            let own = words.iter().take_while(|word| **word != "--");
            for option in own.filter(|word| word.starts_with("--") && word.len() > 2) {
                assert!(help.contains(option), "{}: {line}", path.display());
            }
            shown += 1;
        }
    }
    assert!(shown > 10, "the README shows commands");
}

/// The lines of the shell in a page, in order.
fn script(page: &str) -> Vec<String> {
    let text = fs::read_to_string(root().join(page)).unwrap();
    let blocks = blocks(&text, "sh");
    let lines = blocks.iter().flat_map(|block| block.lines());
    let lines = lines.map(|line| line.split(" #").next().unwrap_or_default().trim());
    lines
        .filter(|line| !line.is_empty())
        .map(str::to_owned)
        .collect()
}

/// Whether a line builds or tests the program, as this very test does.
fn is_of_cargo(line: &str) -> bool {
    line.starts_with("cargo ") || line.starts_with("scripts/")
}

/// Pages whose commands can be given one after another, and what is on the shelf before.
#[rstest]
#[case::readme("README.md", &[])]
#[case::guide("docs/guide.md", &[])]
#[case::jobs("docs/jobs.md", &[])]
#[case::keeping("docs/keeping.md", &["8.3.1", "8.3.0", "6.20.2", "6.20.1", "6.2.11", "9.1.0"])]
#[case::projects("docs/projects.md", &["8", "6"])]
#[case::shells("docs/shells.md", &["8", "6"])]
fn every_command_of_a_page_runs(#[case] page: &str, #[case] shelf: &[&str]) {
    let scene = Scene::new();
    if !shelf.is_empty() {
        scene.does(&[&["--quiet", "install"], shelf].concat());
    }
    scene.write(".marram-version", "8\n");
    let lines = script(page);
    assert!(lines.len() > 2, "{page} shows commands");
    // A session of the person's own, as systemd starts it.
    fs::create_dir_all(scene.path("run/systemd")).unwrap();
    let mut script = format!("export XDG_RUNTIME_DIR={}\n", scene.path("run").display());
    for line in lines.iter().filter(|line| !is_of_cargo(line)) {
        // The README shows a real runtime, whose lines are others; browse needs a terminal.
        let mut line = line.replace("vshelf browse", "vshelf browse --help");
        for (theirs, ours) in [("node", "marram"), ("20", "6"), ("22", "9"), ("23", "10")] {
            if page == "README.md" {
                line = line.replace(theirs, ours);
            }
        }
        script.push_str(&format!(
            "{line} || {{ echo \"FAILED ($?): {line}\"; exit 1; }}\n"
        ));
    }
    let ran = scene.bash(&script);
    assert_eq!(ran.code, 0, "{page}: {ran}");
}

/// What a source in the docs is read with.
const RUNTIME: &str = r#"
name = "sedge"
title = "Sedge"
program = "sedge"
probe = { arguments = ["--version"], answer = "{version}" }
"#;

#[test]
fn every_shown_definition_can_be_read() {
    let mut shown = 0;
    for (path, text) in pages() {
        for block in blocks(&text, "toml")
            .iter()
            .filter(|block| block.starts_with("name = ") || block.starts_with("[[sources]]"))
        {
            // A source alone is shown without the runtime that it belongs to.
            let head = match block.starts_with("[[sources]]") {
                true => RUNTIME,
                false => "",
            };
            if let Err(error) = Definition::read(&format!("{head}{block}")) {
                panic!("{}: {error}", path.display());
            }
            shown += 1;
        }
    }
    assert_eq!(shown, 16, "a whole definition, and a source of each kind");
}

#[test]
fn every_link_leads_somewhere() {
    for (path, text) in pages() {
        for target in text
            .split("](")
            .skip(1)
            .filter_map(|rest| rest.split(')').next())
        {
            let file = path.parent().unwrap().join(target);
            assert!(file.exists(), "{} links to {target}", path.display());
        }
    }
}
