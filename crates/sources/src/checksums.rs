//! Checksum lists, and from a build to the archive that is downloaded.

use std::collections::HashMap;

use vshelf_core::catalog::{Build, Checksum, Digest, DigestAlgorithm};

use crate::address::{Address, Addresses};
use crate::api::{SourceError, first_document};
use crate::transport::{Document, Transport, Validators};

/// An archive with all that is needed to bring and verify it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Archive {
    /// Where it is; each address has the same bytes.
    pub addresses: Addresses,
    /// What its bytes must add up to.
    pub digest: Digest,
    /// Its size in bytes, where the catalog tells.
    pub size: Option<u64>,
}

impl Archive {
    /// The archive at this address, a URL or a path, whose digest is known.
    pub fn with_digest(address: &str, digest: Digest) -> Result<Archive, SourceError> {
        Ok(Archive {
            addresses: Address::read(address)?.into(),
            digest,
            size: None,
        })
    }

    /// Locates the archive of the first of `builds` ([`ChecksumLists::locate`]).
    pub fn locate<'b>(
        transport: &Transport,
        builds: &[&'b Build],
    ) -> Result<(Archive, &'b Build), SourceError> {
        ChecksumLists::default().locate(transport, builds)
    }
}

/// Checksum lists that were fetched, by their addresses.
#[derive(Debug, Default)]
pub struct ChecksumLists(HashMap<String, String>);

impl ChecksumLists {
    /// The archive of the first of `builds`, best first, whose digest is known, and that build. A checksum list is
    /// fetched if the digest is in one.
    ///
    /// Builds of one release that share a list are alternatives of which some may not exist.
    pub fn locate<'b>(
        &mut self,
        transport: &Transport,
        builds: &[&'b Build],
    ) -> Result<(Archive, &'b Build), SourceError> {
        let mut missing = None;
        let mut absent = 0;
        for build in builds {
            let addresses = Addresses::read(&build.address, &build.mirrors)?;
            let found = |digest| {
                let archive = Archive {
                    addresses: addresses.clone(),
                    digest,
                    size: build.size,
                };
                (archive, *build)
            };
            let list = match &build.checksum {
                Checksum::Digest(digest) => return Ok(found(digest.clone())),
                Checksum::Listed(list) => list.as_str(),
            };
            if !self.0.contains_key(list) {
                let text = match read_list(transport, list, build) {
                    // Another alternative may have one.
                    Err(error) if error.is_absent() && builds.len() > 1 => {
                        absent += 1;
                        String::new()
                    }
                    text => text?,
                };
                self.0.insert(list.to_owned(), text);
            }
            let name = addresses.first().file_name();
            let own_list = || Some(Address::read(list).ok()?.file_name().starts_with(&name));
            let alone = || {
                own_list()
                    .filter(|own| *own)
                    .and_then(|_| only_digest(&self.0[list]))
            };
            match find(&self.0[list], &name).or_else(alone) {
                Some(digest) => return Ok(found(digest)),
                None => missing = missing.or(Some((list.to_owned(), name))),
            }
        }
        if let Some(build) = builds.first().filter(|_| absent == builds.len()) {
            return Err(SourceError::NoDigest {
                archive: build.address.clone(),
            });
        }
        let (address, name) = missing.unwrap_or_default();
        Err(SourceError::NotListed { address, name })
    }
}

/// The text of a list; where the build has mirrors, the list lies beside each of them too.
fn read_list(transport: &Transport, list: &str, build: &Build) -> Result<String, SourceError> {
    let list = Address::read(list)?;
    let archive = Address::read(&build.address)?;
    let mut elsewhere = Vec::new();
    for mirror in &build.mirrors {
        elsewhere.extend(list.beside(&archive, &Address::read(mirror)?));
    }
    let addresses = Addresses::new(list, elsewhere);
    let (document, at) = first_document(transport, &addresses, &Validators::default(), None)?;
    match document {
        Document::Body { bytes, .. } => Ok(String::from_utf8_lossy(&bytes).into_owned()),
        Document::Unchanged => Err(SourceError::unasked(&at)),
    }
}

/// The digest of the file `name` in a list as the checksum programs of every system print it: the
/// digest in hexadecimal digits, a space, a space or `*`, and the name, which may have `./` in
/// front (GNU coreutils manual, §6.7 and §6.9).
pub fn find(list: &str, name: &str) -> Option<Digest> {
    entries(list)
        .filter(|(listed, _)| *listed == name)
        .find_map(|(_, hex)| read_digest(hex))
}

/// The digest in the file of one archive that has nothing else in it.
fn only_digest(text: &str) -> Option<Digest> {
    let mut words = text.split_whitespace();
    let digest = read_digest(words.next()?);
    digest.filter(|_| words.next().is_none())
}

/// The names in a list, in its order, each with the text of its digest.
pub fn entries(list: &str) -> impl Iterator<Item = (&str, &str)> {
    list.lines().filter_map(|line| {
        let (hex, rest) = line.split_once(' ')?;
        let name = rest.trim_start_matches([' ', '*']).trim_end();
        Some((name.strip_prefix("./").unwrap_or(name), hex))
    })
}

/// A digest whose algorithm its length tells; nothing where it is none of those accepted.
pub fn read_digest(hex: &str) -> Option<Digest> {
    let algorithm = [DigestAlgorithm::Sha256, DigestAlgorithm::Sha512]
        .into_iter()
        .find(|algorithm| hex.len() == 2 * algorithm.length())?;
    format!("{}:{hex}", algorithm.as_str()).parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("m-8.tar.xz", Some("0a"))]
    #[case("m-9.tar.xz", Some("0b"))]
    #[case("m-6.tar.xz", Some("0c"))]
    #[case("m-5.tar.xz", None)]
    #[case("8.tar.xz", None)]
    #[case("", None)]
    fn a_digest_is_found_by_the_whole_name(#[case] name: &str, #[case] byte: Option<&str>) {
        let list = format!(
            "{}  m-8.tar.xz\n{} *./m-9.tar.xz\r\n{}  m-6.tar.xz\n{}  m-5.tar.xz\nrubbish\n",
            "0a".repeat(32),
            "0b".repeat(32),
            "0c".repeat(64),
            "0d".repeat(20),
        );
        let found = find(&list, name).map(|digest| format!("{:02x}", digest.bytes[0]));
        assert_eq!(found.as_deref(), byte);
        let alone = format!("{}\r\n", "0A".repeat(32));
        assert_eq!(only_digest(&alone).map(|digest| digest.bytes[0]), Some(10));
        assert_eq!(only_digest(&list), None);
        let second = entries(&list).nth(1).map(|(name, _)| name);
        assert_eq!(second, Some("m-9.tar.xz"));
    }
}
