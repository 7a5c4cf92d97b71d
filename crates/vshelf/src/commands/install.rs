//! `vshelf install`: fetch, verify, unpack.

use clap::Args;
use vshelf_core::resolve::{Choice, ResolveError, Scope};
use vshelf_core::selector::Selector;
use vshelf_core::{Phase, Request};
use vshelf_view::Palette;
use vshelf_view::words::megabytes;

use crate::activity::Activity;
use crate::commands::{CommandArgs, say_age};
use crate::context::Context;
use crate::definitions;
use crate::failure::{Failure, Kind, Outcome, shown};
use crate::fetch::{Fetched, fetch};
use crate::hooks;
use crate::project;
use crate::runtime::Runtime;
use crate::switching;
use crate::ui::{Ui, styled};

/// Fetch, verify and unpack releases
///
/// A selector is a version (8.3.1), the beginning of one (8), a range (">=6 <8"), a word (lts,
/// latest, stable, preview), or a code name. The first install becomes the default; later ones take
/// over only when asked.
#[derive(Debug, Args)]
pub struct Install {
    /// What to install, as in lts, 8.3.1 or dunefield/8; nothing is what the project here wants
    #[arg(value_name = "SELECTOR")]
    selectors: Vec<String>,
    /// Use it in this shell at once
    #[arg(long)]
    switch: bool,
    /// Make it the default of new shells
    #[arg(long)]
    default: bool,
}

impl CommandArgs for Install {
    const NAME: &'static str = "install";
    const GROUP: &'static str = "Keep";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        if self.switch {
            super::switch::require_connection(context)?;
        }
        let requests = match self.selectors.is_empty() {
            true => wished(ui, context)?,
            false => self
                .selectors
                .iter()
                .map(|s| s.parse())
                .collect::<Result<_, _>>()?,
        };
        let mut first_failure = None;
        for request in &requests {
            if let Err(failure) = self.install(ui, context, request) {
                // One that fails does not stop the others; the first decides how the command ends.
                if let Some(earlier) = first_failure.replace(failure) {
                    ui.failure(&earlier);
                }
            }
        }
        first_failure.map_or(Ok(()), Err)
    }
}

impl Install {
    fn install(&self, ui: &Ui, context: &Context, request: &Request) -> Outcome {
        let mut runtime = context.runtime_for(request)?;
        load_for(&mut runtime, request)?;
        say_age(ui, &runtime);
        let Choice::Version(candidate) = runtime.resolve(request, Scope::Published)? else {
            return Err(Failure::new(
                Kind::Refused,
                "system is the copy that is there already, and cannot be installed",
            ));
        };
        let release = candidate
            .release
            .cloned()
            .ok_or_else(|| Failure::new(Kind::NoMatch, format!("{request} is not published")))?;
        let key = runtime.key_for(release.version.as_str(), &release.publisher);
        let loaded = runtime.kept_catalog().ok_or_else(no_catalog)?;
        let details = loaded.details(&release)?;
        let build = details
            .build_for(&context.platform)
            .ok_or_else(no_catalog)?;
        let source = runtime
            .definition
            .sources
            .iter()
            .find(|source| source.name == loaded.origin.source)
            .ok_or_else(no_catalog)?;
        let fetched = fetch(ui, &runtime, source, &release, build, &key)?;
        let definition = runtime.definition.clone();
        let (title, version) = (&definition.title, &release.version);
        match fetched {
            Fetched::New {
                install,
                came,
                took,
            } => {
                let receipt = &install.receipt.contents;
                let algorithm = receipt.digest.split(':').next().unwrap_or_default();
                ui.result(format!(
                    "{} is on the shelf, published by {}.",
                    styled(Palette::GOOD, format!("{title} {version}")),
                    receipt.publisher,
                ))?;
                ui.result(format!(
                    "{} fetched in {:.1} s from {}, verified by {algorithm}; {} on disk.",
                    megabytes(came),
                    took.as_secs_f64(),
                    receipt.source,
                    megabytes(receipt.unpacked_size),
                ))?;
            }
            Fetched::Already => {
                ui.result(format!(
                    "{title} {version} is on the shelf already; nothing was fetched."
                ))?;
            }
        }
        self.conclude(ui, &Runtime::open(context, definition)?, request, &key)
    }

