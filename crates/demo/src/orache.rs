//! Orache, the sister language of Marram: lines of two numbers, one of which nothing dates, from a
//! publisher with a catalog, from a folder where others packed the same builds again, and from a second
//! publisher who trims them.

use std::collections::BTreeMap;

use serde_json::json;

use crate::archives::{BuildFile, Compressor, archive_of, sha256};

/// What the publisher released: version, day, and whether it fixes a security problem.
const RELEASES: [(&str, &str, bool); 9] = [
    ("2.3.8", "2024-11-05", false),
    ("2.4.1", "2025-06-17", false),
    ("2.4.6", "2026-02-24", true),
    ("2.5.0", "2025-12-02", false),
    ("2.5.2", "2026-04-14", false),
    ("2.6.0", "2026-06-02", false),
    ("2.6.2", "2026-09-08", false),
    ("2.6.3", "2026-10-20", true),
    ("2.7.0-rc.1", "2026-11-17", false),
];

/// What was released as source only: version, day, and whether it fixes a security problem.
const AS_SOURCE: [(&str, &str, bool); 1] = [("2.5.3", "2026-10-20", true)];

/// How others spell what they packed again, in the folder with the whole builds.
const PACKED: [&str; 4] = ["2.4.6.0", "2.6.2.0", "2.6.3.1", "2.6.3.2"];

/// How Dunefield Builds spell what they trimmed.
const TRIMMED: [&str; 2] = ["2.5.2.0", "2.6.3.0"];

/// Its definition, with its sources at this address (a URL without a slash behind).
pub fn definition(address: &str) -> String {
    include_str!("../assets/orache.toml").replace("@ADDRESS@", address)
}

/// Everything that is published, by path on the server.
pub(crate) fn publish(published: &mut BTreeMap<String, Vec<u8>>) {
    let mut entries = Vec::new();
    let built = RELEASES.map(|release| (release, "any"));
    let as_source = AS_SOURCE.map(|release| (release, "source"));
    for ((version, date, security), platform) in built.into_iter().chain(as_source) {
        let files = match platform {
            "source" => sources(version),
            _ => files("orache", version, true),
        };
        let archive = archive_of(&files, Compressor::Gzip);
        let name = format!("orache-{version}.tar.gz");
        entries.push(json!({
            "version": version,
            "publisher": "saltmarsh",
            "date": date,
            "security": security,
            "bundles": { "reed": "1.4.0" },
            "builds": [{
                "platform": platform,
                "file": format!("builds/{name}"),
                "size": archive.len(),
                "digest": format!("sha256:{}", sha256(&archive)),
            }],
        }));
        published.insert(format!("/orache/builds/{name}"), archive);
    }
    let catalog = json!({
        "format": "vivid-shelf-catalog/1",
        "runtime": "orache",
        "updated": format!("{}T06:00:00Z", crate::TODAY),
        "publishers": [{ "id": "saltmarsh", "name": "Saltmarsh Foundation", "main": true }],
        "line-numbers": 2,
        "lines": [
            { "line": "2.7", "start": "2027-06-01", "end": "2028-06-30" },
            { "line": "2.6", "start": "2026-06-02", "end": "2027-06-30" },
            { "line": "2.4", "start": "2025-06-03", "end": "2026-06-30" },
        ],
        "releases": entries,
    });
    published.insert(
        "/orache/catalog.json".to_owned(),
        catalog.to_string().into_bytes(),
    );
    publish_folder(published, "packed", "orache", &PACKED);
    publish_folder(published, "trimmed", "orache_trimmed", &TRIMMED);
}

/// A folder of archives whose names spell each version with the number of its packing.
fn publish_folder(
    published: &mut BTreeMap<String, Vec<u8>>,
    folder: &str,
    package: &str,
    spellings: &[&str],
) {
    let mut sums = String::new();
    for spelling in spellings {
        let version = spelling
            .rsplit_once('.')
            .map_or(*spelling, |(version, _)| version);
        let top = match package {
            "orache" => "orache",
            _ => "orache_trimmed/runtime",
        };
        let archive = archive_of(&files(top, version, package == "orache"), Compressor::Gzip);
        let name = format!("{package}-{spelling}.tar.gz");
        sums.push_str(&format!("{}  {name}\n", sha256(&archive)));
        published.insert(format!("/orache/{folder}/{name}"), archive);
    }
    published.insert(format!("/orache/{folder}/SHA256SUMS"), sums.into_bytes());
}

/// The files of a source archive.
fn sources(version: &str) -> Vec<BuildFile> {
    let top = format!("orache-{version}");
    let program = include_str!("../assets/orache.sh").replace("@VERSION@", version);
    let script =
        |name: &str, text: &str| (format!("{top}/{name}"), 0o755, text.as_bytes().to_vec());
    vec![
        script("configure", include_str!("../assets/configure.sh")),
        script("compile", include_str!("../assets/compile.sh")),
        script("install-to", include_str!("../assets/install-to.sh")),
        script("orache.sh", &program),
        script("reed.sh", include_str!("../assets/reed.sh")),
    ]
}

/// The files of a build below `top`, with the package tool or without.
fn files(top: &str, version: &str, with_tool: bool) -> Vec<BuildFile> {
    let program = include_str!("../assets/orache.sh").replace("@VERSION@", version);
    let mut files = vec![(format!("{top}/bin/orache"), 0o755, program.into_bytes())];
    match with_tool {
        true => {
            let tool = include_bytes!("../assets/reed.sh").to_vec();
            files.push((format!("{top}/bin/reed"), 0o755, tool));
        }
        false => files.push((
            format!("{top}/NOTES"),
            0o644,
            b"Packed by machines.\n".to_vec(),
        )),
    }
    files
}
