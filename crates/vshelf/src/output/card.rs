//! The card of one release.

use std::collections::BTreeMap;

use serde::Serialize;
use vshelf_app::{Activity, Error, Runtime};
use vshelf_core::catalog::{Build, Checksum, Details, Release};
use vshelf_core::resolve::Candidate;
use vshelf_view::Palette;
use vshelf_view::words::{ago, megabytes, printable};

use super::catalog::ReleaseReport;
use super::json;
use crate::failure::Outcome;
use crate::ui::{Ui, styled};
use crate::wording::versions::{about_line, next_phase, spine};

/// The card of one release, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct CardReport {
    /// What lists show of it.
    release: ReleaseReport,
    /// Tools that come with it, and their versions.
    bundles: BTreeMap<String, String>,
    /// Where it is described.
    notes: Option<String>,
    /// Its archives.
    builds: Vec<BuildReport>,
}

/// The archive for one platform, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
struct BuildReport {
    /// The platform.
    platform: String,
    /// Where it lies.
    address: String,
    /// Its bytes, where they are told.
    size: Option<u64>,
    /// Its digest, as `algorithm:hex`; null where a checksum list has it.
    digest: Option<String>,
    /// The address of the checksum list that has the digest.
    checksum_list: Option<String>,
}

impl CardReport {
    fn new(release: ReleaseReport, details: Details) -> CardReport {
        let builds = details.builds.into_iter().map(|build| {
            let (digest, checksum_list) = match build.checksum {
                Checksum::Digest(digest) => (Some(digest.to_string()), None),
                Checksum::Listed(list) => (None, Some(list)),
            };
            BuildReport {
                platform: build.platform.to_string(),
                address: build.address,
                size: build.size,
                digest,
                checksum_list,
            }
        });
        CardReport {
            release,
            bundles: details.bundles,
            notes: details.notes,
            builds: builds.collect(),
        }
    }
}

/// Shows the card of a release.
pub fn show(ui: &Ui, runtime: &Runtime<'_>, candidate: &Candidate<'_>, as_json: bool) -> Outcome {
    let release = candidate.release.ok_or_else(|| Error::NotPublished {
        selector: candidate.version.to_string(),
    })?;
    let details = runtime.details(release)?;
    if as_json {
        let activity = Activity::of(runtime);
        let report = CardReport::new(
            ReleaseReport::new(runtime, &activity, candidate, release),
            details,
        );
        return json::print(ui, &report);
    }
    let catalog = runtime.catalog();
    let title = &runtime.definition.title;
    let line = catalog.line_of(&release.version);
    let phase = line.map(|line| line.phase_on(runtime.today));
    let name = styled(Palette::STRONG, format!("{title} {}", release.version));
    ui.result(format!("{}{name}", ui.spine(spine(phase))))?;
    ui.facts(&facts(runtime, candidate, release, &details))?;
    let others: Vec<&str> = catalog
        .releases
        .iter()
        .filter(|r| r.version == release.version && r.publisher != release.publisher)
        .map(|r| &*r.publisher)
        .collect();
    let prefix = runtime.environment().prefix(runtime.name());
    if candidate.install.is_none() && release.withdrawn.is_none() {
        ui.next(
            "To install it",
            &format!(
                "vshelf install {prefix}{}",
                runtime.selector_for(&release.version, &release.publisher)
            ),
        );
    }
    for other in others {
        ui.next(
            &format!("{other} publishes it too"),
            &format!("vshelf catalog {prefix}{other}/{}", release.version),
        );
    }
    Ok(())
}

/// What the card says: names and facts.
pub fn facts(
    runtime: &Runtime<'_>,
    candidate: &Candidate<'_>,
    release: &Release,
    details: &Details,
) -> Vec<(&'static str, String)> {
    let catalog = runtime.catalog();
    let line = catalog.line_of(&release.version);
    let mut facts: Vec<(&str, String)> = Vec::new();
    if let Some(date) = release.date {
        facts.push(("published", format!("{date}, {}", ago(date, runtime.today))));
    }
    let named = catalog.publisher(&release.publisher).map(|p| &*p.name);
    facts.push((
        "publisher",
        match named.filter(|name| *name != &*release.publisher) {
            Some(name) => format!("{} ({})", printable(name), release.publisher),
            None => release.publisher.to_string(),
        },
    ));
    if let Some(line) = line {
        facts.push(("line", about_line(line, runtime.today)));
        facts.extend(next_phase(line, runtime.today).map(|next| ("then", next)));
    }
    if release.security {
        facts.push((
            "security",
            styled(Palette::WARNING, "fixes a security problem"),
        ));
    }
    if let Some(reason) = &release.withdrawn {
        facts.push(("withdrawn", styled(Palette::WARNING, printable(reason))));
    }
    for (tool, version) in &details.bundles {
        facts.push((
            "brings",
            format!("{} {}", printable(tool), printable(version)),
        ));
    }
    if let Some(notes) = &details.notes {
        facts.push(("notes", printable(notes)));
    }
    for (index, build) in details.builds.iter().enumerate() {
        // Alternatives for one platform are one build to whoever looks.
        let platform = |build: &Build| build.platform.clone();
        if details.builds[..index]
            .iter()
            .any(|other| platform(other) == platform(build))
        {
            continue;
        }
        let size = build
            .size
            .map(|size| format!(", {}", megabytes(size)))
            .unwrap_or_default();
        facts.push(("build", format!("{}{size}", build.platform)));
    }
    if let Some(build) = details.builds_for(&runtime.environment().platform).first() {
        facts.push(("checksum here", build.checksum.to_string()));
    }
    facts.push((
        "on the shelf",
        match candidate.install {
            Some(install) => format!("yes, as {}", install.key),
            None => "no".to_owned(),
        },
    ));
    facts
}
