//! Downloads from the stand-in server: what is resumed, what is refused, what is left behind.

#![allow(
    clippy::unwrap_used,
    reason = "a test that cannot go on should say where, and nothing else"
)]

use std::fs;
use std::io::{self, Read, Write};
use std::net::TcpListener;
use std::path::Path;
use std::process::Command;
use std::thread;
use std::time::Duration;

use vshelf_core::catalog::{Build, Checksum, DigestAlgorithm};
use vshelf_core::definition::{SourceDefinition, SourceKind};
use vshelf_demo::server::{Fault, StandIn};
use vshelf_sources::digest::digest_of;
use vshelf_sources::registries::UserSettings;
use vshelf_sources::transport::{Patience, Transport, Validators};
use vshelf_sources::{Address, Addresses, Archive, CatalogCache, Download, DownloadError, open};

fn transport() -> Transport {
    let patience = Patience {
        stall: Duration::from_millis(300),
        pause: Duration::from_millis(5),
        ..Patience::default()
    };
    Transport::new(false, patience)
}

/// A build of the stand-in server's, and its bytes.
fn build(server: &StandIn, cache: &Path) -> (Build, Vec<u8>) {
    let kind = SourceKind::Catalog {
        address: format!("{}/catalog.json", server.address()),
        mirrors: Vec::new(),
        key: None,
        publisher: None,
    };
    let definition = SourceDefinition::new("stand-in", kind);
    let platform = "linux-x64-gnu".parse().unwrap();
    let source = open("marram", &definition, &platform, &UserSettings::default()).unwrap();
    let loaded = CatalogCache::new(
        cache.to_owned(),
        Duration::ZERO,
        UserSettings::default(),
        cache.join("signed"),
    )
    .renew(
        ("marram", &definition),
        source.as_ref(),
        &transport(),
        jiff::Timestamp::now(),
    )
    .unwrap();
    let release = loaded
        .catalog
        .releases
        .iter()
        .find(|r| r.version.as_str() == "8.3.1")
        .unwrap();
    let build = loaded.details(release).unwrap().builds_for(&platform)[0].clone();
    let mut bytes = Vec::new();
    ureq::get(&build.address)
        .call()
        .unwrap()
        .body_mut()
        .as_reader()
        .read_to_end(&mut bytes)
        .unwrap();
    (build, bytes)
}

/// Downloads the build: what the sink got, and how it ended.
fn run(build: &Build, size: Option<u64>, partial: &Path) -> (Vec<u8>, Result<u64, DownloadError>) {
    let (settled, _) = Archive::locate(&transport(), &[build]).unwrap();
    run_archive(Archive { size, ..settled }, partial)
}

fn run_archive(archive: Archive, partial: &Path) -> (Vec<u8>, Result<u64, DownloadError>) {
    let download = Download {
        archive,
        partial: partial.to_owned(),
    };
    let mut got = Vec::new();
    let mut sink = |piece: &[u8]| {
        got.extend_from_slice(piece);
        Ok(())
    };
    let result = download.run(&transport(), &mut sink, &mut |_, _| {});
    (got, result)
}

#[test]
fn every_byte_comes_once_whatever_was_there_before() {
    let server = StandIn::start(None).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let (build, bytes) = build(&server, folder.path());
    let digest = digest_of(DigestAlgorithm::Sha256, &bytes);
    assert_eq!(build.checksum, Checksum::Digest(digest));
    let partial = folder.path().join("partial");
    let all = bytes.len() as u64;
    for already in [0, 1, bytes.len() / 2, bytes.len()] {
        for size in [Some(all), None] {
            fs::write(&partial, &bytes[..already]).unwrap();
            let (got, came) = run(&build, size, &partial);
            assert_eq!(came.unwrap(), all - already as u64, "{already} {size:?}");
            assert!(got == bytes, "{already} {size:?}");
            // It is kept until it is not needed any more, and needs no network then.
            let (again, came) = run(&build, size.or(Some(bytes.len() as u64)), &partial);
            assert_eq!(
                (again, came.unwrap()),
                (bytes.clone(), 0),
                "{already} {size:?}"
            );
            fs::remove_file(&partial).unwrap();
        }
    }
}

#[test]
fn a_wrong_beginning_is_found_out_and_not_kept() {
    let server = StandIn::start(None).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let (build, bytes) = build(&server, folder.path());
    let partial = folder.path().join("partial");
    fs::write(&partial, b"something else").unwrap();
    let (_, result) = run(&build, Some(bytes.len() as u64), &partial);
    assert!(
        matches!(result, Err(DownloadError::Digest { .. })),
        "{result:?}"
    );
    assert!(!partial.exists());
    let (got, result) = run(&build, Some(bytes.len() as u64), &partial);
    assert!(result.is_ok() && got == bytes);
}

