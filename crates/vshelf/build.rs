//! Link settings of the program.

fn main() {
    println!("cargo:rerun-if-changed=build.rs");
    // Most commands call few of the C library's functions and end within a millisecond; looking all
    // of them up before `main` is a measurable part of that.
    if std::env::var("CARGO_CFG_TARGET_OS").as_deref() == Ok("linux") {
        println!("cargo:rustc-link-arg-bins=-Wl,-z,lazy");
    }
}
