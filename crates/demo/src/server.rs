//! The stand-in release server: plain HTTP/1.1 on the loopback address, with ranges and conditional
//! requests (RFC 9110, §13 and §14), and any misbehaviour that a test or a curious person asks for.

use std::collections::BTreeMap;
use std::io::{self, BufRead, BufReader, Write};
use std::net::{TcpListener, TcpStream};
use std::str::FromStr;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, OnceLock, PoisonError};
use std::thread::{self, JoinHandle};
use std::time::Duration;

use ring::digest::{SHA256, digest};
use serde_json::json;

use crate::archives::{Archives, Compressor, compress, file_name, sha256};
use crate::layouts;
use crate::orache;
use crate::releases::{self, LINES};

/// Something that servers do and should not; it happens to archives only, unless said otherwise.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Fault {
    /// So many bytes a second.
    Slow(u64),
    /// The connection breaks after so many bytes of each answer.
    Cut(usize),
    /// One byte in the middle is another.
    WrongBytes,
    /// One byte more than the catalog says.
    WrongLength,
    /// Everything, the catalog too, is answered with this status.
    Status(u16),
    /// So many requests for archives are answered with 503, then all is well.
    Busy(usize),
    /// Archives have moved, and the answer says where to.
    Redirect,
    /// Ranges are not known; the answer is always whole.
    NoRanges,
    /// The answer begins and nothing follows.
    Hang,
}

/// The names that [`Fault::from_str`] knows.
pub const FAULT_NAMES: [&str; 10] = [
    "slow",
    "cut",
    "wrong-bytes",
    "wrong-length",
    "404",
    "500",
    "busy",
    "redirect",
    "no-ranges",
    "hang",
];

impl FromStr for Fault {
    type Err = String;

    fn from_str(name: &str) -> Result<Self, String> {
        Ok(match name {
            "slow" => Fault::Slow(100 << 10),
            "cut" => Fault::Cut(40_000),
            "wrong-bytes" => Fault::WrongBytes,
            "wrong-length" => Fault::WrongLength,
            "404" => Fault::Status(404),
            "500" => Fault::Status(500),
            "busy" => Fault::Busy(2),
            "redirect" => Fault::Redirect,
            "no-ranges" => Fault::NoRanges,
            "hang" => Fault::Hang,
            _ => return Err(format!("the faults are {}", FAULT_NAMES.join(", "))),
        })
    }
}

/// A running server; it stops when it is dropped.
pub struct StandIn {
    shared: Arc<Shared>,
    port: u16,
    thread: Option<JoinHandle<()>>,
}

struct Shared {
    catalog: Vec<u8>,
    archives: BTreeMap<String, Vec<u8>>,
    definition: String,
    address: String,
    /// What is published in other layouts; made when it is first asked for.
    layouts: OnceLock<BTreeMap<String, Vec<u8>>>,
    faults: Mutex<Vec<Fault>>,
    busy_left: AtomicUsize,
    requests: Mutex<Vec<String>>,
    /// How many archives are on their way, and how many were at the most.
    under_way: Mutex<(usize, usize)>,
    stopping: AtomicBool,
}

impl StandIn {
    /// Starts a server on a free port of the loopback address, or on `port`.
    pub fn start(port: Option<u16>) -> io::Result<StandIn> {
        let listener = TcpListener::bind(("127.0.0.1", port.unwrap_or(0)))?;
        let port = listener.local_addr()?.port();
        let (catalog, archives) = publish();
        let address = format!("http://127.0.0.1:{port}");
        let shared = Arc::new(Shared {
            catalog,
            archives,
            definition: crate::definition(&address),
            address,
            layouts: OnceLock::new(),
            faults: Mutex::default(),
            busy_left: AtomicUsize::new(0),
            requests: Mutex::default(),
            under_way: Mutex::default(),
            stopping: AtomicBool::new(false),
        });
        let serving = Arc::clone(&shared);
        let thread = thread::spawn(move || {
            for connection in listener.incoming() {
                if serving.stopping.load(Ordering::Relaxed) {
                    return;
                }
                if let Ok(connection) = connection {
                    let serving = Arc::clone(&serving);
                    // A client that leaves early is no concern of the server's.
                    thread::spawn(move || serving.answer(connection).unwrap_or_default());
                }
            }
        });
        Ok(StandIn {
            shared,
            port,
            thread: Some(thread),
        })
    }

    /// The server's address, without a slash behind.
    pub fn address(&self) -> String {
        self.shared.address.clone()
    }

    /// Makes it misbehave from now on; an empty list makes it behave.
    pub fn misbehave(&self, faults: &[Fault]) {
        for fault in faults {
            if let Fault::Busy(times) = fault {
                self.shared.busy_left.store(*times, Ordering::Relaxed);
            }
        }
        *lock(&self.shared.faults) = faults.to_vec();
    }

    /// The requests so far, as method, path, answer's status, and the range where one was asked.
    pub fn requests(&self) -> Vec<String> {
        lock(&self.shared.requests).clone()
    }

