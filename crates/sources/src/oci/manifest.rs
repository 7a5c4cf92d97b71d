//! Manifests and indexes of images, as far as ours have them (OCI Image Format Specification 1.1, "Image Manifest
//! Specification" and "Image Index Specification").

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use vshelf_core::Platform;
use vshelf_core::catalog::DigestAlgorithm;

use crate::digest::digest_of;

/// The type of a manifest.
pub(crate) const MANIFEST: &str = "application/vnd.oci.image.manifest.v1+json";
/// The type of an index.
pub(crate) const INDEX: &str = "application/vnd.oci.image.index.v1+json";
/// Every type that something may have which a tag points to: another one than is wanted is told by name.
pub(crate) const ANY: &str = "application/vnd.oci.image.manifest.v1+json, \
    application/vnd.oci.image.index.v1+json, \
    application/vnd.docker.distribution.manifest.v2+json, \
    application/vnd.docker.distribution.manifest.list.v2+json";
/// The type of what is no image and has no configuration.
const EMPTY: &str = "application/vnd.oci.empty.v1+json";
/// The one content that this type has.
pub(crate) const EMPTY_CONTENT: &[u8] = b"{}";

/// What a catalog's manifest is of.
pub(crate) const CATALOG: &str = "application/vnd.vivid-shelf.catalog.v1";
/// What a build's manifest is of.
pub(crate) const BUILD: &str = "application/vnd.vivid-shelf.build.v1";
/// The layer with the catalog, packed by gzip.
pub(crate) const CATALOG_LAYER: &str = "application/vnd.vivid-shelf.catalog.v1+gzip";
/// The layer with its minisign signature.
pub(crate) const SIGNATURE_LAYER: &str = "application/vnd.vivid-shelf.signature.v1+text";
/// The layer with the definition of the runtime.
pub(crate) const DEFINITION_LAYER: &str = "application/vnd.vivid-shelf.definition.v1+toml";
/// The layer with an archive as it was published.
pub(crate) const ARCHIVE_LAYER: &str = "application/vnd.vivid-shelf.archive.v1";

/// The annotation with the name of a layer's file.
pub(crate) const TITLE: &str = "org.opencontainers.image.title";
/// The annotation with the version.
pub(crate) const VERSION: &str = "org.opencontainers.image.version";
/// The annotation with the publisher.
pub(crate) const VENDOR: &str = "org.opencontainers.image.vendor";
/// The annotation with the day of the release.
pub(crate) const CREATED: &str = "org.opencontainers.image.created";
/// The annotation with our name of the platform: images know no C library.
pub(crate) const PLATFORM: &str = "vivid-shelf.platform";
/// The annotation with the release and its build, as a catalog has them.
pub(crate) const ENTRY: &str = "vivid-shelf.release";
/// The annotation that says whether a release fixes a security problem: `true` or `false`; absent if unknown.
pub(crate) const SECURITY: &str = "vivid-shelf.security";
/// The annotation with the reason why a release was withdrawn.
pub(crate) const WITHDRAWN: &str = "vivid-shelf.withdrawn";

/// Notes at a manifest, index or layer.
pub(crate) type Annotations = BTreeMap<String, String>;

/// Something that is named by its digest.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Descriptor {
    pub(crate) media_type: String,
    pub(crate) digest: String,
    pub(crate) size: u64,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) artifact_type: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(crate) platform: Option<ImagePlatform>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub(crate) annotations: Annotations,
}

/// A platform as images have it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct ImagePlatform {
    architecture: String,
    os: String,
}

impl ImagePlatform {
    /// The nearest that images have for one of ours; nothing for what runs on every one.
    pub(crate) fn of(platform: &Platform) -> Option<ImagePlatform> {
        let mut words = platform.as_str().split('-');
        let (os, architecture) = (words.next()?, words.next()?);
        let architecture = match architecture {
            "x64" => "amd64",
            other => other,
        };
        Some(ImagePlatform {
            architecture: architecture.to_owned(),
            os: os.to_owned(),
        })
    }
}

impl Descriptor {
    /// What names these bytes.
    pub(crate) fn of(media_type: &str, bytes: &[u8]) -> Descriptor {
        let digest = digest_of(DigestAlgorithm::Sha256, bytes).to_string();
        Descriptor::named(media_type, digest, bytes.len() as u64)
    }

    /// Something of this digest and size.
    pub(crate) fn named(media_type: &str, digest: String, size: u64) -> Descriptor {
        Descriptor {
            media_type: media_type.to_owned(),
            digest,
            size,
            artifact_type: None,
            platform: None,
            annotations: Annotations::new(),
        }
    }

    /// The same with the name of its file.
    pub(crate) fn titled(mut self, name: &str) -> Descriptor {
        self.annotations.insert(TITLE.to_owned(), name.to_owned());
        self
    }
}

/// The configuration of what is no image.
pub(crate) fn empty_blob() -> Descriptor {
    Descriptor::of(EMPTY, EMPTY_CONTENT)
}

