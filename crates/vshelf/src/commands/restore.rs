//! `vshelf restore`: get back what was taken off the shelf.

use std::path::Path;

use clap::Args;
use vshelf_core::{Request, Selector};
use vshelf_shelf::journal::Event;
use vshelf_view::Palette;
use vshelf_view::words::printable;

use crate::commands::{CommandArgs, install};
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome, quoted};
use crate::fetch::{Brought, Exceptions, Order};
use crate::hooks;
use crate::keeping::{packages, record};
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// Get back what was taken off the shelf
///
/// Without a selector, all that the last removal, clean-up or renewal took. Each comes from the
/// source it came from before, from the same publisher and with the same digest; where that is no
/// longer offered, it says so. The packages it had are named, with the command that brings them.
#[derive(Debug, Args)]
pub struct Restore {
    /// Versions in the history, as in 6.20.1 or marram@6.20; nothing is what went last
    #[arg(value_name = "SELECTOR")]
    selectors: Vec<String>,
}

impl CommandArgs for Restore {
    const NAME: &'static str = "restore";
    const GROUP: &'static str = "Keep";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let mut gone = record::history(context)?;
        gone.retain(|event| event.deed.takes_off());
        let wanted = match self.selectors.is_empty() {
            true => last(&gone)?,
            false => (self.selectors.iter())
                .map(|selector| find(context, &gone, selector))
                .collect::<Result<_, _>>()?,
        };
        let mut orders = Vec::new();
        let mut failures = Vec::new();
        for event in &wanted {
            let runtime = context.runtime(Some(&event.receipt.runtime))?;
            if let Some(install) = runtime.install(&event.key) {
                let called = runtime.called(&install.shelved);
                ui.result(format!("{called} is on the shelf already."))?;
                continue;
            }
            match order(runtime, event) {
                Ok(order) => orders.push((order, *event)),
                Err(failure) => failures.push(failure),
            }
        }
        let plain: Vec<Order> = orders.iter().map(|(order, _)| order.clone()).collect();
        let results = install::bring_exactly(ui, context, &plain);
        for ((order, event), result) in orders.iter().zip(results) {
            match result {
                Ok(Brought::New { .. } | Brought::Already) => conclude(ui, context, order, event)?,
                Err(failure) => failures.push(failure),
            }
        }
        hooks::refresh_runtimes(context)?;
        ui.end_with(failures)
    }
}

/// All that the last command took off which took anything off.
fn last(gone: &[Event]) -> Result<Vec<&Event>, Failure> {
    let Some(newest) = gone.last() else {
        let message = "nothing was taken off the shelf that could come back";
        return Err(
            Failure::new(Kind::NoMatch, message).run("To see what was done", "vshelf history")
        );
    };
    Ok((gone.iter())
        .filter(|event| event.command == newest.command)
        .collect())
}

/// The newest removal of what a selector names: a version, or the beginning of one.
fn find<'e>(context: &Context, gone: &'e [Event], selector: &str) -> Result<&'e Event, Failure> {
    let request: Request = selector.parse()?;
    let Selector::Version(version) = &request.selector else {
        let message = format!("{selector} is not a version");
        return Err(Failure::new(Kind::Usage, message)
            .say("What was taken off is named by its version, as in 6.20.1.")
            .run("To see what was taken off", "vshelf history"));
    };
    let runtime = context.runtime_for(&request)?;
    let is_meant = |event: &&Event| {
        let receipt = &event.receipt;
        receipt.runtime == runtime.name()
            && receipt.version.begins_with(version)
            && (request.publisher.as_ref()).is_none_or(|name| *name == receipt.publisher)
    };
    gone.iter().rev().find(is_meant).ok_or_else(|| {
        let message = format!("no {selector} was taken off the shelf");
        Failure::new(Kind::NoMatch, message)
            .run("To see what was taken off", "vshelf history")
            .run("To install it anew", format!("vshelf install {selector}"))
    })
}

/// The order for the very build that an event is about.
fn order(mut runtime: Runtime<'_>, event: &Event) -> Result<Order, Failure> {
    let receipt = &event.receipt;
    let title = format!("{} {}", runtime.definition.title, event.key);
    if receipt.adopted.is_some() {
        let message = format!("{title} was adopted, and is offered by no source");
        return Err(Failure::new(Kind::NoMatch, message).run(
            "To adopt it again, where it still is",
            format!("vshelf adopt {}", quoted(Path::new(&receipt.address))),
        ));
    }
    let no_longer = |failure: Option<Failure>| {
        let message = format!("{title} is no longer offered by {}", receipt.source);
        let mut told = Failure::new(Kind::NoMatch, message);
        told.causes.extend(failure.map(|failure| failure.message));
        told.run(
            "To see what is",
            format!("vshelf catalog {}@", receipt.runtime),
        )
    };
    // Only the source that it came from has the same archive.
    let mut found = runtime
        .load_catalog(false)
        .map(|loaded| loaded.origin.source.clone());
    loop {
        match found {
            Ok(source) if source == receipt.source => break,
            Ok(source) => match runtime.load_catalog_behind(&source) {
                Ok(true) => {
                    let now = runtime
                        .kept_catalog()
                        .map(|loaded| loaded.origin.source.clone());
                    found = now.ok_or_else(|| no_longer(None));
                }
                Ok(false) => return Err(no_longer(None)),
                Err(failure) => return Err(no_longer(Some(failure))),
            },
            Err(failure) => return Err(no_longer(Some(failure))),
        }
    }
    let Some(release) = runtime
        .catalog()
        .release(&receipt.version, &receipt.publisher)
    else {
        return Err(no_longer(None));
    };
    let (source, builds) = install::offered(&runtime, release)?;
    let exceptions = Exceptions {
        keep_broken: receipt.broken.is_some(),
        anew: false,
    };
    let mut order = Order::new(&runtime, source, release, builds, exceptions)?;
    order.expected.clone_from(&receipt.digest);
    Ok(order)
}

/// Says what came back, and what belonged to it.
fn conclude(ui: &Ui, context: &Context, order: &Order, event: &Event) -> Outcome {
    let runtime = Runtime::open(context, order.definition.clone())?;
    let title = styled(Palette::GOOD, order.title());
    ui.result(format!(
        "{title} is back on the shelf, with the digest it had."
    ))?;
    if runtime.state.default.is_none() {
        runtime.shelf.set_default(&order.key, &order.key)?;
        ui.result("It is the default now, because there was none.")?;
    }
    if !event.packages.is_empty() {
        let had = event.packages.join(", ");
        ui.result(format!("It had these packages: {}", printable(&had)))?;
        for command in packages::commands(&runtime, &order.key, &event.packages)? {
            ui.next("To bring them back", &command);
        }
    }
    Ok(())
}
