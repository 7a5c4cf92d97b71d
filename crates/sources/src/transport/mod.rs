//! HTTP and files, with timeouts, retries, conditional requests, proxies and the system's
//! certificates.
//!
//! Proxies come from `http_proxy`, `https_proxy`, `all_proxy` and `no_proxy`; certificates from
//! `SSL_CERT_FILE` and `SSL_CERT_DIR`, else from the system.

mod error;
mod paced;

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::{Arc, Mutex, OnceLock};
use std::thread;
use std::time::Duration;

use ureq::config::RedirectAuthHeaders;
use ureq::http::{HeaderMap, Response, StatusCode};
use ureq::tls::{Certificate, RootCerts, TlsConfig};
use ureq::typestate::WithoutBody;
use ureq::{Agent, Body, Proxy, RequestBuilder};
use url::Url;

use self::error::{not_given, unreachable};
use self::paced::Paced;
use crate::address::{Address, has_password};
use crate::credentials::{Credential, Credentials};
use crate::registries::{RegistryError, UserSettings};

pub use self::error::TransportError;

/// How patient the transport is.
#[derive(Clone, Copy, Debug)]
pub struct Patience {
    /// For a connection to stand.
    pub connect: Duration,
    /// For an answer to begin, and then for each next piece of it.
    pub stall: Duration,
    /// How often a request is made at the most.
    pub attempts: u32,
    /// The pause after the first failure; it doubles with each further one.
    pub pause: Duration,
}

impl Default for Patience {
    fn default() -> Self {
        Patience {
            connect: Duration::from_secs(10),
            stall: Duration::from_secs(30),
            attempts: 4,
            pause: Duration::from_millis(500),
        }
    }
}

/// The largest document (not archive) that is read, in bytes.
pub const LARGEST_DOCUMENT: u64 = 64 << 20;

/// What a server said of a document's state, to ask later whether it changed (RFC 9110, §13).
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Validators {
    /// Its `ETag`.
    pub etag: Option<String>,
    /// Its `Last-Modified`.
    pub modified: Option<String>,
}

/// A document, or word that it did not change.
#[derive(Debug)]
pub enum Document {
    /// The server says it is as it was.
    Unchanged,
    /// The document.
    Body {
        /// Its bytes.
        bytes: Vec<u8>,
        /// What to ask with next time.
        validators: Validators,
    },
}

/// The only way to the network.
#[derive(Clone, Debug, Default)]
pub struct Transport {
    near: OnceLock<Agent>,
    far: OnceLock<Agent>,
    encrypted: OnceLock<Agent>,
    /// Addresses with a name and password, which others of the same server need as well.
    passwords: Arc<Mutex<Vec<Url>>>,
    /// Whose clients are configured with credentials.
    person: Arc<UserSettings>,
    credentials: OnceLock<Result<Credentials, Arc<RegistryError>>>,
    offline: bool,
    patience: Patience,
}

impl Transport {
    /// A transport that makes no connection until it is asked for something.
    pub fn new(offline: bool, patience: Patience) -> Transport {
        Transport {
            near: OnceLock::new(),
            far: OnceLock::new(),
            encrypted: OnceLock::new(),
            passwords: Arc::default(),
            person: Arc::default(),
            credentials: OnceLock::new(),
            offline,
            patience,
        }
    }

    /// The same transport, which asks as this person.
    pub fn as_person(self, person: UserSettings) -> Transport {
        Transport {
            person: Arc::new(person),
            credentials: OnceLock::new(),
            ..self
        }
    }

    /// The credential for an address that has no name and password of its own.
    fn credential(&self, url: &Url) -> Result<Option<&Credential>, TransportError> {
        if has_password(url) || self.person.home.as_os_str().is_empty() {
            return Ok(None);
        }
        let read = || Credentials::read(&self.person).map_err(Arc::new);
        match self.credentials.get_or_init(read) {
            Ok(credentials) => Ok(credentials.of(url)),
            Err(error) => Err(TransportError::Settings(error.clone())),
        }
    }

    /// The same transport, for asking where others can be asked instead: once, without trying again.
    pub fn hurried(&self) -> Transport {
        let mut hurried = self.clone();
        hurried.patience.attempts = 1;
        hurried
    }

    /// Whether the network must not be asked.
    pub fn is_offline(&self) -> bool {
        self.offline
    }

    /// How patient it is.
    pub fn patience(&self) -> Patience {
        self.patience
    }

    /// Keeps the name and password of an address that has some, for whatever else is asked of the same
    /// server: what is written down of addresses is without.
    pub fn learn(&self, address: &Address) {
        if let Address::Web(url) = address
            && has_password(url)
        {
            let mut known = self.passwords.lock().expect("nothing panics in here");
            if !known.contains(url) {
                known.push(url.clone());
            }
        }
    }

