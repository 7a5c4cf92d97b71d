//! What a build needs of this system: programs, and libraries with their headers.

use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

use vshelf_core::definition::build::{BuildSection, Library};
use vshelf_core::definition::needs::{FoundLibrary, Missing, Needs};
use vshelf_core::distribution::{Distribution, MACOS};
use vshelf_files::system;

use super::steps::PATH;
use crate::install::first_start::os_release;

/// The packages that bring usual tools, by family: debian, fedora, alpine, arch, suse.
const TOOLS: [(&str, [&str; 5]); 4] = [
    ("cc", ["gcc", "gcc", "build-base", "gcc", "gcc"]),
    ("make", ["make", "make", "make", "make", "make"]),
    (
        "pkg-config",
        ["pkg-config", "pkgconf", "pkgconf", "pkgconf", "pkg-config"],
    ),
    ("patch", ["patch", "patch", "patch", "patch", "patch"]),
];

/// Looks for what a build needs.
pub fn look_for(section: &BuildSection) -> Needs {
    let system = this_system();
    let mut needs = Needs {
        compiler: first_line("cc", &["--version"]),
        ..Needs::default()
    };
    let patch = (!section.patches.is_empty()).then(|| "patch".to_owned());
    for tool in section.tools.iter().chain(&patch) {
        if first_on_path(tool) {
            continue;
        }
        let place = system.and_then(|system| {
            Distribution::NAMES
                .iter()
                .position(|name| *name == system.name)
        });
        let known = TOOLS.iter().find(|(name, _)| name == tool);
        let package = known
            .zip(place)
            .and_then(|((_, all), place)| all.get(place));
        needs.missing.push(Missing {
            name: tool.clone(),
            needed_for: "the steps of the build".to_owned(),
            required: true,
            package: package.map(|package| (*package).to_owned()),
        });
    }
    for library in &section.libraries {
        match version_of(library) {
            Some(version) => needs.found.push(FoundLibrary {
                name: library.name.clone(),
                version,
            }),
            None => needs.missing.push(Missing {
                name: library.name.clone(),
                needed_for: library.needed_for.clone(),
                required: library.required,
                package: system
                    .and_then(|system| library.packages.get(system.name))
                    .cloned(),
            }),
        }
    }
    needs
}

/// The one command that installs all that is missing and has a known package on this system.
pub fn install_command(needs: &Needs) -> Option<String> {
    let packages: Vec<&str> = needs.missing_packages().collect();
    let command = this_system()?.install_command(&packages, system::is_root());
    (!packages.is_empty()).then_some(command)
}

fn this_system() -> Option<Distribution> {
    match cfg!(target_os = "macos") {
        true => Some(MACOS),
        false => Distribution::of(&os_release()),
    }
}

fn command(program: &str) -> Command {
    let mut command = Command::new(program);
    command
        .env_clear()
        .env("PATH", PATH)
        .env("LC_ALL", "C")
        .stdin(Stdio::null())
        .stderr(Stdio::null());
    command
}

fn first_on_path(program: &str) -> bool {
    PATH.split(':')
        .any(|folder| Path::new(folder).join(program).is_file())
}

fn first_line(program: &str, arguments: &[&str]) -> Option<String> {
    let output = command(program).args(arguments).output().ok()?;
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let line = text.lines().next()?.trim().to_owned();
    (output.status.success() && !line.is_empty()).then_some(line)
}

/// Whether a library is there, and its version, where pkg-config knows it.
fn version_of(library: &Library) -> Option<Option<String>> {
    let find = &library.find;
    if let Some(name) = &find.pkg_config
        && let Some(version) = first_line("pkg-config", &["--modversion", name])
    {
        return Some(Some(version));
    }
    let header = find.header.as_ref()?;
    has_header(header).then_some(None)
}

/// Whether the C compiler finds a header.
fn has_header(header: &str) -> bool {
    let mut compiler = command("cc");
    compiler
        .args(["-x", "c", "-fsyntax-only", "-"])
        .stdin(Stdio::piped())
        .stdout(Stdio::null());
    let Ok(mut compiling) = compiler.spawn() else {
        return false;
    };
    let text = format!("#include <stdio.h>\n#include <{header}>\n");
    // A compiler that does not listen says so by how it ends.
    let written = compiling
        .stdin
        .take()
        .map(|mut input| input.write_all(text.as_bytes()));
    let ended = compiling.wait();
    written.is_some_and(|written| written.is_ok()) && ended.is_ok_and(|status| status.success())
}
