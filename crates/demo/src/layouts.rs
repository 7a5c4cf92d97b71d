//! A few of Marram's builds as other kinds of sources publish them: a release list, an npm-protocol
//! registry with a scoped package and a companion, wheels, a plain folder.

use std::collections::BTreeMap;
use std::io::{Cursor, Write};

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use ring::digest::{SHA512, digest};
use serde_json::{Value, json};
use zip::ZipWriter;
use zip::write::SimpleFileOptions;

use crate::archives::{Archives, Compressor, compress, files, sha256};
use crate::orache;
use crate::releases::{self, DemoRelease, LINES};

/// The releases that are published so.
const VERSIONS: [&str; 4] = ["6.20.2", "8.2.1", "8.3.1", "10.0.0-rc.1"];

/// The files of all layouts, by path on the server that has this address.
pub fn publish(address: &str) -> BTreeMap<String, Vec<u8>> {
    let maker = Archives::new();
    let chosen: Vec<DemoRelease> = (releases::all().into_iter())
        .filter(|release| release.publisher == "saltmarsh" && VERSIONS.contains(&release.version))
        .collect();
    let mut published = BTreeMap::new();
    publish_index(&maker, &chosen, &mut published);
    publish_packages(&maker, &chosen, address, &mut published);
    publish_wheels(&chosen, &mut published);
    publish_folder(&maker, &chosen, &mut published);
    orache::publish(&mut published);
    published
}

/// A release list: line 6 is there as gzip only, as old releases often are.
fn publish_index(
    maker: &Archives,
    chosen: &[DemoRelease],
    published: &mut BTreeMap<String, Vec<u8>>,
) {
    let mut entries = Vec::new();
    for release in chosen {
        let version = release.version;
        let line = LINES
            .iter()
            .find(|line| version.split('.').next() == Some(line.line));
        let codename = line.and_then(|line| line.lts.and(line.codename));
        entries.push(json!({
            "version": format!("v{version}"),
            "date": release.date.to_string(),
            "files": ["linux-x64", "src"],
            "tussock": release.tussock,
            "lts": codename.map_or(Value::Bool(false), Value::from),
            "security": release.security,
        }));
        let mut sums = String::new();
        let forms = [("gz", Compressor::Gzip), ("xz", Compressor::Xz)];
        let count = if version.starts_with('6') { 1 } else { 2 };
        for (ending, by) in &forms[..count] {
            let name = format!("marram-v{version}-linux-x64.tar.{ending}");
            let archive = maker.compressed(release, *by);
            sums.push_str(&format!("{}  {name}\n", sha256(&archive)));
            published.insert(format!("/dist/v{version}/{name}"), archive);
        }
        published.insert(
            format!("/dist/v{version}/SHASUMS256.txt"),
            sums.into_bytes(),
        );
    }
    let index = Value::from(entries).to_string();
    published.insert("/dist/index.json".to_owned(), index.into_bytes());
}

/// One package for all platforms, and a companion, which the later versions of do not fit line 6.
fn publish_packages(
    maker: &Archives,
    chosen: &[DemoRelease],
    address: &str,
    published: &mut BTreeMap<String, Vec<u8>>,
) {
    let mut add = |package: &str, versions: Vec<(String, Vec<u8>, Value)>| {
        let short = package.rsplit('/').next().unwrap_or(package);
        let mut entries = BTreeMap::new();
        for (version, tarball, engines) in versions {
            let path = format!("/npm/{short}/-/{short}-{version}.tgz");
            let sum = digest(&SHA512, &tarball);
            let dist = json!({
                "tarball": format!("{address}{path}"),
                "integrity": format!("sha512-{}", STANDARD.encode(sum)),
            });
            published.insert(path, tarball);
            entries.insert(version, json!({ "dist": dist, "engines": engines }));
        }
        let document = json!({ "name": package, "dist-tags": {}, "versions": entries });
        let path = format!("/npm/{}", package.replace('/', "%2f"));
        published.insert(path, document.to_string().into_bytes());
    };
    let builds = chosen.iter().map(|release| {
        let archive = maker.compressed(release, Compressor::Gzip);
        (release.version.to_owned(), archive, Value::Null)
    });
    add("@saltmarsh/marram", builds.collect());
    let bittern = |version: &str, engines: &str| {
        let script = format!("#!/bin/sh\necho 'bittern {version}'\n");
        let mut builder = tar::Builder::new(Vec::new());
        let mut header = tar::Header::new_ustar();
        header.set_mode(0o644);
        header.set_size(script.len() as u64);
        let written = builder
            .append_data(&mut header, "package/bin/bittern.sh", script.as_bytes())
            .and_then(|()| builder.into_inner());
        let tarball = written.expect("short paths and memory do not fail");
        let tarball = compress(Compressor::Gzip, &tarball);
        (version.to_owned(), tarball, json!({ "marram": engines }))
    };
    add(
        "@saltmarsh/bittern",
        vec![bittern("1.4.0", ">=6 <10"), bittern("2.0.0", ">=8 <10")],
    );
}

/// Wheels for every platform; the withdrawn release is yanked.
fn publish_wheels(chosen: &[DemoRelease], published: &mut BTreeMap<String, Vec<u8>>) {
    let mut entries = Vec::new();
    for release in chosen {
        let name = format!(
            "marram-{}-py3-none-any.whl",
            release.version.replace("-rc.", "rc")
        );
        let mut writer = ZipWriter::new(Cursor::new(Vec::new()));
        for (path, mode, contents) in files(release) {
            let options = SimpleFileOptions::default().unix_permissions(mode);
            let written = writer
                .start_file(path, options)
                .map_err(std::io::Error::from)
                .and_then(|()| writer.write_all(&contents));
            written.expect("short paths and memory do not fail");
        }
        let wheel = writer.finish().expect("memory does not fail").into_inner();
        entries.push(json!({
            "filename": name,
            "url": format!("../../files/{name}"),
            "hashes": { "sha256": sha256(&wheel) },
            "size": wheel.len(),
            "upload-time": format!("{}T06:00:00Z", release.date),
            "yanked": release.withdrawn.map_or(Value::Bool(false), Value::from),
        }));
        published.insert(format!("/files/{name}"), wheel);
    }
    let project = json!({ "meta": { "api-version": "1.1" }, "name": "marram", "files": entries });
    published.insert(
        "/simple/marram/".to_owned(),
        project.to_string().into_bytes(),
    );
}

/// A plain folder with a checksum list.
fn publish_folder(
    maker: &Archives,
    chosen: &[DemoRelease],
    published: &mut BTreeMap<String, Vec<u8>>,
) {
    let mut sums = String::new();
    for release in chosen {
        let name = format!("marram-{}.tar.xz", release.version);
        let archive = maker.compressed(release, Compressor::Xz);
        sums.push_str(&format!("{} *{name}\n", sha256(&archive)));
        published.insert(format!("/folder/{name}"), archive);
    }
    published.insert("/folder/SHA256SUMS".to_owned(), sums.into_bytes());
}
