//! Signatures of catalogs, in the open minisign format: a file beside the catalog, or a layer beside it.

use std::fmt;
use std::io::Cursor;
use std::path::Path;

use minisign::{PublicKey, SecretKey, SecretKeyBox, SignatureBox};

use crate::address::Address;
use crate::api::SourceError;
use crate::transport::{Document, Transport, Validators};

/// What is put behind a catalog's address for that of its signature.
const ENDING: &str = ".minisig";

/// The signature in the file beside a catalog.
pub(crate) fn beside(transport: &Transport, address: &Address) -> Result<Vec<u8>, SourceError> {
    let beside = Address::read(&format!("{address}{ENDING}"))?;
    let document = transport
        .document(&beside, &Validators::default(), None)
        .map_err(|error| refused(address, error.to_string()))?;
    match document {
        Document::Body { bytes, .. } => Ok(bytes),
        Document::Unchanged => Err(SourceError::unasked(&beside)),
    }
}

/// Checks that `bytes`, which `address` gave, are signed with `key` by the signature `text`; empty where there
/// is none.
pub(crate) fn verify(
    address: &Address,
    bytes: &[u8],
    text: &[u8],
    key: &str,
) -> Result<(), SourceError> {
    let refused = |problem: String| refused(address, problem);
    if text.is_empty() {
        return Err(refused("there is none".to_owned()));
    }
    let key = PublicKey::from_base64(key.trim()).map_err(|_| {
        refused(format!(
            "the key {key:?} in the definition is not a minisign key"
        ))
    })?;
    let signature = SignatureBox::from_string(&String::from_utf8_lossy(text))
        .map_err(|_| refused("it is not a minisign signature".to_owned()))?;
    // Nothing is printed, and the way of signing that is not used any more is not accepted.
    minisign::verify(&key, &signature, Cursor::new(bytes), true, false, false)
        .map_err(|_| refused("it was not made with the key in the definition".to_owned()))
}

fn refused(address: &Address, problem: String) -> SourceError {
    SourceError::Signature {
        address: address.to_string(),
        problem,
    }
}

/// A key that signs. It is shown nowhere.
pub struct Signer {
    key: SecretKey,
    public: PublicKey,
}

impl fmt::Debug for Signer {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a key that signs")
    }
}

impl Signer {
    /// Reads the secret key in a minisign file, with its password where it has one; the error says what is
    /// wrong with it.
    pub fn read(file: &Path, password: Option<&str>) -> Result<Signer, String> {
        let text = std::fs::read_to_string(file).map_err(|error| error.to_string())?;
        let no_key = |_| "it is not a minisign secret key".to_owned();
        let stored = SecretKeyBox::from_string(&text).map_err(no_key)?;
        let key = match password {
            Some(password) => stored
                .into_secret_key(Some(password.to_owned()))
                .map_err(|_| "the password is not that of the key".to_owned())?,
            None => stored.into_unencrypted_secret_key().map_err(|error| {
                match error.to_string().contains("encrypted") {
                    true => "it has a password, which VSHELF_KEY_PASSWORD has to say".to_owned(),
                    false => no_key(error),
                }
            })?,
        };
        let public = PublicKey::from_secret_key(&key).map_err(|error| error.to_string())?;
        Ok(Signer { key, public })
    }

    /// The public key, as definitions have it.
    pub fn public_key(&self) -> String {
        self.public.to_base64()
    }

    /// The signature of these bytes.
    pub(crate) fn sign(&self, bytes: &[u8]) -> String {
        let trusted = Some("Vivid Shelf catalog");
        let signature = minisign::sign(
            Some(&self.public),
            &self.key,
            Cursor::new(bytes),
            trusted,
            None,
        );
        signature
            .expect("bytes in memory can be signed")
            .into_string()
    }
}
