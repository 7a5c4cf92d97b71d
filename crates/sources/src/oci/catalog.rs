//! The catalog of a repository.

use std::io::{Read, Write};

use flate2::Compression;
use flate2::read::GzDecoder;
use flate2::write::GzEncoder;
use vshelf_core::catalog::DigestAlgorithm;

use super::manifest::{
    ANY, CATALOG, CATALOG_LAYER, DEFINITION_LAYER, Descriptor, Manifest, SIGNATURE_LAYER,
};
use super::repository::Repository;
use crate::address::Address;
use crate::api::SourceError;
use crate::digest::digest_of;
use crate::transport::{Document, LARGEST_DOCUMENT, Transport, Validators};

/// What a repository has as its catalog.
pub(crate) struct CatalogArtifact {
    /// The document.
    pub(crate) bytes: Vec<u8>,
    /// Its signature, where it has one.
    pub(crate) signature: Option<Vec<u8>>,
    /// The definition of the runtime, where it has one.
    definition: Option<Descriptor>,
    /// What to ask with next time.
    pub(crate) validators: Validators,
}

/// The catalog of a repository; nothing where it is still what `known` describes.
pub(crate) fn catalog(
    transport: &Transport,
    repository: &Repository,
    known: &Validators,
) -> Result<Option<CatalogArtifact>, SourceError> {
    let address = repository.catalog_address();
    let document = transport.document(&address, known, Some(ANY))?;
    let Document::Body { bytes, validators } = document else {
        return Ok(None);
    };
    let wrong = |problem: String| SourceError::document(&address, problem);
    // A server that gives no validator is asked with the digest, which is one (RFC 9110, §8.8.3).
    let own = format!("\"{}\"", digest_of(DigestAlgorithm::Sha256, &bytes));
    if validators.etag.is_none() && known.etag.as_ref() == Some(&own) {
        return Ok(None);
    }
    let manifest = Manifest::read(&bytes, CATALOG).map_err(wrong)?;
    let layer = manifest.layer(CATALOG_LAYER);
    let layer = layer.ok_or_else(|| wrong("it has no layer with a catalog".to_owned()))?;
    let signature = manifest.layer(SIGNATURE_LAYER);
    let packed = fetch(transport, repository, layer)?;
    let bytes = unpacked(&packed)
        .map_err(|problem| SourceError::document(&repository.blob(&layer.digest), problem))?;
    Ok(Some(CatalogArtifact {
        bytes,
        signature: signature
            .map(|layer| fetch(transport, repository, layer))
            .transpose()?,
        definition: manifest.layer(DEFINITION_LAYER).cloned(),
        validators: Validators {
            etag: validators.etag.or(Some(own)),
            modified: None,
        },
    }))
}

/// A document as it is packed for a registry: the same bytes for the same document.
pub(crate) fn packed(document: &str) -> Vec<u8> {
    let mut packer = GzEncoder::new(Vec::new(), Compression::best());
    let written = packer.write_all(document.as_bytes());
    written
        .and_then(|()| packer.finish())
        .expect("memory takes what is written")
}

/// The document in a packed layer; the error says what is wrong with it.
fn unpacked(packed: &[u8]) -> Result<Vec<u8>, String> {
    let mut bytes = Vec::new();
    let mut unpacker = GzDecoder::new(packed).take(LARGEST_DOCUMENT + 1);
    let read = unpacker.read_to_end(&mut bytes);
    read.map_err(|error| format!("it cannot be unpacked: {error}"))?;
    match bytes.len() as u64 > LARGEST_DOCUMENT {
        true => Err(format!("it is larger than {LARGEST_DOCUMENT} bytes")),
        false => Ok(bytes),
    }
}

impl Repository {
    /// The definition of the runtime that the repository is of, where it has one.
    pub fn definition(&self, transport: &Transport) -> Result<Option<String>, SourceError> {
        let given = catalog(transport, self, &Validators::default())?;
        let Some(layer) = given.and_then(|given| given.definition) else {
            return Ok(None);
        };
        let bytes = fetch(transport, self, &layer)?;
        Ok(Some(String::from_utf8_lossy(&bytes).into_owned()))
    }
}

/// The bytes of a layer, as its manifest promises them.
fn fetch(
    transport: &Transport,
    repository: &Repository,
    layer: &Descriptor,
) -> Result<Vec<u8>, SourceError> {
    let address: Address = repository.blob(&layer.digest);
    let document = transport.document(&address, &Validators::default(), None)?;
    let Document::Body { bytes, .. } = document else {
        return Err(SourceError::unasked(&address));
    };
    let size = bytes.len() as u64;
    if size != layer.size {
        let problem = format!(
            "it has {size} bytes, and its manifest promises {}",
            layer.size
        );
        return Err(SourceError::document(&address, problem));
    }
    let digest = digest_of(DigestAlgorithm::Sha256, &bytes).to_string();
    if digest != layer.digest {
        let problem = format!("its digest is {digest}, and not the one that it is named by");
        return Err(SourceError::document(&address, problem));
    }
    Ok(bytes)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_document_is_packed_and_no_other_is_unpacked() {
        assert_eq!(unpacked(&packed("tide")).unwrap(), b"tide");
        assert_eq!(packed("tide"), packed("tide"));
        assert!(
            unpacked(b"tide")
                .unwrap_err()
                .starts_with("it cannot be unpacked")
        );
        // Little on the way, and far too much in memory.
        let bomb = "0".repeat(LARGEST_DOCUMENT as usize + 1);
        let error = unpacked(&packed(&bomb)).unwrap_err();
        assert!(error.starts_with("it is larger than"), "{error}");
    }
}
