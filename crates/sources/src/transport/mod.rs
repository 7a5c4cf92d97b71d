//! HTTP and files, with timeouts, retries, conditional requests, proxies and the system's
//! certificates.
//!
//! Proxies come from `http_proxy`, `https_proxy`, `all_proxy` and `no_proxy`; certificates from
//! `SSL_CERT_FILE` and `SSL_CERT_DIR`, else from the system.

mod ask;
mod client;
mod error;
mod paced;
mod token;

use std::any::Any;
use std::fmt;
use std::fs::{File, Metadata};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;
use std::sync::Arc;
use std::thread;
use std::time::{Duration, SystemTime, UNIX_EPOCH};

use serde::{Deserialize, Serialize};
use ureq::Body;
use ureq::http::{HeaderMap, Response, StatusCode};
use url::Url;

pub(crate) use self::ask::{Ask, Payload, header_text, is_same_server};
pub use self::client::Patience;
use self::client::{Answer, Client};
use self::error::not_given;
use self::paced::Paced;
use crate::address::Address;
use crate::credentials::ServerHeader;
use crate::registries::UserSettings;

pub use self::error::{Said, TransportError};

/// The largest document (not archive) that is read, in bytes.
pub const LARGEST_DOCUMENT: u64 = 64 << 20;

/// What a server said of a document's state, to ask later whether it changed (RFC 9110, §13).
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Validators {
    /// Its `ETag`.
    pub etag: Option<String>,
    /// Its `Last-Modified`.
    pub modified: Option<String>,
}

/// How long ago a local file has to have been written for its mtime to tell a later change: file systems count in
/// steps of up to two seconds (FAT).
const SETTLED: Duration = Duration::from_secs(2);

impl Validators {
    /// The validators of a local file. A file that was just written has none, because another change may leave the
    /// same mtime.
    pub fn of_file(file: &Metadata) -> Validators {
        let modified = file.modified().ok();
        let is_settled = |modified: &SystemTime| modified.elapsed().is_ok_and(|age| age > SETTLED);
        let since_epoch = |modified: SystemTime| modified.duration_since(UNIX_EPOCH).ok();
        let stamp = modified.filter(is_settled).and_then(since_epoch);
        Validators {
            etag: stamp.map(|stamp| format!("{} {}", stamp.as_nanos(), file.len())),
            modified: None,
        }
    }
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
    client: Client,
    watch: Watch,
}

/// Called with a server when a document of it is waited for. The wait ends when the returned value is dropped.
pub type OnWait = dyn Fn(&str) -> Box<dyn Any> + Send + Sync;

#[derive(Clone, Default)]
struct Watch(Option<Arc<OnWait>>);

impl Watch {
    fn begin(&self, address: &Address) -> Option<Box<dyn Any>> {
        self.0.as_ref().map(|on_wait| on_wait(address.server()))
    }
}

impl fmt::Debug for Watch {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Watch").field(&self.0.is_some()).finish()
    }
}

impl Transport {
    /// A transport that makes no connection until it is asked for something.
    pub fn new(offline: bool, patience: Patience) -> Transport {
        Transport {
            client: Client::new(offline, patience),
            watch: Watch::default(),
        }
    }

    /// The same transport, which asks as this person.
    pub fn of_person(self, person: UserSettings) -> Transport {
        Transport {
            client: self.client.of_person(person),
            ..self
        }
    }

    /// The same transport, which reports the documents that it waits for.
    pub fn watched_by(self, on_wait: Arc<OnWait>) -> Transport {
        Transport {
            watch: Watch(Some(on_wait)),
            ..self
        }
    }

    /// The same transport, for asking where others can be asked instead: once, without trying again.
    pub fn hurried(&self) -> Transport {
        let mut hurried = self.clone();
        hurried.client.patience.attempts = 1;
        hurried
    }

    /// Whether the network must not be asked.
    pub fn is_offline(&self) -> bool {
        self.client.offline
    }

    /// Keeps the name and password of an address that has some, for whatever else is asked of the same
    /// server: what is written down of addresses is without.
    pub fn learn(&self, address: &Address) {
        self.client.learn(address);
    }

    /// From now on servers are told these headers with each request.
    pub fn tell_servers(&self, headers: Vec<ServerHeader>) {
        self.client.tell_servers(headers);
    }