    /// Sets the default and the switch as asked, and says what is active now.
    fn conclude(&self, ui: &Ui, runtime: &Runtime<'_>, request: &Request, key: &str) -> Outcome {
        let context = runtime.context();
        let first = runtime.state.default.is_none();
        let becomes_default = self.default || first;
        let activity = Activity::of(runtime);
        let before = activity.active_key().map(str::to_owned);
        let answering = activity.answering_key().map(str::to_owned);
        if becomes_default {
            runtime
                .shelf
                .set_default(key, &super::default::kept_as(request))?;
        }
        hooks::refresh_runtimes(context)?;
        let runtime = &Runtime::open(context, runtime.definition.clone())?;
        let install = runtime.install(key).ok_or_else(no_catalog)?;
        let line = runtime.outline().line_of(&install.shelved.version);
        if line.is_some_and(|line| line.phase_on(runtime.today) == Phase::Ended) {
            let end = crate::marks::end_of_support(line, runtime.today);
            ui.note(styled(
                Palette::WARNING,
                format!("Its line is no longer supported: it ended on {end}."),
            ));
        }
        let spelled = runtime.spelled(&install.shelved);
        let prefix = context.prefix(runtime.name())?;
        let switched = context.shell.switched(runtime.name()).is_some();
        let default = runtime.state.default.clone().unwrap_or_default();
        if self.switch {
            switching::plan_switch(runtime, key, before.as_deref());
            let rest = match becomes_default {
                true => "and new shells do too: it is the default now".to_owned(),
                false => format!("new shells use the default, {default}"),
            };
            ui.result(format!("This shell uses it now; {rest}."))
        } else if becomes_default && !context.shell.can_change() {
            ui.result("It is the default now: new connected shells use it.")?;
            ui.next("This shell is not connected; to connect it", "vshelf setup");
            Ok(())
        } else if becomes_default && !switched {
            switching::plan_following(runtime, None);
            ui.result("It is the default now: this shell and new ones use it.")
        } else if becomes_default {
            ui.result(format!(
                "It is the default now: new shells use it; this one stays on {}, which it was switched to.",
                before.unwrap_or_default()
            ))?;
            ui.next("To follow the default here", "vshelf switch --off");
            Ok(())
        } else if answering.as_deref() == Some(key) {
            ui.result("It is active in this shell.")
        } else {
            let default = match runtime.default_key() {
                Some(key) if key != default => format!("{key} ({default})"),
                _ => default,
            };
            let here = match answering.as_deref() {
                Some("system") => ", and this shell stays on the system's own copy".to_owned(),
                Some(other) => format!(", and this shell stays on {other}"),
                None => String::new(),
            };
            ui.result(format!("The default stays {default}{here}."))?;
            if context.shell.dialect().is_none() {
                ui.next("This shell is not connected; to connect it", "vshelf setup");
                return Ok(());
            }
            ui.next(
                "To use it here",
                &format!("vshelf switch {prefix}{spelled}"),
            );
            ui.next(
                "To make it the default",
                &format!("vshelf default {prefix}{spelled}"),
            );
            Ok(())
        }
    }
}

fn no_catalog() -> Failure {
    Failure::new(Kind::Source, "the catalog changed while it was read")
        .say("Give the same command again.")
}

/// What the project here wants: of every runtime that our own file speaks for, or else of the one
/// that is meant.
fn wished(ui: &Ui, context: &Context) -> Result<Vec<Request>, Failure> {
    let mut requests = Vec::new();
    for name in definitions::names(&context.folders()?.config)? {
        let runtime = context.runtime(Some(&name))?;
        if let Some(found) = project::find_wish(&runtime)? {
            ui.note(format!(
                "{} wants {} {}.",
                shown(&found.file),
                runtime.definition.title,
                found.wish.request
            ));
            requests.push(Request {
                runtime: Some(name),
                ..found.wish.request
            });
        }
    }
    if requests.is_empty() {
        project::need_wish(&context.runtime(None)?)?;
    }
    Ok(requests)
}

/// Brings what `request` stands for onto the shelf, for a command that found it missing.
pub fn bring(ui: &Ui, context: &Context, request: &Request) -> Outcome {
    let plain = Install {
        selectors: Vec::new(),
        switch: false,
        default: false,
    };
    plain.install(ui, context, request)
}

/// Loads the catalog, and asks the source anew where what is kept does not have what is wanted.
fn load_for(runtime: &mut Runtime<'_>, request: &Request) -> Outcome {
    runtime.load_catalog(false)?;
    let missing = matches!(
        runtime.explain(request, Scope::Published).outcome,
        Err(ResolveError::NotPublished { .. } | ResolveError::UnknownName { .. })
    );
    let worth_asking = matches!(
        request.selector,
        Selector::Version(_) | Selector::Range(_) | Selector::Name(_)
    );
    if missing && worth_asking && !runtime.context().transport.is_offline() {
        runtime.load_catalog(true)?;
    }
    Ok(())
}
