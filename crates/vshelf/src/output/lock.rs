//! What a lock file holds.

use std::path::PathBuf;

use vshelf_app::locking::WrittenLock;
use vshelf_view::words::listed;
use vshelf_view::{Cell, Column, Palette, Table};

use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::paths::shown;
use crate::wording::versions::spine;

/// Shows what is locked in each file.
pub fn show(ui: &Ui, written: &[WrittenLock]) -> Outcome {
    const COLUMNS: [Column; 4] = [
        Column::left("version"),
        Column::left("required"),
        Column::left("before"),
        Column::yielding("platforms"),
    ];
    for lock in written {
        let mut table = Table::new(&COLUMNS, Palette::HEADING);
        for entry in &lock.entries {
            let title = format!("{} {}", entry.title, entry.release);
            let platforms: Vec<String> = entry.platforms.iter().map(ToString::to_string).collect();
            table.row(
                spine(entry.phase),
                [
                    Cell::new(&title, Palette::STRONG),
                    entry.required.clone().into(),
                    entry
                        .before
                        .as_ref()
                        .map(ToString::to_string)
                        .unwrap_or_default()
                        .into(),
                    platforms.join(", ").into(),
                ],
            );
        }
        ui.done_table(&table)?;
        let file = shown(&lock.file);
        match lock.changed {
            true => ui.done(format!("{file} was written."))?,
            false => ui.done(format!("{file} is as it was."))?,
        }
    }
    if written.iter().any(|lock| lock.changed) {
        ui.next("To install what is locked", "vshelf install --locked");
    }
    Ok(())
}

/// Says that all that is required is locked.
pub fn say_checked(ui: &Ui, files: &[PathBuf]) -> Outcome {
    let files: Vec<String> = files.iter().map(|file| shown(file)).collect();
    ui.done(format!(
        "All that is required here is locked in {}.",
        listed(&files, "and")
    ))
}
