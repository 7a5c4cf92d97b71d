//! `vshelf install`: fetch, verify, unpack.

use clap::Args;
use vshelf_core::catalog::{Build, Release};
use vshelf_core::definition::SourceDefinition;
use vshelf_core::resolve::{Choice, ResolveError, Scope};
use vshelf_core::selector::Selector;
use vshelf_core::{Phase, Request};
use vshelf_shelf::Install as Shelved;
use vshelf_shelf::journal::Deed;
use vshelf_view::table::Table;
use vshelf_view::words::megabytes;
use vshelf_view::{Cell, Column, Palette};

use crate::activity::Activity;
use crate::commands::{CommandArgs, say_age};
use crate::context::Context;
use crate::definitions;
use crate::failure::{Failure, Kind, Outcome, shown};
use crate::fetch::{self, Brought, Exceptions, Order};
use crate::hooks;
use crate::keeping::record::{Done, record};
use crate::marks;
use crate::project;
use crate::runtime::Runtime;
use crate::switching;
use crate::ui::{Ui, styled};

/// Fetch, verify and unpack releases
///
/// A selector is a version (8.3.1), the beginning of one (8), a range (">=6 <8"), a word (lts,
/// latest, stable, preview), or a code name. The first install becomes the default; later ones take
/// over only when asked. Several are fetched at the same time, and one that fails stops no other.
#[derive(Debug, Args)]
pub struct Install {
    /// What to install, as in lts, 8.3.1 or dunefield/8; nothing is what the project here wants
    #[arg(value_name = "SELECTOR")]
    selectors: Vec<String>,
    /// Install what the project here wants, as without a selector; for scripts that say it aloud
    #[arg(long, conflicts_with = "selectors")]
    from_pin: bool,
    /// Use it in this shell at once
    #[arg(long)]
    switch: bool,
    /// Make it the default of new shells
    #[arg(long)]
    default: bool,
    /// Bring the packages of this install along, as in 6
    #[arg(long, value_name = "SELECTOR")]
    carry_from: Option<String>,
    /// Keep it on the shelf even if it does not start here
    #[arg(long)]
    keep_broken: bool,
    /// Fetch it again even if it is on the shelf, and put it in the place of what is there
    #[arg(long)]
    anew: bool,
}

/// A request, and the order that it became.
struct Asked {
    request: Request,
    /// Its place among the orders: of several requests for one release there is one order.
    order: usize,
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
            false => (self.selectors.iter())
                .map(|selector| selector.parse())
                .collect::<Result<_, _>>()?,
        };
        let single = [
            (self.switch, "switch"),
            (self.default, "default"),
            (self.carry_from.is_some(), "carry-from"),
        ];
        let given = single.iter().find(|(given, _)| *given);
        if let Some((_, option)) = given.filter(|_| requests.len() > 1) {
            let message = format!("--{option} takes one selector, and there are several");
            let names: Vec<String> = requests.iter().map(Request::to_string).collect();
            return Err(Failure::new(Kind::Usage, message).run(
                "To install them first",
                format!("vshelf install {}", names.join(" ")),
            ));
        }
        self.install(ui, context, requests)
    }
}

