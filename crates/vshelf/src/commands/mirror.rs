//! `vshelf mirror`: catalogs and archives as files, for networks that end at the door.

use std::collections::{BTreeMap, BTreeSet, HashSet};
use std::path::{Path, PathBuf};

use clap::Args;
use toml_edit::{ArrayOfTables, DocumentMut, Item, Table as TomlTable};
use vshelf_core::resolve::{Choice, Scope};
use vshelf_core::{Platform, Release, Request};
use vshelf_sources::Archive;
use vshelf_sources::mirror::{DOCUMENT, Mirror as Tree, MirrorError};
use vshelf_view::words::{Count, megabytes};
use vshelf_view::{Cell, Column, Palette, Table};

use super::install::no_catalog;
use crate::commands::CommandArgs;
use crate::context::Context;
use crate::definitions;
use crate::failure::{Failure, Kind, Outcome, file_failure, quoted};
use crate::marks;
use crate::progress::Progress;
use crate::runtime::Runtime;
use crate::ui::Ui;

/// Write releases as files, for a web server or a stick
///
/// What stands in the folder then is a source of its own: a definition, a catalog, and archives that
/// were verified when they came and are verified again where they are installed. What is there
/// already is not fetched again, and stays.
#[derive(Debug, Args)]
pub struct Mirror {
    /// What to take, as in lts, 8.3.1 or ">=6 <8"
    #[arg(value_name = "SELECTOR", required = true)]
    selectors: Vec<String>,
    /// The folder to write to; each runtime has one of its own in it
    #[arg(long, value_name = "FOLDER")]
    to: PathBuf,
    /// Builds for this platform, as in linux-arm64-gnu; may be given several times
    #[arg(long, value_name = "PLATFORM")]
    platform: Vec<String>,
    /// Every release that a selector covers, not only the newest
    #[arg(long)]
    every: bool,
}

/// What came of one archive.
struct Row {
    title: String,
    spine: anstyle::Style,
    platform: Platform,
    size: Option<u64>,
    /// The bytes that came; nothing where it was there.
    came: u64,
}

impl CommandArgs for Mirror {
    const NAME: &'static str = "mirror";
    const GROUP: &'static str = "Keep";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let platforms = self.platforms(context)?;
        let mut by_runtime: BTreeMap<String, Vec<Request>> = BTreeMap::new();
        for selector in &self.selectors {
            let request: Request = selector.parse()?;
            let name = context.runtime_for(&request)?.name().to_owned();
            by_runtime.entry(name).or_default().push(request);
        }
        let mut failures = Vec::new();
        for (name, requests) in &by_runtime {
            self.make(ui, context, name, requests, &platforms, &mut failures)?;
        }
        ui.end_with(failures)
    }
}

impl Mirror {
    fn platforms(&self, context: &Context) -> Result<Vec<Platform>, Failure> {
        let read = |text: &String| {
            text.parse().map_err(|_| {
                Failure::new(Kind::Usage, format!("{text:?} is no platform")).say(
                    "A platform is written as in linux-x64-gnu, linux-arm64-musl or darwin-arm64.",
                )
            })
        };
        match self.platform.is_empty() {
            true => Ok(vec![context.platform.clone()]),
            false => self.platform.iter().map(read).collect(),
        }
    }

