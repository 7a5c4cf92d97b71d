//! The structure that `docs/architecture.md` promises: which way imports point, and what the use
//! cases know nothing of.

#![allow(
    clippy::unwrap_used,
    missing_docs,
    reason = "a test that cannot go on should say where, and nothing else"
)]

mod source;

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::process::Command;

use source::{Crate, SourceFile};

/// The crates in layers, lowest first: one may only depend on crates of lower layers.
const LAYERS: [&[&str]; 6] = [
    &["core"],
    &["files"],
    &["shelf", "shell", "sources", "view"],
    &["demo"],
    &["app"],
    &["vshelf"],
];

/// What only the interface may know: the command line, the terminal, the full screen.
const OF_THE_TERMINAL: [&str; 4] = ["clap", "anstream", "indicatif", "crossterm"];

/// The lines of the longest command.
const LONGEST_COMMAND: usize = 150;

fn crates() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("..")
}

fn layer_of(name: &str) -> usize {
    let layer = LAYERS.iter().position(|layer| layer.contains(&name));
    layer.unwrap_or_else(|| panic!("{name} is in no layer"))
}

fn read_crates() -> impl Iterator<Item = Crate> {
    LAYERS
        .concat()
        .into_iter()
        .map(|name| Crate::read(&crates().join(name)))
}

#[test]
fn every_crate_is_in_a_layer_and_depends_on_lower_ones_only() {
    let folders = std::fs::read_dir(crates()).unwrap();
    for folder in folders.map(|entry| entry.unwrap().path()) {
        let name = folder.file_name().unwrap().to_string_lossy().into_owned();
        let manifest = std::fs::read_to_string(folder.join("Cargo.toml")).unwrap();
        let manifest: toml_edit::DocumentMut = manifest.parse().unwrap();
        let dependencies = manifest["dependencies"].as_table().unwrap();
        for (dependency, _) in dependencies {
            if let Some(lower) = dependency.strip_prefix("vshelf-") {
                assert!(
                    layer_of(lower) < layer_of(&name),
                    "{name} depends upward on {lower}"
                );
            }
        }
    }
}

#[test]
fn no_two_files_import_each_other_not_even_through_others() {
    let mut circles = Vec::new();
    for krate in read_crates() {
        let imports: BTreeMap<&Path, BTreeSet<PathBuf>> = (krate.files.iter())
            .map(|file| (file.path.as_path(), krate.imports_of(file)))
            .collect();
        for file in imports.keys() {
            circles.extend(path_back(&imports, file));
        }
    }
    assert!(circles.is_empty(), "circles of imports: {circles:#?}");
}

/// The shortest way from a file through its imports back to itself.
fn path_back(imports: &BTreeMap<&Path, BTreeSet<PathBuf>>, start: &Path) -> Option<Vec<PathBuf>> {
    let mut ways = vec![vec![start.to_owned()]];
    let mut seen = BTreeSet::new();
    while !ways.is_empty() {
        let mut longer = Vec::new();
        for way in ways {
            let last = way.last().unwrap();
            for next in imports.get(last.as_path()).into_iter().flatten() {
                let way = [way.clone(), vec![next.clone()]].concat();
                if next == start {
                    return Some(way);
                }
                if seen.insert(next.clone()) {
                    longer.push(way);
                }
            }
        }
        ways = longer;
    }
    None
}

#[test]
fn the_parts_of_a_runtime_stay_small() {
    let app = Crate::read(&crates().join("app"));
    let parts = app.files.iter().filter(|file| {
        file.path.parent().unwrap().ends_with("runtime") || file.path.ends_with("snapshot.rs")
    });
    let counts: Vec<_> = parts.flat_map(SourceFile::functions_of_types).collect();
    assert!(counts.iter().any(|(name, _)| name == "Runtime"));
    for (name, functions) in counts {
        assert!(functions <= 15, "{name} has {functions} functions");
    }
}

#[test]
fn a_circle_of_imports_would_be_found() {
    let path = |name: &str| PathBuf::from(name);
    let [one, two, three] = [path("one"), path("two"), path("three")];
    let mut imports = BTreeMap::from([
        (one.as_path(), BTreeSet::from([two.clone()])),
        (two.as_path(), BTreeSet::from([three.clone()])),
    ]);
    assert_eq!(path_back(&imports, &one), None);
    imports.insert(&three, BTreeSet::from([one.clone()]));
    let circle = vec![one.clone(), two.clone(), three.clone(), one.clone()];
    assert_eq!(path_back(&imports, &one), Some(circle));
}

#[test]
fn use_cases_depend_on_nothing_of_the_terminal() {
    let tree = Command::new(env!("CARGO"))
        .args(["tree", "--package", "vshelf-app", "--edges", "normal"])
        .args([
            "--prefix",
            "none",
            "--format",
            "{p}",
            "--locked",
            "--offline",
        ])
        .current_dir(crates())
        .output()
        .unwrap();
    assert!(tree.status.success(), "{tree:?}");
    let tree = String::from_utf8(tree.stdout).unwrap();
    let names: BTreeSet<&str> = tree
        .lines()
        .filter_map(|line| line.split(' ').next())
        .collect();
    assert!(names.contains("vshelf-core"), "{names:?}");
    for name in OF_THE_TERMINAL {
        assert!(!names.contains(name), "vshelf-app depends on {name}");
    }
}

