//! Building a release from its source archive: what it needs is looked for before anything is fetched, its
//! steps run in a cleared environment, and what they made is checked before it can reach the shelf.

mod needs;
mod steps;

use std::collections::BTreeMap;
use std::env;
use std::fs;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};

use serde::{Deserialize, Serialize};
use vshelf_core::catalog::Build;
use vshelf_core::definition::ArchiveLayout;
use vshelf_core::definition::build::{
    BuildCheck, BuildSection, BuildStep, LogFailure, PrefixKind, System,
};
use vshelf_core::definition::fingerprint;
use vshelf_core::definition::needs::Needs;
use vshelf_core::template::Template;
use vshelf_files::action::FileAction;
use vshelf_files::lock::Lock;
use vshelf_files::optional;
use vshelf_files::tree::{bytes_in, remove_tree};
use vshelf_shelf::record::{Built, BuiltWith};
use vshelf_shelf::{Manifest, ShelfError};
use vshelf_sources::Archive;

pub use self::needs::{install_command, look_for};
use super::job::InstallJob;
use super::transfer::{TransferReport, fetch, transfer};
use crate::error::{Done, Error, StepFailure, StepProblem, file_error};
use crate::events::{BuildPlan, Event, Listener, TransferState};
use crate::install::first_start::missing_package;

/// How long a build waits for a clean-up that deletes what an earlier attempt left.
const PATIENCE: Duration = Duration::from_secs(600);

/// How long a check may take.
const LONGEST_CHECK: Duration = Duration::from_secs(120);

/// What an install is made of.
pub struct Made {
    /// The bytes that came over the network.
    pub fetched: u64,
    /// Its files.
    pub manifest: Manifest,
    /// The archive that it comes from.
    pub archive: Archive,
    /// How it was built, where it was.
    pub built: Option<Built>,
    /// The folder of the build, which goes when the install is published.
    pub work: Option<PathBuf>,
}

/// How a release is built, and what it is built with.
pub struct Recipe<'j> {
    section: &'j BuildSection,
    needs: Needs,
}

impl Recipe<'_> {
    /// The recipe of a job that builds from source, or `None` if it installs a build. An error names everything that
    /// is missing.
    pub fn of<'j>(job: &'j InstallJob, build: Option<&Build>) -> Result<Option<Recipe<'j>>, Error> {
        let is_source = build.is_some_and(|build| build.platform.is_source());
        let Some(section) = job.definition.build.as_ref().filter(|_| is_source) else {
            return Ok(None);
        };
        let needs = need(job, section)?;
        Ok(Some(Recipe { section, needs }))
    }
}

/// Looks for what a build needs; an error names all that is missing.
fn need(job: &InstallJob, section: &BuildSection) -> Result<Needs, Error> {
    let final_place = final_place(job);
    if section.prefix == PrefixKind::Final {
        let text = final_place.to_string_lossy();
        if let Some(bad) = text
            .chars()
            .find(|c| c.is_whitespace() || "'\"$`\\&|;<>()*?".contains(*c))
        {
            return Err(Error::BuildPlace {
                title: job.title(),
                place: final_place,
                bad,
            });
        }
    }
    let needs = look_for(section);
    match needs.forbid_building() {
        true => Err(Error::BuildNeeds {
            title: job.title(),
            command: install_command(&needs),
            missing: needs.missing,
        }),
        false => Ok(needs),
    }
}

/// Where the build has its place on the shelf.
fn final_place(job: &InstallJob) -> PathBuf {
    job.shelf.install_folder(&job.key)
}

/// A check that something installed does not pass.
pub struct FailingCheck<'s> {
    /// The check.
    pub check: &'s BuildCheck,
    /// The last lines that it wrote.
    pub said: Vec<String>,
}

/// The first check of a build that what is installed in `folder` does not pass.
pub fn failing_check<'s>(
    section: &'s BuildSection,
    folder: &Path,
) -> Result<Option<FailingCheck<'s>>, Error> {
    let scratch = tempfile::tempdir().map_err(file_error(&env::temp_dir(), FileAction::Write))?;
    let surroundings = steps::Surroundings {
        folder: folder.to_owned(),
        home: scratch.path().join("home"),
        temporary: scratch.path().join("tmp"),
        log: scratch.path().join("log"),
        environment: BTreeMap::new(),
        longest: LONGEST_CHECK,
    };
    let failing = first_failing(section, &surroundings);
    let log = fs::read_to_string(&surroundings.log).unwrap_or_default();
    Ok(failing.map(|check| FailingCheck {
        check,
        said: LogFailure::read(&log).last,
    }))
}