/// The manifest of something of one or more layers.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Manifest {
    schema_version: u32,
    media_type: Option<String>,
    artifact_type: Option<String>,
    config: Descriptor,
    pub(crate) layers: Vec<Descriptor>,
    #[serde(default)]
    pub(crate) annotations: Annotations,
}

/// What a manifest is, without what it has.
#[derive(Deserialize)]
#[serde(rename_all = "camelCase")]
struct Head {
    media_type: Option<String>,
    #[serde(default)]
    manifests: Vec<serde::de::IgnoredAny>,
}

impl Manifest {
    /// A manifest of something of ours.
    pub(crate) fn new(of: &str, layers: Vec<Descriptor>, annotations: Annotations) -> Manifest {
        Manifest {
            schema_version: 2,
            media_type: Some(MANIFEST.to_owned()),
            artifact_type: Some(of.to_owned()),
            config: empty_blob(),
            layers,
            annotations,
        }
    }

    /// Reads a manifest of something of ours of this type; the error says what it is instead.
    pub(crate) fn read(bytes: &[u8], of: &str) -> Result<Manifest, String> {
        let head: Head = serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
        match head.media_type.as_deref() {
            _ if !head.manifests.is_empty() => return Err("it is an index of several".to_owned()),
            Some(MANIFEST) | None => {}
            Some(other) => return Err(format!("it is of the type {other}")),
        }
        let manifest: Manifest =
            serde_json::from_slice(bytes).map_err(|error| error.to_string())?;
        match manifest.artifact_type.as_deref() {
            Some(found) if found == of => Ok(manifest),
            Some(found) => Err(format!("it is of the type {found}")),
            None => Err("it is an image of a container".to_owned()),
        }
    }

    /// The layer of a type.
    pub(crate) fn layer(&self, media_type: &str) -> Option<&Descriptor> {
        let mut layers = self.layers.iter();
        layers.find(|layer| layer.media_type == media_type)
    }

    /// The document.
    pub(crate) fn write(&self) -> Vec<u8> {
        written(self)
    }
}

/// A document as its digest is computed of it.
fn written(document: &impl Serialize) -> Vec<u8> {
    serde_json::to_vec_pretty(document).expect("texts and numbers serialise")
}

/// An index of the builds of a release, for other tools.
#[derive(Debug, Serialize)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Index {
    schema_version: u32,
    media_type: &'static str,
    manifests: Vec<Descriptor>,
    annotations: Annotations,
}

impl Index {
    /// An index of these manifests.
    pub(crate) fn new(manifests: Vec<Descriptor>, annotations: Annotations) -> Index {
        Index {
            schema_version: 2,
            media_type: INDEX,
            manifests,
            annotations,
        }
    }

    /// The document.
    pub(crate) fn write(&self) -> Vec<u8> {
        written(self)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn catalog() -> Manifest {
        let layer = Descriptor::of(CATALOG_LAYER, b"tide").titled("catalog.json");
        Manifest::new(CATALOG, vec![layer], Annotations::new())
    }

    #[test]
    fn what_is_written_is_read_again() {
        let read = Manifest::read(&catalog().write(), CATALOG).unwrap();
        assert_eq!(read.layers, catalog().layers);
        assert_eq!(read.layer(CATALOG_LAYER).unwrap().size, 4);
        assert!(read.layer(SIGNATURE_LAYER).is_none());
        // The digest that every empty configuration has.
        let digest = "sha256:44136fa355b3678a1146ad16f7e8649e94fb4fc21fe77e8310c060f61caaff8a";
        assert_eq!(read.config.digest, digest);
    }

    #[rstest]
    #[case(
        r#"{"mediaType":"application/vnd.oci.image.index.v1+json","manifests":[{}]}"#,
        "it is an index of several"
    )]
    #[case(r#"{"schemaVersion":2,"manifests":[{}]}"#, "it is an index of several")]
    #[case(
        r#"{"mediaType":"application/vnd.docker.distribution.manifest.v2+json"}"#,
        "it is of the type application/vnd.docker.distribution.manifest.v2+json"
    )]
    #[case(
        r#"{"schemaVersion":2,"config":{"mediaType":"a","digest":"b","size":1},"layers":[]}"#,
        "it is an image of a container"
    )]
    #[case("tide", "expected ident at line 1 column 2")]
    fn what_is_something_else_is_told(#[case] text: &str, #[case] expected: &str) {
        let error = Manifest::read(text.as_bytes(), CATALOG).unwrap_err();
        assert_eq!(error, expected);
    }

    #[test]
    fn a_build_is_no_catalog() {
        let error = Manifest::read(&catalog().write(), BUILD).unwrap_err();
        assert_eq!(error, format!("it is of the type {CATALOG}"));
    }

    #[rstest]
    #[case("linux-x64-gnu", "amd64", "linux")]
    #[case("darwin-arm64", "arm64", "darwin")]
    fn images_know_the_platform(#[case] own: &str, #[case] architecture: &str, #[case] os: &str) {
        let found = ImagePlatform::of(&own.parse().unwrap()).unwrap();
        assert_eq!((&*found.architecture, &*found.os), (architecture, os));
    }
}
