//! Why something could not be had.

use std::fmt;
use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::Arc;

use jiff::fmt::rfc2822;
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use ureq::http::{HeaderMap, Response, StatusCode};
use ureq::{Body, Proxy};

use super::ask::header_text;
use crate::address::Address;
use crate::registries::RegistryError;

/// What a server says of an error itself, for the end of a sentence; most say nothing.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Said(pub Option<String>);

impl Said {
    /// Whether a registry of containers read a digest that another client was just writing: Docker's registry 2.8
    /// answers so (OCI distribution specification, "Error Codes") if two push to one repository at once.
    fn is_of_race(&self) -> bool {
        let said = self.0.as_deref().unwrap_or_default();
        said.starts_with("DIGEST_INVALID")
    }
}

impl fmt::Display for Said {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.0 {
            Some(said) => write!(f, " ({said})"),
            None => Ok(()),
        }
    }
}

/// Why something could not be had.
#[derive(Debug, thiserror::Error)]
pub enum TransportError {
    /// `--offline` was given and it is not on this machine.
    #[error("{0} is not on this machine, and --offline forbids asking for it")]
    Offline(Address),
    /// No connection, or none that lasted.
    #[error("{address} does not answer")]
    Unreachable {
        /// What was asked for.
        address: Address,
        /// Why.
        #[source]
        source: Box<ureq::Error>,
    },
    /// No connection through the proxy that the environment names.
    #[error("{address} does not answer through the proxy {proxy}")]
    ThroughProxy {
        /// What was asked for.
        address: Address,
        /// The proxy's host and port.
        proxy: String,
        /// Why.
        #[source]
        source: Box<ureq::Error>,
    },
    /// The server's certificate is not one that is trusted here.
    #[error("the certificate of {server} is not accepted")]
    Certificate {
        /// The host, with a port that is not the usual one.
        server: String,
        /// Why.
        #[source]
        source: Box<ureq::Error>,
    },
    /// What is asked for over an encrypted connection would come over one that is not.
    #[error("{address} sends on to {to}, which is not encrypted")]
    Unencrypted {
        /// What was asked for.
        address: Address,
        /// Where it sends on to.
        to: String,
    },
    /// An address has a name and password, which others would read along.
    #[error("{address} has a name and password, and the way there is not encrypted")]
    Unprotected {
        /// What was asked for.
        address: Address,
    },
    /// The token service that a registry names gives no token.
    #[error("the token service {service} of {address} gives no token: {problem}")]
    TokenService {
        /// What was asked for.
        address: Address,
        /// The token service.
        service: String,
        /// What is wrong.
        problem: String,
    },
    /// The person's settings of another client, which may have a credential, cannot be read.
    #[error(transparent)]
    Settings(Arc<RegistryError>),
    /// The server wants to know who asks, or does not accept who does (RFC 9110, §15.5.2).
    #[error("{address} asks for credentials{said}")]
    Unknown {
        /// What was asked for.
        address: Address,
        /// What it says of that itself.
        said: Said,
        /// The file with the credential that was sent, where one was.
        sent: Option<PathBuf>,
    },
    /// The server knows who asks, and does not give it (RFC 9110, §15.5.4).
    #[error("access to {address} is denied{said}")]
    Refused {
        /// What was asked for.
        address: Address,
        /// What it says of that itself.
        said: Said,
        /// The file with the credential that was sent, where one was.
        sent: Option<PathBuf>,
    },
    /// The server answers no more requests for now (RFC 6585, §4).
    #[error("{address} answers no more requests until {until}")]
    LimitReached {
        /// The address of the request.
        address: Address,
        /// When it answers again.
        until: Timestamp,
    },
    /// An answer that is not the thing.
    #[error("{address} answers with status {status}{said}")]
    Status {
        /// What was asked for.
        address: Address,
        /// What it says of that itself.
        said: Said,
        /// The status (RFC 9110, §15).
        status: u16,
    },
    /// The answer broke off.
    #[error("{address} broke off")]
    BrokenOff {
        /// What was asked for.
        address: Address,
        /// Why.
        #[source]
        source: io::Error,
    },
    /// More than a document may hold.
    #[error("{address} is larger than {limit} bytes")]
    TooLarge {
        /// What was asked for.
        address: Address,
        /// The limit.
        limit: u64,
    },
    /// A file that cannot be read.
    #[error("{address} cannot be read")]
    File {
        /// The file.
        address: Address,
        /// Why.
        #[source]
        source: io::Error,
    },
}

impl TransportError {
    /// The error of a registry that takes nothing of what it is sent.
    pub(crate) fn not_taken(address: &Address) -> TransportError {
        TransportError::BrokenOff {
            address: address.clone(),
            source: io::Error::other("it takes nothing of what is sent"),
        }
    }

    /// The error of a registry whose list of tags is none.
    pub(crate) fn no_list(address: &Address) -> TransportError {
        TransportError::File {
            address: address.clone(),
            source: io::Error::new(io::ErrorKind::InvalidData, "it is no list of tags"),
        }
    }

    /// Whether no connection to the server came about.
    pub fn is_unreachable(&self) -> bool {
        matches!(
            self,
            TransportError::Unreachable { .. }
                | TransportError::ThroughProxy { .. }
                | TransportError::Certificate { .. }
        )
    }

    /// Whether the same request may go through later.
    pub fn is_passing(&self) -> bool {
        match self {
            TransportError::Unreachable { .. }
            | TransportError::ThroughProxy { .. }
            | TransportError::BrokenOff { .. } => true,
            TransportError::Status { status, said, .. } => {
                matches!(status, 408 | 425 | 429 | 500 | 502 | 503 | 504) || said.is_of_race()
            }
            _ => false,
        }
    }
}