/// Fails where a published build does not pass a check that one which is built here would have to.
pub fn check_published(job: &InstallJob, tree: &Path) -> Done {
    let Some(section) = &job.definition.build else {
        return Ok(());
    };
    let Some(failing) = failing_check(section, tree)? else {
        return Ok(());
    };
    Err(Error::PublishedCheck {
        title: job.title(),
        says: failing.check.says.clone(),
        command: missing_package(&failing.said.join("\n")),
        said: failing.said,
    })
}

/// The first check that what is installed in the folder of these surroundings does not pass.
fn first_failing<'s>(
    section: &'s BuildSection,
    surroundings: &steps::Surroundings,
) -> Option<&'s BuildCheck> {
    let install = surroundings.folder.to_string_lossy();
    section.checks.iter().find(|check| {
        let filled = check
            .run
            .iter()
            .map(|text| text.filled(|_| install.to_string()));
        let arguments: Vec<String> = filled.collect();
        steps::run(surroundings, &arguments, &mut |_, _| {}).is_err()
    })
}

/// The folder of a build under way; another source or another way to build has another.
fn work_folder(job: &InstallJob, section: &BuildSection, archive: &Archive) -> PathBuf {
    let way = format!(
        "{section:?} {} {}",
        archive.digest,
        final_place(job).display()
    );
    let (runtime, key) = (&job.definition.name, job.key.as_str());
    let name = format!("{runtime}-{key}-{:016x}", fingerprint(way.as_bytes()));
    job.builds_folder.join(name)
}

/// The log of a build, in its folder.
pub fn log_of(folder: &Path) -> PathBuf {
    folder.join("log")
}

/// The lock of a build: whoever holds it works on it, or deletes it.
pub fn lock_of(folder: &Path) -> PathBuf {
    // The folder's name has dots, so that an extension would replace the end of the version.
    let mut name = folder.as_os_str().to_owned();
    name.push(".lock");
    name.into()
}

/// Waits for whoever deletes what an earlier attempt left, and holds the build.
fn hold(folder: &Path) -> Result<Lock, Error> {
    let lock = Lock::acquire(&lock_of(folder), PATIENCE, &mut |_| {}).map_err(ShelfError::from)?;
    fs::create_dir_all(folder).map_err(file_error(folder, FileAction::Write))?;
    Ok(lock)
}

/// The steps of a build that are done.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Progress {
    /// Whether the source is there, with what is replaced in it.
    unpacked: bool,
    /// The names of the steps.
    steps: Vec<String>,
    /// How long they took, in milliseconds.
    took_ms: u64,
    /// The runtime and version, for people.
    #[serde(default)]
    title: String,
    /// The selector that resumes the build, with its runtime.
    #[serde(default)]
    selector: String,
}

/// A build that failed or was interrupted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UnfinishedBuild {
    /// Its folder.
    pub folder: PathBuf,
    /// The runtime and version, for people.
    pub title: String,
    /// The selector that resumes it, with its runtime.
    pub selector: String,
}

/// The build in a folder that nobody works on: `None` if nothing notes which one it is.
pub fn unfinished_build(folder: &Path) -> Option<UnfinishedBuild> {
    let progress = read_progress(folder)?;
    (!progress.selector.is_empty()).then(|| UnfinishedBuild {
        folder: folder.to_owned(),
        title: progress.title,
        selector: progress.selector,
    })
}

/// The progress note of a build. An unreadable note counts as absent, so the build starts over.
fn read_progress(folder: &Path) -> Option<Progress> {
    let noted = optional::read(&folder.join(PROGRESS)).ok().flatten()?;
    serde_json::from_slice(&noted).ok()
}

/// The file in a build's folder that notes how far it is.
const PROGRESS: &str = "progress.json";

/// A build under way.
struct Work<'w> {
    job: &'w InstallJob,
    section: &'w BuildSection,
    folder: PathBuf,
    progress: Progress,
    listener: &'w dyn Listener,
}

