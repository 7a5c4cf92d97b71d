//! Marram's builds: small but real archives with a real folder layout.
//!
//! A build's own files and the large, shared tables are compressed apart and put behind each other,
//! which gzip (RFC 1952, §2.2) and xz (file format 1.2.0, §1.1) both allow; so a hundred different
//! archives cost little time to make.

use std::io::Write;

use flate2::Compression;
use flate2::write::GzEncoder;
use liblzma::write::XzEncoder;
use ring::digest::{SHA256, digest};
use tar::{Builder, EntryType, Header};

use crate::releases::DemoRelease;

/// When the files in the archives were made: 2026-01-01.
const MODIFIED: u64 = 1_767_225_600;

/// How many lines of tide tables each block has.
const TABLE_LINES: u64 = 6000;

/// Makes the archives of releases.
pub struct Archives {
    gzip_tables: Vec<Vec<u8>>,
    xz_tables: Vec<Vec<u8>>,
}

/// How an archive is compressed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Compressor {
    /// As gzip.
    Gzip,
    /// As xz.
    Xz,
}

impl Archives {
    /// Compresses what all archives share.
    pub fn new() -> Archives {
        let compressed = |by: Compressor| -> Vec<Vec<u8>> {
            (1..=3).map(|block| compress(by, &table(block))).collect()
        };
        Archives {
            gzip_tables: compressed(Compressor::Gzip),
            xz_tables: compressed(Compressor::Xz),
        }
    }

    /// The archive of a release; it is the same for every platform, as shell scripts are.
    pub fn archive(&self, release: &DemoRelease) -> Vec<u8> {
        self.compressed(release, compressor(release.version))
    }

    /// The archive of a release, compressed as one likes.
    pub fn compressed(&self, release: &DemoRelease, by: Compressor) -> Vec<u8> {
        let mut archive = compress(by, &own_files(release));
        let tables = match by {
            Compressor::Gzip => &self.gzip_tables,
            Compressor::Xz => &self.xz_tables,
        };
        // The language grew over time.
        let blocks = match release.version.split('.').next() {
            Some("3" | "4") => 1,
            Some("5" | "6" | "7") => 2,
            _ => 3,
        };
        tables
            .iter()
            .take(blocks)
            .for_each(|table| archive.extend(table));
        archive.extend(compress(by, &[0; 1024]));
        archive
    }
}

impl Default for Archives {
    fn default() -> Self {
        Archives::new()
    }
}

/// The file name of a release's archive for one platform.
pub fn file_name(release: &DemoRelease, platform: &str) -> String {
    let ending = match compressor(release.version) {
        Compressor::Gzip => "tar.gz",
        Compressor::Xz => "tar.xz",
    };
    format!(
        "{}-marram-{}-{platform}.{ending}",
        release.publisher, release.version
    )
}

/// From line 8 on, the publishers use xz.
fn compressor(version: &str) -> Compressor {
    match version
        .split('.')
        .next()
        .and_then(|line| line.parse::<u32>().ok())
    {
        Some(line) if line >= 8 => Compressor::Xz,
        _ => Compressor::Gzip,
    }
}

pub(crate) fn compress(by: Compressor, bytes: &[u8]) -> Vec<u8> {
    let written = match by {
        Compressor::Gzip => {
            let mut encoder = GzEncoder::new(Vec::new(), Compression::fast());
            encoder.write_all(bytes).and_then(|()| encoder.finish())
        }
        Compressor::Xz => {
            let mut encoder = XzEncoder::new(Vec::new(), 0);
            encoder.write_all(bytes).and_then(|()| encoder.finish())
        }
    };
    written.expect("compressing into memory does not fail")
}

/// The SHA-256 digest of these bytes, in hexadecimal digits.
pub(crate) fn sha256(bytes: &[u8]) -> String {
    let sum = digest(&SHA256, bytes);
    sum.as_ref()
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect()
}

/// A file of a build: path, permissions, contents.
pub(crate) type BuildFile = (String, u32, Vec<u8>);

/// A build's own files, without the shared tables.
pub(crate) fn files(release: &DemoRelease) -> Vec<BuildFile> {
    let fill = |text: &str| {
        text.replace("@VERSION@", release.version)
            .replace("@TUSSOCK@", &release.tussock)
            .into_bytes()
    };
    let broken = release.publisher == "dunefield" && release.version.starts_with("9.");
    let marram = match broken {
        true => include_str!("../assets/broken.sh"),
        false => include_str!("../assets/marram.sh"),
    };
    let readme = format!(
        "Marram {} from {}, a made-up language for instruments.\n",
        release.version, release.publisher
    );
    let tussock = include_str!("../assets/tussock.sh");
    let prelude = b"# Loaded before every program.\n";
    vec![
        ("marram/bin/marram".to_owned(), 0o755, fill(marram)),
        ("marram/bin/tussock".to_owned(), 0o755, fill(tussock)),
        (
            "marram/lib/marram/prelude.mar".to_owned(),
            0o644,
            prelude.to_vec(),
        ),
        (
            "marram/share/doc/marram/README".to_owned(),
            0o644,
            readme.into_bytes(),
        ),
    ]
}

fn own_files(release: &DemoRelease) -> Vec<u8> {
    let mut tar = Tar::default();
    tar.folder("marram/");
    tar.folder("marram/lib/marram/packages/");
    for (path, mode, contents) in files(release) {
        tar.file(&path, mode, &contents);
    }
    tar.entries
}

/// An archive of these files alone.
pub(crate) fn archive_of(files: &[BuildFile], by: Compressor) -> Vec<u8> {
    let mut tar = Tar::default();
    for (path, mode, contents) in files {
        tar.file(path, *mode, contents);
    }
    // Two blocks of zeros end an archive (POSIX.1-2024, pax, "ustar Interchange Format").
    tar.entries.extend([0; 1024]);
    compress(by, &tar.entries)
}

/// A block of made-up tide tables: times and heights that look like such and are none.
fn table(block: u64) -> Vec<u8> {
    let mut text = String::new();
    let mut seed = block.wrapping_mul(0x9E37_79B9_7F4A_7C15);
    for _ in 0..TABLE_LINES {
        seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        let (minutes, height) = ((seed >> 33) % 1440, (seed >> 45) % 640);
        text.push_str(&format!(
            "{:02}:{:02} {}.{:02} {:08x}\n",
            minutes / 60,
            minutes % 60,
            height / 100,
            height % 100,
            seed >> 32
        ));
    }
    let mut tar = Tar::default();
    tar.file(
        &format!("marram/share/marram/tides-{block}.txt"),
        0o644,
        text.as_bytes(),
    );
    tar.entries
}

/// Entries of a tar archive without the blocks that end it.
#[derive(Default)]
struct Tar {
    entries: Vec<u8>,
}

impl Tar {
    fn folder(&mut self, path: &str) {
        self.entry(EntryType::Directory, path, 0o755, b"");
    }

    fn file(&mut self, path: &str, mode: u32, contents: &[u8]) {
        self.entry(EntryType::Regular, path, mode, contents);
    }

    fn entry(&mut self, kind: EntryType, path: &str, mode: u32, contents: &[u8]) {
        let mut header = Header::new_ustar();
        header.set_entry_type(kind);
        header.set_mode(mode);
        header.set_mtime(MODIFIED);
        header.set_size(contents.len() as u64);
        let mut builder = Builder::new(Vec::new());
        builder
            .append_data(&mut header, path, contents)
            .expect("short paths and memory do not fail");
        // The builder ends its archive when it is dropped; only the entry itself is wanted.
        self.entries.extend(builder.get_ref());
    }
}
