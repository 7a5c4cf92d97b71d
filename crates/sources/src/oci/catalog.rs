//! The catalog of a repository.

use vshelf_core::catalog::DigestAlgorithm;

use super::manifest::{
    ANY, CATALOG, CATALOG_LAYER, DEFINITION_LAYER, Descriptor, Manifest, SIGNATURE_LAYER,
};
use super::repository::Repository;
use crate::address::Address;
use crate::api::SourceError;
use crate::digest::digest_of;
use crate::transport::{Document, Transport, Validators};

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
    Ok(Some(CatalogArtifact {
        bytes: fetch(transport, repository, layer)?,
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