/// Builds from a source archive; what it made is at `tree` then.
pub fn build(
    job: &InstallJob,
    recipe: &Recipe<'_>,
    archive: Archive,
    tree: &Path,
    report: &TransferReport<'_>,
) -> Result<Made, Error> {
    let Recipe { section, needs } = recipe;
    let listener = report.listener();
    let folder = work_folder(job, section, &archive);
    let _lock = hold(&folder)?;
    let mut work = Work {
        job,
        section,
        progress: Progress {
            title: job.title(),
            selector: format!("{}@{}", job.definition.name, job.selector()),
            ..read_progress(&folder).unwrap_or_default()
        },
        folder,
        listener,
    };
    work.note()?;
    listener.tell(Event::BuildBegins(&BuildPlan {
        title: &job.title(),
        section,
        needs,
        last_time: job.last_build,
        goes_on: work.progress.unpacked,
        log: &work.log(),
    }));
    let (fetched, archive) = work.unpack(archive, report)?;
    report.tell(TransferState::Dismissed);
    let ran = work.run_steps();
    listener.tell(Event::BuildEnds {
        title: &job.title(),
    });
    ran?;
    // Before checks write to it.
    let log = fs::read_to_string(work.log()).unwrap_or_default();
    let made = work.made()?;
    work.check(&made)?;
    let built = work.built(needs, &log)?;
    fs::remove_dir(tree).map_err(file_error(tree, FileAction::Write))?;
    fs::rename(&made, tree).map_err(file_error(tree, FileAction::Write))?;
    Ok(Made {
        fetched,
        manifest: Manifest::of(tree).map_err(file_error(tree, FileAction::Read))?,
        archive,
        built: Some(built),
        work: Some(work.folder),
    })
}

