//! What a checkup found, in words.

use serde::Serialize;
use vshelf_app::Error;
use vshelf_app::checkup::{
    Checkup, Finding as Found, InstallFinding, InstallProblem, LibraryChange,
};
use vshelf_app::error::StartFailure;
use vshelf_app::integrate::connect::ConnectionProblem;
use vshelf_app::mistakes::Mistake;
use vshelf_shelf::manifest::{Change, Difference};
use vshelf_shelf::record::RecordProblem;
use vshelf_shell::start_up::{Connection, Opened};
use vshelf_view::Palette;
use vshelf_view::words::{Count, ago, megabytes, printable};

use super::require::in_words as mistake_in_words;
use crate::failure::{Failure, Outcome};
use crate::ui::{Ui, styled};
use crate::wording::other_copies;
use crate::wording::paths::{edit, quoted, shown};

/// How many changed files of one install are named.
const MOST_NAMED: usize = 5;

/// What a checkup found, as JSON.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Report {
    /// How many installs were looked at.
    installs: usize,
    /// Whether no source was asked.
    offline: bool,
    /// Whether it ran as root, to whom everything that is installed belongs then.
    as_root: bool,
    /// What is wrong.
    findings: Vec<Finding>,
}

/// Something that is wrong.
#[derive(Debug, Serialize)]
#[cfg_attr(test, derive(schemars::JsonSchema))]
pub struct Finding {
    /// What it is wrong with.
    about: String,
    /// What is wrong.
    problem: String,
    /// More of it, a line each.
    details: Vec<String>,
    /// The command that fixes it.
    fix: Option<String>,
}

impl Report {
    /// The findings of a checkup in words.
    pub fn of(checkup: Checkup) -> Report {
        Report {
            installs: checkup.installs,
            offline: checkup.offline,
            as_root: checkup.as_root,
            findings: checkup.findings.into_iter().map(Finding::of).collect(),
        }
    }

    /// Shows the findings, each with the command that fixes it.
    pub fn show(&self, ui: &Ui) -> Outcome {
        for finding in &self.findings {
            let about = styled(Palette::STRONG, &finding.about);
            let problem = styled(Palette::WARNING, printable(&finding.problem));
            ui.sentence(format!("{about}: {problem}"))?;
            for detail in &finding.details {
                ui.result(format!("  {detail}"))?;
            }
            if let Some(fix) = &finding.fix {
                ui.result(format!("  To fix it: {}", styled(Palette::COMMAND, fix)))?;
            }
        }
        if self.findings.is_empty() {
            let count = Count(self.installs, "install");
            let text = match self.installs {
                0 => "Nothing is installed; everything else is fine.".into(),
                _ => format!("{count} checked: all is well."),
            };
            ui.result(styled(Palette::STRONG, text))?;
        }
        if self.offline {
            ui.note("No source was asked (--offline).");
        }
        if self.as_root {
            ui.note("This ran as root: what root installs only root can change.");
        }
        Ok(())
    }
}

impl Finding {
    fn new(about: impl Into<String>, problem: impl Into<String>, fix: Option<String>) -> Finding {
        Finding {
            about: about.into(),
            problem: problem.into(),
            details: Vec::new(),
            fix,
        }
    }

