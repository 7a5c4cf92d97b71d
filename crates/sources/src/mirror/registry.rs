//! A repository of a registry of containers with a catalog of ours and its archives.
//!
//! What is there is told by the tags of builds; the catalog puts together what they say. So two who publish at
//! once lose nothing: each writes tags of its own, and the last to write the catalog finds those of the others.

use std::collections::{BTreeMap, BTreeSet};
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::thread;
use std::time::Duration;

use vshelf_core::catalog::{Digest, DigestAlgorithm, Release};
use vshelf_core::{Platform, Version};

use super::contents::{empty, enter_from, entries, find, retain, take_over};
use super::error::{MirrorError, failed};
use super::folder::{DOCUMENT, download};
use super::place::{Arrival, Entered, Pack, Place, Progress, Stored, Way, Writing};
use crate::address::Address;
use crate::api::{PublishedCatalog, SourceError};
use crate::checksums::Archive;
use crate::digest::digest_of_file;
use crate::document;
use crate::oci::manifest::{
    ARCHIVE_LAYER, Annotations, BUILD, CATALOG, CATALOG_LAYER, CREATED, DEFINITION_LAYER,
    Descriptor, EMPTY_CONTENT, ENTRY, INDEX, ImagePlatform, Index, MANIFEST, Manifest, PLATFORM,
    SECURITY, SIGNATURE_LAYER, VENDOR, VERSION, WITHDRAWN, empty_blob,
};
use crate::oci::{CATALOG_TAG, CatalogArtifact, Repository, Writer, catalog, packed};
use crate::transport::{Transport, TransportError, Validators};

/// How often a catalog is written again because others wrote one meanwhile.
const MOST_ROUNDS: u32 = 20;

/// A repository.
#[derive(Debug)]
pub(super) struct Registry {
    transport: Transport,
    repository: Repository,
    runtime: String,
    /// Where archives are on their way.
    staging: PathBuf,
    /// Held as long as this is: two on one machine would write the same files there.
    _lock: File,
}

/// The catalog that is there.
struct There {
    published: PublishedCatalog,
    is_signed: bool,
}

/// What the manifest of a build's tag says.
struct TaggedBuild {
    descriptor: Descriptor,
    /// The release with this build alone.
    published: PublishedCatalog,
}

/// The builds that the tags name, as far as they were read.
type Tagged = BTreeMap<String, Option<TaggedBuild>>;

impl Registry {
    /// The repository, and the catalog that it has; `signs` says whether a new one would be signed.
    pub(super) fn open(
        transport: &Transport,
        repository: Repository,
        staging: &Path,
        runtime: &str,
        signs: bool,
    ) -> Result<(Registry, Option<PublishedCatalog>), MirrorError> {
        fs::create_dir_all(staging).map_err(failed(staging))?;
        let place = staging.join(".lock");
        let lock = File::create(&place).map_err(failed(&place))?;
        lock.lock().map_err(failed(&place))?;
        let registry = Registry {
            transport: transport.clone(),
            repository,
            runtime: runtime.to_owned(),
            staging: staging.to_owned(),
            _lock: lock,
        };
        let there = registry.there()?;
        registry.check_signed(there.as_ref(), signs)?;
        Ok((registry, there.map(|there| there.published)))
    }

