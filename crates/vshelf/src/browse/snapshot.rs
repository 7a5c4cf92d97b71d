//! What there is to look at, at one moment.

use vshelf_app::{Activity, Runtime};
use vshelf_core::activation::Rule;
use vshelf_core::resolve::Candidate;
use vshelf_core::{InstallId, Key, Line, Release, Version};
use vshelf_shelf::Install;
use vshelf_view::browse::{BrowseItem, Snapshot, Spine};
use vshelf_view::words::{megabytes, printable};

use crate::ui::plain;
use crate::wording::versions::{about_line, marks};

/// What there is at this moment.
pub fn take(runtime: &Runtime<'_>) -> Snapshot {
    let catalog = runtime.published.catalog();
    let published = runtime.choosing().everything_published();
    let activity = Activity::of(runtime);
    let has_any = |line: &&Line| {
        let installed = |install: &Install| line.covers(&install.id.version);
        published
            .iter()
            .any(|candidate| line.covers(candidate.version))
            || runtime.snapshot.installs.iter().any(installed)
    };
    let lines: Vec<_> = catalog.lines.iter().filter(has_any).collect();
    let spine_of = |version: &Version| lines.iter().position(|line| line.covers(version));
    let spines = lines.iter().map(|line| Spine {
        name: line.name.clone(),
        codename: line.codename.clone().unwrap_or_default(),
        phase: line.phase_on(runtime.today()),
        about: plain(&about_line(line, runtime.today())),
    });
    let mut entries: Vec<(Version, BrowseItem)> = published
        .iter()
        .map(|candidate| {
            let mut entry = entry(
                runtime,
                &activity,
                &runtime
                    .names()
                    .selector_for(candidate.version, candidate.publisher),
                candidate.install,
            );
            entry.spine = spine_of(candidate.version);
            if let Some(release) = candidate.release {
                describe(&mut entry, release, runtime);
            }
            (candidate.version.clone(), entry)
        })
        .collect();
    for install in &runtime.snapshot.installs {
        let id = &install.id;
        let is_published =
            |candidate: &Candidate<'_>| candidate.install.is_some_and(|other| other.key == id.key);
        if !published.iter().any(is_published) {
            let name = runtime.names().selector_of(&id.key);
            let mut entry = entry(runtime, &activity, &name, Some(id));
            entry.spine = spine_of(&id.version);
            let place = entries.partition_point(|(version, _)| *version > id.version);
            entries.insert(place, (id.version.clone(), entry));
        }
    }
    Snapshot {
        title: runtime.definition.title.clone(),
        active: active_in_words(runtime, &activity),
        spines: spines.collect(),
        entries: entries.into_iter().map(|(_, entry)| entry).collect(),
    }
}

fn entry(
    runtime: &Runtime<'_>,
    activity: &Activity,
    name: &str,
    install: Option<&InstallId>,
) -> BrowseItem {
    let key = install.map(|install| &install.key);
    let is_default = key.is_some_and(|key| runtime.snapshot.is_default(key));
    let is_active = key.is_some_and(|key| activity.is_active(key));
    BrowseItem {
        spine: None,
        name: name.to_owned(),
        date: None,
        on_shelf: install.is_some(),
        in_use: is_default || is_active,
        removal: key.map_or_else(String::new, |key| {
            removal(runtime, key, is_default, is_active)
        }),
        refused: None,
        remarks: Vec::new(),
        marks: key.map_or_else(Vec::new, |key| marks(runtime, activity, key)),
    }
}

/// What removing an install means.
fn removal(runtime: &Runtime<'_>, key: &Key, is_default: bool, is_active: bool) -> String {
    let mut sentences = Vec::new();
    if is_default {
        sentences.push("It is the default, and there would be none.".to_owned());
    }
    if is_active {
        sentences.push("This shell uses it.".to_owned());
    }
    let install = runtime.snapshot.install(key);
    let contents = install.map(|install| &install.record.contents);
    if let Some(contents) = contents.filter(|contents| contents.adopted.is_none()) {
        let size = megabytes(contents.unpacked_size);
        // Settings that cannot be read are reported by the command that removes it.
        let is_kept =
            (runtime.environment().settings()).is_ok_and(|settings| settings.trash.days() > 0);
        sentences.push(if is_kept {
            format!("It moves to the trash ({size}); vshelf restore brings it back.")
        } else {
            format!("This frees {size}.")
        });
    }
    sentences.join(" ")
}

/// Adds what the catalog says of a release.
fn describe(entry: &mut BrowseItem, release: &Release, runtime: &Runtime<'_>) {
    entry.date = release.date;
    if release.fixes_security() {
        entry.remarks.push("security".to_owned());
    }
    if let Some(reason) = &release.withdrawn {
        entry.remarks.push("withdrawn".to_owned());
        entry.refused = Some(format!("it was withdrawn: {}", printable(reason)));
    }
    let platform = runtime.environment().platform();
    if !release.runs_on(platform) {
        entry.remarks.push("no build here".to_owned());
        entry.refused = Some(format!("there is no build for {platform}"));
    }
}

fn active_in_words(runtime: &Runtime<'_>, activity: &Activity) -> String {
    let Some(pick) = activity.active() else {
        return "nothing is active".to_owned();
    };
    let pick = runtime.names().selector_of_pick(pick);
    match activity.rule() {
        Some(Rule::Switch) => format!("this shell: {pick}"),
        Some(Rule::Requirement) => format!("required here: {pick}"),
        Some(Rule::Default) => format!("default: {pick}"),
        Some(Rule::System) | None => "the system's own copy is active".to_owned(),
    }
}
