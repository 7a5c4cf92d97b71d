//! Signatures of catalogs, in the open minisign format: a file beside the catalog.

use minisign_verify::{PublicKey, Signature};

use crate::address::Address;
use crate::api::SourceError;
use crate::transport::{Document, Transport, Validators};

/// What is put behind a catalog's address for that of its signature.
const ENDING: &str = ".minisig";

/// Checks that `bytes`, which `address` gave, are signed with `key`.
pub(crate) fn verify(
    transport: &Transport,
    address: &Address,
    bytes: &[u8],
    key: &str,
) -> Result<(), SourceError> {
    let refused = |problem: String| SourceError::Signature {
        address: address.to_string(),
        problem,
    };
    let key = PublicKey::from_base64(key.trim()).map_err(|_| {
        refused(format!(
            "the key {key:?} in the definition is not a minisign key"
        ))
    })?;
    let beside = Address::read(&format!("{address}{ENDING}"))?;
    let document = transport
        .document(&beside, &Validators::default(), None)
        .map_err(|error| refused(error.to_string()))?;
    let Document::Body { bytes: text, .. } = document else {
        return Err(SourceError::unasked(&beside));
    };
    let signature = Signature::decode(&String::from_utf8_lossy(&text))
        .map_err(|_| refused(format!("{beside} is not a minisign signature")))?;
    key.verify(bytes, &signature, false)
        .map_err(|_| refused("it was not made with the key in the definition".to_owned()))
}