#[test]
fn a_server_that_hangs_is_given_up_and_what_came_is_kept() {
    let server = StandIn::start(None).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let (build, bytes) = build(&server, folder.path());
    let partial = folder.path().join("partial");
    server.misbehave(&[Fault::Hang]);
    let (got, result) = run(&build, Some(bytes.len() as u64), &partial);
    let error = result.unwrap_err();
    assert!(
        matches!(&error, DownloadError::Transport(e) if e.is_passing()),
        "{error:?}"
    );
    assert!(!got.is_empty() && got == bytes[..got.len()]);
    assert_eq!(fs::read(&partial).unwrap(), got);
}

#[test]
fn another_address_goes_on_where_one_breaks_off() {
    let whole = StandIn::start(None).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let (build, bytes) = build(&whole, folder.path());
    let partial = folder.path().join("partial");
    let there = Address::read(&build.address).unwrap();
    for fault in [
        Fault::Cut(40_000),
        Fault::Hang,
        Fault::Status(404),
        Fault::WrongLength,
        Fault::Status(500),
    ] {
        let faulty = StandIn::start(None).unwrap();
        faulty.misbehave(&[fault]);
        let address = build.address.replace(&whole.address(), &faulty.address());
        let archive = Archive {
            addresses: Addresses::new(Address::read(&address).unwrap(), vec![there.clone()]),
            ..Archive::locate(&transport(), &[&build]).unwrap().0
        };
        fs::remove_file(&partial).ok();
        let (got, came) = run_archive(archive, &partial);
        assert_eq!(came.unwrap(), bytes.len() as u64, "{fault:?}");
        assert!(got == bytes, "{fault:?}");
    }
}

#[test]
fn when_all_addresses_fail_it_ends() {
    let whole = StandIn::start(None).unwrap();
    let folder = tempfile::tempdir().unwrap();
    let (build, _) = build(&whole, folder.path());
    whole.misbehave(&[Fault::Status(500)]);
    let archive = Archive {
        addresses: Addresses::read(&build.address, std::slice::from_ref(&build.address)).unwrap(),
        ..Archive::locate(&transport(), &[&build]).unwrap().0
    };
    let (_, result) = run_archive(archive, &folder.path().join("partial"));
    assert!(
        matches!(result, Err(DownloadError::Transport(_))),
        "{result:?}"
    );
    let asked = whole
        .requests()
        .iter()
        .filter(|line| line.contains("8.3.1"))
        .count();
    // Once to build this test, then each address as often as patience says.
    assert_eq!(asked, 1 + 2 * Patience::default().attempts as usize);
}

/// A server that sends a byte now and then, for ever.
fn trickling() -> String {
    let listener = TcpListener::bind(("127.0.0.1", 0)).unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    thread::spawn(move || {
        for client in listener.incoming().flatten() {
            thread::spawn(move || -> io::Result<()> {
                let mut client = client;
                let _request = client.read(&mut [0; 4096])?;
                client.write_all(b"HTTP/1.1 200 OK\r\ncontent-length: 100000\r\n\r\n")?;
                loop {
                    client.write_all(b"x")?;
                    thread::sleep(Duration::from_millis(50));
                }
            });
        }
    });
    address
}

#[test]
fn a_server_that_sends_next_to_nothing_is_given_up() {
    let folder = tempfile::tempdir().unwrap();
    let address = Address::read(&trickling()).unwrap();
    let slow = "less than 1 kB a second came";
    let document = transport().document(&address, &Validators::default(), None);
    let error = document.unwrap_err();
    let cause = std::error::Error::source(&error).unwrap().to_string();
    assert!(error.is_passing() && cause.starts_with(slow), "{cause}");
    let download = Download {
        archive: Archive {
            addresses: address.into(),
            digest: digest_of(DigestAlgorithm::Sha256, b"tide"),
            size: None,
        },
        partial: folder.path().join("partial"),
    };
    let error = download
        .run(&transport(), &mut |_| Ok(()), &mut |_, _| {})
        .unwrap_err();
    let DownloadError::Transport(error) = &error else {
        panic!("{error}");
    };
    let cause = std::error::Error::source(error).unwrap().to_string();
    assert!(cause.starts_with(slow), "{cause}");
}

#[test]
fn a_pipe_is_no_document_and_no_archive() {
    let folder = tempfile::tempdir().unwrap();
    let pipe = folder.path().join("catalog.json");
    let made = Command::new("mkfifo").arg(&pipe).status();
    assert!(made.unwrap().success());
    let address = Address::File(pipe);
    let document = transport().document(&address, &Validators::default(), None);
    let cause = std::error::Error::source(&document.unwrap_err())
        .unwrap()
        .to_string();
    assert_eq!(cause, "it is not a plain file");
}