impl Install {
    fn install(&self, ui: &Ui, context: &Context, requests: Vec<Request>) -> Outcome {
        let several = requests.len() > 1;
        // Looked for before anything is fetched.
        let carried_from = match &self.carry_from {
            Some(from) => Some(super::carry::find_install(context, from)?.1),
            None => None,
        };
        let mut orders: Vec<Order> = Vec::new();
        let mut asked = Vec::new();
        let mut failures = Vec::new();
        for request in requests {
            match self.plan(ui, context, &request) {
                Ok(order) => {
                    let same = |other: &Order| {
                        other.key == order.key && other.definition.name == order.definition.name
                    };
                    let place = orders.iter().position(same).unwrap_or_else(|| {
                        orders.push(order);
                        orders.len() - 1
                    });
                    asked.push(Asked {
                        request,
                        order: place,
                    });
                }
                Err(failure) => failures.push(failure),
            }
        }
        let mut brought = Vec::new();
        for (index, result) in bring_from_any(ui, context, &mut orders)
            .into_iter()
            .enumerate()
        {
            match result {
                Ok(result) => brought.push((index, result)),
                Err(failure) => failures.push(failure),
            }
        }
        asked.retain(|asked| brought.iter().any(|(index, _)| *index == asked.order));
        if let ([asked], [(_, result)], false) = (&asked[..], &brought[..], several) {
            let order = &orders[asked.order];
            say_brought(ui, order, result)?;
            let runtime = Runtime::open(context, order.definition.clone())?;
            let takeover = Takeover {
                default: self.default,
                switch: self.switch,
            };
            conclude(ui, &runtime, &asked.request, &order.key, takeover)?;
            if let Some(from) = &carried_from {
                super::carry::carry(ui, &runtime, from, &order.key)?;
            }
        } else if !brought.is_empty() {
            sum_up(ui, context, &orders, &brought)?;
            conclude_several(ui, context, &orders, &asked)?;
        }
        // All are told, and the first decides how the command ends.
        let last = failures.split_off(failures.len().min(1));
        for failure in &last {
            ui.failure(failure);
        }
        failures.pop().map_or(Ok(()), Err)
    }

    /// What has to be brought for `request`.
    fn plan(&self, ui: &Ui, context: &Context, request: &Request) -> Result<Order, Failure> {
        let mut runtime = context.runtime_for(request)?;
        load_for(&mut runtime, request)?;
        say_age(ui, &runtime);
        let Choice::Version(candidate) = runtime.resolve(request, Scope::Published)? else {
            return Err(Failure::new(
                Kind::Refused,
                "system is the copy that is there already, and cannot be installed",
            )
            .run("To put it on the shelf", "vshelf adopt system"));
        };
        let release = candidate
            .release
            .ok_or_else(|| Failure::new(Kind::NoMatch, format!("{request} is not published")))?;
        let (source, builds) = offered(&runtime, release)?;
        let exceptions = Exceptions {
            keep_broken: self.keep_broken,
            anew: self.anew,
        };
        Order::new(&runtime, source, release, builds, exceptions)
    }
}

/// What a new install takes over at once.
#[derive(Clone, Copy, Debug, Default)]
pub struct Takeover {
    /// New shells.
    pub default: bool,
    /// This shell.
    pub switch: bool,
}

