//! Watching a shelf from outside: the example in the docs.

use std::fs;
use std::path::Path;

use snapbox::str;

use crate::scene::{PROGRAM, Scene, program};
use crate::shows;

#[test]
fn a_shelf_is_told_as_metrics() {
    let Some(python) = program("python3") else {
        return;
    };
    let scene = Scene::new();
    scene.does(&["--quiet", "install", "8.3.0", "6.20.1", "6.20.2", "3"]);
    scene.does(&["default", "8.3.0"]);
    let example =
        Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples/shelf_metrics.py");
    let folder = Path::new(PROGRAM).parent().unwrap();
    let metrics = |arguments: &[&str]| {
        let mut command = scene.command(python.to_str().unwrap());
        command.arg(&example).args(arguments);
        command.env("PATH", format!("{}:/usr/bin:/bin", folder.display()));
        scene.run(&mut command)
    };
    shows!(
        metrics(&[]),
        str![[r##"
# HELP vshelf_install_bytes The bytes of an install's files.
# TYPE vshelf_install_bytes gauge
vshelf_install_bytes{runtime="marram",install="saltmarsh/8.3.0"} 361579
vshelf_install_bytes{runtime="marram",install="saltmarsh/6.20.2"} 241585
vshelf_install_bytes{runtime="marram",install="saltmarsh/6.20.1"} 241585
vshelf_install_bytes{runtime="marram",install="saltmarsh/3.2.4"} 121579
# HELP vshelf_install_outdated An install that a clean-up would count as outdated, by reason.
# TYPE vshelf_install_outdated gauge
vshelf_install_outdated{runtime="marram",install="saltmarsh/6.20.1",reason="superseded"} 1
vshelf_install_outdated{runtime="marram",install="saltmarsh/3.2.4",reason="ended"} 1
# HELP vshelf_security_release_missing An install whose line has a release that fixes a security problem.
# TYPE vshelf_security_release_missing gauge
vshelf_security_release_missing{runtime="marram",install="saltmarsh/8.3.0",newer="8.3.1"} 1
# HELP vshelf_support_end_timestamp_seconds When the support of an install's line ends.
# TYPE vshelf_support_end_timestamp_seconds gauge
vshelf_support_end_timestamp_seconds{runtime="marram",install="saltmarsh/8.3.0",line="8"} 1872288000
vshelf_support_end_timestamp_seconds{runtime="marram",install="saltmarsh/6.20.2",line="6"} 1798502400
vshelf_support_end_timestamp_seconds{runtime="marram",install="saltmarsh/6.20.1",line="6"} 1798502400
vshelf_support_end_timestamp_seconds{runtime="marram",install="saltmarsh/3.2.4",line="3"} 1609459200
# HELP vshelf_active What is active here, by the rule that says so.
# TYPE vshelf_active gauge
vshelf_active{runtime="marram",install="saltmarsh/8.3.0",rule="default"} 1

"##]]
    );
    let file = scene.path("vshelf.prom");
    let written = metrics(&[&file.display().to_string()]);
    assert_eq!(
        (written.code, written.stdout.as_str()),
        (0, ""),
        "{written}"
    );
    assert_eq!(fs::read_to_string(file).unwrap(), metrics(&[]).stdout);
}
