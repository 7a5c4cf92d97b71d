//! Where a document or an archive lies: on a web server or on this machine.

use std::fmt;
use std::path::{Path, PathBuf};

/// A URL or a path.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Address {
    /// An `http` or `https` URL.
    Web(String),
    /// A file on this machine.
    File(PathBuf),
}

impl Address {
    /// Reads what a definition or catalog holds: a URL with a scheme, or else a path.
    pub fn read(text: &str) -> Address {
        if is_web(text) {
            Address::Web(text.to_owned())
        } else {
            Address::File(PathBuf::from(text.strip_prefix("file://").unwrap_or(text)))
        }
    }

    /// `reference` as seen from this document: itself where it is absolute, else beside it.
    pub fn join(&self, reference: &str) -> Address {
        if is_web(reference)
            || Path::new(reference).is_absolute() && matches!(self, Address::File(_))
        {
            return Address::read(reference);
        }
        match self {
            Address::Web(url) => {
                let scheme_end = url.find("://").map_or(0, |at| at + 3);
                let host_end = url[scheme_end..]
                    .find('/')
                    .map_or(url.len(), |at| at + scheme_end);
                let joined = if reference.starts_with('/') {
                    format!("{}{reference}", &url[..host_end])
                } else {
                    let path = url.split(['?', '#']).next().unwrap_or(url);
                    let folder = path[host_end..]
                        .rfind('/')
                        .map_or("", |at| &path[host_end..host_end + at]);
                    format!("{}{folder}/{reference}", &url[..host_end])
                };
                Address::Web(joined)
            }
            Address::File(path) => {
                Address::File(path.parent().unwrap_or(Path::new("")).join(reference))
            }
        }
    }

    /// The last part of the path: the file's name.
    pub fn file_name(&self) -> &str {
        match self {
            Address::Web(url) => {
                let path = url.split(['?', '#']).next().unwrap_or(url);
                path.rsplit('/').next().unwrap_or(path)
            }
            Address::File(path) => path
                .file_name()
                .and_then(|name| name.to_str())
                .unwrap_or(""),
        }
    }
}

fn is_web(text: &str) -> bool {
    text.starts_with("http://") || text.starts_with("https://")
}

impl fmt::Display for Address {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Address::Web(url) => f.pad(url),
            Address::File(path) => path.display().fmt(f),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(
        "http://gull.example/m/catalog.json",
        "a.tar.gz",
        "http://gull.example/m/a.tar.gz"
    )]
    #[case(
        "http://gull.example/m/catalog.json?x=/y",
        "a.tar.gz",
        "http://gull.example/m/a.tar.gz"
    )]
    #[case(
        "http://gull.example/m/catalog.json",
        "/a.tar.gz",
        "http://gull.example/a.tar.gz"
    )]
    #[case("http://gull.example", "a.tar.gz", "http://gull.example/a.tar.gz")]
    #[case(
        "http://gull.example/c",
        "https://dune.example/a",
        "https://dune.example/a"
    )]
    #[case("/srv/m/catalog.json", "a.tar.gz", "/srv/m/a.tar.gz")]
    #[case("/srv/m/catalog.json", "/other/a.tar.gz", "/other/a.tar.gz")]
    fn a_reference_is_seen_from_its_document(
        #[case] document: &str,
        #[case] reference: &str,
        #[case] joined: &str,
    ) {
        assert_eq!(
            Address::read(document).join(reference),
            Address::read(joined)
        );
    }
}
