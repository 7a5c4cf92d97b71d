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
                    let mut folder = path[host_end..]
                        .rfind('/')
                        .map_or("", |at| &path[host_end..host_end + at]);
                    let mut reference = reference;
                    // RFC 3986, §5.2.4, as far as references to files need it.
                    loop {
                        if let Some(rest) = reference.strip_prefix("./") {
                            reference = rest;
                        } else if let Some(rest) = reference.strip_prefix("../") {
                            reference = rest;
                            folder = folder.rsplit_once('/').map_or("", |(above, _)| above);
                        } else {
                            break;
                        }
                    }
                    format!("{}{folder}/{reference}", &url[..host_end])
                };
                Address::Web(joined)
            }
            Address::File(path) => {
                Address::File(path.parent().unwrap_or(Path::new("")).join(reference))
            }
        }
    }

    /// `name` in the folder that this is the address of.
    pub fn below(&self, name: &str) -> Address {
        match self {
            Address::Web(url) => Address::Web(format!("{}/{name}", url.trim_end_matches('/'))),
            Address::File(path) => Address::File(path.join(name)),
        }
    }

    /// Where this lies in a mirror: it is in or below the folder of the document `here`, and the
    /// same document is also at `there`, with all that is beside it.
    pub fn beside(&self, here: &Address, there: &Address) -> Option<Address> {
        let (own, here, there) = (self.to_string(), here.to_string(), there.to_string());
        let shared = common_end(&here, &there);
        let rest = own.strip_prefix(&here[..here.len() - shared])?;
        let moved = format!("{}{rest}", &there[..there.len() - shared]);
        Some(Address::read(&moved))
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

/// The length in bytes of the longest common end of two texts that begins with a `/`.
fn common_end(left: &str, right: &str) -> usize {
    left.rmatch_indices('/')
        .map(|(at, _)| &left[at..])
        .take_while(|end| right.ends_with(end))
        .last()
        .map_or(0, str::len)
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
        "http://gull.example/simple/m/",
        "../../f/./a.whl",
        "http://gull.example/f/./a.whl"
    )]
    #[case(
        "http://gull.example/m/",
        "../../../a.whl",
        "http://gull.example/a.whl"
    )]
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

    #[rstest]
    #[case("/srv/m/v8/SUMS", Some("http://gull.example/pub/m/v8/SUMS"))]
    #[case("/srv/m/SUMS", Some("http://gull.example/pub/m/SUMS"))]
    #[case("/elsewhere/SUMS", None)]
    fn what_lies_beside_a_file_lies_beside_its_mirror(
        #[case] own: &str,
        #[case] moved: Option<&str>,
    ) {
        let here = Address::read("/srv/m/v8/a.tar.xz");
        let there = Address::read("http://gull.example/pub/m/v8/a.tar.xz");
        let found = Address::read(own).beside(&here, &there);
        assert_eq!(found, moved.map(Address::read));
    }
}
