//! What commands print as JSON is what `docs/schemas` says, and nothing else.

use std::fs;
use std::path::Path;

use rstest::rstest;
use serde_json::{Value, json};

use crate::scene::Scene;

/// A shelf with something of everything to tell.
fn scene() -> Scene {
    let scene = Scene::new();
    scene.does(&[
        "--quiet",
        "install",
        "8.3.0",
        "6.20.2",
        "6.20.1",
        "4",
        "dunefield/8.3.1",
    ]);
    scene.does(&["--quiet", "remove", "4"]);
    scene.does(&["--quiet", "default", "6.20.2"]);
    scene.does(&["label", "board", "samphire"]);
    scene.does(&["label", "gone", "9"]);
    scene.write(".marram-version", "8\n");
    scene.write(
        ".local/share/vivid-shelf/shelf/marram/saltmarsh-6.20.1/build/lib/marram/packages/tide-tables",
        "1.4.0\n",
    );
    let stranger = scene.data("staging/marram-9.9.9.0");
    fs::create_dir_all(stranger).unwrap();
    scene
}

/// The schema in this file; what it does not name is not allowed.
fn strict_schema(name: &str) -> jsonschema::Validator {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schemas");
    let text = fs::read_to_string(folder.join(format!("{name}.json"))).unwrap();
    let mut schema: Value = serde_json::from_str(&text).unwrap();
    forbid_more(&mut schema);
    jsonschema::draft202012::new(&schema).unwrap()
}

fn forbid_more(schema: &mut Value) {
    match schema {
        Value::Object(object) => {
            if object.contains_key("properties") {
                object.insert("unevaluatedProperties".to_owned(), json!(false));
            }
            for (name, part) in object {
                // The parts of a choice are complete only together.
                if name != "oneOf" {
                    forbid_more(part);
                }
            }
        }
        Value::Array(parts) => parts.iter_mut().for_each(forbid_more),
        _ => {}
    }
}

#[rstest]
#[case("carry", &["carry", "6.20.1", "8.3.0", "--dry-run"], 0)]
#[case("catalog-lines", &["catalog"], 0)]
#[case("catalog-releases", &["catalog", "8"], 0)]
#[case("catalog-card", &["catalog", "8.3.1"], 0)]
#[case("checkup", &["checkup"], 1)]
#[case("config", &["config"], 0)]
#[case("default", &["default"], 0)]
#[case("explain", &["explain", "lts"], 0)]
#[case("explain", &["explain", "77"], 3)]
#[case("history", &["history"], 0)]
#[case("label", &["label"], 0)]
#[case("list", &["list"], 0)]
#[case("path", &["path"], 0)]
#[case("require", &["require"], 0)]
#[case("renew", &["renew"], 0)]
#[case("runtimes", &["runtimes"], 0)]
#[case("status", &["status"], 0)]
#[case("tidy", &["tidy"], 0)]
#[case("timeline", &["timeline"], 0)]
fn is_as_documented(#[case] schema: &str, #[case] command: &[&str], #[case] code: i32) {
    let scene = scene();
    let arguments = [command, &["--json"]].concat();
    let mut program = scene.command(crate::scene::PROGRAM);
    let path = format!(
        "{}:/usr/bin:/bin",
        scene.data("default/marram/bin").display()
    );
    let ran = scene.run(program.env("PATH", path).args(&arguments));
    assert_eq!(ran.code, code, "{ran}");
    let printed: Value = serde_json::from_str(&ran.stdout).unwrap();
    let lists = printed.as_object().unwrap().values();
    assert!(lists.into_iter().any(|value| value != &json!([])), "{ran}");
    let validator = strict_schema(schema);
    let errors: Vec<String> = (validator.iter_errors(&printed))
        .map(|error| format!("{}: {error}", error.instance_path))
        .collect();
    assert!(errors.is_empty(), "{errors:#?}\n{printed:#}");
}

#[test]
fn what_is_not_documented_would_be_found() {
    let validator = strict_schema("path");
    let known = json!({"runtime": "marram", "key": "8.3.1", "path": "/a", "program": "/a/b"});
    assert!(validator.is_valid(&known));
    let mut more = known.clone();
    more["colour"] = json!("blue");
    assert!(!validator.is_valid(&more));
    let mut less = known;
    less.as_object_mut().unwrap().remove("path");
    assert!(!validator.is_valid(&less));
}
