//! A real registry of packages that lets in nobody without a token, and a build that comes from it.

use std::fs::File;
use std::process::Stdio;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use serde_json::{Value, json};
use vshelf_demo::server::StandIn;

use crate::ports::{free_port, wait_for};
use crate::process::{self, Started};
use crate::scene::{PROGRAM, Scene, program};

/// A registry that ends with this.
struct PackageRegistry {
    _process: Started,
    port: u16,
    token: String,
}

impl PackageRegistry {
    /// Starts one in a home; nothing where there is none here.
    fn start(scene: &Scene) -> Option<PackageRegistry> {
        let program = program("verdaccio")?;
        let port = free_port();
        scene.write(
            "registry/settings.yaml",
            "storage: ./storage\nauth: {htpasswd: {file: ./users, max_users: 10}}\nuplinks: {}\n\
             packages: {'**': {access: $authenticated, publish: $authenticated}}\n",
        );
        let log = File::create(scene.path("registry/log")).unwrap();
        let mut command = process::command(program);
        command
            .args(["--config", "settings.yaml", "--listen"])
            .arg(format!("127.0.0.1:{port}"))
            .current_dir(scene.path("registry"))
            .env("HOME", scene.home())
            .stdout(log.try_clone().unwrap())
            .stderr(Stdio::from(log));
        let process = Started::start(&mut command);
        let mut registry = PackageRegistry {
            _process: process,
            port,
            token: String::new(),
        };
        wait_for("127.0.0.1", port);
        let user = json!({ "name": "gull", "password": "spring-tide-7" });
        let known = registry.put("-/user/org.couchdb.user:gull", &user);
        registry.token = known["token"].as_str().unwrap().to_owned();
        Some(registry)
    }

    fn address(&self) -> String {
        format!("http://127.0.0.1:{}/", self.port)
    }

    fn put(&self, path: &str, document: &Value) -> Value {
        let request = ureq::put(format!("{}{path}", self.address()))
            .header("authorization", format!("Bearer {}", self.token))
            .header("content-type", "application/json");
        let mut response = request.send(document.to_string()).unwrap();
        serde_json::from_str(&response.body_mut().read_to_string().unwrap()).unwrap()
    }

    /// Publishes each version of a package that another registry has, as its clients do.
    fn take_over(&self, from: &str, package: &str) {
        let path = package.replace('/', "%2f");
        let get = |url: &str| {
            ureq::get(url)
                .call()
                .unwrap()
                .body_mut()
                .read_to_vec()
                .unwrap()
        };
        let known: Value = serde_json::from_slice(&get(&format!("{from}/npm/{path}"))).unwrap();
        for (version, entry) in known["versions"].as_object().unwrap() {
            let tarball = get(entry["dist"]["tarball"].as_str().unwrap());
            let name = format!("{package}-{version}.tgz");
            let mut own = entry.clone();
            own["name"] = package.into();
            own["version"] = version.as_str().into();
            own["dist"]["tarball"] = format!("{}{package}/-/{name}", self.address()).into();
            let attachment = json!({
                "content_type": "application/octet-stream",
                "data": STANDARD.encode(&tarball),
                "length": tarball.len(),
            });
            let document = json!({
                "_id": package,
                "name": package,
                "dist-tags": { "latest": version },
                "versions": { version: own },
                "_attachments": { name: attachment },
            });
            self.put(&path, &document);
        }
    }
}

#[test]
fn a_registry_of_packages_is_asked_with_the_token_of_its_client() {
    let scene = Scene::with_faults(&[]);
    let Some(registry) = PackageRegistry::start(&scene) else {
        return;
    };
    let others = StandIn::start(None).unwrap();
    for package in ["@saltmarsh/marram", "@saltmarsh/bittern"] {
        registry.take_over(&others.address(), package);
    }
    scene.sources(crate::sources::PACKAGES);
    // The scope has a registry of its own, and whatever else there is another.
    let scoped = format!(
        "registry=http://127.0.0.1:9/\n@saltmarsh:registry={}\n",
        registry.address()
    );
    scene.write(".npmrc", &scoped);
    let ran = scene.vshelf(&["install", "8.3.1"]);
    assert_eq!(ran.code, 4, "{ran}");
    let line = format!("//127.0.0.1:{}/:_authToken=", registry.port);
    for text in [
        "asks for credentials",
        &format!("in ~/.npmrc, in a line such as {line}TOKEN"),
    ] {
        assert!(ran.stderr.contains(text), "{text}: {ran}");
    }
    scene.write(".npmrc", &format!("{scoped}{line}neap-tide\n"));
    let ran = scene.vshelf(&["install", "8.3.1"]);
    assert_eq!(ran.code, 4, "{ran}");
    assert!(
        ran.stderr
            .contains("It does not accept the credentials in ~/.npmrc."),
        "{ran}"
    );
    scene.write(".npmrc", &format!("{scoped}{line}${{BOARD_TOKEN}}\n"));
    let mut command = scene.command(PROGRAM);
    command
        .env("BOARD_TOKEN", &registry.token)
        .args(["install", "8.3.1"]);
    let ran = scene.run(&mut command);
    assert_eq!(ran.code, 0, "{ran}");
    assert!(
        ran.stdout.contains("@saltmarsh/bittern 2.0.0 was added"),
        "{ran}"
    );
    assert_eq!(scene.on_shelf(), ["8.3.1"]);
}
