//! Carrying packages from one install to another.

use vshelf_core::{Key, Request};

use super::packages;
use crate::environment::Environment;
use crate::error::{Class, Done, Error, PackageAttempt};
use crate::events::{Event, Listener};
use crate::outcome::CarryReport;
use crate::runtime::Runtime;

/// The runtime and the key of an install on the shelf.
pub fn find_install<'c>(
    environment: &'c Environment,
    request: &Request,
) -> Result<(Runtime<'c>, Key), Error> {
    let runtime = Runtime::of_request(environment, request)?;
    let pick = runtime.choosing().resolve_pick(request)?;
    let key = runtime
        .snapshot
        .picked(&pick)
        .map(|install| install.id.key.clone());
    match key {
        Some(key) => Ok((runtime, key)),
        None => Err(Error::NotAnInstall {
            selector: request.to_string(),
            class: Class::Refused,
        }),
    }
}

/// Carries the packages of one install to another, and tells what that resulted in; with `dry_run`
/// only what would be done. Gives back the report, and an error where a package was not installed.
pub fn carry_between(
    environment: &Environment,
    from: &Request,
    to: &Request,
    dry_run: bool,
    listener: &dyn Listener,
) -> Result<(CarryReport, Done), Error> {
    let to = Request {
        runtime: to.runtime.clone().or_else(|| from.runtime.clone()),
        ..to.clone()
    };
    let (runtime, from) = find_install(environment, from)?;
    let (other, to) = find_install(environment, &to)?;
    if runtime.name() != other.name() {
        return Err(Error::DifferentRuntimes {
            from: runtime.name().to_owned(),
            to: other.name().to_owned(),
        });
    }
    if from == to {
        return Err(Error::SameInstall {
            selector: runtime.names().selector_of(&from),
        });
    }
    let mut report = plan(&runtime, &from, &to)?;
    if !dry_run {
        install(&runtime, &mut report, listener)?;
    }
    listener.tell(Event::Carried(&report));
    let checked = check(&runtime, &report);
    Ok((report, checked))
}

/// Carries the packages of one install to another of the same runtime, and tells what that resulted
/// in. Fails where a package was not installed.
pub fn carry(runtime: &Runtime<'_>, from: &Key, to: &Key, listener: &dyn Listener) -> Done {
    let mut report = plan(runtime, from, to)?;
    install(runtime, &mut report, listener)?;
    listener.tell(Event::Carried(&report));
    check(runtime, &report)
}

fn plan(runtime: &Runtime<'_>, from: &Key, to: &Key) -> Result<CarryReport, Error> {
    Ok(CarryReport {
        title: runtime.definition.title.clone(),
        from: from.clone(),
        to: to.clone(),
        from_selector: runtime.names().selector_of(from),
        to_selector: runtime.names().selector_of(to),
        packages: packages::plan(runtime, from, to)?,
    })
}

fn install(runtime: &Runtime<'_>, report: &mut CarryReport, listener: &dyn Listener) -> Done {
    packages::install(runtime, &report.to, &mut report.packages, |packages| {
        listener.tell(Event::InstallingPackages(packages));
    })
}

/// Fails where a package was not installed, with what would try again.
fn check(runtime: &Runtime<'_>, report: &CarryReport) -> Done {
    let failed = packages::failed(&report.packages);
    match failed.len() {
        0 => Ok(()),
        count => Err(Error::PackagesFailed {
            count,
            attempt: packages::attempt(runtime, &report.to, &failed).unwrap_or(PackageAttempt {
                prefix: String::new(),
                selector: runtime.names().selector_of(&report.to),
                tool: String::new(),
                calls: Vec::new(),
            }),
        }),
    }
}
