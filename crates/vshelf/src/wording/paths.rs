//! Paths as people read and type them.

use std::path::{Path, PathBuf};

use vshelf_core::requirement::project_folder;
pub use vshelf_files::shown::shown;
use vshelf_shell::quote;
use vshelf_view::words::printable;

fn home() -> Option<PathBuf> {
    std::env::home_dir().filter(|home| home.is_absolute())
}

/// A path as it can be pasted into a shell, with `~` for the home folder.
pub fn quoted(path: &Path) -> String {
    quote::path(path, home().as_deref())
}

/// The command that opens a file in the person's editor.
pub fn edit(file: &Path) -> String {
    format!("${{EDITOR:-vi}} {}", quoted(file))
}

/// The name of the project that a requirement file belongs to: that of its folder.
pub fn project_name(file: &Path) -> String {
    let folder = project_folder(file);
    if shown(folder) == "~" {
        return "your home folder".to_owned();
    }
    folder
        .file_name()
        .map_or("the project here".to_owned(), |name| {
            printable(&name.to_string_lossy())
        })
}