    #[expect(clippy::too_many_lines, reason = "one table")]
    fn of(found: Found) -> Finding {
        let command = |text: &str| Some(text.to_owned());
        match found {
            Found::Connection(problem) => Finding::of_connection(problem),
            Found::Install(finding) => Finding::of_install(finding),
            Found::Default {
                title,
                prefix,
                selector,
                newest,
            } => Finding::new(
                format!("the default of {title}"),
                format!("{selector} matches nothing on the shelf"),
                Some(match newest {
                    Some(newest) => format!("vshelf default {newest}"),
                    None => format!("vshelf install {prefix}{selector}"),
                }),
            ),
            Found::Label {
                title,
                prefix,
                label,
                selector,
            } => Finding::new(
                format!("the label {label} of {title}"),
                format!("{selector} matches nothing on the shelf"),
                Some(format!("vshelf install {prefix}{selector}")),
            ),
            Found::Requirement(error) => {
                let failure = Failure::from_told(&error);
                let command = failure
                    .steps()
                    .next()
                    .map(|(_, command)| command.to_owned());
                Finding::new("the project here", in_words(error), command)
            }
            Found::Mistake(mistake) => {
                let fix = match &mistake {
                    Mistake::UnknownKey { file, .. }
                    | Mistake::FurtherLine { file, .. }
                    | Mistake::Disagreement {
                        other: (file, _), ..
                    } => Some(edit(file)),
                    // Whether its folder is trusted is for the person to decide.
                    Mistake::Distrusted { .. } => None,
                };
                Finding::new("the project here", mistake_in_words(&mistake), fix)
            }
            Found::Unmet { title, selector } => Finding::new(
                "the project here",
                format!("requires {title} {selector}, which is not on the shelf"),
                command("vshelf install"),
            ),
            Found::Differs {
                title,
                due,
                other_copy,
                selector,
            } => {
                let cause = other_copies::cause(&other_copy, &title);
                let fix = other_copies::fix(&other_copy, &selector);
                Finding::new(
                    title,
                    format!("{due} should be active in this shell, but {cause}"),
                    Some(fix),
                )
            }
            Found::StrayFolder(path) => Finding::new(
                shown(&path),
                "holds no build, so it is not an install; what it is only you can know",
                Some(format!("ls -lA {}", quoted(&path))),
            ),
            Found::Untold {
                title,
                selector,
                error,
                in_history,
            } => Finding::new(
                title,
                format!("is on the shelf, but {error}"),
                match (&error.problem, in_history) {
                    (_, true) => command("vshelf checkup --fix"),
                    (RecordProblem::Newer(_), false) => None,
                    _ => Some(format!("vshelf install --again {selector}")),
                },
            ),
            Found::DefaultLink { link } => Finding::new(
                shown(&link),
                "leads to an install that is not on the shelf any more",
                command("vshelf checkup --fix"),
            ),
            Found::Pending(folder) => Finding::new(
                shown(&folder),
                "was moved by a command that did not end; the next command that changes the shelf completes it",
                command("vshelf checkup --fix"),
            ),
            Found::Stuck { folder, cause } => Finding::new(
                shown(&folder),
                format!("was left behind and cannot be deleted: {cause}; nothing waits for it"),
                Some(format!("ls -ld {}", quoted(&folder))),
            ),
            Found::OtherHome { home } => Finding::new(
                shown(&home),
                "is the home of another user, who would not own what is installed here",
                None,
            ),
            Found::OldCatalog {
                runtime,
                title,
                confirmed,
                today,
                not_renewed,
            } => {
                let age = format!("what is known is from {}", ago(confirmed, today));
                let problem = match not_renewed {
                    Some(reason) => format!("no source answers: {reason}; {age}"),
                    None => age,
                };
                Finding::new(
                    format!("the catalog of {title}"),
                    problem,
                    refresh(&runtime),
                )
            }
            Found::NoCatalog {
                runtime,
                title,
                error,
            } => Finding::new(
                format!("the catalog of {title}"),
                format!("there is none: {}", in_words(error)),
                refresh(&runtime),
            ),
            Found::Leftovers {
                folder,
                count,
                bytes,
            } => {
                let commands = Count(count, "unfinished command");
                let problem = format!("holds {} of {commands}", megabytes(bytes));
                Finding::new(shown(&folder), problem, command("vshelf tidy"))
            }
            Found::UnfinishedBuild(build) => Finding::new(
                format!("the build of {}", build.title),
                format!(
                    "is not finished, and vshelf tidy deletes it ({})",
                    shown(&build.folder)
                ),
                command(&format!("vshelf install {}", build.selector)),
            ),
            Found::LittleRoom { folder, free } => Finding::new(
                shown(&folder),
                format!("only {} are free on its disk", megabytes(free)),
                command("vshelf list"),
            ),
        }
    }

    fn of_connection(problem: ConnectionProblem) -> Finding {
        let connect = || Some("vshelf connect".to_owned());
        match problem {
            ConnectionProblem::StartUpFile(file, state) => {
                let problem = match state {
                    Connection::Right | Connection::Absent => "does not connect new shells",
                    Connection::Other => {
                        "sources another file, or its Vivid Shelf block was changed by hand"
                    }
                    Connection::Doubled => "has the Vivid Shelf block more than once",
                    Connection::Unfinished => "has a Vivid Shelf block without its end",
                };
                Finding::new(shown(&file), problem, connect())
            }
            ConnectionProblem::Gone(file) => Finding::new(
                shown(&file),
                "is missing, so new shells are not connected",
                connect(),
            ),
            ConnectionProblem::Outdated(file) => Finding::new(
                shown(&file),
                "was written by another version of vshelf",
                connect(),
            ),
            ConnectionProblem::Login(file) => Finding::new(
                shown(&file),
                "does not connect login shells (ssh, su -, WSL): it does not read ~/.bashrc",
                connect(),
            ),
            ConnectionProblem::NotReached(Opened::Usually, file) => Finding::new(
                shown(&file),
                "does not connect new shells: it ends, or starts another program, before its Vivid Shelf block",
                Some(edit(&file)),
            ),
            ConnectionProblem::NotReached(Opened::AtLogin, file) => Finding::new(
                shown(&file),
                "does not connect login shells (ssh, su -, WSL): a new one was started and is not connected",
                connect(),
            ),
            ConnectionProblem::OpenedBefore(line) => Finding::new(
                "this shell",
                "was opened before it was connected",
                Some(line),
            ),
        }
    }

