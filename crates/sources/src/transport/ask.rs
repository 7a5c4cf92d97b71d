//! What is asked of a server.

use std::path::{Path, PathBuf};

use ureq::http::{HeaderMap, HeaderName, HeaderValue, Method};
use url::Url;

use crate::credentials::Credential;

/// A request.
pub(crate) struct Ask<'a> {
    pub(crate) method: Method,
    pub(crate) headers: Vec<(&'static str, String)>,
    pub(crate) payload: Payload<'a>,
}

/// What is sent with a request.
#[derive(Clone, Copy)]
pub(crate) enum Payload<'a> {
    Nothing,
    Bytes(&'a [u8]),
    /// `length` bytes of a file, from `from` on.
    Part {
        file: &'a Path,
        from: u64,
        length: u64,
    },
}

impl Ask<'_> {
    /// A request for what is there.
    pub(crate) fn get() -> Ask<'static> {
        Ask::of(Method::GET)
    }

    /// A request of another method, with nothing to send.
    pub(crate) fn of(method: Method) -> Ask<'static> {
        Ask {
            method,
            headers: Vec::new(),
            payload: Payload::Nothing,
        }
    }

    /// Whether nothing is changed by it (RFC 9110, §9.2.1).
    pub(super) fn only_reads(&self) -> bool {
        self.method == Method::GET || self.method == Method::HEAD
    }

    /// The same with a header, where there is a value for it.
    pub(crate) fn with(mut self, name: &'static str, value: Option<&str>) -> Self {
        self.headers
            .extend(value.map(|value| (name, value.to_owned())));
        self
    }
}

/// What says who asks: a header, and where it is from.
#[derive(Default)]
pub(super) struct Who {
    pub(super) credential: Option<Credential>,
    pub(super) token: Option<HeaderValue>,
    /// What it is told besides.
    pub(super) headers: Vec<(HeaderName, HeaderValue)>,
}

impl Who {
    /// What is said with this credential alone.
    pub(super) fn of(credential: Option<Credential>) -> Who {
        Who {
            credential,
            ..Who::default()
        }
    }

    pub(super) fn header(&self) -> Option<&HeaderValue> {
        let of_credential = || self.credential.as_ref().and_then(Credential::header);
        self.token.as_ref().or_else(of_credential)
    }

    pub(super) fn place(&self) -> Option<PathBuf> {
        let credential = self.credential.as_ref()?;
        // One in the address itself has no file.
        Some(credential.place().to_owned()).filter(|place| !place.as_os_str().is_empty())
    }
}

/// Whether two addresses are of one server, which may have gone over to encryption.
pub(crate) fn is_same_server(one: &Url, other: &Url) -> bool {
    one.host() == other.host() && one.port() == other.port()
}

/// A header's text.
pub(crate) fn header_text(headers: &HeaderMap, name: &str) -> Option<String> {
    headers.get(name)?.to_str().ok().map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("https://gull.example/a", "https://gull.example/b", true)]
    #[case("https://gull.example/a", "http://gull.example/a", true)]
    #[case("https://gull.example:8443/", "https://gull.example/", false)]
    #[case("https://gull.example/", "https://gull.example.dune.example/", false)]
    #[case("http://127.0.0.1:1/", "http://localhost:1/", false)]
    fn a_server_is_its_host_and_port(#[case] one: &str, #[case] other: &str, #[case] same: bool) {
        let url = |text: &str| Url::parse(text).unwrap();
        assert_eq!(is_same_server(&url(one), &url(other)), same);
    }
}