    fn writer(&self) -> Writer<'_> {
        Writer {
            transport: &self.transport,
            repository: &self.repository,
        }
    }

    /// The catalog that is there; nothing where there is none.
    fn there(&self) -> Result<Option<There>, MirrorError> {
        let given = match catalog(&self.transport, &self.repository, &Validators::default()) {
            Err(SourceError::Transport(TransportError::Status { status: 404, .. })) => {
                return Ok(None);
            }
            given => given?,
        };
        let Some(CatalogArtifact {
            bytes, signature, ..
        }) = given
        else {
            return Ok(None);
        };
        Ok(Some(There {
            published: self.read(&bytes, CATALOG_TAG)?,
            is_signed: signature.is_some(),
        }))
    }

    /// Fails where the catalog that is there is signed, and a new one would not be.
    fn check_signed(&self, there: Option<&There>, signs: bool) -> Result<(), MirrorError> {
        match there.is_some_and(|there| there.is_signed) && !signs {
            true => Err(MirrorError::Unsigned {
                place: self.repository.to_string(),
            }),
            false => Ok(()),
        }
    }

    /// The catalog in a document that a tag gave.
    fn read(&self, bytes: &[u8], tag: &str) -> Result<PublishedCatalog, MirrorError> {
        let address = self.repository.manifest(tag);
        document::read(bytes, &self.runtime, &address).map_err(|problem| MirrorError::Other {
            place: address.to_string(),
            problem,
        })
    }

    /// The address of a blob, as long as it is not written down.
    fn address(&self, digest: &str) -> String {
        self.repository.blob(digest).to_string()
    }

    /// Sends a file, unless it is there, which may be known. Says how large it is, and whether it had to be sent.
    fn send(
        &self,
        file: &Path,
        digest: &str,
        is_missing: bool,
        progress: Progress<'_>,
    ) -> Result<(u64, bool), MirrorError> {
        let writer = self.writer();
        let size = fs::metadata(file).map_err(failed(file))?.len();
        if !is_missing && writer.blob_size(digest)? == Some(size) {
            return Ok((size, false));
        }
        progress(Way::Sending, 0, Some(size));
        let mut sent = |bytes| progress(Way::Sending, bytes, Some(size));
        writer.send_file(file, size, digest, &mut sent)?;
        Ok((size, true))
    }

    /// A blob that the repository has, or takes over from the one that the archive is in.
    fn without_sending(
        &self,
        archive: &Archive,
        known: Option<&str>,
    ) -> Result<Option<Stored>, MirrorError> {
        let writer = self.writer();
        let own = match archive.digest.algorithm {
            DigestAlgorithm::Sha256 => Some(archive.digest.to_string()),
            // It is named by another digest.
            DigestAlgorithm::Sha512 => known.map(digest_in),
        };
        let stored = |digest: &str, size: u64, arrival| Stored {
            address: self.address(digest),
            size,
            arrival,
        };
        if let Some(digest) = &own
            && let Some(size) = writer.blob_size(digest)?
            && archive.size.is_none_or(|promised| promised == size)
        {
            return Ok(Some(stored(digest, size, Arrival::WasThere)));
        }
        for address in archive.addresses.iter() {
            let Some(from) = self.repository.repository_of_blob(address) else {
                continue;
            };
            let digest = digest_in(&address.to_string());
            // A blob whose name is not the digest that is promised is another one.
            if own.as_ref().is_some_and(|own| *own != digest) {
                continue;
            }
            if writer.link(&digest, from)?
                && let Some(size) = writer.blob_size(&digest)?
            {
                return Ok(Some(stored(&digest, size, Arrival::Linked)));
            }
        }
        Ok(None)
    }

    /// Writes the manifest of a build under its tag: the archive, and what is added to it, as layers.
    fn write_build(
        &self,
        known: &mut Tagged,
        published: &PublishedCatalog,
        entry: &Entered,
    ) -> Result<(), MirrorError> {
        let Some((release, _, build)) = find(published, entry) else {
            return Ok(());
        };
        let writer = self.writer();
        let archive = digest_in(&build.address);
        let size = build.size.unwrap_or_default();
        let mut layers = vec![Descriptor::named(ARCHIVE_LAYER, archive, size)];
        for companion in &build.companions {
            let digest = digest_in(&companion.address);
            let size = writer.blob_size(&digest)?;
            let size = size.ok_or_else(|| self.not_kept(format!("{digest} is gone")))?;
            layers.push(Descriptor::named(ARCHIVE_LAYER, digest, size));
        }
        let mut alone = empty(&self.runtime);
        let publishers = published.catalog.publishers.iter();
        let publishers = publishers.filter(|known| known.id == entry.publisher);
        alone.catalog.publishers = publishers.cloned().collect();
        enter_from(&mut alone, published, |other| other == entry);
        let mut annotations = annotations_of(release);
        annotations.insert(PLATFORM.to_owned(), build.platform.to_string());
        annotations.insert(ENTRY.to_owned(), document::write(&relative(alone)));
        let manifest = Manifest::new(BUILD, layers, annotations).write();
        let tag = build_tag(entry);
        writer.put(&tag, MANIFEST, &manifest)?;
        let read = self.read_build(&manifest, &tag)?;
        known.insert(tag, read);
        Ok(())
    }

    /// What the manifest of a tag says; nothing where it is not one of ours.
    fn tagged<'t>(
        &self,
        known: &'t mut Tagged,
        tag: &str,
    ) -> Result<Option<&'t TaggedBuild>, MirrorError> {
        if !known.contains_key(tag) {
            let read = self.read_tag(tag)?;
            known.insert(tag.to_owned(), read);
        }
        Ok(known.get(tag).and_then(Option::as_ref))
    }

    fn read_tag(&self, tag: &str) -> Result<Option<TaggedBuild>, MirrorError> {
        match self.writer().manifest(tag)? {
            Some(bytes) => self.read_build(&bytes, tag),
            None => Ok(None),
        }
    }

    /// The build in a manifest that a tag points to; nothing where it is not one of ours.
    fn read_build(&self, bytes: &[u8], tag: &str) -> Result<Option<TaggedBuild>, MirrorError> {
        let Ok(manifest) = Manifest::read(bytes, BUILD) else {
            return Ok(None);
        };
        let entry = manifest.annotations.get(ENTRY).map_or("", String::as_str);
        let published = self.read(entry.as_bytes(), tag)?;
        let mut descriptor = Descriptor::of(MANIFEST, bytes);
        let mut found = entries(&published);
        let (Some(entry), None) = (found.next(), found.next()) else {
            return Err(self.other_tag(tag, "not one build".to_owned()));
        };
        drop(found);
        let own = build_tag(&entry);
        if own != tag {
            return Err(self.other_tag(tag, own));
        }
        descriptor.artifact_type = Some(BUILD.to_owned());
        descriptor.platform = ImagePlatform::of(&entry.platform);
        let platform = entry.platform.to_string();
        descriptor.annotations.insert(PLATFORM.to_owned(), platform);
        Ok(Some(TaggedBuild {
            descriptor,
            published,
        }))
    }

    fn other_tag(&self, tag: &str, says: String) -> MirrorError {
        MirrorError::Other {
            place: self.repository.manifest(tag).to_string(),
            problem: format!("what the tag points to is {says}"),
        }
    }

    fn not_kept(&self, problem: String) -> MirrorError {
        MirrorError::NotKept {
            place: self.repository.to_string(),
            problem,
        }
    }

    /// Writes the indexes of the builds of releases, for other tools, as far as the tags of their builds are
    /// others than when they were `indexed`.
    fn write_indexes(
        &self,
        releases: &[(&Release, String)],
        tags: &BTreeSet<String>,
        indexed: &mut BTreeMap<String, BTreeSet<String>>,
        known: &mut Tagged,
    ) -> Result<(), MirrorError> {
        for (release, tag) in releases {
            let builds = builds_of(release, tags);
            if indexed.get(tag) == Some(&builds) {
                continue;
            }
            let mut manifests = Vec::new();
            for build in &builds {
                let build = self.tagged(known, build)?;
                manifests.extend(build.map(|build| build.descriptor.clone()));
            }
            let index = Index::new(manifests, annotations_of(release));
            self.writer().put(tag, INDEX, &index.write())?;
            indexed.insert(tag.clone(), builds);
        }
        Ok(())
    }

    /// The catalog that is there with what is new in this one, what other tags name, and without what no tag
    /// names any more.
    fn merged(
        &self,
        there: Option<PublishedCatalog>,
        (own, entered): (&PublishedCatalog, &[Entered]),
        tags: &BTreeSet<String>,
        known: &mut Tagged,
    ) -> Result<PublishedCatalog, MirrorError> {
        let mut merged = there.unwrap_or_else(|| empty(&self.runtime));
        take_over(&mut merged, &own.catalog);
        enter_from(&mut merged, own, |entry| entered.contains(entry));
        let has = tags_of(&merged);
        for tag in tags.difference(&has) {
            if let Some(build) = self.tagged(known, tag)? {
                for publisher in &build.published.catalog.publishers {
                    if !merged
                        .catalog
                        .publishers
                        .iter()
                        .any(|one| one.id == publisher.id)
                    {
                        merged.catalog.publishers.push(publisher.clone());
                    }
                }
                enter_from(&mut merged, &build.published, |_| true);
            }
        }
        retain(&mut merged, |entry| tags.contains(&build_tag(entry)));
        Ok(merged)
    }

    /// Writes the catalog, its signature and the definition as one artifact.
    fn write_catalog(
        &self,
        published: &PublishedCatalog,
        writing: &Writing<'_>,
    ) -> Result<(), MirrorError> {
        let text = document::write(published);
        let signature = writing.signer.map(|signer| signer.sign(text.as_bytes()));
        let signature_name = format!("{DOCUMENT}.minisig");
        let definition_name = format!("{}.toml", self.runtime);
        let (catalog_name, catalog) = (format!("{DOCUMENT}.gz"), packed(&text));
        let signature = signature.as_deref().map(str::as_bytes);
        let definition = writing.definition.as_bytes();
        let files = [
            Some((CATALOG_LAYER, &*catalog, catalog_name)),
            signature.map(|bytes| (SIGNATURE_LAYER, bytes, signature_name)),
            Some((DEFINITION_LAYER, definition, definition_name)),
        ];
        let writer = self.writer();
        let mut layers = Vec::new();
        for (media_type, bytes, name) in files.into_iter().flatten() {
            let layer = Descriptor::of(media_type, bytes);
            writer.send_bytes(bytes, &layer)?;
            layers.push(layer.titled(&name));
        }
        let created = writing.now.to_string();
        let annotations = Annotations::from([(CREATED.to_owned(), created)]);
        let manifest = Manifest::new(CATALOG, layers, annotations);
        Ok(writer.put(CATALOG_TAG, MANIFEST, &manifest.write())?)
    }

    fn build_tags(&self) -> Result<BTreeSet<String>, MirrorError> {
        let tags = self.writer().tags()?.into_iter();
        Ok(tags.filter(|tag| names_build(tag)).collect())
    }
}

