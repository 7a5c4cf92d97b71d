//! Link settings of the program.

use std::path::PathBuf;
use std::process::Command;

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    if std::env::var("CARGO_CFG_TARGET_OS").as_deref() != Ok("linux") {
        return;
    }
    // Most commands call few of the C library's functions and end within a millisecond; looking all
    // of them up before `main`, and mapping one library more, are measurable parts of that.
    println!("cargo:rustc-link-arg-bins=-Wl,-z,lazy");
    if let Some(folder) = folder_of_unwinder() {
        println!("cargo:rustc-link-search=native={}", folder.display());
        println!("cargo:rustc-link-lib=static:-bundle,+verbatim=libgcc_eh.a");
    }
}

/// The folder of the compiler's static unwinder; nothing where it has none, and then the shared one
/// is used.
fn folder_of_unwinder() -> Option<PathBuf> {
    // The compiler that answers is that of this machine.
    if std::env::var("TARGET") != std::env::var("HOST") {
        return None;
    }
    let output = Command::new("cc")
        .arg("-print-file-name=libgcc_eh.a")
        .output()
        .ok()?;
    let path = PathBuf::from(String::from_utf8(output.stdout).ok()?.trim());
    path.is_absolute()
        .then(|| path.parent().map(PathBuf::from))?
}
