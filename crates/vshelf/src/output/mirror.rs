//! What mirroring resulted in.

use vshelf_app::mirror::{Arrival, MirroredBuild, MirroredRuntime};
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
    show_builds(ui, &mirrored.builds)?;
    let (releases, archives, bytes) = mirrored.holds;
    ui.done(format!(
        "{} holds {} in {}, {}.",
        mirrored.folder.display(),
        Count(releases, "release"),
        Count(archives, "archive"),
        megabytes(bytes),
    ))?;
    if mirrored.has_old_signature {
        ui.note("The signature beside the catalog belongs to the previous catalog; sign it again.");
    }
    ui.next(
        "To install from it, from a USB drive or by its URL",
        &format!("vshelf runtimes --add {}", quoted(&mirrored.definition)),
    );
    Ok(())
}

fn show_builds(ui: &Ui, builds: &[MirroredBuild]) -> Outcome {
    const COLUMNS: [Column; 4] = [
        Column::left("version"),
        Column::left("platform"),
        Column::right("size"),
        Column::left("result"),
    ];
    if builds.is_empty() {
        return Ok(());
    }
    let mut table = Table::new(&COLUMNS, Palette::HEADING);
    for build in builds {
        let outcome = match build.arrival {
            Arrival::WasThere => "was there already",
            Arrival::Fetched => "fetched and verified",
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