    /// How patient it is.
    pub fn patience(&self) -> Patience {
        self.client.patience
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
                let failed = |source| TransportError::File {
                    address: address.clone(),
                    source,
                };
                let file = open_file(path).map_err(failed)?;
                let validators = Validators::of_file(&file.metadata().map_err(failed)?);
                if validators.etag.is_some() && validators == *known {
                    return Ok(Document::Unchanged);
                }
                let bytes = read_document(file, address, failed)?;
                Ok(Document::Body { bytes, validators })
            }
            Address::Web(url) => {
                let _wait = self.watch.begin(address);
                self.again(|| self.web_document(address, url, known, accept))
            }
        }
    }

    fn web_document(
        &self,
        address: &Address,
        url: &Url,
        known: &Validators,
        accept: Option<&str>,
    ) -> Result<Document, TransportError> {
        let ask = Ask::get()
            .with("if-none-match", known.etag.as_deref())
            .with("if-modified-since", known.modified.as_deref())
            .with("accept", accept);
        let Answer { response, sent } = self.client.ask(address, url, &ask)?;
        match response.status() {
            StatusCode::NOT_MODIFIED => return Ok(Document::Unchanged),
            StatusCode::OK => {}
            _ => return Err(not_given(address, response, sent)),
        }
        let validators = validators(response.headers());
        let bytes = self.whole_body(response, address)?;
        Ok(Document::Body { bytes, validators })
    }

    /// All bytes of an answer, which may not come too slowly.
    fn whole_body(
        &self,
        response: Response<Body>,
        address: &Address,
    ) -> Result<Vec<u8>, TransportError> {
        let body = Paced::new(body(response), self.client.patience.stall);
        read_document(body, address, |source| TransportError::BrokenOff {
            address: address.clone(),
            source,
        })
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
        let mut ask = Ask::get().with("accept-encoding", Some("identity"));
        if offset > 0 {
            let condition = known.etag.as_ref().or(known.modified.as_ref());
            ask = ask
                .with("range", Some(&format!("bytes={offset}-")))
                .with("if-range", condition.map(String::as_str));
        }
        let Answer { response, sent } = self.client.ask(address, url, &ask)?;
        let headers = response.headers().clone();
        let content_length = number(&headers, "content-length");
        let (begins_at, length) = match response.status() {
            StatusCode::OK => (0, content_length),
            StatusCode::PARTIAL_CONTENT if content_range_start(&headers) == Some(offset) => {
                (offset, content_length.map(|rest| rest + offset))
            }
            _ => return Err(not_given(address, response, sent)),
        };
        Ok(Opened {
            begins_at,
            length,
            validators: validators(&headers),
            reader: Box::new(Paced::new(body(response), self.client.patience.stall)),
        })
    }

    /// Makes a request of any method; an answer that is not one of success is an error.
    pub(crate) fn exchange(
        &self,
        address: &Address,
        ask: &Ask<'_>,
    ) -> Result<Reply, TransportError> {
        let Address::Web(url) = address else {
            let source = io::Error::new(io::ErrorKind::Unsupported, "it is no server");
            return Err(TransportError::File {
                address: address.clone(),
                source,
            });
        };
        let Answer { response, sent } = self.client.ask(address, url, ask)?;
        if !response.status().is_success() {
            return Err(not_given(address, response, sent));
        }
        let headers = response.headers().clone();
        let bytes = self.whole_body(response, address)?;
        Ok(Reply { headers, bytes })
    }

    /// The same, tried again as long as its failure may pass.
    pub(crate) fn exchange_again(
        &self,
        address: &Address,
        ask: &Ask<'_>,
    ) -> Result<Reply, TransportError> {
        let _wait = self.watch.begin(address);
        self.again(|| self.exchange(address, ask))
    }

    /// Makes a request again, with growing pauses, as long as its failure may pass.
    fn again<T>(
        &self,
        request: impl Fn() -> Result<T, TransportError>,
    ) -> Result<T, TransportError> {
        let mut attempt = 1;
        loop {
            match request() {
                Err(error) if error.is_passing() && attempt < self.client.patience.attempts => {
                    self.pause_after(attempt);
                    attempt += 1;
                }
                result => return result,
            }
        }
    }

    /// Waits before the attempt that follows the failed `attempt` (counted from 1).
    pub(crate) fn pause_after(&self, attempt: u32) {
        thread::sleep(self.client.patience.pause * 2u32.saturating_pow(attempt - 1));
    }
}

/// What a server answers.
pub(crate) struct Reply {
    pub(crate) headers: HeaderMap,
    pub(crate) bytes: Vec<u8>,
}

/// An archive that is being read.
pub(crate) struct Opened {
    pub(crate) reader: Box<dyn Read + Send>,
    pub(crate) begins_at: u64,
    pub(crate) length: Option<u64>,
    pub(crate) validators: Validators,
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

fn number(headers: &HeaderMap, name: &str) -> Option<u64> {
    header_text(headers, name)?.parse().ok()
}

/// The first byte in `Content-Range: bytes 100-199/200`.
fn content_range_start(headers: &HeaderMap) -> Option<u64> {
    let range = header_text(headers, "content-range")?;
    range
        .strip_prefix("bytes ")?
        .split('-')
        .next()?
        .parse()
        .ok()
}

fn validators(headers: &HeaderMap) -> Validators {
    Validators {
        etag: header_text(headers, "etag"),
        modified: header_text(headers, "last-modified"),
    }
}
