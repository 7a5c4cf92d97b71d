//! Paths as people read them.

use std::env;
use std::path::Path;

/// A path with `~` for the home folder.
pub fn shown(path: &Path) -> String {
    let home = env::home_dir().filter(|home| home.is_absolute());
    let below = home.and_then(|home| Some(path.strip_prefix(home).ok()?.to_owned()));
    match below {
        Some(rest) if rest.as_os_str().is_empty() => "~".to_owned(),
        Some(rest) => format!("~/{}", rest.display()),
        None => path.display().to_string(),
    }
}
