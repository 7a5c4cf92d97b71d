//! A repository of a registry, and the addresses of what is in it (OCI Distribution Specification 1.1,
//! "Endpoints").

use std::fmt;

use url::Url;

use crate::address::{Address, AddressError};

/// The tag of the catalog.
pub(crate) const CATALOG_TAG: &str = "catalog";

/// A repository: `oci://HOST/NAME` over https, or `oci+http://HOST/NAME` on this machine itself.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Repository {
    server: Url,
    name: String,
}

impl Repository {
    /// Reads an address.
    pub fn read(text: &str) -> Result<Repository, AddressError> {
        let wrong = |problem: &str| AddressError::new(text, problem);
        let web = match (
            text.strip_prefix("oci://"),
            text.strip_prefix("oci+http://"),
        ) {
            (Some(rest), _) => format!("https://{rest}"),
            (None, Some(rest)) => format!("http://{rest}"),
            (None, None) => return Err(wrong("a repository is oci://HOST/NAME")),
        };
        let mut server = Url::parse(&web).map_err(|problem| AddressError::new(text, problem))?;
        if server.scheme() == "http" && !Address::Web(server.clone()).is_loopback() {
            return Err(wrong(
                "without encryption, only this machine itself is asked",
            ));
        }
        let name = server.path().trim_matches('/').to_owned();
        if !is_name(&name) {
            return Err(wrong(
                "the name of a repository has small letters, digits and, between them, . _ - and /",
            ));
        }
        server.set_path("/");
        Ok(Repository { server, name })
    }

    /// The repository of this name below a prefix.
    pub fn below(prefix: &str, name: &str) -> Result<Repository, AddressError> {
        Repository::read(&format!("{}/{name}", prefix.trim_end_matches('/')))
    }

    /// Its name.
    pub fn name(&self) -> &str {
        &self.name
    }

    /// The name of the repository on the same server that a blob's address is in.
    pub(crate) fn repository_of_blob<'a>(&self, address: &'a Address) -> Option<&'a str> {
        match address {
            Address::Web(url) if url.origin() == self.server.origin() => {
                let rest = url.path().strip_prefix("/v2/")?;
                rest.split_once("/blobs/").map(|(name, _)| name)
            }
            _ => None,
        }
    }

    fn at(&self, rest: &str) -> Address {
        let mut url = self.server.clone();
        url.set_path(&format!("/v2/{}/{rest}", self.name));
        Address::Web(url)
    }

    /// The manifest of its catalog.
    pub(crate) fn catalog_address(&self) -> Address {
        self.manifest(CATALOG_TAG)
    }

    /// The manifest of a tag or digest.
    pub(crate) fn manifest(&self, reference: &str) -> Address {
        self.at(&format!("manifests/{reference}"))
    }

    /// The blob of a digest, such as `sha256:…`.
    pub(crate) fn blob(&self, digest: &str) -> Address {
        self.at(&format!("blobs/{digest}"))
    }

    /// Where an upload begins; with a blob of another repository of the server, where there may be one.
    pub(crate) fn uploads(&self, mount: Option<(&str, &str)>) -> Address {
        let mut address = self.at("blobs/uploads/");
        if let (Address::Web(url), Some((digest, from))) = (&mut address, mount) {
            url.query_pairs_mut()
                .append_pair("mount", digest)
                .append_pair("from", from);
        }
        address
    }

    /// The list of its tags, as many at once as the server may give.
    pub(crate) fn tags(&self) -> Address {
        let mut address = self.at("tags/list");
        if let Address::Web(url) = &mut address {
            url.set_query(Some("n=1000"));
        }
        address
    }
}

impl fmt::Display for Repository {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let scheme = match self.server.scheme() {
            "http" => "oci+http",
            _ => "oci",
        };
        let server = Address::Web(self.server.clone());
        write!(f, "{scheme}://{}/{}", server.server(), self.name)
    }
}

/// Whether a text is the name of a repository (OCI Distribution Specification 1.1, "Pulling manifests").
fn is_name(text: &str) -> bool {
    let is_part = |part: &str| {
        let words = part.split(|letter: char| !letter.is_ascii_alphanumeric());
        let between = part.split(|letter: char| letter.is_ascii_alphanumeric());
        let good_words = part
            .chars()
            .next()
            .is_some_and(|first| first.is_ascii_alphanumeric())
            && part
                .chars()
                .last()
                .is_some_and(|last| last.is_ascii_alphanumeric())
            && words
                .flat_map(str::chars)
                .all(|letter| !letter.is_ascii_uppercase());
        good_words
            && between
                .filter(|between| !between.is_empty())
                .all(|between| {
                    matches!(between, "." | "_" | "__")
                        || between.chars().all(|letter| letter == '-')
                })
    };
    text.split('/').all(is_part)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(
        "oci://gull.example/runtimes/marram",
        "https://gull.example/v2/runtimes/marram/blobs/sha256:1"
    )]
    #[case(
        "oci://gull.example:5000/marram/",
        "https://gull.example:5000/v2/marram/blobs/sha256:1"
    )]
    #[case(
        "oci+http://127.0.0.1:5000/a-b/c__d.e",
        "http://127.0.0.1:5000/v2/a-b/c__d.e/blobs/sha256:1"
    )]
    fn a_repository_has_its_blobs_at_its_server(#[case] text: &str, #[case] blob: &str) {
        let repository = Repository::read(text).unwrap();
        assert_eq!(repository.blob("sha256:1").to_string(), blob);
        assert_eq!(repository.to_string(), text.trim_end_matches('/'));
    }

    #[rstest]
    #[case("oci://gull.example", "the name of a repository has")]
    #[case("oci://gull.example/Runtimes", "the name of a repository has")]
    #[case("oci://gull.example/a//b", "the name of a repository has")]
    #[case("oci://gull.example/-a", "the name of a repository has")]
    #[case("oci://gull.example/a..b", "the name of a repository has")]
    #[case("oci://gull.example/a%20b", "the name of a repository has")]
    #[case("oci+http://gull.example/a", "only this machine itself is asked")]
    #[case("oci://gull.example:port/a", "invalid port number")]
    #[case("https://gull.example/a", "a repository is oci://HOST/NAME")]
    fn what_is_no_repository_is_told(#[case] text: &str, #[case] problem: &str) {
        let error = Repository::read(text).unwrap_err().to_string();
        assert!(error.contains(problem), "{error}");
    }

    #[test]
    fn a_blob_of_the_same_server_is_known() {
        let own = Repository::read("oci://gull.example/new/marram").unwrap();
        let of = |text: &str| {
            let address = Address::read(text).unwrap();
            own.repository_of_blob(&address).map(str::to_owned)
        };
        let known = of("https://gull.example/v2/old/marram/blobs/sha256:1");
        assert_eq!(known.as_deref(), Some("old/marram"));
        assert_eq!(
            of("https://dune.example/v2/old/marram/blobs/sha256:1"),
            None
        );
        assert_eq!(of("https://gull.example/old/marram-8.tar.gz"), None);
    }
}
