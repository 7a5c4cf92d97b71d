//! Catalogs as the cache keeps them, damaged somewhere.

#![no_main]

use std::fs;
use std::path::PathBuf;
use std::sync::OnceLock;
use std::time::Duration;

use libfuzzer_sys::fuzz_target;
use vshelf_core::Definition;
use vshelf_core::definition::SourceDefinition;
use vshelf_sources::registries::UserSettings;
use vshelf_sources::transport::{Patience, Transport};
use vshelf_sources::{CatalogCache, open};

/// A cache with one catalog, its source and its file.
fn kept() -> &'static (CatalogCache, SourceDefinition, PathBuf) {
    static KEPT: OnceLock<(CatalogCache, SourceDefinition, PathBuf)> = OnceLock::new();
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
        let source = definition.sources[0].clone();
        let platform = "linux-x64-gnu".parse().expect("it is a platform");
        let settings = UserSettings::default();
        let cache = CatalogCache::new(
            folder.join("catalogs"),
            Duration::ZERO,
            settings.clone(),
            folder.join("signed"),
        );
        let opened = open("marram", &source, &platform, &settings).expect("it can be opened");
        let transport = Transport::new(false, Patience::default());
        cache
            .renew(
                "marram",
                &source,
                opened.as_ref(),
                &transport,
                jiff::Timestamp::UNIX_EPOCH,
            )
            .expect("the seed is a catalog");
        let mut files = fs::read_dir(folder.join("catalogs")).expect("it is there");
        let file = files
            .next()
            .expect("one is kept")
            .expect("it can be read")
            .path();
        (cache, source, file)
    })
}

/// The number says from where on the bytes take the place of what is kept.
fuzz_target!(|data: (u16, Vec<u8>)| {
    static WHOLE: OnceLock<Vec<u8>> = OnceLock::new();
    let (cache, source, file) = kept();
    let whole = WHOLE.get_or_init(|| fs::read(file).expect("it is kept"));
    let (at, bytes) = data;
    let at = usize::from(at) % whole.len();
    let mut changed = whole[..at].to_vec();
    changed.extend(bytes);
    changed.extend(whole.iter().skip(changed.len()));
    fs::write(file, &changed).expect("it can be written");
    let lines = ["8".to_owned()];
    cache.kept_outline("marram", source);
    cache.kept_lines("marram", source, &lines);
    if let Some(loaded) = cache.kept("marram", source) {
        for release in &loaded.catalog.releases {
            loaded.details(release).map(drop).unwrap_or_default();
        }
    }
});
