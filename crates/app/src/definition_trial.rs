//! Trying a definition: its newest release is installed on a throwaway shelf.

use std::fs;
use std::path::Path;

use tempfile::TempDir;
use vshelf_core::admission::Narrowing;
use vshelf_core::resolve::{Candidate, Choice, Scope};
use vshelf_core::{Request, Selector};
use vshelf_files::action::FileAction;

use crate::definitions;
use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use crate::events::{Answer, Listener, Question};
use crate::install::execute::execute;
use crate::install::job::{InstallJob, JobOptions};
use crate::runtime::Runtime;
use crate::runtime::published::Extent;
use crate::runtimes::CheckedDefinition;
use crate::settings;

/// Fetches, verifies and unpacks the newest release of a definition for this platform, and starts it once. Everything is
/// deleted afterwards. Returns the release's title, or `None` without a release for this platform or without consent.
pub fn try_newest(
    environment: &Environment,
    checked: &CheckedDefinition,
    listener: &dyn Listener,
) -> Result<Option<String>, Error> {
    // `check` has asked the sources already: they are only asked again for a trial that is wanted.
    let catalog = checked.catalog.as_ref();
    let mut releases = catalog.map_or(&[][..], |catalog| &catalog.releases).iter();
    let question = Question::TryRelease {
        title: &checked.definition.title,
    };
    if !releases.any(|release| release.runs_on(&checked.platform))
        || listener.ask(&question)? != Answer::Yes
    {
        return Ok(None);
    }
    let folder = throwaway_folder(environment)?;
    let place = folder.path();
    write_config(environment, checked, &place.join("config"))?;
    let there = environment.with_folders_below(place);
    let mut runtime = Runtime::named(&there, Some(&checked.definition.name))?;
    runtime.published.load(Extent::Releases)?;
    let Some(newest) = newest(&runtime) else {
        return Ok(None);
    };
    let Some(release) = newest.release else {
        return Ok(None);
    };
    let options = JobOptions::default();
    let job = InstallJob::new(&runtime, release, Narrowing::Open, options)?;
    let jobs = [job];
    let results = execute(&there, &jobs, listener);
    (results.into_iter()).try_for_each(|result| result.map(drop))?;
    let [job] = jobs;
    Ok(Some(job.title()))
}

/// The newest release for this platform: a pre-release only if there is no other.
fn newest<'r>(runtime: &'r Runtime<'_>) -> Option<Candidate<'r>> {
    let of = |selector| Request {
        runtime: None,
        publisher: None,
        selector,
    };
    let selectors = [Selector::Latest, Selector::Preview];
    selectors.into_iter().find_map(|selector| {
        let choosing = runtime.choosing();
        match choosing.resolve(&of(selector), Scope::Published) {
            Ok(Choice::Version(newest)) => Some(newest),
            // The report shows which releases there are for this platform.
            Ok(Choice::System) | Err(_) => None,
        }
    })
}

fn throwaway_folder(environment: &Environment) -> Result<TempDir, Error> {
    let cache = &environment.folders()?.cache;
    fs::create_dir_all(cache).map_err(file_error(cache, FileAction::Write))?;
    let folder = tempfile::Builder::new().prefix("trial-").tempdir_in(cache);
    folder.map_err(file_error(cache, FileAction::Write))
}

/// Writes the definition beside the person's own settings, which say where sources are read from.
fn write_config(environment: &Environment, checked: &CheckedDefinition, config: &Path) -> Done {
    let file = definitions::file(config, &checked.definition.name);
    let (_, settings) = settings::read_file(&environment.folders()?.config)?;
    let folder = file.parent().unwrap_or(config);
    fs::create_dir_all(folder).map_err(file_error(folder, FileAction::Write))?;
    fs::write(&file, &checked.text).map_err(file_error(&file, FileAction::Write))?;
    let file = settings::settings_file(config);
    fs::write(&file, settings).map_err(file_error(&file, FileAction::Write))
}
