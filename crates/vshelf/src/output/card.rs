//! The card of one release.

use std::collections::BTreeMap;

use jiff::civil::Date;
use serde::Serialize;
use vshelf_app::admission::check_release;
use vshelf_app::{Activity, Error, Runtime};
use vshelf_core::catalog::{Build, Checksum, Details, NotInstallable, Release, ToldBy};
use vshelf_core::resolve::Candidate;
use vshelf_view::Palette;
use vshelf_view::words::{ago, listed, megabytes, printable};

use super::catalog::ReleaseReport;
use super::json;
use crate::failure::{Failure, Outcome};
use crate::ui::{Ui, styled};
use crate::wording::versions::{about_line, next_phase, spine, told_by_others};

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
    /// What there is to know about its publisher's builds.
    remark: Option<String>,
    /// The sources that tell what is known of it.
    told_by: ToldBy,
    /// Its archives.
    builds: Vec<BuildReport>,
    /// Those that its publisher lists and that cannot be verified, and why.
    not_installable: Vec<NotInstallable>,
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
    /// The source that offers it.
    source: Option<String>,
    /// How the source spells the version, where it does so in its own way.
    spelled: Option<String>,
    /// Whether it is a repack of the publisher's build.
    repack: bool,
    /// The day of the repack.
    repack_date: Option<Date>,
    /// The oldest version of the platform's C library that it starts with.
    oldest_libc: Option<String>,
}

impl CardReport {
    fn new(release: ReleaseReport, details: Details, remark: Option<String>) -> CardReport {
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
                source: build.source,
                spelled: build.spelled,
                repack: build.repack.is_some(),
                repack_date: build.repack.and_then(|repack| repack.date),
                oldest_libc: build.oldest_libc.map(|libc| libc.to_string()),
            }
        });
        CardReport {
            release,
            bundles: details.bundles,
            notes: details.notes,
            remark,
            told_by: details.told_by,
            builds: builds.collect(),
            not_installable: details.not_installable,
        }
    }
}

/// Shows the card of a release.
pub fn show(ui: &Ui, runtime: &Runtime<'_>, candidate: &Candidate<'_>, as_json: bool) -> Outcome {
    let release = candidate.release.ok_or_else(|| Error::NotPublished {
        selector: candidate.version.to_string(),
    })?;
    let details = runtime.published.details(release)?;
    let publisher = runtime.published.catalog().publisher(&release.publisher);
    if as_json {
        let activity = Activity::of(runtime);
        let report = CardReport::new(
            ReleaseReport::new(runtime, &activity, candidate, release),
            details,
            publisher.and_then(|publisher| publisher.remark.clone()),
        );
        return json::print(ui, &report);
    }
    let catalog = runtime.published.catalog();
    let title = &runtime.definition.title;
    let line = catalog.line_of(&release.version);
    let phase = line.map(|line| line.phase_on(runtime.today()));
    let selector = runtime
        .names()
        .selector_for(&release.version, &release.publisher);
    let name = styled(Palette::STRONG, format!("{title} {selector}"));
    ui.result(format!("{}{name}", ui.spine(spine(phase))))?;
    ui.facts(&facts(runtime, candidate, release, &details))?;
    let others: Vec<&str> = catalog
        .releases
        .iter()
        .filter(|r| r.version == release.version && r.publisher != release.publisher)
        .map(|r| &*r.publisher)
        .collect();
    let prefix = runtime.environment().prefix(runtime.name());
    let runs_here = release.runs_on(runtime.environment().platform());
    if candidate.install.is_none() && release.withdrawn.is_none() && runs_here {
        match check_release(runtime, release) {
            Ok(()) => ui.next(
                "To install it",
                &format!("vshelf install {prefix}{selector}"),
            ),
            Err(forbidden) => ui.warn(Failure::from(forbidden).sentence()),
        }
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
    let catalog = runtime.published.catalog();
    let line = catalog.line_of(&release.version);
    let mut facts: Vec<(&str, String)> = Vec::new();
    if let Some(date) = release.date {
        facts.push((
            "published",
            format!("{date}, {}", ago(date, runtime.today())),
        ));
    }
    let publisher = catalog.publisher(&release.publisher);
    let named = publisher.map(|publisher| &*publisher.name);
    facts.push((
        "publisher",
        match named.filter(|name| *name != &*release.publisher) {
            Some(name) => format!("{} ({})", printable(name), release.publisher),
            None => release.publisher.to_string(),
        },
    ));
    if let Some(remark) = publisher.and_then(|publisher| publisher.remark.as_deref()) {
        facts.push(("remark", printable(remark)));
    }
    if let Some(line) = line {
        facts.push(("line", about_line(line, runtime.today())));
        facts.extend(next_phase(line, runtime.today()).map(|next| ("then", next)));
    }
    if release.fixes_security() {
        facts.push((
            "security",
            styled(Palette::WARNING, "fixes a security problem"),
        ));
    }
    if let Some(reason) = &release.withdrawn {
        facts.push(("withdrawn", styled(Palette::WARNING, printable(reason))));
    }
    facts.extend(details_facts(runtime, release, details));
    facts.push((
        "on the shelf",
        match candidate.install {
            Some(install) => format!("yes, as {}", runtime.names().selector_of(&install.key)),
            None => "no".to_owned(),
        },
    ));
    facts
}

/// What only the details of a release tell: its builds, and who knows what of it.
fn details_facts(
    runtime: &Runtime<'_>,
    release: &Release,
    details: &Details,
) -> Vec<(&'static str, String)> {
    let line = runtime.published.line_of(&release.version);
    let mut facts: Vec<(&str, String)> = Vec::new();
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
        facts.push(("build", about_build(build)));
    }
    if let Some(build) = details.builds_for(runtime.environment().platform()).first() {
        facts.push(("checksum here", build.checksum.to_string()));
    }
    for unusable in &details.not_installable {
        let why = format!("{}: {}", unusable.platform, printable(&unusable.why));
        facts.push(("not installable", styled(Palette::WARNING, why)));
    }
    let builds = details.builds_for(runtime.environment().platform());
    let giving = builds.first().and_then(|build| build.source.as_deref());
    facts.extend(giving.map(|source| ("source", source.to_owned())));
    for (source, what) in told_by_others(details, line, giving) {
        facts.push(("known from", format!("{source}: {}", listed(&what, "and"))));
    }
    facts
}

/// The platform of a build, and what is special about it.
fn about_build(build: &Build) -> String {
    let size = build.size.map(|size| format!(", {}", megabytes(size)));
    let repack = build
        .repack
        .map(|repack| match (repack.date, &build.source) {
            (Some(date), Some(source)) => format!(", a repack of {date} from {source}"),
            (None, Some(source)) => format!(", a repack from {source}"),
            (Some(date), None) => format!(", a repack of {date}"),
            (None, None) => ", a repack".to_owned(),
        });
    let library = match build.platform.libc() {
        Some("musl") => "musl",
        _ => "glibc",
    };
    let libc = build
        .oldest_libc
        .map(|oldest| format!(", needs {library} {oldest} or newer"));
    let parts = [size, repack, libc].into_iter().flatten();
    let platform = match build.platform.is_source() {
        true => "source, from which it is built here".to_owned(),
        false => build.platform.to_string(),
    };
    platform + &parts.collect::<String>()
}