    /// The address with the name and password that its server needs, where they are known.
    fn with_password(&self, url: &Url) -> Url {
        let mut url = url.clone();
        let known = self.passwords.lock().expect("nothing panics in here");
        let same = known.iter().find(|known| known.origin() == url.origin());
        if let Some(same) = same.filter(|_| !has_password(&url)) {
            url.set_username(same.username()).unwrap_or_default();
            url.set_password(same.password()).unwrap_or_default();
        }
        url
    }

    /// A request for an address, which says who asks where that is known, and the credential that says it.
    fn request(
        &self,
        address: &Address,
        url: &Url,
    ) -> Result<(RequestBuilder<WithoutBody>, Option<&Credential>), TransportError> {
        self.learn(address);
        let url = self.with_password(url);
        let request = self.agent(address)?.get(url.as_str());
        let credential = self.credential(&url)?;
        let request = match credential {
            Some(credential) => request.header("authorization", credential.header()),
            None => request,
        };
        Ok((request, credential))
    }

    /// Fetches a whole document, unless it is still what `known` describes.
    pub fn document(
        &self,
        address: &Address,
        known: &Validators,
        accept: Option<&str>,
    ) -> Result<Document, TransportError> {
        match address {
            Address::File(path) => {
                let file = open_file(path).map_err(|source| TransportError::File {
                    address: address.clone(),
                    source,
                })?;
                let bytes = read_document(file, address, |source| TransportError::File {
                    address: address.clone(),
                    source,
                })?;
                let validators = Validators::default();
                Ok(Document::Body { bytes, validators })
            }
            Address::Web(url) => self.again(|| self.web_document(address, url, known, accept)),
        }
    }

    fn web_document(
        &self,
        address: &Address,
        url: &Url,
        known: &Validators,
        accept: Option<&str>,
    ) -> Result<Document, TransportError> {
        let (mut request, credential) = self.request(address, url)?;
        for (name, value) in [
            ("if-none-match", known.etag.as_deref()),
            ("if-modified-since", known.modified.as_deref()),
            ("accept", accept),
        ] {
            if let Some(value) = value {
                request = request.header(name, value);
            }
        }
        let mut response = request.call().map_err(|e| unreachable(address, e))?;
        match response.status() {
            StatusCode::NOT_MODIFIED => return Ok(Document::Unchanged),
            StatusCode::OK => {}
            other => return Err(not_given(address, other, credential)),
        }
        let validators = validators(response.headers());
        let body = response.body_mut().with_config().limit(u64::MAX).reader();
        let body = Paced::new(body, self.patience.stall);
        let bytes = read_document(body, address, |source| TransportError::BrokenOff {
            address: address.clone(),
            source,
        })?;
        Ok(Document::Body { bytes, validators })
    }

    /// Opens an archive from `offset` on; the second value is where the bytes really begin, which
    /// is 0 where the server knows no ranges (RFC 9110, §14).
    pub(crate) fn open(
        &self,
        address: &Address,
        offset: u64,
        known: &Validators,
    ) -> Result<Opened, TransportError> {
        let url = match address {
            Address::File(path) => {
                let open = || -> io::Result<(File, u64)> {
                    let mut file = open_file(path)?;
                    let length = file.metadata()?.len();
                    file.seek(SeekFrom::Start(offset.min(length)))?;
                    Ok((file, length))
                };
                let (file, length) = open().map_err(|source| TransportError::File {
                    address: address.clone(),
                    source,
                })?;
                return Ok(Opened {
                    reader: Box::new(file),
                    begins_at: offset.min(length),
                    length: Some(length),
                    validators: Validators::default(),
                });
            }
            Address::Web(url) => url,
        };
        // The archive's own bytes are wanted: no further encoding on the way.
        let (request, credential) = self.request(address, url)?;
        let mut request = request.header("accept-encoding", "identity");
        if offset > 0 {
            request = request.header("range", format!("bytes={offset}-"));
            if let Some(condition) = known.etag.as_ref().or(known.modified.as_ref()) {
                request = request.header("if-range", condition);
            }
        }
        let response = request.call().map_err(|e| unreachable(address, e))?;
        let headers = response.headers().clone();
        let content_length = number(&headers, "content-length");
        let (begins_at, length) = match response.status() {
            StatusCode::OK => (0, content_length),
            StatusCode::PARTIAL_CONTENT if content_range_start(&headers) == Some(offset) => {
                (offset, content_length.map(|rest| rest + offset))
            }
            other => return Err(not_given(address, other, credential)),
        };
        Ok(Opened {
            begins_at,
            length,
            validators: validators(&headers),
            reader: Box::new(Paced::new(body(response), self.patience.stall)),
        })
    }