    /// How many archives were on their way at the same time, at the most.
    pub fn most_at_once(&self) -> usize {
        lock(&self.shared.under_way).1
    }

    /// Serves until the process ends.
    pub fn serve_on(mut self) {
        if let Some(thread) = self.thread.take() {
            thread.join().unwrap_or_default();
        }
    }
}

impl Drop for StandIn {
    fn drop(&mut self) {
        self.shared.stopping.store(true, Ordering::Relaxed);
        // The listener only looks up when someone knocks.
        if TcpStream::connect(("127.0.0.1", self.port)).is_ok()
            && let Some(thread) = self.thread.take()
        {
            thread.join().unwrap_or_default();
        }
    }
}

fn lock<T>(mutex: &Mutex<T>) -> MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(PoisonError::into_inner)
}

/// The catalog document and all archives by file name.
fn publish() -> (Vec<u8>, BTreeMap<String, Vec<u8>>) {
    let maker = Archives::new();
    let mut files = BTreeMap::new();
    let mut entries = Vec::new();
    for release in releases::all() {
        let archive = maker.archive(&release);
        let hex = sha256(&archive);
        let mut builds = Vec::new();
        for platform in release.platforms {
            let name = file_name(&release, platform);
            builds.push(json!({
                "platform": platform,
                "file": format!("archives/{name}"),
                "size": archive.len(),
                "digest": format!("sha256:{hex}"),
            }));
            files.insert(name, archive.clone());
        }
        entries.push(json!({
            "version": release.version,
            "publisher": release.publisher,
            "date": release.date.to_string(),
            "security": release.security,
            "withdrawn": release.withdrawn,
            "bundles": { "tussock": release.tussock },
            "notes": format!("notes/{}", release.version),
            "builds": builds,
        }));
    }
    let lines: Vec<_> = LINES
        .iter()
        .map(|line| {
            json!({
                "line": line.line,
                "codename": line.codename,
                "start": line.start,
                "lts": line.lts,
                "maintenance": line.maintenance,
                "end": line.end,
            })
        })
        .collect();
    let catalog = json!({
        "format": "vivid-shelf-catalog/1",
        "runtime": "marram",
        "updated": format!("{}T06:00:00Z", crate::TODAY),
        "publishers": [
            { "id": "saltmarsh", "name": "Saltmarsh Foundation", "main": true },
            { "id": "dunefield", "name": "Dunefield Builds" },
        ],
        "channels": { "stable": "8", "next": "10" },
        "lines": lines,
        "releases": entries,
    });
    (catalog.to_string().into_bytes(), files)
}

/// A request, as far as it matters.
struct Request {
    path: String,
    range_start: Option<usize>,
    if_none_match: Option<String>,
    takes_gzip: bool,
}

impl Shared {
    fn answer(&self, connection: TcpStream) -> io::Result<()> {
        let mut reader = BufReader::new(connection.try_clone()?);
        let Some(request) = read_request(&mut reader)? else {
            return Ok(());
        };
        let mut out = connection;
        let faults = lock(&self.faults).clone();
        for fault in &faults {
            if let Fault::Status(status) = fault {
                return self.send_status(&mut out, &request, *status, "");
            }
        }
        match request.path.as_str() {
            "/catalog.json" => self.send_document(&mut out, &request, &self.catalog),
            "/orache.toml" => {
                let definition = orache::definition(&self.address);
                self.send(&mut out, &request, definition.as_bytes(), &[])
            }
            "/marram.toml" => self.send(&mut out, &request, self.definition.as_bytes(), &[]),
            path => {
                let name = path.trim_start_matches("/moved");
                let layouts = || {
                    let layouts = self.layouts.get_or_init(|| layouts::publish(&self.address));
                    layouts.get(name)
                };
                let archive = self.archives.get(name.trim_start_matches("/archives/"));
                let Some(archive) = archive.or_else(layouts) else {
                    return self.send_status(&mut out, &request, 404, "");
                };
                if archive.starts_with(b"{") || archive.starts_with(b"[") {
                    return self.send_document(&mut out, &request, archive);
                }
                let busy = faults.iter().any(|fault| matches!(fault, Fault::Busy(_)));
                let one_less = |left: usize| left.checked_sub(1);
                let order = Ordering::Relaxed;
                if busy && self.busy_left.fetch_update(order, order, one_less).is_ok() {
                    return self.send_status(&mut out, &request, 503, "");
                }
                if faults.contains(&Fault::Redirect) && !path.starts_with("/moved") {
                    let location = format!("Location: /moved{path}\r\n");
                    return self.send_status(&mut out, &request, 302, &location);
                }
                {
                    let mut under_way = lock(&self.under_way);
                    under_way.0 += 1;
                    under_way.1 = under_way.1.max(under_way.0);
                }
                let sent = self.send(&mut out, &request, archive, &faults);
                lock(&self.under_way).0 -= 1;
                sent
            }
        }
    }