impl Work<'_> {
    fn log(&self) -> PathBuf {
        log_of(&self.folder)
    }

    fn source(&self) -> PathBuf {
        self.folder.join("source")
    }

    fn note(&self) -> Result<(), Error> {
        let file = self.folder.join(PROGRESS);
        let text = serde_json::to_vec(&self.progress).expect("texts and numbers serialise");
        fs::write(&file, text).map_err(file_error(&file, FileAction::Write))
    }

    /// Unpacks the source, unless that is done: what was built of it stays.
    fn unpack(
        &mut self,
        archive: Archive,
        report: &TransferReport<'_>,
    ) -> Result<(u64, Archive), Error> {
        if self.progress.unpacked {
            return Ok((0, archive));
        }
        let source = self.source();
        remove_tree(&source)
            .whole()
            .map_err(file_error(&source, FileAction::Remove))?;
        fs::create_dir_all(&source).map_err(file_error(&source, FileAction::Write))?;
        let unpacked = transfer(self.job, archive, &ArchiveLayout::below(1), &source, report)?;
        let patched = self.patch()?;
        for replacement in &self.section.replace {
            let file = source.join(&replacement.file);
            let text = fs::read_to_string(&file).map_err(file_error(&file, FileAction::Read))?;
            if !text.contains(&replacement.text) {
                return Err(Error::NothingToReplace {
                    file: replacement.file.clone(),
                    text: replacement.text.clone(),
                });
            }
            let by = self.filled(&replacement.by);
            fs::write(&file, text.replace(&replacement.text, &by))
                .map_err(file_error(&file, FileAction::Write))?;
        }
        self.progress.unpacked = true;
        self.progress.steps.clear();
        self.progress.took_ms = 0;
        self.note()?;
        Ok((unpacked.fetched + patched, unpacked.archive))
    }

    /// Fetches the patches of the release, and makes their changes; gives back the bytes that came.
    fn patch(&self) -> Result<u64, Error> {
        let mut fetched = 0;
        for (number, patch) in (self.section.patches_of(&self.job.release.version)).enumerate() {
            let archive = Archive::with_digest(&patch.address, patch.digest.clone())?;
            let file = self.folder.join(format!("{number}.patch"));
            fetched += fetch(self.job, archive, &file)?;
            let shown = file.to_string_lossy().into_owned();
            let call = ["patch", "-p1", "-f", "-i", &shown].map(str::to_owned);
            let ran = steps::run(&self.surroundings(), &call, &mut |_, _| {});
            ran.map_err(|problem| self.failed(&format!("patch with {}", patch.address), problem))?;
        }
        Ok(fetched)
    }

    /// The failure of a step.
    fn failed(&self, step: &str, problem: StepProblem) -> Error {
        let log = fs::read_to_string(self.log()).unwrap_or_default();
        Error::BuildStep(Box::new(StepFailure {
            title: self.job.title(),
            step: step.to_owned(),
            problem,
            log: self.log(),
            said: LogFailure::read(&log),
        }))
    }

    /// What a text of the definition is here.
    fn filled(&self, text: &Template) -> String {
        let shown = |path: PathBuf| path.to_string_lossy().into_owned();
        text.filled(|place| match place {
            "prefix" => shown(final_place(self.job)),
            "stage" => shown(self.folder.join("stage")),
            "install" => shown(self.staged()),
            "source" => shown(self.source()),
            _ => match self.job.build_jobs {
                Some(jobs) => jobs.to_string(),
                None => steps::jobs().to_string(),
            },
        })
    }

    /// Where the last step leaves what it installs.
    fn staged(&self) -> PathBuf {
        self.folder.join(self.staged_below())
    }

    /// The path of the staged install, relative to the folder of the build.
    fn staged_below(&self) -> PathBuf {
        let place = final_place(self.job);
        Path::new("stage").join(place.strip_prefix("/").unwrap_or(&place))
    }

    /// The program and the arguments of a step.
    fn call(&self, step: &BuildStep) -> Vec<String> {
        step.run.iter().map(|text| self.filled(text)).collect()
    }

    /// The calls of all steps.
    fn calls(&self) -> impl Iterator<Item = Vec<String>> {
        let steps = self.section.steps_on(System::here());
        steps.map(|step| self.call(step))
    }

    fn run_steps(&mut self) -> Result<(), Error> {
        let steps: Vec<&BuildStep> = self.section.steps_on(System::here()).collect();
        let count = steps.len();
        for (index, step) in steps.into_iter().enumerate() {
            if self.progress.steps.contains(&step.name) {
                continue;
            }
            // What an interrupted step left is gone over again by the step itself.
            let begun = Instant::now();
            let arguments = self.call(step);
            let title = self.job.title();
            let mut said = |lines: &[String], elapsed: Duration| {
                self.listener.tell(Event::Building {
                    title: &title,
                    step: index + 1,
                    count,
                    name: &step.name,
                    elapsed,
                    lines,
                });
            };
            let ran = steps::run(&self.surroundings(), &arguments, &mut said);
            ran.map_err(|problem| self.failed(&step.name, problem))?;
            self.progress.steps.push(step.name.clone());
            self.progress.took_ms += u64::try_from(begun.elapsed().as_millis()).unwrap_or(u64::MAX);
            self.note()?;
        }
        Ok(())
    }

    fn surroundings(&self) -> steps::Surroundings {
        let environment = self.section.environment.iter();
        steps::Surroundings {
            folder: self.source(),
            home: self.folder.join("home"),
            temporary: self.folder.join("tmp"),
            log: self.log(),
            environment: environment
                .map(|(name, value)| (name.clone(), self.filled(value)))
                .collect(),
            longest: steps::LONGEST_STEP,
        }
    }

    /// The folder that the steps made.
    fn made(&self) -> Result<PathBuf, Error> {
        let staged = self.staged();
        // Through a link that a step made, the install would be whatever that leads to.
        let real = |path: &Path| fs::canonicalize(path).ok();
        let expected = real(&self.folder).map(|folder| folder.join(self.staged_below()));
        if staged.is_dir() && real(&staged) == expected {
            return Ok(staged);
        }
        Err(Error::NothingBuilt {
            title: self.job.title(),
            place: staged,
            log: self.log(),
        })
    }

    /// The record of a build whose steps are done; `log` is their output.
    fn built(&self, needs: &Needs, log: &str) -> Result<Built, Error> {
        let section = self.section;
        let space = bytes_in(&self.folder).map_err(file_error(&self.folder, FileAction::Read))?;
        let libraries = needs.found.iter().map(|found| BuiltWith {
            name: found.name.clone(),
            version: found.version.clone(),
        });
        let left_out = section.left_out_in(log).into_iter();
        Ok(Built {
            compiler: needs.compiler.clone(),
            patches: section.patch_digests(&self.job.release.version),
            steps: self.calls().map(|call| call.join(" ")).collect(),
            libraries: libraries.collect(),
            left_out: left_out.map(str::to_owned).collect(),
            took_ms: self.progress.took_ms,
            space: Some(space),
            place: (section.prefix == PrefixKind::Final).then(|| final_place(self.job)),
        })
    }

    fn check(&self, made: &Path) -> Result<(), Error> {
        let surroundings = steps::Surroundings {
            folder: made.to_owned(),
            environment: BTreeMap::new(),
            longest: LONGEST_CHECK,
            ..self.surroundings()
        };
        let Some(check) = first_failing(self.section, &surroundings) else {
            return Ok(());
        };
        let log = fs::read_to_string(self.log()).unwrap_or_default();
        Err(Error::BuildCheck {
            title: self.job.title(),
            says: check.says.clone(),
            last: LogFailure::read(&log).last,
            log: self.log(),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn builds_of_two_patches_have_separate_locks() {
        let lock =
            |version: &str| lock_of(Path::new(&format!("/builds/bell-gull-point-{version}")));
        assert_ne!(lock("1.0.0-0a0a"), lock("1.0.1-0b0b"));
    }
}