impl Place for Registry {
    fn bring(
        &self,
        _name: &str,
        archive: &Archive,
        known: Option<&str>,
        progress: Progress<'_>,
    ) -> Result<Stored, MirrorError> {
        if let Some(stored) = self.without_sending(archive, known)? {
            return Ok(stored);
        }
        let file = archive.digest.to_string().replace(':', "-");
        let file = self.staging.join(file);
        download(&self.transport, archive, &file, progress)?;
        let digest = digest_of_file(DigestAlgorithm::Sha256, &file).map_err(failed(&file))?;
        let digest = digest.to_string();
        // By a digest of another kind it was not asked for yet.
        let is_missing = archive.digest.algorithm == DigestAlgorithm::Sha256;
        let (size, had_to) = self.send(&file, &digest, is_missing, progress)?;
        fs::remove_file(&file).map_err(failed(&file))?;
        Ok(Stored {
            address: self.address(&digest),
            size,
            arrival: match had_to {
                true => Arrival::Fetched,
                false => Arrival::WasThere,
            },
        })
    }

    fn pack(
        &self,
        _name: &str,
        pack: Pack<'_>,
        progress: Progress<'_>,
    ) -> Result<(Stored, Digest), MirrorError> {
        let mut file =
            tempfile::NamedTempFile::new_in(&self.staging).map_err(failed(&self.staging))?;
        pack(file.as_file_mut()).map_err(failed(file.path()))?;
        let digest = digest_of_file(DigestAlgorithm::Sha256, file.path());
        let digest = digest.map_err(failed(file.path()))?;
        let name = digest.to_string();
        let (size, had_to) = self.send(file.path(), &name, false, progress)?;
        let stored = Stored {
            address: self.address(&name),
            size,
            arrival: match had_to {
                true => Arrival::Packed,
                false => Arrival::WasThere,
            },
        };
        Ok((stored, digest))
    }