    fn of_install(finding: InstallFinding) -> Finding {
        let selector = &finding.selector;
        // What was adopted no source gives again, and whatever is wrong with it may be wanted.
        let again = (!finding.adopted).then(|| format!("vshelf install --again {selector}"));
        let about = finding.title;
        match finding.problem {
            InstallProblem::LinkGone(target) => {
                let problem = format!(
                    "{} is missing, and the install is a link to it",
                    shown(&target)
                );
                let fix = format!("vshelf remove --even-if-used {selector}");
                Finding::new(about, problem, Some(fix))
            }
            InstallProblem::OtherwiseStated { digest, stated } => Finding {
                details: vec![
                    format!("its archive was {digest}"),
                    format!("its sources state {}", stated.join(", ")),
                ],
                ..Finding::new(
                    about,
                    "comes from an archive that no source states".to_owned(),
                    again,
                )
            },
            InstallProblem::Changed { differences, files } => {
                changed(about, &differences, files, again)
            }
            InstallProblem::BuiltForElsewhere(place) => {
                let place = shown(&place);
                Finding::new(
                    about,
                    format!("was built for {place}, and works there only"),
                    again,
                )
            }
            InstallProblem::CheckFails {
                says,
                libraries,
                install_command,
            } => {
                let problem = format!("does not pass the check of its build any more: {says}");
                Finding {
                    details: libraries.into_iter().map(library_in_words).collect(),
                    ..Finding::new(about, problem, install_command.or(again))
                }
            }
            InstallProblem::NoBase { needs } => Finding::new(
                about,
                format!("runs on {needs}, and there is none here"),
                None,
            ),
            InstallProblem::DoesNotStart(failure) => {
                let problem = format!("does not start: {}", failure.reason());
                Finding::new(about, problem, fix_start(failure, again))
            }
        }
    }
}

/// That files of an install are not as they were unpacked.
fn changed(
    about: String,
    differences: &[Difference],
    files: u64,
    again: Option<String>,
) -> Finding {
    let changed = differences.len();
    let named = differences.iter().take(MOST_NAMED).map(|difference| {
        let path = printable(&difference.path.to_string_lossy());
        format!("{path} {}", became(difference.change))
    });
    let more = changed.saturating_sub(MOST_NAMED);
    let more = (more > 0).then(|| format!("and {more} more"));
    let problem = format!("{changed} of {files} files differ from what was unpacked");
    Finding {
        details: named.chain(more).collect(),
        ..Finding::new(about, problem, again)
    }
}

/// How a library differs from the one that an install was built with.
fn library_in_words(change: LibraryChange) -> String {
    match change {
        LibraryChange::Missing(name) => format!("{name}, which it was built with, is missing"),
        LibraryChange::Other {
            name,
            before: Some(before),
            now: Some(now),
        } => format!("it was built with {name} {before}, and {now} is here now"),
        LibraryChange::Other { name, .. } => format!("it was built with another {name}"),
    }
}

/// The command that helps where a program does not start; `again` makes the install again.
fn fix_start(failure: StartFailure, again: Option<String>) -> Option<String> {
    match failure.missing {
        // Made again it would lack the same.
        Some(_) => failure.package_command,
        None => again,
    }
}

/// How a file changed, as it follows its name.
fn became(change: Change) -> &'static str {
    match change {
        Change::Missing => "is missing",
        Change::Contents => "has other contents",
        Change::Executable => "has other permissions",
        Change::Kind => "is something else, or leads elsewhere",
    }
}

fn refresh(runtime: &str) -> Option<String> {
    Some(format!("vshelf catalog {runtime} --refresh"))
}

fn in_words(error: Error) -> String {
    Failure::from(error).message
}
