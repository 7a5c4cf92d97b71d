//! A static tree of a catalog of ours with its archives, which any web server or folder can serve.
//!
//! `<folder>/catalog.json` names files below `<folder>/files/`, and `<folder>/index.html` shows it to people. What is
//! there already and is as the catalog promises is not fetched again; a document takes the place of the one before at
//! once, and only names what is there.

use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};

use vshelf_core::catalog::{Digest, DigestAlgorithm};
use vshelf_files::{atomic, optional, system};

use super::error::{MirrorError, failed};
use super::place::{Arrival, Entered, Pack, Place, Progress, Stored, Way, Writing};
use crate::address::Address;
use crate::api::PublishedCatalog;
use crate::checksums::Archive;
use crate::digest::digest_of_file;
use crate::document;
use crate::download::Download;
use crate::transport::Transport;

/// The name of the document in the tree.
pub const DOCUMENT: &str = "catalog.json";

/// The page for people beside it.
const PAGE: &str = "index.html";

/// What tells a page of ours from another.
const PAGE_MARK: &str = "content=\"vshelf mirror\"";

/// A folder.
#[derive(Debug)]
pub(super) struct Folder {
    transport: Transport,
    folder: PathBuf,
    runtime: String,
    /// Held as long as this is: two that work on one tree would forget what the other added.
    _lock: File,
}

impl Folder {
    /// The tree in `folder`, and the catalog that it has; waits for whoever works on it.
    pub(super) fn open(
        transport: &Transport,
        folder: &Path,
        runtime: &str,
    ) -> Result<(Folder, Option<PublishedCatalog>), MirrorError> {
        fs::create_dir_all(folder).map_err(failed(folder))?;
        let place = folder.join(".lock");
        let lock = File::create(&place).map_err(failed(&place))?;
        lock.lock().map_err(failed(&place))?;
        let path = folder.join(DOCUMENT);
        let address = Address::File(path.clone());
        let bytes = optional::read(&path).map_err(failed(&path))?;
        let published = bytes.map(|bytes| document::read(&bytes, runtime, &address));
        let published = published
            .transpose()
            .map_err(|problem| MirrorError::Other {
                place: path.display().to_string(),
                problem,
            })?;
        let folder = Folder {
            transport: transport.clone(),
            folder: folder.to_owned(),
            runtime: runtime.to_owned(),
            _lock: lock,
        };
        Ok((folder, published))
    }

    /// The path of a file below `files`, whose folder is there.
    fn file(&self, name: &str) -> Result<PathBuf, MirrorError> {
        let path = self.folder.join("files").join(name);
        let parent = path.parent().unwrap_or(&self.folder);
        fs::create_dir_all(parent).map_err(failed(parent))?;
        Ok(path)
    }

    /// Writes a file beside the document, at once and with the permissions of any new file: others
    /// read it, such as a web server.
    fn write_file(&self, name: &str, text: &str) -> Result<(), MirrorError> {
        let path = self.folder.join(name);
        atomic::write_shared(&path, text.as_bytes()).map_err(failed(&path))
    }

    /// Writes the page, unless there is one of somebody else's.
    fn write_page(&self, text: &str) -> Result<(), MirrorError> {
        let path = self.folder.join(PAGE);
        let before = optional::read(&path).map_err(failed(&path))?;
        let is_ours = |before: Vec<u8>| String::from_utf8_lossy(&before).contains(PAGE_MARK);
        match before.is_none_or(is_ours) {
            true => self.write_file(PAGE, text),
            false => Ok(()),
        }
    }

    fn definition_name(&self) -> String {
        format!("{}.toml", self.runtime)
    }
}

fn stored(path: &Path, arrival: Arrival) -> Result<Stored, MirrorError> {
    Ok(Stored {
        address: path.to_string_lossy().into_owned(),
        size: fs::metadata(path).map_err(failed(path))?.len(),
        arrival,
    })
}