    fn write(
        &self,
        published: &mut PublishedCatalog,
        entered: &[Entered],
        writing: &Writing<'_>,
    ) -> Result<(), MirrorError> {
        self.writer().send_bytes(EMPTY_CONTENT, &empty_blob())?;
        let mut known = Tagged::new();
        for entry in entered {
            self.write_build(&mut known, published, entry)?;
        }
        let mut indexed = BTreeMap::new();
        let mut tags = self.build_tags()?;
        let releases = releases_of(published, entered, writing.key_of);
        for round in 0..MOST_ROUNDS {
            self.write_indexes(&releases, &tags, &mut indexed, &mut known)?;
            let there = self.there()?;
            self.check_signed(there.as_ref(), writing.signer.is_some())?;
            let there = there.map(|there| there.published);
            let updated = there.as_ref().and_then(|there| there.catalog.updated);
            let merged = self.merged(there, (published, entered), &tags, &mut known)?;
            let mut merged = relative(merged);
            // A client takes no catalog that is older than one it saw.
            merged.catalog.updated = updated.max(Some(writing.now));
            self.write_catalog(&merged, writing)?;
            tags = self.build_tags()?;
            let there = self.there()?;
            let there = there.ok_or_else(|| self.not_kept("the catalog is gone".to_owned()))?;
            let has = tags_of(&there.published);
            let mut missing = false;
            for tag in tags.difference(&has) {
                missing |= self.tagged(&mut known, tag)?.is_some();
            }
            let stale = |(release, tag): &(&Release, String)| {
                indexed.get(tag) != Some(&builds_of(release, &tags))
            };
            if !missing && has.is_subset(&tags) && !releases.iter().any(stale) {
                *published = there.published;
                return Ok(());
            }
            // Others write as well; of those who wait differently long, one is alone.
            let pause = u64::from(std::process::id() % 97 + 20) * u64::from(round + 1);
            thread::sleep(Duration::from_millis(pause));
        }
        Err(MirrorError::Busy {
            place: self.repository.to_string(),
        })
    }

