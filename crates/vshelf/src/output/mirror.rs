//! What mirroring resulted in.

use std::path::Path;

use vshelf_app::mirror::{Arrival, MirroredRuntime};
use vshelf_view::words::{Count, megabytes};
use vshelf_view::{Cell, Column, Palette, Table};

use crate::failure::Outcome;
use crate::ui::Ui;
use crate::wording::paths::quoted;
use crate::wording::versions::spine;

/// Shows what each mirror got and holds.
pub fn show(ui: &Ui, mirrored: &[MirroredRuntime]) -> Outcome {
    mirrored
        .iter()
        .try_for_each(|runtime| show_one(ui, runtime))
}

fn show_one(ui: &Ui, mirrored: &MirroredRuntime) -> Outcome {
    show_builds(ui, mirrored)?;
    let (releases, archives, bytes) = mirrored.holds;
    ui.done(format!(
        "{} holds {} in {}, {}.",
        mirrored.place,
        Count(releases, "release"),
        Count(archives, "archive"),
        megabytes(bytes),
    ))?;
    if mirrored.has_old_signature {
        ui.note("The signature beside the catalog belongs to the previous catalog; sign it again.");
    }
    if let Some(key) = &mirrored.key {
        ui.note(format!(
            "It is signed; the key that clients check it with is {key}"
        ));
    }
    let way = match mirrored.is_in_registry {
        true => "To install from it, anywhere that reaches the registry",
        false => "To install from it, from a USB drive or by its URL",
    };
    let place = quoted(Path::new(&mirrored.definition));
    ui.next(way, &format!("vshelf runtimes --add {place}"));
    Ok(())
}

fn show_builds(ui: &Ui, mirrored: &MirroredRuntime) -> Outcome {
    const COLUMNS: [Column; 4] = [
        Column::left("version"),
        Column::left("platform"),
        Column::right("size"),
        Column::left("result"),
    ];
    if mirrored.builds.is_empty() {
        return Ok(());
    }
    let mut table = Table::new(&COLUMNS, Palette::HEADING);
    for build in &mirrored.builds {
        let outcome = match build.arrival {
            Arrival::WasThere => "already mirrored",
            Arrival::Fetched if mirrored.is_in_registry => "fetched, verified and sent",
            Arrival::Fetched => "fetched and verified",
            Arrival::Linked => "linked from another repository",
            Arrival::Packed => "built here, and packed",
        };
        table.row(
            spine(build.phase),
            [
                Cell::new(&build.title, Palette::STRONG),
                build.platform.to_string().into(),
                build.size.map(megabytes).unwrap_or_default().into(),
                outcome.into(),
            ],
        );
    }
    ui.table(&table)
}