    /// Makes or brings up to date the tree of one runtime; what does not come is told at the end.
    fn make(
        &self,
        ui: &Ui,
        context: &Context,
        name: &str,
        requests: &[Request],
        platforms: &[Platform],
        failures: &mut Vec<Failure>,
    ) -> Outcome {
        let folder = self.to.join(name);
        let mut tree = Tree::open(&folder, name)?;
        let asked = tempfile::tempdir().map_err(|e| file_failure(&folder, "written", e))?;
        let mut rows = Vec::new();
        let (mut strip_folders, mut title) = (None, String::new());
        let mut lacking = BTreeSet::new();
        for platform in platforms {
            let elsewhere;
            let on_platform = match *platform == context.platform {
                true => context,
                false => {
                    let catalogs = asked.path().join(platform.as_str());
                    elsewhere = context.on_platform(platform.clone(), catalogs);
                    &elsewhere
                }
            };
            let mut runtime = on_platform.runtime(Some(name))?;
            runtime.load_catalog(true)?;
            super::say_age(ui, &runtime);
            tree.take_over(runtime.catalog());
            strip_folders = Some(self.layout(&runtime, &folder, strip_folders)?);
            let mut wanted: Vec<&Release> = Vec::new();
            for request in requests {
                match self.wanted(&runtime, request) {
                    Ok(more) => wanted.extend(more),
                    Err(failure) => {
                        failures.push(failure.say(format!("It was asked for {platform}.")));
                    }
                }
            }
            let mut seen = HashSet::new();
            wanted.retain(|release| seen.insert((&release.version, &release.publisher)));
            for release in wanted {
                match bring(ui, &runtime, release, &mut tree) {
                    Ok(row) => rows.push(row),
                    Err(failure) => failures.push(failure),
                }
            }
            lacking.extend(companions(&runtime));
            title.clone_from(&runtime.definition.title);
        }
        let (releases, archives, bytes) = tree.holds();
        if releases == 0 {
            return Ok(());
        }
        tree.write(context.now()?)?;
        let definition = format!("{name}.toml");
        let text = definition_beside(context, name, strip_folders.unwrap_or(1))?;
        tree.write_file(&definition, &text)?;
        show(ui, &rows)?;
        ui.result(format!(
            "{} holds {} in {}, {}.",
            folder.display(),
            Count(releases, "release"),
            Count(archives, "archive"),
            megabytes(bytes),
        ))?;
        for package in lacking {
            ui.note(format!(
                "{package}, which these builds come without, is not among the files: {title} has none where it is installed from them."
            ));
        }
        if folder.join("catalog.json.minisig").exists() {
            ui.note("The signature beside the catalog is of the catalog before; sign it again.");
        }
        ui.next(
            "To install from it, from a stick or with its URL",
            &format!("vshelf runtimes --add {}", quoted(&folder.join(definition))),
        );
        Ok(())
    }

    /// How many leading folders the archives have: one number for a whole tree.
    fn layout(
        &self,
        runtime: &Runtime<'_>,
        folder: &Path,
        before: Option<usize>,
    ) -> Result<usize, Failure> {
        let serving = runtime.loaded_source().ok_or_else(no_catalog)?;
        let file = folder.join(format!("{}.toml", runtime.name()));
        let there = match std::fs::read_to_string(&file) {
            Ok(text) => vshelf_core::Definition::read(&text)
                .ok()
                .and_then(|known| Some(known.sources.first()?.strip_folders)),
            Err(_) => None,
        };
        match before.or(there) {
            Some(known) if known != serving.strip_folders => Err(Failure::new(
                Kind::Refused,
                format!(
                    "the archives of {} are laid out otherwise than those in {}",
                    serving.name,
                    folder.display()
                ),
            )
            .run(
                "To begin another tree",
                format!(
                    "vshelf mirror {} --to OTHER_FOLDER",
                    self.selectors.join(" ")
                ),
            )),
            _ => Ok(serving.strip_folders),
        }
    }

    /// The releases that a request means on the runtime's platform.
    fn wanted<'r>(
        &self,
        runtime: &'r Runtime<'_>,
        request: &Request,
    ) -> Result<Vec<&'r Release>, Failure> {
        let platform = &runtime.context().platform;
        if !self.every {
            return match runtime.resolve(request, Scope::Published)? {
                Choice::Version(candidate) => Ok(candidate.release.into_iter().collect()),
                Choice::System => Err(Failure::new(
                    Kind::Refused,
                    "system is the copy on this machine, and nobody publishes it",
                )),
            };
        }
        let covered = runtime.covered(request, Scope::Published)?;
        let releases = covered.iter().filter_map(|candidate| candidate.release);
        Ok(releases
            .filter(|release| release.withdrawn.is_none() && release.runs_on(platform))
            .collect())
    }
}

