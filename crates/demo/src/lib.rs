//! The demo world: Marram, a made-up scripting language for instruments, and its sister Orache, everything
//! that their publishers ever published, and a stand-in release server for it.
//!
//! The demo, the tests and the pictures all use it, so that they tell one story.

pub mod archives;
pub mod layouts;
pub mod orache;
pub mod releases;
pub mod server;
pub mod story;

/// The day on which the demo plays.
pub const TODAY: &str = "2026-11-23";

/// Marram's definition, with its source at this address (a URL without a slash behind).
pub fn definition(address: &str) -> String {
    include_str!("../assets/marram.toml").replace("@ADDRESS@", address)
}
