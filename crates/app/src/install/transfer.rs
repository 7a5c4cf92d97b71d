//! One archive, downloaded and unpacked in one pass over its bytes.

use std::fs::{self, File};
use std::io::Write;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;

use vshelf_core::definition::ArchiveLayout;
use vshelf_files::action::FileAction;
use vshelf_files::optional;
use vshelf_shelf::Manifest;
use vshelf_shelf::pipe::pipe;
use vshelf_shelf::unpack::{Bounds, unpack};
use vshelf_sources::{Archive, Download, DownloadError};

use super::job::InstallJob;
use crate::error::{Error, file_error};
use crate::events::{Event, Listener, TransferState};

/// An archive that was unpacked.
pub struct Unpacked {
    /// The bytes that came over the network.
    pub fetched: u64,
    /// What it consists of.
    pub manifest: Manifest,
    /// The archive.
    pub archive: Archive,
}

/// A transfer, as listeners are told of it.
pub struct TransferReport<'l> {
    listener: &'l dyn Listener,
    id: usize,
    title: String,
}

impl<'l> TransferReport<'l> {
    /// Tells that a transfer of `size` bytes begins.
    pub fn begin(listener: &'l dyn Listener, title: String, size: Option<u64>) -> Self {
        TransferReport::of(listener, title, TransferState::Started(size))
    }

    /// Tells that `size` bytes begin to be sent on.
    pub fn sending(listener: &'l dyn Listener, title: String, size: u64) -> Self {
        TransferReport::of(listener, title, TransferState::Sending(0, size))
    }

    /// The listener that gets the reports.
    pub fn listener(&self) -> &'l dyn Listener {
        self.listener
    }

    fn of(listener: &'l dyn Listener, title: String, state: TransferState) -> Self {
        static NEXT: AtomicUsize = AtomicUsize::new(0);
        let report = TransferReport {
            listener,
            id: NEXT.fetch_add(1, Ordering::Relaxed),
            title,
        };
        report.tell(state);
        report
    }

    /// Tells how far it is.
    pub fn tell(&self, state: TransferState) {
        self.listener.tell(Event::Transfer {
            id: self.id,
            title: &self.title,
            state,
        });
    }
}

/// Downloads an archive and unpacks it into `tree`: this thread writes while others download and
/// decode.
pub fn transfer(
    job: &InstallJob,
    archive: Archive,
    layout: &ArchiveLayout,
    tree: &Path,
    report: &TransferReport<'_>,
) -> Result<Unpacked, Error> {
    let partial = partial_file(job, &archive)?;
    let download = Download { archive, partial };
    let (mut writer, reader) = pipe();
    let (downloaded, unpacked) = thread::scope(|scope| {
        let downloading = scope.spawn(|| {
            let mut sink = |piece: &[u8]| writer.write_all(piece);
            let mut progress = |bytes, all| report.tell(TransferState::Bytes(bytes, all));
            let fetched = download.run(&job.transport, &mut sink, &mut progress)?;
            // Only a verified archive ends; a wrong one breaks off, and unpacking fails with it.
            writer.finish().map_err(DownloadError::Sink)?;
            Ok(fetched)
        });
        let unpacked = unpack(reader, layout, tree, Bounds::default());
        let downloaded: Result<u64, DownloadError> =
            downloading.join().expect("the download does not panic");
        (downloaded, unpacked)
    });
    match (downloaded, unpacked) {
        (Ok(fetched), Ok(manifest)) => Ok(Unpacked {
            fetched,
            manifest,
            archive: download.archive,
        }),
        // When unpacking stops first, the download only notices that nobody listens.
        (Err(DownloadError::Sink(_)) | Ok(_), Err(error)) => Err(Error::Unpack {
            archive: download.archive.addresses.first().to_string(),
            error,
        }),
        (Err(error), _) => Err(error.into()),
    }
}

/// Downloads something that is used as it is into `file`; gives back the bytes that came.
pub fn fetch(job: &InstallJob, archive: Archive, file: &Path) -> Result<u64, Error> {
    let partial = partial_file(job, &archive)?;
    let download = Download { archive, partial };
    let mut written = File::create(file).map_err(file_error(file, FileAction::Write))?;
    let mut sink = |piece: &[u8]| written.write_all(piece);
    let fetched = download.run(&job.transport, &mut sink, &mut |_, _| {})?;
    download.forget()?;
    Ok(fetched)
}

/// Deletes the partial download of an archive. If that fails, a clean-up shows the file.
pub fn forget(job: &InstallJob, archive: &Archive) {
    if let Ok(partial) = partial_file(job, archive) {
        optional::remove(&partial).unwrap_or_default();
    }
}

/// The file that keeps what has come of an archive so far. Its digest makes sure that only the same
/// bytes are gone on with, and its key that only the holder of that key's lock writes to it.
fn partial_file(job: &InstallJob, archive: &Archive) -> Result<PathBuf, Error> {
    let folder = &job.archives;
    fs::create_dir_all(folder).map_err(file_error(folder, FileAction::Write))?;
    let digest = archive.digest.to_string().replace(':', "-");
    let (runtime, key) = (&job.definition.name, job.key.as_str());
    Ok(folder.join(format!("{runtime}-{key}-{digest}.partial")))
}