    fn definition(&self) -> Result<Option<String>, MirrorError> {
        match self.repository.definition(&self.transport) {
            Err(SourceError::Transport(TransportError::Status { status: 404, .. })) => Ok(None),
            definition => Ok(definition?),
        }
    }
}

/// A catalog whose builds are where they are from any manifest of their repository, on whatever server.
fn relative(mut published: PublishedCatalog) -> PublishedCatalog {
    let below = |address: &str| format!("../blobs/{}", digest_in(address));
    for build in published.builds_mut() {
        build.address = below(&build.address);
        for companion in &mut build.companions {
            companion.address = below(&companion.address);
        }
    }
    published
}

/// The digest at the end of a blob's address.
fn digest_in(address: &str) -> String {
    let name = address.rsplit('/').next().unwrap_or(address);
    Address::read(address).map_or_else(|_| name.to_owned(), |address| address.file_name())
}

/// What is said of a release beside its manifests.
fn annotations_of(release: &Release) -> Annotations {
    let mut annotations = Annotations::from([
        (VERSION.to_owned(), release.version.to_string()),
        (VENDOR.to_owned(), release.publisher.to_string()),
    ]);
    let date = release.date.map(|date| format!("{date}T00:00:00Z"));
    annotations.extend(date.map(|date| (CREATED.to_owned(), date)));
    let security = release.security.map(|security| security.to_string());
    annotations.extend(security.map(|security| (SECURITY.to_owned(), security)));
    let withdrawn = release.withdrawn.as_deref();
    annotations.extend(withdrawn.map(|why| (WITHDRAWN.to_owned(), why.to_owned())));
    annotations
}

/// What the tags of a release's builds begin with.
fn release_tag(version: &str, publisher: &str) -> String {
    tag_of(&format!("{publisher}-{version}"))
}

/// The tag of a build.
fn build_tag(entry: &Entered) -> String {
    let release = release_tag(&entry.version.to_string(), &entry.publisher);
    format!("{release}.{}", entry.platform)
}

/// The tags of all builds of a catalog.
fn tags_of(published: &PublishedCatalog) -> BTreeSet<String> {
    entries(published).map(|entry| build_tag(&entry)).collect()
}

/// A text as a tag, which has no `+` (OCI Distribution Specification 1.1, "Pulling manifests").
fn tag_of(text: &str) -> String {
    text.replace('+', "_")
}

/// Whether a tag may be that of a build: a platform is at its end.
fn names_build(tag: &str) -> bool {
    let end = tag.rsplit_once('.').map(|(_, end)| end);
    end.is_some_and(|end| end.parse::<Platform>().is_ok())
}

/// Those of the tags that are of a release's builds.
fn builds_of(release: &Release, tags: &BTreeSet<String>) -> BTreeSet<String> {
    let own = release_tag(&release.version.to_string(), &release.publisher);
    let is_own = |tag: &&String| tag.rsplit_once('.').map(|(beginning, _)| beginning) == Some(&own);
    tags.iter().filter(is_own).cloned().collect()
}

/// Each release that something new is of, with the tag of its index.
fn releases_of<'p>(
    published: &'p PublishedCatalog,
    entered: &[Entered],
    key_of: &dyn Fn(&Version, &str) -> String,
) -> Vec<(&'p Release, String)> {
    let releases = entered.iter().filter_map(|entry| find(published, entry));
    let by_tag: BTreeMap<String, &Release> = releases
        .map(|(release, ..)| {
            (
                tag_of(&key_of(&release.version, &release.publisher)),
                release,
            )
        })
        .collect();
    by_tag
        .into_iter()
        .map(|(tag, release)| (release, tag))
        .collect()
}