/// Sets the default and the switch as asked, and says what is active now.
pub fn conclude(
    ui: &Ui,
    runtime: &Runtime<'_>,
    request: &Request,
    key: &str,
    takeover: Takeover,
) -> Outcome {
    let context = runtime.context();
    let first = runtime.state.default.is_none();
    let becomes_default = takeover.default || first;
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
        let end = marks::end_of_support(line, runtime.today);
        ui.note(styled(
            Palette::WARNING,
            format!("Its line is no longer supported: it ended on {end}."),
        ));
    }
    let spelled = runtime.spelled(&install.shelved);
    let prefix = context.prefix(runtime.name())?;
    let switched = context.shell.switched(runtime.name()).is_some();
    let default = runtime.state.default.clone().unwrap_or_default();
    let followed = switching::followed_key(runtime).filter(|_| !switched);
    if let (Some(wanted), false) = (followed, takeover.switch) {
        switching::plan_following(runtime, None);
        let rest = match becomes_default {
            true => "It is the default now".to_owned(),
            false => format!("The default stays {}", default_in_words(runtime, &default)),
        };
        return ui.result(match wanted == key {
            true => format!("This shell uses it now, as the project here wants. {rest}."),
            false => {
                format!("{rest}, and this shell stays on {wanted}, as the project here wants.")
            }
        });
    }
    if takeover.switch {
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
        let default = default_in_words(runtime, &default);
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

/// The default's key, with the selector that it is kept as where that is another text.
fn default_in_words(runtime: &Runtime<'_>, selector: &str) -> String {
    match runtime.default_key() {
        Some(key) if key != selector => format!("{key} ({selector})"),
        _ => selector.to_owned(),
    }
}

pub fn no_catalog() -> Failure {
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
            project::note(context, &found.file);
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

/// The source of the catalog that is loaded, and its builds of `release` for this platform, best
/// first.
pub fn offered<'r>(
    runtime: &'r Runtime<'_>,
    release: &Release,
) -> Result<(&'r SourceDefinition, Vec<Build>), Failure> {
    let loaded = runtime.kept_catalog().ok_or_else(no_catalog)?;
    let details = loaded.details(release)?;
    let builds = details.builds_for(&runtime.context().platform);
    let source = runtime.loaded_source().ok_or_else(no_catalog)?;
    Ok((source, builds.into_iter().cloned().collect()))
}

/// Carries out the orders as they are, and writes into the history what came of them.
pub fn bring_exactly(
    ui: &Ui,
    context: &Context,
    orders: &[Order],
) -> Vec<Result<Brought, Failure>> {
    let mut results = fetch::bring(ui, orders);
    for result in &mut results {
        if let Ok(Brought::New { install, .. }) = result
            && let Err(failure) = record(context, Done::plain(Deed::Installed), install, &[])
        {
            *result = Err(failure);
        }
    }
    results
}

/// Carries out the orders. What a source does not give after all, the next source of the runtime
/// is asked for.
pub fn bring_from_any(
    ui: &Ui,
    context: &Context,
    orders: &mut [Order],
) -> Vec<Result<Brought, Failure>> {
    let mut results = bring_exactly(ui, context, orders);
    loop {
        let mut places = Vec::new();
        for (place, result) in results.iter().enumerate() {
            if let Err(failure) = result
                && failure.kind == Kind::Source
                && let Some(elsewhere) = order_elsewhere(context, &orders[place])
            {
                let (from, to) = (&orders[place].source.name, &elsewhere.source.name);
                ui.note(styled(
                    Palette::WARNING,
                    format!(
                        "{from} does not give {}: {}.",
                        elsewhere.title(),
                        failure.message
                    ),
                ));
                ui.note(format!("Asking {to} instead."));
                orders[place] = elsewhere;
                places.push(place);
            }
        }
        if places.is_empty() {
            return results;
        }
        let again: Vec<Order> = places.iter().map(|place| orders[*place].clone()).collect();
        let again = bring_exactly(ui, context, &again);
        for (place, result) in places.into_iter().zip(again) {
            results[place] = result;
        }
    }
}

/// The same order from a source behind the one that it was for, where one has the version.
fn order_elsewhere(context: &Context, order: &Order) -> Option<Order> {
    let mut runtime = Runtime::open(context, order.definition.clone()).ok()?;
    let mut behind = order.source.name.clone();
    // Whatever is wrong with a further source, the failure of the first is what is told.
    while runtime.load_catalog_behind(&behind).ok()? {
        let loaded = runtime.kept_catalog()?;
        let version = &order.release.version;
        let release = (loaded.catalog.releases.iter())
            .find(|release| release.version == *version && release.runs_on(&context.platform));
        if let Some(release) = release {
            let (source, builds) = offered(&runtime, release).ok()?;
            let mut elsewhere = order.clone();
            elsewhere.source = source.clone();
            elsewhere.builds = builds;
            elsewhere.release = release.clone();
            return Some(elsewhere);
        }
        behind.clone_from(&loaded.origin.source);
    }
    None
}

/// Says what came of a single order.
fn say_brought(ui: &Ui, order: &Order, brought: &Brought) -> Outcome {
    let title = order.title();
    let Brought::New {
        install,
        came,
        took,
    } = brought
    else {
        return ui.result(format!(
            "{title} is on the shelf already; nothing was fetched."
        ));
    };
    let receipt = &install.receipt.contents;
    ui.result(format!(
        "{} is on the shelf, published by {}.",
        styled(Palette::GOOD, title),
        receipt.publisher,
    ))?;
    ui.result(format!(
        "{} fetched in {:.1} s from {}, verified by {}; {} on disk.",
        megabytes(*came),
        took.as_secs_f64(),
        receipt.source,
        algorithm(install),
        megabytes(receipt.unpacked_size),
    ))?;
    for companion in &receipt.companions {
        let (package, version) = (&companion.package, &companion.version);
        ui.result(format!("{package} {version} belongs to it."))?;
    }
    say_broken(ui, install);
    Ok(())
}

fn algorithm(install: &Shelved) -> &str {
    let digest = install.receipt.contents.digest.as_deref();
    digest
        .and_then(|digest| digest.split(':').next())
        .unwrap_or_default()
}

fn say_broken(ui: &Ui, install: &Shelved) {
    if let Some(reason) = &install.receipt.contents.broken {
        let text = format!("It does not start here: {reason}. It was kept all the same.");
        ui.note(styled(Palette::WARNING, text));
    }
}

/// Shows what came of several orders, as one table.
fn sum_up(ui: &Ui, context: &Context, orders: &[Order], brought: &[(usize, Brought)]) -> Outcome {
    const COLUMNS: [Column; 4] = [
        Column::left("version"),
        Column::left("came of it"),
        Column::right("fetched"),
        Column::yielding("from"),
    ];
    let mut table = Table::new(&COLUMNS, Palette::HEADING);
    for (index, result) in brought {
        let order = &orders[*index];
        let runtime = Runtime::open(context, order.definition.clone())?;
        let line = runtime.outline().line_of(&order.release.version);
        let (outcome, fetched, from) = match result {
            Brought::New {
                install,
                came,
                took,
            } => {
                let time = format!("{} in {:.1} s", megabytes(*came), took.as_secs_f64());
                let from = format!("{}, verified by {}", order.source.name, algorithm(install));
                ("on the shelf", time, from)
            }
            Brought::Already => ("was there already", String::new(), String::new()),
        };
        table.row(
            marks::spine(line.map(|line| line.phase_on(runtime.today))),
            [
                Cell::new(order.title(), Palette::STRONG),
                outcome.into(),
                fetched.into(),
                from.into(),
            ],
        );
    }
    ui.table(&table)?;
    for (_, result) in brought {
        if let Brought::New { install, .. } = result {
            say_broken(ui, install);
        }
    }
    Ok(())
}

/// Makes the first of several the default where there is none, and says what the default is.
fn conclude_several(ui: &Ui, context: &Context, orders: &[Order], asked: &[Asked]) -> Outcome {
    let mut names: Vec<&str> = (orders.iter())
        .map(|order| order.definition.name.as_str())
        .collect();
    names.dedup();
    for name in names {
        let of_this = |asked: &&Asked| orders[asked.order].definition.name == name;
        let Some(first) = asked.iter().find(of_this) else {
            continue;
        };
        let order = &orders[first.order];
        let runtime = Runtime::open(context, order.definition.clone())?;
        match &runtime.state.default {
            None => {
                let kept_as = super::default::kept_as(&first.request);
                runtime.shelf.set_default(&order.key, &kept_as)?;
                let title = order.title();
                ui.result(format!("{title} is the default now: new shells use it."))?;
            }
            Some(default) => {
                let title = &runtime.definition.title;
                let default = default_in_words(&runtime, default);
                ui.result(format!("The default of {title} stays {default}."))?;
            }
        }
        let prefix = context.prefix(name)?;
        let runtime = Runtime::open(context, order.definition.clone())?;
        if let (Some(install), true) = (runtime.install(&order.key), context.shell.can_change()) {
            let spelled = runtime.spelled(&install.shelved);
            ui.next(
                "To use one of them here, as in",
                &format!("vshelf switch {prefix}{spelled}"),
            );
        }
    }
    hooks::refresh_runtimes(context)
}

/// Brings what `request` stands for onto the shelf, for a command that found it missing.
pub fn bring(ui: &Ui, context: &Context, request: &Request) -> Outcome {
    let plain = Install {
        selectors: Vec::new(),
        from_pin: false,
        switch: false,
        default: false,
        carry_from: None,
        keep_broken: false,
        anew: false,
    };
    plain.install(ui, context, vec![request.clone()])
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