/// Brings the archive of a release for the runtime's platform.
fn bring(
    ui: &Ui,
    runtime: &Runtime<'_>,
    release: &Release,
    tree: &mut Tree,
) -> Result<Row, Failure> {
    let context = runtime.context();
    let (transport, platform) = (&context.transport, &context.platform);
    let loaded = runtime.kept_catalog().ok_or_else(no_catalog)?;
    let details = loaded.details(release)?;
    let spelled = runtime.selector_for(&release.version, &release.publisher);
    let title = format!("{} {spelled}", runtime.definition.title);
    let builds = details.builds_for(platform);
    let archive = Archive::settle(transport, &builds)?;
    let build = (builds.iter())
        .find(|build| {
            archive
                .addresses
                .iter()
                .any(|at| at.to_string() == build.address)
        })
        .ok_or_else(no_catalog)?;
    let size = archive.size;
    let progress = Progress::new(ui, false, 0);
    let mut bar = None;
    let mut at = |bytes, all| {
        let bar =
            bar.get_or_insert_with(|| progress.begin(ui, &format!("{title} for {platform}"), size));
        bar.at(bytes, all);
    };
    let came = tree.bring(transport, release, &details, build, archive, &mut at);
    if let Some(bar) = bar {
        bar.leave();
    }
    let line = runtime.catalog().line_of(&release.version);
    Ok(Row {
        came: came?,
        title,
        spine: marks::spine(line.map(|line| line.phase_on(runtime.today))),
        platform: build.platform.clone(),
        size,
    })
}

/// What belongs to the builds of the source that serves and is no part of them: that is not in the
/// tree.
fn companions(runtime: &Runtime<'_>) -> Vec<String> {
    let companions = (runtime.loaded_source())
        .into_iter()
        .flat_map(|source| source.kind.companions());
    companions
        .map(|companion| companion.package.clone())
        .collect()
}

/// The runtime's definition with the catalog beside it as its only source.
fn definition_beside(
    context: &Context,
    name: &str,
    strip_folders: usize,
) -> Result<String, Failure> {
    let (text, place) = definitions::text(&context.folders()?.config, name)?;
    let mut document: DocumentMut = text.parse().map_err(|error: toml_edit::TomlError| {
        Failure::new(
            Kind::Disk,
            format!("{place} is no definition of a runtime: {}", error.message()),
        )
    })?;
    if let Some(mut first) = document.as_table_mut().key_mut("name") {
        let decor = first.leaf_decor_mut();
        decor.set_prefix(
            "# Written by vshelf mirror; the catalog and its archives lie beside this.\n",
        );
    }
    let mut source = TomlTable::new();
    for (key, value) in [
        ("name", "mirror"),
        ("kind", "catalog"),
        ("address", DOCUMENT),
    ] {
        source.insert(key, toml_edit::value(value));
    }
    source.insert("strip-folders", toml_edit::value(strip_folders as i64));
    let mut sources = ArrayOfTables::new();
    sources.push(source);
    document.insert("sources", Item::ArrayOfTables(sources));
    Ok(document.to_string())
}

fn show(ui: &Ui, rows: &[Row]) -> Outcome {
    const COLUMNS: [Column; 4] = [
        Column::left("version"),
        Column::left("platform"),
        Column::right("size"),
        Column::left("came of it"),
    ];
    let mut table = Table::new(&COLUMNS, Palette::HEADING);
    for row in rows {
        let came = match row.came {
            0 => "was there already",
            _ => "fetched and verified",
        };
        table.row(
            row.spine,
            [
                Cell::new(&row.title, Palette::STRONG),
                row.platform.to_string().into(),
                row.size.map(megabytes).unwrap_or_default().into(),
                came.into(),
            ],
        );
    }
    match rows {
        [] => Ok(()),
        _ => ui.table(&table),
    }
}

impl From<MirrorError> for Failure {
    fn from(error: MirrorError) -> Failure {
        match error {
            MirrorError::Download(error) => error.into(),
            MirrorError::File { ref source, .. } => {
                Failure::from_error(Kind::Disk, &error).about_io(source)
            }
            MirrorError::Other { .. } => Failure::from_error(Kind::Refused, &error)
                .say("Choose another folder, or move it away to begin anew."),
        }
    }
}