pub(super) fn unreachable(
    address: &Address,
    place: &Address,
    source: ureq::Error,
) -> TransportError {
    if is_of_certificate(&source) {
        return TransportError::Certificate {
            server: place.server().to_owned(),
            source: Box::new(source),
        };
    }
    let address = address.clone();
    match (source, proxy_for(place)) {
        (source, Some(proxy)) => TransportError::ThroughProxy {
            address,
            proxy,
            source: Box::new(source),
        },
        (source, None) => TransportError::Unreachable {
            address,
            source: Box::new(source),
        },
    }
}

/// Whether a connection failed because of the server's certificate, which TLS reports within an error of I/O.
fn is_of_certificate(error: &ureq::Error) -> bool {
    let of_tls = match error {
        ureq::Error::Rustls(error) => Some(error),
        ureq::Error::Io(error) => error.get_ref().and_then(|inner| inner.downcast_ref()),
        _ => None,
    };
    matches!(of_tls, Some(rustls::Error::InvalidCertificate(_)))
}

/// The host and port of the proxy that an address is asked through, where the environment names one.
fn proxy_for(address: &Address) -> Option<String> {
    let proxy = Proxy::try_from_env()?;
    let uri = address.to_string().parse().ok()?;
    (!proxy.is_no_proxy(&uri)).then(|| format!("{}:{}", proxy.host(), proxy.port()))
}

/// The error of an answer that does not have what was asked for.
pub(super) fn not_given(
    address: &Address,
    response: Response<Body>,
    sent: Option<PathBuf>,
) -> TransportError {
    let address = address.clone();
    let status = response.status();
    if let Some(until) = limit_ends(status, response.headers(), Timestamp::now()) {
        return TransportError::LimitReached { address, until };
    }
    let said = Said(registry_says(response));
    match status {
        StatusCode::UNAUTHORIZED => TransportError::Unknown {
            address,
            sent,
            said,
        },
        StatusCode::FORBIDDEN => TransportError::Refused {
            address,
            sent,
            said,
        },
        other => TransportError::Status {
            address,
            status: other.as_u16(),
            said,
        },
    }
}

/// When a server that answers no more requests for now does so again: `Retry-After` in seconds or as a date (RFC 9110,
/// §10.2.3), or `X-RateLimit-Reset` in seconds since 1970 if no request is left. A short wait is no limit: the request is
/// tried again.
fn limit_ends(status: StatusCode, headers: &HeaderMap, now: Timestamp) -> Option<Timestamp> {
    const SHORT: SignedDuration = SignedDuration::from_secs(10);
    let is_limit = matches!(
        status,
        StatusCode::TOO_MANY_REQUESTS | StatusCode::FORBIDDEN | StatusCode::SERVICE_UNAVAILABLE
    );
    let text = |name: &str| header_text(headers, name).filter(|_| is_limit);
    let after = || {
        let after = text("retry-after")?;
        let seconds = after.parse().map(SignedDuration::from_secs);
        let date = || rfc2822::parse(&after).ok().map(|date| date.timestamp());
        seconds
            .ok()
            .map_or_else(date, |wait| now.checked_add(wait).ok())
    };
    let reset = || {
        let is_spent = text("x-ratelimit-remaining")? == "0";
        let second = text("x-ratelimit-reset")?.parse().ok();
        second
            .filter(|_| is_spent)
            .and_then(|second| Timestamp::from_second(second).ok())
    };
    after()
        .or_else(reset)
        .filter(|until| until.duration_since(now) > SHORT)
}

/// What a registry says of its own error: code and message (OCI Distribution Specification 1.1, "Error Codes").
fn registry_says(response: Response<Body>) -> Option<String> {
    #[derive(Deserialize)]
    struct Errors {
        errors: Vec<One>,
    }
    #[derive(Deserialize)]
    struct One {
        code: String,
        #[serde(default)]
        message: String,
    }
    const LONGEST: usize = 300;
    let mut bytes = Vec::new();
    let mut body = response.into_body().into_reader().take(64 << 10);
    body.read_to_end(&mut bytes).ok()?;
    let errors: Errors = serde_json::from_slice(&bytes).ok()?;
    let One { code, message } = errors.errors.into_iter().next()?;
    let said = match message.is_empty() {
        true => code,
        false => format!("{code}: {message}"),
    };
    // It comes from a server, and goes to a terminal.
    let plain = said.chars().filter(|letter| !letter.is_control());
    Some(plain.take(LONGEST).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(429, &[("retry-after", "3600")], Some("2026-11-23T13:00:00Z"))]
    #[case(429, &[("retry-after", "Mon, 23 Nov 2026 12:30:00 GMT")], Some("2026-11-23T12:30:00Z"))]
    #[case(403, &[("x-ratelimit-remaining", "0"), ("x-ratelimit-reset", "1795437000")], Some("2026-11-23T12:30:00Z"))]
    #[case(403, &[("x-ratelimit-remaining", "7"), ("x-ratelimit-reset", "1795437000")], None)]
    #[case(429, &[("retry-after", "2")], None)]
    #[case(429, &[("retry-after", "soon")], None)]
    #[case(403, &[], None)]
    #[case(404, &[("retry-after", "3600")], None)]
    fn a_limit_ends_when_the_server_says_so(
        #[case] status: u16,
        #[case] headers: &[(&'static str, &str)],
        #[case] until: Option<&str>,
    ) {
        let headers = headers.iter().map(|(name, value)| {
            let name = ureq::http::HeaderName::from_static(name);
            (name, value.parse().unwrap())
        });
        let now = "2026-11-23T12:00:00Z".parse().unwrap();
        let status = StatusCode::from_u16(status).unwrap();
        let ends = limit_ends(status, &headers.collect(), now);
        assert_eq!(ends, until.map(|until| until.parse().unwrap()));
    }
}