    /// Makes a request again, with growing pauses, as long as its failure may pass.
    fn again<T>(
        &self,
        request: impl Fn() -> Result<T, TransportError>,
    ) -> Result<T, TransportError> {
        let mut attempt = 1;
        loop {
            match request() {
                Err(error) if error.is_passing() && attempt < self.patience.attempts => {
                    self.pause_after(attempt);
                    attempt += 1;
                }
                result => return result,
            }
        }
    }

    /// Waits before the attempt that follows the failed `attempt` (counted from 1).
    pub(crate) fn pause_after(&self, attempt: u32) {
        thread::sleep(self.patience.pause * 2u32.saturating_pow(attempt - 1));
    }

    fn agent(&self, address: &Address) -> Result<&Agent, TransportError> {
        if self.offline {
            return Err(TransportError::Offline(address.clone()));
        }
        // Reading the system's certificates takes milliseconds that this machine's own servers need
        // not cost; any other server may redirect to one with TLS.
        let with_roots = || TlsConfig::builder().root_certs(system_roots()).build();
        Ok(match address {
            _ if address.is_loopback() => self
                .near
                .get_or_init(|| self.new_agent(TlsConfig::default(), false)),
            // What is asked for over an encrypted connection comes over one, wherever it is sent on to.
            Address::Web(url) if url.scheme() == "https" => self
                .encrypted
                .get_or_init(|| self.new_agent(with_roots(), true)),
            _ => self.far.get_or_init(|| self.new_agent(with_roots(), false)),
        })
    }

    fn new_agent(&self, tls: TlsConfig, https_only: bool) -> Agent {
        Agent::config_builder()
            .https_only(https_only)
            .http_status_as_error(false)
            .max_redirects(8)
            .redirect_auth_headers(RedirectAuthHeaders::SameHost)
            .input_buffer_size(128 << 10)
            .timeout_connect(Some(self.patience.connect))
            .timeout_recv_response(Some(self.patience.stall))
            .timeout_per_read(Some(self.patience.stall))
            .proxy(Proxy::try_from_env())
            .user_agent(concat!("vivid-shelf/", env!("CARGO_PKG_VERSION")))
            .tls_config(tls)
            .build()
            .new_agent()
    }
}

/// An archive that is being read.
pub(crate) struct Opened {
    pub(crate) reader: Box<dyn Read + Send>,
    pub(crate) begins_at: u64,
    pub(crate) length: Option<u64>,
    pub(crate) validators: Validators,
}

fn system_roots() -> RootCerts {
    let found = rustls_native_certs::load_native_certs();
    let certificates: Vec<Certificate<'static>> = found
        .certs
        .iter()
        .map(|certificate| Certificate::from_der(certificate).to_owned())
        .collect();
    RootCerts::new_with_certs(&certificates)
}

/// A file to be read from its beginning to its end: a pipe or device has none.
fn open_file(path: &Path) -> io::Result<File> {
    match std::fs::metadata(path)?.is_file() {
        true => File::open(path),
        false => Err(io::Error::new(
            io::ErrorKind::InvalidInput,
            "it is not a plain file",
        )),
    }
}

/// All bytes of a document.
fn read_document(
    from: impl Read,
    address: &Address,
    failed: impl FnOnce(io::Error) -> TransportError,
) -> Result<Vec<u8>, TransportError> {
    let mut bytes = Vec::new();
    let read = from.take(LARGEST_DOCUMENT + 1).read_to_end(&mut bytes);
    read.map_err(failed)?;
    match bytes.len() as u64 > LARGEST_DOCUMENT {
        true => Err(TransportError::TooLarge {
            address: address.clone(),
            limit: LARGEST_DOCUMENT,
        }),
        false => Ok(bytes),
    }
}

fn body(response: Response<Body>) -> impl Read + Send {
    response
        .into_body()
        .into_with_config()
        .limit(u64::MAX)
        .reader()
}

fn text(headers: &HeaderMap, name: &str) -> Option<String> {
    headers.get(name)?.to_str().ok().map(str::to_owned)
}

fn number(headers: &HeaderMap, name: &str) -> Option<u64> {
    text(headers, name)?.parse().ok()
}

/// The first byte in `Content-Range: bytes 100-199/200`.
fn content_range_start(headers: &HeaderMap) -> Option<u64> {
    let range = text(headers, "content-range")?;
    range
        .strip_prefix("bytes ")?
        .split('-')
        .next()?
        .parse()
        .ok()
}

fn validators(headers: &HeaderMap) -> Validators {
    Validators {
        etag: text(headers, "etag"),
        modified: text(headers, "last-modified"),
    }
}
