//! Digests of what was downloaded.

use std::fs::File;
use std::io;
use std::path::Path;

use ring::digest::{Context, SHA256, SHA512};
use vshelf_core::catalog::{Digest, DigestAlgorithm};
use vshelf_files::pieces::for_each_piece;

/// A digest under way.
pub struct Digester {
    algorithm: DigestAlgorithm,
    context: Context,
}

impl Digester {
    /// Begins a digest.
    pub fn new(algorithm: DigestAlgorithm) -> Digester {
        let context = Context::new(match algorithm {
            DigestAlgorithm::Sha256 => &SHA256,
            DigestAlgorithm::Sha512 => &SHA512,
        });
        Digester { algorithm, context }
    }

    /// Adds the next bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        self.context.update(bytes);
    }

    /// The digest of everything added.
    pub fn finish(self) -> Digest {
        Digest {
            algorithm: self.algorithm,
            bytes: self.context.finish().as_ref().to_vec(),
        }
    }
}

/// The digest of `bytes`.
pub fn digest_of(algorithm: DigestAlgorithm, bytes: &[u8]) -> Digest {
    let mut digester = Digester::new(algorithm);
    digester.update(bytes);
    digester.finish()
}

/// The digest of the file at `path`.
pub fn digest_of_file(algorithm: DigestAlgorithm, path: &Path) -> io::Result<Digest> {
    let mut file = File::open(path)?;
    let mut digester = Digester::new(algorithm);
    for_each_piece(
        &mut file,
        |error| error,
        |piece| {
            digester.update(piece);
            Ok(())
        },
    )?;
    Ok(digester.finish())
}
