//! Bringing a build onto the shelf: download, digest and unpacking at the same time, then the probe.

use std::io::{self, IsTerminal, Write};
use std::path::Path;
use std::thread;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use jiff::Timestamp;
use vshelf_core::catalog::{Build, Release};
use vshelf_core::definition::SourceDefinition;
use vshelf_shelf::lock::Lock;
use vshelf_shelf::pipe::pipe;
use vshelf_shelf::probe::{self, ProbeError};
use vshelf_shelf::receipt::ReceiptContents;
use vshelf_shelf::shelf::program_in;
use vshelf_shelf::unpack::{Bounds, Unpacked, unpack};
use vshelf_shelf::{Install, ShelfError};
use vshelf_sources::{Address, Download, DownloadError};
use vshelf_view::words::megabytes;

use crate::failure::{Failure, Kind};
use crate::runtime::Runtime;
use crate::ui::Ui;

/// What came of an install.
pub enum Fetched {
    /// It is new on the shelf.
    New {
        /// The install.
        install: Box<Install>,
        /// The bytes that came over the network.
        came: u64,
        /// How long it took.
        took: Duration,
    },
    /// It was there already.
    Already,
}

/// Brings `release` onto the shelf under `key`, unless it is there.
pub fn fetch(
    ui: &Ui,
    runtime: &Runtime<'_>,
    source: &SourceDefinition,
    release: &Release,
    build: &Build,
    key: &str,
) -> Result<Fetched, Failure> {
    if runtime.shelf.install(key)?.is_some() {
        return Ok(Fetched::Already);
    }
    let _lock = wait_for(ui, runtime, key)?;
    if runtime.shelf.install(key)?.is_some() {
        return Ok(Fetched::Already);
    }
    let begun = Instant::now();
    let stage = runtime.shelf.stage(key)?;
    let tree = stage.path().join("tree");
    std::fs::create_dir(&tree).map_err(|source| ShelfError::File {
        path: tree.clone(),
        action: "written",
        source,
    })?;
    let download = Download {
        address: Address::read(&build.address),
        digest: build.digest.clone(),
        size: build.size,
        partial: partial_file(runtime, build, key)?,
    };
    let title = format!("{} {}", runtime.definition.title, release.version);
    let (came, unpacked) = download_and_unpack(ui, runtime, &download, source, &tree, &title)?;
    check_version(runtime, release, &tree)?;
    let contents = ReceiptContents {
        runtime: runtime.name().to_owned(),
        version: release.version.clone(),
        publisher: release.publisher.to_string(),
        source: source.name.clone(),
        address: build.address.clone(),
        platform: build.platform.to_string(),
        digest: build.digest.to_string(),
        archive_size: build.size.unwrap_or(came),
        unpacked_size: unpacked.bytes,
        files: unpacked.files,
        installed: Timestamp::now(),
    };
    let install = runtime.shelf.shelve(key, &tree, contents)?;
    let took = begun.elapsed();
    Ok(Fetched::New {
        install: Box::new(install),
        came,
        took,
    })
}

fn wait_for(ui: &Ui, runtime: &Runtime<'_>, key: &str) -> Result<Lock, Failure> {
    let lock = runtime.shelf.lock(key, &mut |holder| {
        ui.note(format!(
            "Another command ({holder}) is at work on {key}; waiting for it."
        ));
    })?;
    Ok(lock)
}

/// The file that keeps what came of a build so far. Its digest makes sure that only the same bytes
/// are gone on with, and its key that only the holder of that key's lock writes to it.
fn partial_file(
    runtime: &Runtime<'_>,
    build: &Build,
    key: &str,
) -> Result<std::path::PathBuf, Failure> {
    let folder = runtime.context().folders()?.cache.join("archives");
    std::fs::create_dir_all(&folder).map_err(|source| ShelfError::File {
        path: folder.clone(),
        action: "written",
        source,
    })?;
    let digest = build.digest.to_string().replace(':', "-");
    let runtime = runtime.name();
    Ok(folder.join(format!("{runtime}-{key}-{digest}.partial")))
}

