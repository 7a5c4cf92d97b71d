//! What registries do that the real one of the end-to-end tests does not: a small one that keeps part of what
//! it is sent, breaks off, gives its tags in pages, and sends blobs from elsewhere.

#![allow(
    clippy::unwrap_used,
    clippy::too_many_lines,
    reason = "a test that cannot go on should say where, and nothing else"
)]

use std::collections::BTreeMap;
use std::io::{BufRead, BufReader, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::sync::{Arc, Mutex};
use std::thread;
use std::time::Duration;

use ring::digest::{SHA256, digest};
use vshelf_core::catalog::{Catalog, Details, Publisher, Release};
use vshelf_core::{Platform, Version};
use vshelf_sources::mirror::{Mirror, Writing};
use vshelf_sources::oci::Repository;
use vshelf_sources::transport::{Patience, Transport};

/// What it does otherwise than it is asked.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Fault {
    /// It keeps a third of each piece and says so.
    KeepsAThird,
    /// It breaks off in the third piece and knows what it had.
    BreaksOff,
    /// It breaks off in the second piece and knows nothing of the upload any more.
    Forgets,
    /// It keeps nothing of what it is sent.
    KeepsNothing,
}

#[derive(Default)]
struct Contents {
    blobs: BTreeMap<String, Vec<u8>>,
    manifests: BTreeMap<String, Vec<u8>>,
    upload: Vec<u8>,
    uploads: usize,
    pieces: usize,
    /// The bytes that came with pieces.
    came: usize,
}

/// A registry with one repository, `m`, and one upload at a time.
struct Registry {
    port: u16,
    contents: Arc<Mutex<Contents>>,
}

impl Registry {
    fn start(fault: Option<Fault>) -> Registry {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let contents: Arc<Mutex<Contents>> = Arc::default();
        let shared = Arc::clone(&contents);
        thread::spawn(move || {
            for connection in listener.incoming().flatten() {
                let shared = Arc::clone(&shared);
                thread::spawn(move || serve(connection, &shared, fault));
            }
        });
        Registry { port, contents }
    }

    fn repository(&self) -> Repository {
        Repository::read(&format!("oci+http://127.0.0.1:{}/m", self.port)).unwrap()
    }
}

fn serve(mut connection: TcpStream, contents: &Mutex<Contents>, fault: Option<Fault>) {
    let mut reader = BufReader::new(connection.try_clone().unwrap());
    loop {
        let mut line = String::new();
        if reader.read_line(&mut line).unwrap_or(0) == 0 {
            return;
        }
        let mut length = 0;
        loop {
            let mut header = String::new();
            reader.read_line(&mut header).unwrap();
            if header.trim().is_empty() {
                break;
            }
            if let Some(value) = header.to_lowercase().strip_prefix("content-length:") {
                length = value.trim().parse().unwrap();
            }
        }
        let mut body = vec![0; length];
        reader.read_exact(&mut body).unwrap();
        let mut words = line.split(' ');
        let (method, path) = (words.next().unwrap(), words.next().unwrap());
        let mut contents = contents.lock().unwrap();
        let Some((status, headers, bytes)) = answer(&mut contents, method, path, body, fault)
        else {
            return;
        };
        let head = format!(
            "HTTP/1.1 {status} x\r\n{headers}content-length: {}\r\n\r\n",
            bytes.len()
        );
        connection.write_all(head.as_bytes()).unwrap();
        if method != "HEAD" {
            connection.write_all(&bytes).unwrap();
        }
    }
}

/// Status, headers and body; nothing where the connection ends.
fn answer(
    contents: &mut Contents,
    method: &str,
    path: &str,
    body: Vec<u8>,
    fault: Option<Fault>,
) -> Option<(u16, String, Vec<u8>)> {
    let (path, query) = path.split_once('?').unwrap_or((path, ""));
    let rest = path.strip_prefix("/v2/m/").unwrap();
    let at = |contents: &Contents| {
        let last = contents.upload.len().saturating_sub(1);
        format!("location: /v2/m/blobs/uploads/1?step={last}\r\nrange: 0-{last}\r\n")
    };
    let missing = || Some((404, String::new(), Vec::new()));
    match (method, rest) {
        ("POST", "blobs/uploads/") => {
            contents.upload.clear();
            contents.uploads += 1;
            Some((202, at(contents), Vec::new()))
        }
        ("PATCH", _) => {
            contents.pieces += 1;
            contents.came += body.len();
            match fault {
                Some(Fault::BreaksOff) if contents.pieces == 3 => return None,
                Some(Fault::Forgets) if contents.pieces == 2 => {
                    contents.upload.clear();
                    return None;
                }
                // `0-0` says both of one byte and of none.
                Some(Fault::KeepsAThird) if body.len() > 100 => {
                    contents.upload.extend(&body[..body.len().div_ceil(3)]);
                }
                Some(Fault::KeepsNothing) => {}
                _ => contents.upload.extend(&body),
            }
            Some((202, at(contents), Vec::new()))
        }
        ("GET", "blobs/uploads/1") if fault == Some(Fault::Forgets) => missing(),
        ("GET", "blobs/uploads/1") => Some((204, at(contents), Vec::new())),
        ("PUT", "blobs/uploads/1") => {
            let name = query.split("digest=sha256%3A").nth(1).unwrap();
            let name = format!("sha256:{name}");
            let mut bytes = std::mem::take(&mut contents.upload);
            bytes.extend(body);
            if name_of(&bytes) != name {
                let error = r#"{"errors":[{"code":"DIGEST_INVALID","message":"other bytes"}]}"#;
                return Some((400, String::new(), error.into()));
            }
            contents.blobs.insert(name, bytes);
            Some((201, String::new(), Vec::new()))
        }
        ("PUT", manifest) => {
            let tag = manifest.strip_prefix("manifests/").unwrap();
            contents.manifests.insert(tag.to_owned(), body);
            Some((201, String::new(), Vec::new()))
        }
        // Two tags a page.
        ("GET", "tags/list") => {
            let last = query.split("last=").nth(1).unwrap_or_default();
            let mut after = contents.manifests.keys().filter(|tag| tag.as_str() > last);
            let page: Vec<&String> = after.by_ref().take(2).collect();
            let link = match (page.last(), after.next()) {
                (Some(last), Some(_)) => {
                    format!("link: </v2/m/tags/list?n=2&last={last}>; rel=\"next\"\r\n")
                }
                _ => String::new(),
            };
            let list = serde_json::json!({ "name": "m", "tags": page });
            Some((200, link, list.to_string().into()))
        }
        (_, name) => {
            let (kind, name) = name.split_once('/').unwrap();
            let found = match kind {
                "blobs" => contents.blobs.get(name),
                _ => contents.manifests.get(name),
            };
            match found {
                Some(bytes) => Some((200, String::new(), bytes.clone())),
                None => missing(),
            }
        }
    }
}

