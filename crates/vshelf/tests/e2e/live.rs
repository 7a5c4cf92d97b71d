//! A real runtime from the registry that is configured here, where one answers.

use std::process::Command;

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

fn connected(scene: &Scene, program: &str) -> Command {
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

#[test]
fn node_comes_from_the_registry_and_answers_in_its_own_version() {
    let scene = Scene::new();
    let vshelf = |arguments: &[&str]| scene.run(connected(&scene, PROGRAM).args(arguments));
    let catalog = vshelf(&["catalog", "node@", "--json"]);
    if catalog.code == 4 {
        skipped("no registry that speaks the npm protocol answers here");
        return;
    }
    assert_eq!(catalog.code, 0, "{catalog}");
    let lines: serde_json::Value = serde_json::from_str(&catalog.stdout).unwrap();
    let argon = lines["lines"]
        .as_array()
        .unwrap()
        .iter()
        .find(|line| line["codename"] == "Argon")
        .unwrap();
    assert_eq!(argon["phase"], "ended");
    let all = vshelf(&["catalog", "node@", "--all", "--json"]);
    let all: serde_json::Value = serde_json::from_str(&all.stdout).unwrap();
    assert!(
        all["releases"].as_array().unwrap().len() > 600,
        "every release of the package is read"
    );
    let explained = vshelf(&["explain", "node@argon", "--json"]);
    let explained: serde_json::Value = serde_json::from_str(&explained.stdout).unwrap();
    assert_eq!(explained["chosen"], "4.9.1", "{explained}");
    let odd = vshelf(&["explain", "node@4.90.1"]);
    assert_eq!(odd.code, 3, "{odd}");
    assert!(odd.stderr.contains("Did you mean 4.9.1"), "{odd}");
    for selector in ["node@4", "node@lts"] {
        let ran = vshelf(&["install", selector]);
        assert_eq!(ran.code, 0, "{ran}");
    }
    scene.does(&["connect"]);
    let script = "set -eu
        source ~/.bashrc
        vshelf switch node@4
        node --version
        node -e 'console.log([1, 2, 3].map(function (n) { return n * n }).join())'
        vshelf switch node@lts
        node -p 'process.versions.node === process.argv[1]' \"$(basename \"$(dirname \"$(vshelf path node@lts)\")\")\"
        npm --version >/dev/null
        npx --version >/dev/null
        test \"$(dirname \"$(readlink -f \"$(command -v npm)\")\")\" = \"$(vshelf path node@lts)/lib/node_modules/npm/bin\"
        vshelf switch node@4 >/dev/null
        npm --version >/dev/null
        echo 'npm fits'";
    let ran = scene.run(connected(&scene, "/bin/bash").args(["--norc", "-c", script]));
    assert_eq!(ran.code, 0, "{ran}");
    assert!(ran.stdout.contains("\nv4."), "{ran}");
    assert!(ran.stdout.contains("\n1,4,9\n"), "{ran}");
    assert!(ran.stdout.ends_with("\ntrue\nnpm fits\n"), "{ran}");
}

#[test]
fn runtimes_of_other_publishers_come_side_by_side() {
    let scene = Scene::new();
    let vshelf = |arguments: &[&str]| scene.run(connected(&scene, PROGRAM).args(arguments));
    let asked = ["bun", "deno"].map(|runtime| vshelf(&["catalog", &format!("{runtime}@")]).code);
    if asked.contains(&4) {
        skipped("no registry that has bun and deno answers here");
        return;
    }
    let ran = vshelf(&["install", "bun@latest", "deno@latest"]);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(ran.stdout.contains("npm, verified by sha512"), "{ran}");
    scene.does(&["connect"]);
    let script = "set -eu
        source ~/.bashrc
        test \"$(bun --version)\" = \"$(basename \"$(dirname \"$(vshelf path bun@latest)\")\")\"
        bun -e 'console.log([1, 2, 3].map(n => n * n).join())'
        deno eval 'console.log(Deno.version.deno)'
        basename \"$(dirname \"$(vshelf path deno@latest)\")\"";
    let ran = scene.run(connected(&scene, "/bin/bash").args(["--norc", "-c", script]));
    assert_eq!(ran.code, 0, "{ran}");
    let lines: Vec<&str> = ran.stdout.lines().collect();
    assert_eq!(lines[0], "1,4,9", "{ran}");
    assert_eq!(lines[1], lines[2], "{ran}");
}

#[test]
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
