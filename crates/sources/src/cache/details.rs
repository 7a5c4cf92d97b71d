//! The third part of a kept catalog: what a release's details need, a line of JSON each.

use std::collections::BTreeMap;
use std::fs::File;
use std::path::{Path, PathBuf};

use serde::{Deserialize, Serialize};
use vshelf_core::Platform;
use vshelf_core::catalog::{
    Build, BuildCompanion, Details, LibcVersion, NotInstallable, Repack, ToldBy,
};
use vshelf_files::system;

/// Where the details of one release are in a file.
#[derive(Clone, Copy, Debug)]
pub(super) struct DetailsPlace {
    pub(super) offset: u64,
    pub(super) length: usize,
    pub(super) checksum: u32,
}

#[derive(Serialize, Deserialize)]
struct CachedDetails {
    builds: Vec<CachedBuild>,
    bundles: BTreeMap<String, String>,
    notes: Option<String>,
    #[serde(default)]
    told_by: ToldBy,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    not_installable: Vec<NotInstallable>,
}

#[derive(Serialize, Deserialize)]
struct CachedBuild {
    platform: Platform,
    address: String,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    mirrors: Vec<String>,
    size: Option<u64>,
    checksum: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    source: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    spelled: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    repack: Option<Repack>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    oldest_libc: Option<LibcVersion>,
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    companions: Vec<BuildCompanion>,
}

/// The details of a release that cannot be read back.
#[derive(Debug, thiserror::Error)]
#[error("{path} is damaged")]
pub struct DamagedDetails {
    /// The file.
    pub path: PathBuf,
}

/// The details at `places` of the kept catalog in `file`, in their order.
pub(super) fn details_at(
    file: &Path,
    places: &[DetailsPlace],
) -> Result<Vec<Details>, DamagedDetails> {
    let damaged = || DamagedDetails {
        path: file.to_owned(),
    };
    let opened = File::open(file).map_err(|_| damaged())?;
    let details = places.iter().map(|place| {
        let mut bytes = vec![0; place.length];
        let read = system::read_exact_at(&opened, &mut bytes, place.offset);
        read.ok()
            .and_then(|()| read_details(&bytes, place.checksum))
    });
    details.collect::<Option<_>>().ok_or_else(damaged)
}

/// The details in these bytes, where they have this checksum.
fn read_details(bytes: &[u8], checksum: u32) -> Option<Details> {
    if crc32fast::hash(bytes) != checksum {
        return None;
    }
    let cached: CachedDetails = serde_json::from_slice(bytes).ok()?;
    let builds = cached.builds.into_iter().map(|build| {
        Some(Build {
            platform: build.platform,
            address: build.address,
            mirrors: build.mirrors,
            size: build.size,
            source: build.source,
            spelled: build.spelled,
            repack: build.repack,
            oldest_libc: build.oldest_libc,
            checksum: build.checksum.parse().ok()?,
            companions: build.companions,
        })
    });
    Some(Details {
        builds: builds.collect::<Option<_>>()?,
        bundles: cached.bundles,
        notes: cached.notes,
        told_by: cached.told_by,
        not_installable: cached.not_installable,
    })
}

/// Adds the line of a release's details.
pub(super) fn write_details(to: &mut Vec<u8>, details: Option<&Details>) {
    let details = details.cloned().unwrap_or_default();
    let builds = details.builds.into_iter().map(|build| CachedBuild {
        platform: build.platform,
        address: build.address,
        mirrors: build.mirrors,
        size: build.size,
        checksum: build.checksum.to_string(),
        source: build.source,
        spelled: build.spelled,
        repack: build.repack,
        oldest_libc: build.oldest_libc,
        companions: build.companions,
    });
    let cached = CachedDetails {
        builds: builds.collect(),
        bundles: details.bundles,
        notes: details.notes,
        told_by: details.told_by,
        not_installable: details.not_installable,
    };
    serde_json::to_writer(&mut *to, &cached).expect("strings and numbers always serialise");
    to.push(b'\n');
}