impl Place for Folder {
    fn bring(
        &self,
        name: &str,
        archive: &Archive,
        _known: Option<&str>,
        progress: Progress<'_>,
    ) -> Result<Stored, MirrorError> {
        let path = self.file(name)?;
        let arrival = match is_whole(&path, archive).map_err(failed(&path))? {
            true => Arrival::WasThere,
            false => {
                download(&self.transport, archive, &path, progress)?;
                Arrival::Fetched
            }
        };
        stored(&path, arrival)
    }

    fn pack(
        &self,
        name: &str,
        pack: Pack<'_>,
        _progress: Progress<'_>,
    ) -> Result<(Stored, Digest), MirrorError> {
        let path = self.file(name)?;
        let parent = path.parent().unwrap_or(&self.folder);
        let mut half = tempfile::NamedTempFile::new_in(parent).map_err(failed(parent))?;
        // A server reads it too.
        system::set_permission_bits(half.path(), 0o644).map_err(failed(half.path()))?;
        pack(half.as_file_mut()).map_err(failed(half.path()))?;
        let digest_of =
            |path: &Path| digest_of_file(DigestAlgorithm::Sha256, path).map_err(failed(path));
        let digest = digest_of(half.path())?;
        if path.exists() && digest_of(&path)? == digest {
            return Ok((stored(&path, Arrival::WasThere)?, digest));
        }
        let kept = half.as_file().sync_all().map_err(failed(&path));
        kept?;
        half.persist(&path)
            .map_err(|error| failed(&path)(error.error))?;
        Ok((stored(&path, Arrival::Packed)?, digest))
    }

    fn write(
        &self,
        published: &mut PublishedCatalog,
        _entered: &[Entered],
        writing: &Writing<'_>,
    ) -> Result<(), MirrorError> {
        published.catalog.updated = Some(writing.now);
        for build in published.builds_mut() {
            build.address = relative(&self.folder, &build.address);
            for companion in &mut build.companions {
                companion.address = relative(&self.folder, &companion.address);
            }
        }
        let text = document::write(published);
        self.write_file(DOCUMENT, &text)?;
        if let Some(signer) = writing.signer {
            let signature = signer.sign(text.as_bytes());
            self.write_file(&format!("{DOCUMENT}.minisig"), &signature)?;
        }
        self.write_file(&self.definition_name(), writing.definition)?;
        self.write_page(&(writing.page)(published))
    }

    fn definition(&self) -> Result<Option<String>, MirrorError> {
        let path = self.folder.join(self.definition_name());
        optional::read_text(&path).map_err(failed(&path))
    }
}

/// A file of the tree in `folder`, as the document names it.
fn relative(folder: &Path, address: &str) -> String {
    let below = Path::new(address).strip_prefix(folder);
    below.map_or_else(
        |_| address.to_owned(),
        |below| below.to_string_lossy().into_owned(),
    )
}

/// Whether a file is there and has the bytes that are promised.
fn is_whole(path: &Path, archive: &Archive) -> io::Result<bool> {
    match fs::metadata(path) {
        Ok(found) if archive.size.is_none_or(|size| size == found.len()) => {
            Ok(digest_of_file(archive.digest.algorithm, path)? == archive.digest)
        }
        Ok(_) => Ok(false),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(false),
        Err(error) => Err(error),
    }
}

/// Brings an archive to `path`; what is there of it is continued.
pub(super) fn download(
    transport: &Transport,
    archive: &Archive,
    path: &Path,
    progress: Progress<'_>,
) -> Result<(), MirrorError> {
    let beside = |end: &str| {
        let mut name = path.as_os_str().to_owned();
        name.push(end);
        PathBuf::from(name)
    };
    let (partial, half) = (beside(".partial"), beside(".new"));
    let mut file = File::create(&half).map_err(failed(&half))?;
    let download = Download {
        archive: archive.clone(),
        partial,
    };
    let came = download.run(
        transport,
        &mut |piece| file.write_all(piece),
        &mut |bytes, all| progress(Way::Fetching, bytes, all),
    );
    if came.is_err() {
        // The partial file has what is worth keeping.
        fs::remove_file(&half).map_err(failed(&half))?;
    }
    came?;
    (file.sync_all().and_then(|()| fs::rename(&half, path))).map_err(failed(path))?;
    Ok(download.forget()?)
}
