//! `vshelf install`: fetch, verify, unpack.

use clap::Args;
use vshelf_app::install::conclude::Takeover;
use vshelf_app::install::job::JobOptions;
use vshelf_app::install::request::{InstallRequest, required};
use vshelf_app::install::run::{install, preview};
use vshelf_app::integrate::connect::require_connection;
use vshelf_app::{Environment, mistakes};
use vshelf_core::Request;

use super::command::{CommandArgs, RunCommand, release, request};
use crate::failure::{Class, Failure, Outcome};
use crate::output::require::say_mistakes;
use crate::ui::Ui;

/// Fetch, verify and unpack releases
///
/// A selector is a version (8.3.1), the beginning of one (8), a range (">=6 <8"), a word (lts,
/// latest, stable, preview), or a code name. The first install becomes the default; later ones take
/// over only when asked. Several are fetched at the same time, and one that fails stops no other. A build
/// from source runs as many jobs at once as cores and memory allow, or as build-jobs in shelf.toml says.
#[derive(Debug, Args)]
pub struct Install {
    /// What to install, such as lts, 8.3.1 or dunefield/8; by default what the project here requires
    #[arg(value_name = "SELECTOR")]
    selectors: Vec<String>,
    /// Install what is required as it is locked, and nothing else
    #[arg(long, conflicts_with = "selectors")]
    locked: bool,
    /// Only show what would be installed, and from where
    #[arg(long, conflicts_with_all = ["switch", "default", "carry_from"])]
    dry_run: bool,
    /// Use it in this shell at once
    #[arg(long)]
    switch: bool,
    /// Make it the default of new shells
    #[arg(long)]
    default: bool,
    /// Bring the packages of this install along, such as 6
    #[arg(long, value_name = "SELECTOR")]
    carry_from: Option<String>,
    /// Keep it on the shelf even if it does not start here
    #[arg(long)]
    keep_broken: bool,
    /// Fetch it again even if it is on the shelf, and put it in the place of what is there
    #[arg(long)]
    again: bool,
    /// Build it from source here, even where a build is published
    #[arg(long)]
    build: bool,
}

impl CommandArgs for Install {
    const NAME: &'static str = "install";
    const GROUP: &'static str = "Keep";
}

impl RunCommand for Install {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        if self.switch {
            require_connection(environment)?;
        }
        let wanted = if self.selectors.is_empty() {
            say_mistakes(ui, &mistakes::find(environment)?);
            required(environment, self.locked, ui)?
        } else {
            InstallRequest {
                requests: self.requests(environment)?,
                ..InstallRequest::default()
            }
        };
        self.check_single(&wanted.requests)?;
        let asked = InstallRequest {
            takeover: Takeover {
                default: self.default,
                switch: self.switch,
            },
            carry_from: self.carry_from.as_deref().map(request).transpose()?,
            options: JobOptions {
                keep_broken: self.keep_broken,
                again: self.again,
                build: self.build,
            },
            ..wanted
        };
        if self.dry_run {
            return Ok(preview(environment, asked, ui)?);
        }
        Ok(install(environment, asked, ui)?)
    }
}

impl Install {
    /// The requests that the selectors are. A runtime's name in front of a version belongs to it.
    fn requests(&self, environment: &Environment) -> Result<Vec<Request>, Failure> {
        let requests = self.selectors.iter().map(|text| release(environment, text));
        let requests = requests.collect::<Result<Vec<_>, _>>()?;
        let mut pairs = requests.windows(2).zip(self.selectors.windows(2));
        let is_split = |(pair, typed): &(&[Request], &[String])| {
            pair[0].runtime.as_deref() == Some(typed[0].as_str()) && pair[1].runtime.is_none()
        };
        match pairs.find(is_split) {
            None => Ok(requests),
            Some((_, typed)) => {
                let whole = format!("{}@{}", typed[0], typed[1]);
                let message = format!("{:?} and {:?} are two selectors", typed[0], typed[1]);
                Err(Failure::new(Class::Usage, message).run(
                    "A version of that runtime",
                    format!("vshelf install {whole}"),
                ))
            }
        }
    }

    /// Fails where an option is for one selector, and there are several.
    fn check_single(&self, requests: &[Request]) -> Outcome {
        let single = [
            (self.switch, "switch"),
            (self.default, "default"),
            (self.carry_from.is_some(), "carry-from"),
        ];
        let mut given = single.iter().filter(|(given, _)| *given);
        match given.next() {
            Some((_, option)) if requests.len() > 1 => {
                let message = format!("--{option} takes one selector, and there are several");
                let names: Vec<String> = requests.iter().map(Request::to_string).collect();
                Err(Failure::new(Class::Usage, message).run(
                    "To install them first",
                    format!("vshelf install {}", names.join(" ")),
                ))
            }
            _ => Ok(()),
        }
    }
}
