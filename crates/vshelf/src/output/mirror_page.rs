//! The page of a mirror, for people who open its folder or address in a browser.

use vshelf_app::Runtime;
use vshelf_app::mirror::PublishedCatalog;
use vshelf_core::catalog::{Build, Checksum};
use vshelf_core::timeline::spans;
use vshelf_core::{Line, Phase, Release};
use vshelf_view::page::{Page, PageBuild, PageLine, PageRelease};

/// The page of a runtime's mirror, which is signed with this key.
pub fn page(runtime: &Runtime<'_>, published: &PublishedCatalog, key: Option<&str>) -> String {
    // What is new stands behind what was there.
    let catalog = &published.catalog.clone().ordered();
    let with_releases = |line: &&Line| catalog.releases_of(line).next().is_some();
    let mut lines: Vec<PageLine> = (catalog.lines.iter().filter(with_releases))
        .map(|line| PageLine {
            name: match &line.codename {
                Some(codename) => format!("{} {codename}", line.name),
                None => line.name.clone(),
            },
            phase: line.phase_on(runtime.today()),
            spans: spans(catalog, line),
            releases: (catalog.releases_of(line))
                .map(|release| release_of(published, release))
                .collect(),
        })
        .collect();
    let of_no_line = (catalog.releases.iter())
        .filter(|release| catalog.line_of(&release.version).is_none())
        .map(|release| release_of(published, release));
    let of_no_line: Vec<PageRelease> = of_no_line.collect();
    if !of_no_line.is_empty() {
        lines.push(PageLine {
            name: "of no line".to_owned(),
            phase: Phase::Unknown,
            spans: Vec::new(),
            releases: of_no_line,
        });
    }
    let page = Page {
        title: runtime.definition.title.clone(),
        name: runtime.name().to_owned(),
        today: runtime.today(),
        definition: format!("{}.toml", runtime.name()),
        key: key.map(str::to_owned),
        lines,
    };
    page.render()
}

fn release_of(published: &PublishedCatalog, release: &Release) -> PageRelease {
    let catalog = &published.catalog;
    let key = (release.version.clone(), release.publisher.clone());
    let builds = published.details.get(&key).into_iter();
    let builds = builds.flat_map(|details| &details.builds);
    PageRelease {
        selector: catalog.selector_for(&release.version, &release.publisher),
        publisher: release.publisher.to_string(),
        date: release.date,
        security: release.fixes_security(),
        withdrawn: release.withdrawn.as_deref().map(str::to_owned),
        builds: builds.map(build_of).collect(),
    }
}

fn build_of(build: &Build) -> PageBuild {
    PageBuild {
        platform: build.platform.to_string(),
        file: build.address.clone(),
        size: build.size,
        digest: match &build.checksum {
            Checksum::Digest(digest) => digest.to_string(),
            Checksum::Listed(list) => list.clone(),
        },
    }
}
