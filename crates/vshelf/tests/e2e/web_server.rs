//! A web server whose answers a test computes, and archives of builds that say their version.

use std::io::{BufRead, BufReader, Write};
use std::sync::{Arc, Mutex};

use flate2::Compression;
use flate2::write::GzEncoder;
use ring::digest::{Algorithm, SHA256};

use crate::network::listen;

/// A request.
pub struct Asked {
    /// The path, with what is behind `?`.
    pub path: String,
    /// The lines of the header, in small letters.
    headers: Vec<String>,
}

impl Asked {
    /// The value behind `name=` in the part behind `?`.
    pub fn value(&self, name: &str) -> Option<&str> {
        let (_, query) = self.path.split_once('?')?;
        let mut pairs = query.split('&').filter_map(|pair| pair.split_once('='));
        pairs.find_map(|(key, value)| (key == name).then_some(value))
    }

    /// The value of a header.
    pub fn header(&self, name: &str) -> Option<&str> {
        let mut lines = self.headers.iter().filter_map(|line| line.split_once(':'));
        lines.find_map(|(key, value)| (key == name).then_some(value.trim()))
    }
}

/// An answer: its status, lines of its header, and its body.
pub struct Reply(pub u16, pub Vec<String>, pub Vec<u8>);

impl Reply {
    /// An answer with a body.
    pub fn body(body: impl Into<Vec<u8>>) -> Reply {
        Reply(200, Vec::new(), body.into())
    }

    /// A status without a body.
    pub fn status(status: u16) -> Reply {
        Reply(status, Vec::new(), Vec::new())
    }

    /// Sends on to another address.
    pub fn sends_on(address: &str) -> Reply {
        Reply(302, vec![format!("location: {address}")], Vec::new())
    }
}

/// A server on this machine.
pub struct WebServer {
    port: u16,
    requests: Arc<Mutex<Vec<String>>>,
}

impl WebServer {
    /// Starts one, whose answers are tagged, so that what did not change is not sent twice.
    pub fn start(answer: impl Fn(&Asked) -> Reply + Send + Sync + 'static) -> WebServer {
        let requests: Arc<Mutex<Vec<String>>> = Arc::default();
        let noted = Arc::clone(&requests);
        let port = listen(move |client| {
            let mut client_out = client.try_clone()?;
            let mut reader = BufReader::new(client);
            loop {
                let mut lines = Vec::new();
                loop {
                    let mut line = String::new();
                    if reader.read_line(&mut line)? == 0 {
                        return Ok(());
                    }
                    match line.trim() {
                        "" => break,
                        line => lines.push(line.to_owned()),
                    }
                }
                let path = lines[0].split(' ').nth(1).unwrap_or_default().to_owned();
                let headers = lines[1..].iter().map(|line| match line.split_once(':') {
                    Some((name, value)) => format!("{}:{value}", name.to_ascii_lowercase()),
                    None => line.clone(),
                });
                let asked = Asked {
                    path,
                    headers: headers.collect(),
                };
                let Reply(mut status, mut headers, mut body) = answer(&asked);
                if status == 200 {
                    let tag = format!("\"{}\"", &digest(&body)[..16]);
                    if asked.header("if-none-match") == Some(&*tag) {
                        (status, body) = (304, Vec::new());
                    }
                    headers.push(format!("etag: {tag}"));
                }
                noted
                    .lock()
                    .unwrap()
                    .push(format!("{status} {}", asked.path));
                let head = format!(
                    "HTTP/1.1 {status} Said\r\ncontent-length: {}\r\n",
                    body.len()
                );
                let headers: String = headers.iter().map(|line| format!("{line}\r\n")).collect();
                client_out.write_all(format!("{head}{headers}\r\n").as_bytes())?;
                client_out.write_all(&body)?;
            }
        });
        WebServer { port, requests }
    }

    /// Its address, without a trailing slash.
    pub fn address(&self) -> String {
        format!("http://127.0.0.1:{}", self.port)
    }

    /// The status and path of each request since the last time.
    pub fn requests(&self) -> Vec<String> {
        std::mem::take(&mut self.requests.lock().unwrap())
    }
}

/// The SHA-256 of these bytes in hexadecimal digits.
pub fn digest(bytes: &[u8]) -> String {
    digest_by(&SHA256, bytes)
}

/// The digest of these bytes by an algorithm, in hexadecimal digits.
pub fn digest_by(algorithm: &'static Algorithm, bytes: &[u8]) -> String {
    let digest = ring::digest::digest(algorithm, bytes);
    let digits = digest.as_ref().iter().map(|byte| format!("{byte:02x}"));
    digits.collect()
}

/// A tar archive with gzip of these files, all executable.
pub fn archive(files: &[(&str, &str)]) -> Vec<u8> {
    let mut builder = tar::Builder::new(GzEncoder::new(Vec::new(), Compression::fast()));
    for (path, text) in files {
        let mut header = tar::Header::new_gnu();
        header.set_size(text.len() as u64);
        header.set_mode(0o755);
        builder
            .append_data(&mut header, path, text.as_bytes())
            .unwrap();
    }
    builder.into_inner().unwrap().finish().unwrap()
}
