//! The session's environment as a connection, and the leftovers of the program.

use std::path::Path;

use vshelf_app::integrate::leaving::{Kept, Remains};
use vshelf_view::words::megabytes;
use vshelf_view::{Column, Palette, Table};

use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::paths::{quoted, shown};

/// Says that programs of the desktop get the default, through `file`.
pub fn say_desktop(ui: &Ui, file: &Path, is_changed: bool) -> Outcome {
    let file = shown(file);
    ui.done(if is_changed {
        format!(
            "Programs started from the desktop get the default from your next login on, through {file}."
        )
    } else {
        format!("{file} gives programs of the desktop the default already; nothing was changed.")
    })
}

/// Says that programs of the desktop no longer get the default, through `file`.
pub fn say_without_desktop(ui: &Ui, file: &Path) -> Outcome {
    ui.done(format!(
        "{} was removed: from your next login on, programs of the desktop no longer get the default.",
        shown(file)
    ))
}

/// Says what is left of the program, and how the rest of it goes.
pub fn say_remains(ui: &Ui, remains: &Remains) -> Outcome {
    for (dialect, file) in &remains.connected {
        let name = dialect.name();
        ui.next(
            &format!(
                "{name} stays connected, through {}. To take that out too",
                shown(file)
            ),
            &format!("vshelf connect {name} --remove"),
        );
    }
    if let Some(file) = &remains.desktop {
        let purpose = format!(
            "Programs of the desktop still get the default, through {}. To take that out too",
            shown(file)
        );
        ui.next(&purpose, "vshelf connect --desktop --remove");
    }
    let mut table = Table::new(
        &[
            Column::left("stays"),
            Column::right("size"),
            Column::left(""),
        ],
        Palette::HEADING,
    );
    for (folder, kept, bytes) in &remains.folders {
        let kept = match kept {
            Kept::Installs => "what is on the shelf",
            Kept::Catalogs => "catalogs, which can be fetched again",
            Kept::Settings => "settings and definitions of your own",
        };
        let cells = [shown(folder).into(), megabytes(*bytes).into(), kept.into()];
        table.row(Palette::QUIET, cells);
    }
    if remains.folders.is_empty() {
        return Ok(());
    }
    ui.done_table(&table)?;
    if remains.connected.is_empty() && remains.desktop.is_none() {
        let folders = remains.folders.iter().map(|(folder, ..)| quoted(folder));
        let folders = folders.collect::<Vec<_>>().join(" ");
        ui.next("To remove all of it for good", &format!("rm -rf {folders}"));
    }
    Ok(())
}