#[test]
fn use_cases_write_no_command_lines() {
    let app = Crate::read(&crates().join("app"));
    for file in &app.files {
        for text in file.texts() {
            assert!(!text.contains("vshelf "), "{}: {text}", file.path.display());
        }
    }
}

#[test]
fn no_command_knows_another_and_none_is_long() {
    let vshelf = Crate::read(&crates().join("vshelf"));
    let is_command = |path: &Path| {
        let name = path.file_name().unwrap();
        path.parent().unwrap().ends_with("commands") && name != "mod.rs" && name != "command.rs"
    };
    let commands: Vec<&SourceFile> = (vshelf.files.iter())
        .filter(|file| is_command(&file.path))
        .collect();
    assert!(commands.len() > 20, "{}", commands.len());
    for command in commands {
        let lines = std::fs::read_to_string(&command.path)
            .unwrap()
            .lines()
            .count();
        let path = command.path.display();
        assert!(lines <= LONGEST_COMMAND, "{path} has {lines} lines");
        for other in vshelf.imports_of(command) {
            assert!(!is_command(&other), "{path} imports {}", other.display());
        }
    }
}

/// The calls of the gate and all renames, by file: the shelf is reached only with an `Admitted`, and only through
/// `shelf/arrival.rs`.
const PASSAGES: [(&str, &str, usize); 18] = [
    // Onto the shelf.
    ("app/src/admission.rs", "grounds.admit(", 1),
    ("app/src/install/job.rs", "grounds.admit(", 1),
    ("shelf/src/arrival.rs", "fs::rename(", 1),
    ("shelf/src/arrival.rs", "system::exchange(", 1),
    ("shelf/src/arrival.rs", "Leave::Admitted(", 1),
    ("shelf/src/completion.rs", "Returned::by_recovery(", 1),
    ("shelf/src/store.rs", "Leave::Admitted(", 2),
    ("shelf/src/trash.rs", "Leave::Admitted(", 1),
    // Off the shelf, within a stage, away for deleting.
    ("shelf/src/note.rs", "fs::rename(", 1),
    ("shelf/src/removal.rs", "fs::rename(", 1),
    ("shelf/src/store.rs", "fs::rename(", 3),
    ("shelf/src/trash.rs", "fs::rename(", 1),
    ("shelf/src/unpack/root.rs", "fs::rename(", 2),
    // To the names of this layout.
    ("shelf/src/migration.rs", "fs::rename(", 4),
    ("shelf/src/migration.rs", "system::exchange(", 1),
    // Elsewhere: single files, a build under way, a mirror.
    ("app/src/install/from_source/mod.rs", "fs::rename(", 1),
    ("files/src/atomic.rs", "fs::rename(", 2),
    ("sources/src/mirror/folder.rs", "fs::rename(", 1),
];

#[test]
fn nothing_reaches_the_shelf_past_the_gate() {
    const CALLS: [&str; 5] = [
        "fs::rename(",
        "system::exchange(",
        "Returned::by_recovery(",
        "Leave::Admitted(",
        "grounds.admit(",
    ];
    let expected = PASSAGES.map(|(file, call, count)| ((file.to_owned(), call), count));
    assert_eq!(calls(&CALLS), BTreeMap::from(expected));
}

/// What follows from a change is refreshed in one place; only the command for launchers makes them too.
#[test]
fn changes_are_concluded_in_one_place() {
    let found = calls(&["stamps::forget(", "launchers::refresh(", "render_runtimes("]);
    let in_conclude = |call| (("app/src/conclude.rs".to_owned(), call), 1);
    let expected = [
        in_conclude("stamps::forget("),
        in_conclude("launchers::refresh("),
        in_conclude("render_runtimes("),
        (
            ("shell/src/connection.rs".to_owned(), "render_runtimes("),
            1,
        ),
    ];
    assert_eq!(found, BTreeMap::from(expected));
}

/// How often each file has each of these calls, outside of its tests.
fn calls<'c>(all: &[&'c str]) -> BTreeMap<(String, &'c str), usize> {
    let mut found: BTreeMap<(String, &str), usize> = BTreeMap::new();
    for krate in read_crates() {
        for file in &krate.files {
            let text = std::fs::read_to_string(&file.path).unwrap();
            let code = text.split("#[cfg(test)]").next().unwrap_or_default();
            let path = file.path.to_string_lossy().replace('\\', "/");
            let name = path.rsplit_once("/../").map_or(&*path, |(_, name)| name);
            for call in all {
                let count = code.matches(call).count();
                if count > 0 && !name.ends_with("tests.rs") {
                    found.insert((name.to_owned(), call), count);
                }
            }
        }
    }
    found
}

#[test]
fn only_one_place_starts_programs_from_end_to_end_tests() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/e2e");
    let files = std::fs::read_dir(folder).unwrap();
    let starting: Vec<String> = (files.map(|entry| entry.unwrap()))
        .filter(|file| file.file_type().unwrap().is_file())
        .filter(|file| {
            let text = std::fs::read_to_string(file.path()).unwrap();
            text.contains(" Command::new(") || text.contains(".spawn()")
        })
        .map(|file| file.file_name().into_string().unwrap())
        .collect();
    assert_eq!(starting, ["process.rs"]);
}
