//! The support of the lines over time, in text, as JSON and as a drawing.

use std::fs;

use snapbox::str;

use crate::scene::Scene;
use crate::shows;

fn scene() -> Scene {
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.1", "6.20.2", "4"]);
    scene.write("tide-board/.marram-version", "6\n");
    scene.enter("tide-board");
    scene
}

#[test]
fn bars_today_and_what_changes_next() {
    let scene = scene();
    shows!(
        scene.does(&["timeline"]),
        str![[r#"
line         phase        2024 2025  2026  2027  2028  2029  2030    on the shelf
10           preview                   ...|..---###################
9            current                   ---|----
8 Eelgrass   lts                 ---######|#####==========           8.3.1 (default)
6 Samphire   maintenance  ##########======|=                         6.20.2 (required by tide-board)
4 Glasswort  ended        ==              |                          4.8.3
.. preview   -- current   ## lts   == maintenance   | 2026-11-23
Line 6 ends on 2026-12-28, in 5 weeks
Line 10 becomes current on 2027-04-13, in 4 months
Line 9 ends on 2027-06-30, in 7 months
Line 8 enters maintenance on 2027-10-19, in 10 months

"#]]
    );
    shows!(
        scene.does(&["timeline", "6", "marram@8", "--as-of", "2027-01-05"]),
        str![[r#"
line        phase  2025     2026      2027     2028      2029        on the shelf
8 Eelgrass  lts      -----############|######================        8.3.1 (default)
6 Samphire  ended  #######============|                              6.20.2 (required by tide-board)
.. preview   -- current   ## lts   == maintenance   | 2027-01-05
Line 8 enters maintenance on 2027-10-19, in 9 months

"#]]
    );
}

#[test]
fn programs_get_the_data_and_documents_a_drawing() {
    let scene = scene();
    let json = scene.does(&["timeline", "--json", "6"]).stdout;
    let report: serde_json::Value = serde_json::from_str(&json).unwrap();
    let lines = &report["lines"];
    assert_eq!(lines[0]["spans"].as_array().unwrap().len(), 3);
    assert_eq!(lines[0]["spans"][2]["until"], "2026-12-29");
    assert_eq!(
        lines[0]["on_shelf"],
        serde_json::json!(["saltmarsh/6.20.2"])
    );
    let said = scene.does(&["timeline", "--svg", "support.svg"]).stdout;
    assert_eq!(said, "The drawing is in support.svg.\n");
    let svg = fs::read_to_string(scene.path("support.svg")).unwrap();
    for text in [
        "8.3.1 (default)",
        "6.20.2 (required by tide-board)",
        "4 Glasswort",
        "prefers-color-scheme: dark",
    ] {
        assert!(svg.contains(text), "{svg}");
    }
}

#[test]
fn bad_input_names_the_value() {
    let scene = scene();
    let ran = scene.vshelf(&["timeline", "6", "77"]);
    assert_eq!(ran.code, 3, "{ran}");
    let words = "Error: Marram has no line \"77\".";
    assert!(ran.stderr.contains(words), "{ran}");
    scene.write("a-file", "");
    let ran = scene.vshelf(&["timeline", "--svg", "a-file/drawing.svg"]);
    assert_eq!(ran.code, 6, "{ran}");
    assert!(
        ran.stderr.contains("a-file/drawing.svg cannot be written"),
        "{ran}"
    );
}
