//! Why something could not be had.

use std::io;
use std::path::PathBuf;
use std::sync::Arc;

use ureq::Proxy;
use ureq::http::StatusCode;

use crate::address::{Address, shown};
use crate::credentials::Credential;
use crate::registries::RegistryError;

/// Why something could not be had.
#[derive(Debug, thiserror::Error)]
pub enum TransportError {
    /// `--offline` was given and it is not on this machine.
    #[error("{0} is not on this machine, and --offline forbids to ask for it")]
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
    /// What is asked for over an encrypted connection would come over one that is not.
    #[error("{address} sends on to {to}, which is not encrypted")]
    Unencrypted {
        /// What was asked for.
        address: Address,
        /// Where it sends on to.
        to: String,
    },
    /// The person's settings of another client, which may have a credential, cannot be read.
    #[error(transparent)]
    Settings(Arc<RegistryError>),
    /// The server wants to know who asks, or does not accept who does (RFC 9110, §15.5.2).
    #[error("{address} asks who it is that asks")]
    Unknown {
        /// What was asked for.
        address: Address,
        /// The file with the credential that was sent, where one was.
        sent: Option<PathBuf>,
    },
    /// The server knows who asks, and does not give it (RFC 9110, §15.5.4).
    #[error("{address} may not be had by whoever asks")]
    Refused {
        /// What was asked for.
        address: Address,
        /// The file with the credential that was sent, where one was.
        sent: Option<PathBuf>,
    },
    /// An answer that is not the thing.
    #[error("{address} answers with status {status}")]
    Status {
        /// What was asked for.
        address: Address,
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
    /// Whether the same request may go through later.
    pub fn is_passing(&self) -> bool {
        match self {
            TransportError::Unreachable { .. }
            | TransportError::ThroughProxy { .. }
            | TransportError::BrokenOff { .. } => true,
            TransportError::Status { status, .. } => {
                matches!(status, 408 | 425 | 429 | 500 | 502 | 503 | 504)
            }
            _ => false,
        }
    }
}

pub(super) fn unreachable(address: &Address, source: ureq::Error) -> TransportError {
    let address = address.clone();
    match (source, proxy_for(&address)) {
        (ureq::Error::RequireHttpsOnly(to), _) => TransportError::Unencrypted {
            to: shown(&to),
            address,
        },
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

/// The host and port of the proxy that an address is asked through, where the environment names one.
fn proxy_for(address: &Address) -> Option<String> {
    let proxy = Proxy::try_from_env()?;
    let uri = address.to_string().parse().ok()?;
    (!proxy.is_no_proxy(&uri)).then(|| format!("{}:{}", proxy.host(), proxy.port()))
}

/// The error of an answer that does not have what was asked for.
pub(super) fn not_given(
    address: &Address,
    status: StatusCode,
    credential: Option<&Credential>,
) -> TransportError {
    let address = address.clone();
    let sent = credential.map(|credential| credential.place().to_owned());
    match status {
        StatusCode::UNAUTHORIZED => TransportError::Unknown { address, sent },
        StatusCode::FORBIDDEN => TransportError::Refused { address, sent },
        other => TransportError::Status {
            address,
            status: other.as_u16(),
        },
    }
}