/// One pass over the bytes: this thread unpacks while others download and decode.
fn download_and_unpack(
    ui: &Ui,
    runtime: &Runtime<'_>,
    download: &Download,
    source: &SourceDefinition,
    tree: &Path,
    title: &str,
) -> Result<(u64, Unpacked), Failure> {
    let progress = Progress::begin(ui, title, download.size);
    let (mut writer, reader) = pipe();
    let transport = &runtime.context().transport;
    let (downloaded, unpacked) = thread::scope(|scope| {
        let downloading = scope.spawn(|| {
            let mut sink = |piece: &[u8]| writer.write_all(piece);
            let mut on_progress = |bytes, all| progress.at(bytes, all);
            let came = download.run(transport, &mut sink, &mut on_progress)?;
            // Only a verified archive ends; a wrong one breaks off, and unpacking fails with it.
            writer.finish().map_err(DownloadError::Sink)?;
            Ok(came)
        });
        let unpacked = unpack(reader, source.strip_folders, tree, Bounds::default());
        let downloaded: Result<u64, DownloadError> =
            downloading.join().expect("the download does not panic");
        (downloaded, unpacked)
    });
    progress.end();
    match (downloaded, unpacked) {
        (Ok(came), Ok(unpacked)) => Ok((came, unpacked)),
        // When unpacking stops first, the download only notices that nobody listens.
        (Err(DownloadError::Sink(_)) | Ok(_), Err(error)) => {
            Err(Failure::unpacking(&download.address.to_string(), &error))
        }
        (Err(error), _) => Err(error.into()),
    }
}

/// Starts the program once and compares what it says with what was promised.
fn check_version(runtime: &Runtime<'_>, release: &Release, tree: &Path) -> Result<(), Failure> {
    let definition = &runtime.definition;
    let program = program_in(tree, definition);
    let refused = |failure: Failure| {
        failure.say(format!(
            "{} {} was not put on the shelf.",
            definition.title, release.version
        ))
    };
    let answer = probe::ask(&program, &definition.probe.arguments).map_err(|error| {
        let mut failure = Failure::new(
            Kind::Verification,
            format!("{} {} does not start", definition.title, release.version),
        );
        failure.causes.push(match &error {
            ProbeError::Failed { complaint, .. } if !complaint.is_empty() => {
                complaint.lines().next().unwrap_or_default().to_owned()
            }
            other => other.to_string(),
        });
        refused(failure)
    })?;
    match definition.version_in(&answer.output) {
        Some(version) if release.version.as_str() == version => Ok(()),
        _ => Err(refused(Failure::new(
            Kind::Verification,
            format!(
                "{} {} says of itself that it is {:?}",
                definition.title,
                release.version,
                answer.output.lines().next().unwrap_or_default()
            ),
        ))),
    }
}

/// A bar with rate and time left on a terminal, one line at the beginning otherwise.
struct Progress {
    bar: ProgressBar,
}

impl Progress {
    fn begin(ui: &Ui, title: &str, size: Option<u64>) -> Progress {
        let bar = match (ui.shows_progress(), size) {
            (false, _) => ProgressBar::hidden(),
            (true, Some(size)) => {
                ProgressBar::with_draw_target(Some(size), ProgressDrawTarget::stderr())
            }
            (true, None) => ProgressBar::with_draw_target(None, ProgressDrawTarget::stderr()),
        };
        let template = "{msg}  {bar:24}  {done} of {all}  {rate} a second  {eta} left";
        let written = |bytes: f64, to: &mut dyn std::fmt::Write| {
            // A bar that cannot be drawn in full is still a bar.
            write!(to, "{}", megabytes(bytes as u64)).unwrap_or_default();
        };
        let style = ProgressStyle::with_template(template)
            .expect("the template above is one")
            .with_key(
                "done",
                move |state: &ProgressState, to: &mut dyn std::fmt::Write| {
                    written(state.pos() as f64, to);
                },
            )
            .with_key(
                "all",
                move |state: &ProgressState, to: &mut dyn std::fmt::Write| {
                    written(state.len().unwrap_or(0) as f64, to);
                },
            )
            .with_key(
                "rate",
                move |state: &ProgressState, to: &mut dyn std::fmt::Write| {
                    written(state.per_sec(), to);
                },
            )
            .progress_chars(if ui.is_unicode() { "━━ " } else { "== " });
        bar.set_style(style);
        bar.set_message(title.to_owned());
        if !io::stderr().is_terminal() {
            let size = size
                .map(|size| format!(" ({})", megabytes(size)))
                .unwrap_or_default();
            ui.note(format!("Fetching {title}{size}."));
        }
        Progress { bar }
    }

    fn at(&self, bytes: u64, all: Option<u64>) {
        if self.bar.length() != all
            && let Some(all) = all
        {
            self.bar.set_length(all);
        }
        self.bar.set_position(bytes);
    }

    fn end(&self) {
        self.bar.finish_and_clear();
    }
}