    fn note(&self, request: &Request, status: u16) {
        let range = request
            .range_start
            .map(|start| format!(" from {start}"))
            .unwrap_or_default();
        lock(&self.requests).push(format!("GET {} {status}{range}", request.path));
    }

    fn send_status(
        &self,
        out: &mut TcpStream,
        request: &Request,
        status: u16,
        headers: &str,
    ) -> io::Result<()> {
        self.note(request, status);
        write!(
            out,
            "HTTP/1.1 {status} Stand-in\r\n{headers}Content-Length: 0\r\nConnection: close\r\n\r\n"
        )
    }

    /// Sends a JSON document, compressed where the client takes that (RFC 9110, §12.5.3).
    fn send_document(
        &self,
        out: &mut TcpStream,
        request: &Request,
        contents: &[u8],
    ) -> io::Result<()> {
        let tag = etag(contents);
        if !request.takes_gzip || request.if_none_match.as_deref() == Some(&tag) {
            return self.send(out, request, contents, &[]);
        }
        self.note(request, 200);
        let body = compress(Compressor::Gzip, contents);
        write!(
            out,
            "HTTP/1.1 200 Stand-in\r\nETag: {tag}\r\nContent-Encoding: gzip\r\nConnection: close\r\nContent-Length: {}\r\n\r\n",
            body.len()
        )?;
        out.write_all(&body)
    }

    fn send(
        &self,
        out: &mut TcpStream,
        request: &Request,
        contents: &[u8],
        faults: &[Fault],
    ) -> io::Result<()> {
        let etag = etag(contents);
        if request.if_none_match.as_deref() == Some(&etag) {
            return self.send_status(out, request, 304, &format!("ETag: {etag}\r\n"));
        }
        let mut body = contents.to_vec();
        if faults.contains(&Fault::WrongBytes) {
            let middle = body.len() / 2;
            body[middle] ^= 1;
        }
        if faults.contains(&Fault::WrongLength) {
            body.push(0);
        }
        let whole = body.len();
        let beyond = request.range_start.is_some_and(|start| start >= whole);
        if beyond && !faults.contains(&Fault::NoRanges) {
            return self.send_status(out, request, 416, "");
        }
        let start = request
            .range_start
            .filter(|start| *start < whole && !faults.contains(&Fault::NoRanges));
        let status = if start.is_some() { 206 } else { 200 };
        self.note(request, status);
        let body = &body[start.unwrap_or(0)..];
        write!(
            out,
            "HTTP/1.1 {status} Stand-in\r\nETag: {etag}\r\nConnection: close\r\n"
        )?;
        if let Some(start) = start {
            write!(
                out,
                "Content-Range: bytes {start}-{}/{whole}\r\n",
                whole - 1
            )?;
        }
        write!(out, "Content-Length: {}\r\n\r\n", body.len())?;
        let cut = faults.iter().find_map(|fault| match fault {
            Fault::Cut(after) => Some(*after),
            Fault::Hang => Some(1000),
            _ => None,
        });
        let sent = &body[..cut.unwrap_or(body.len()).min(body.len())];
        match faults.iter().find_map(|fault| match fault {
            Fault::Slow(rate) => Some(*rate),
            _ => None,
        }) {
            None => out.write_all(sent)?,
            Some(rate) => {
                for piece in sent.chunks((rate / 20).max(1) as usize) {
                    out.write_all(piece)?;
                    thread::sleep(Duration::from_millis(50));
                }
            }
        }
        if faults.contains(&Fault::Hang) {
            while !self.stopping.load(Ordering::Relaxed) {
                thread::sleep(Duration::from_millis(20));
            }
        }
        Ok(())
    }
}

/// The first bytes of the contents' digest, in quotes.
fn etag(contents: &[u8]) -> String {
    let sum = digest(&SHA256, contents);
    let hex: String = (sum.as_ref()[..8].iter())
        .map(|byte| format!("{byte:02x}"))
        .collect();
    format!("\"{hex}\"")
}

fn read_request(reader: &mut impl BufRead) -> io::Result<Option<Request>> {
    let mut line = String::new();
    reader.read_line(&mut line)?;
    let Some(path) = line.split_whitespace().nth(1) else {
        return Ok(None);
    };
    let mut request = Request {
        path: path.to_owned(),
        range_start: None,
        if_none_match: None,
        takes_gzip: false,
    };
    loop {
        let mut header = String::new();
        if reader.read_line(&mut header)? == 0 || header.trim().is_empty() {
            return Ok(Some(request));
        }
        let Some((name, value)) = header.split_once(':') else {
            continue;
        };
        let value = value.trim();
        match name.to_ascii_lowercase().as_str() {
            "range" => {
                let start = value
                    .strip_prefix("bytes=")
                    .and_then(|v| v.split('-').next());
                request.range_start = start.and_then(|start| start.parse().ok());
            }
            "accept-encoding" => request.takes_gzip = value.contains("gzip"),
            "if-none-match" => request.if_none_match = Some(value.to_owned()),
            _ => {}
        }
    }
}
