//! Catalogs as the cache keeps them, damaged somewhere.

#![no_main]

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;
use std::time::Duration;

use libfuzzer_sys::fuzz_target;
use vshelf_core::Definition;
use vshelf_sources::merge::Part;
use vshelf_sources::registries::UserSettings;
use vshelf_sources::transport::{Patience, Transport};
use vshelf_sources::{CatalogCache, open};

/// A cache with the merged catalog of a definition, and its file.
fn kept() -> &'static (CatalogCache, Definition, PathBuf) {
    static KEPT: OnceLock<(CatalogCache, Definition, PathBuf)> = OnceLock::new();
    KEPT.get_or_init(|| {
        let folder = tempfile::tempdir()
            .expect("there is a folder for temporary files")
            .keep();
        let document = folder.join("catalog.json");
        fs::write(
            &document,
            include_bytes!("../seeds/catalog_document/catalog.json"),
        )
        .expect("it can be written");
        let address = format!("file://{}", document.display());
        let definition = include_str!("../seeds/definition/marram.toml")
            .replace("https://tide.example/catalog.json", &address);
        let definition = Definition::read(&definition).expect("the seed is a definition");
        let source = &definition.sources[0];
        let platform = "linux-x64-gnu".parse().expect("it is a platform");
        let settings = UserSettings::default();
        let cache = CatalogCache::new(
            folder.join("catalogs"),
            Duration::ZERO,
            settings.clone(),
            folder.join("signed"),
        );
        let opened = open("marram", source, &platform, &settings).expect("it can be opened");
        let transport = Transport::new(false, Patience::default());
        let now = jiff::Timestamp::UNIX_EPOCH;
        let loaded = cache
            .renew("marram", source, opened.as_ref(), &transport, now)
            .expect("the seed is a catalog");
        let before = files_in(&folder.join("catalogs"));
        let part = Part {
            source,
            published: loaded.published().expect("it was just kept"),
            offers: true,
        };
        cache
            .merge(&definition, &[part], now)
            .expect("it can be written");
        let mut files = files_in(&folder.join("catalogs"));
        files.retain(|file| !before.contains(file));
        let file = files.pop().expect("one more is kept");
        (cache, definition, file)
    })
}

fn files_in(folder: &Path) -> Vec<PathBuf> {
    let entries = fs::read_dir(folder).expect("it is there");
    entries
        .map(|entry| entry.expect("it can be read").path())
        .collect()
}

// The number says from where on the bytes take the place of what is kept.
fuzz_target!(|data: (u16, Vec<u8>)| {
    static WHOLE: OnceLock<Vec<u8>> = OnceLock::new();
    let (cache, definition, file) = kept();
    let whole = WHOLE.get_or_init(|| fs::read(file).expect("it is kept"));
    let (at, bytes) = data;
    let at = usize::from(at) % whole.len();
    let mut changed = whole[..at].to_vec();
    changed.extend(bytes);
    changed.extend(whole.iter().skip(changed.len()));
    fs::write(file, &changed).expect("it can be written");
    cache.merged_outline(definition);
    cache.merged_heads(definition);
    if let Some(loaded) = cache.merged(definition) {
        for release in &loaded.catalog.releases {
            loaded.details(release).map(drop).unwrap_or_default();
        }
    }
});