fn name_of(bytes: &[u8]) -> String {
    let hex: Vec<String> = digest(&SHA256, bytes)
        .as_ref()
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect();
    format!("sha256:{}", hex.concat())
}

fn transport() -> Transport {
    let patience = Patience {
        pause: Duration::from_millis(1),
        ..Patience::default()
    };
    Transport::new(false, patience)
}

/// Publishes an archive of this many bytes as the build of a version.
fn publish(registry: &Registry, version: &str, size: usize) -> Result<Vec<u8>, String> {
    let staging = tempfile::tempdir().unwrap();
    let transport = transport();
    let repository = registry.repository();
    let mut mirror =
        Mirror::in_registry(&transport, repository, staging.path(), "marram", false).unwrap();
    let publisher = Publisher {
        id: "saltmarsh".to_owned(),
        name: "Saltmarsh Foundation".to_owned(),
        main: true,
        remark: None,
        repacks: None,
    };
    mirror.take_over(&Catalog {
        runtime: "marram".to_owned(),
        publishers: vec![publisher],
        ..Catalog::default()
    });
    let release = Release {
        version: version.parse().unwrap(),
        publisher: "saltmarsh".into(),
        date: None,
        security: None,
        withdrawn: None,
        platforms: [].into(),
    };
    let archive: Vec<u8> = (0..size)
        .map(|at| (at % 251) as u8 ^ (at >> 16) as u8)
        .collect();
    let platform: Platform = "linux-x64-gnu".parse().unwrap();
    let details = Details::default();
    let mut write = |mut file: &std::fs::File| file.write_all(&archive);
    let packed = mirror.pack((&release, &details), &platform, None, &mut write);
    packed.map_err(|error| error.to_string())?;
    let key_of = |version: &Version, _: &str| version.to_string();
    let written = mirror.write(&Writing {
        definition: "",
        signer: None,
        now: "2026-11-23T12:00:00Z".parse().unwrap(),
        page: &|_| String::new(),
        key_of: &key_of,
    });
    written.map_err(|error| error.to_string())?;
    Ok(archive)
}

/// Three pieces and a little more.
const SIZE: usize = 3 * (16 << 20) + 1234;

#[rstest::rstest]
#[case(None, 1, SIZE)]
// What it did not keep is sent again, and nothing else.
#[case(Some(Fault::BreaksOff), 1, SIZE + (16 << 20))]
#[case(Some(Fault::Forgets), 2, SIZE + 2 * (16 << 20))]
fn what_a_registry_has_is_not_sent_again(
    #[case] fault: Option<Fault>,
    #[case] uploads: usize,
    #[case] came: usize,
) {
    let registry = Registry::start(fault);
    let archive = publish(&registry, "8.3.1", SIZE).unwrap();
    let contents = registry.contents.lock().unwrap();
    assert_eq!(contents.blobs[&name_of(&archive)], archive);
    // Beside it, the empty configuration, the catalog and its definition.
    assert_eq!((contents.uploads, contents.came), (uploads + 3, came));
}

#[test]
fn what_comes_back_counts_and_not_what_was_sent() {
    let registry = Registry::start(Some(Fault::KeepsAThird));
    let archive = publish(&registry, "8.3.1", 17 << 20).unwrap();
    let contents = registry.contents.lock().unwrap();
    assert_eq!(contents.blobs[&name_of(&archive)], archive);
}

#[test]
fn a_registry_that_keeps_nothing_is_given_up() {
    let registry = Registry::start(Some(Fault::KeepsNothing));
    let error = publish(&registry, "8.3.1", 17 << 20).unwrap_err();
    assert!(error.contains("broke off"), "{error}");
    assert!(registry.contents.lock().unwrap().pieces < 10);
}

#[test]
fn tags_come_in_pages() {
    let registry = Registry::start(None);
    for version in ["8.3.1", "8.3.0", "8.2.2", "8.2.1"] {
        publish(&registry, version, 10).unwrap();
    }
    // Somebody takes the catalog away, and the next who publishes has it again from the tags.
    registry
        .contents
        .lock()
        .unwrap()
        .manifests
        .remove("catalog");
    publish(&registry, "8.2.0", 10).unwrap();
    let staging = tempfile::tempdir().unwrap();
    let repository = registry.repository();
    let mirror =
        Mirror::in_registry(&transport(), repository, staging.path(), "marram", false).unwrap();
    assert_eq!(mirror.holds().0, 5);
}
