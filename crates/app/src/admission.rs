//! Collecting the facts that the gate onto the shelf judges, and wording its refusals as errors.

use vshelf_core::admission::{Admitted, Forbidden, Grounds, Narrowing, Origin, Refusal};
use vshelf_core::admission::{packages_source, rule_against_packages};
use vshelf_core::meant::near;
use vshelf_core::rules::{Rule, RuleKind};
use vshelf_core::{Release, Version};
use vshelf_shelf::record::RecordContents;

use crate::definitions;
use crate::environment::Environment;
use crate::error::{Done, Error};
use crate::runtime::Runtime;

/// The facts by which the gate judges a release. A rule about an unknown runtime is an error, because it would never
/// apply.
pub fn grounds(
    runtime: &Runtime<'_>,
    version: &Version,
    publisher: &str,
    narrowing: Narrowing,
) -> Result<Grounds, Error> {
    let environment = runtime.environment();
    let rules = &environment.settings()?.rules;
    check_names(environment, rules)?;
    Ok(Grounds {
        runtime: runtime.name().to_owned(),
        version: version.clone(),
        publisher: publisher.to_owned(),
        phase: runtime.published.phase_of(version),
        rules: rules.clone(),
        today: environment.today()?,
        host: environment.platform().clone(),
        narrowing,
    })
}

/// Fails at a rule about a runtime without a definition.
fn check_names(environment: &Environment, rules: &[Rule]) -> Done {
    if rules.is_empty() {
        return Ok(());
    }
    let known = definitions::names(environment.folders()?)?;
    for rule in rules {
        let named: Vec<&str> = match &rule.kind {
            RuleKind::Denied(denied) => vec![&denied.runtime],
            RuleKind::Sources(sources) => {
                let names = sources.iter().map(|source| source.split('.').next());
                names.flatten().collect()
            }
            RuleKind::EndedLines(_) | RuleKind::SignedOnly => Vec::new(),
        };
        let unknown = named
            .iter()
            .find(|name| !known.iter().any(|one| one == *name));
        if let Some(name) = unknown {
            return Err(Error::UnknownRuntimeInRule {
                name: (*name).to_owned(),
                near: near::words(name, known.iter().map(String::as_str)),
                file: rule.file.clone(),
                line: rule.line,
            });
        }
    }
    Ok(())
}

/// Fails if a rule forbids a release, whatever its source.
pub fn check_release(runtime: &Runtime<'_>, release: &Release) -> Done {
    let (version, publisher) = (&release.version, &release.publisher);
    let grounds = grounds(runtime, version, publisher, Narrowing::Open)?;
    check(runtime, &grounds)
}

/// Fails if these grounds forbid their release, whatever its source.
pub fn check(runtime: &Runtime<'_>, grounds: &Grounds) -> Done {
    let checked = grounds.check_release();
    checked.map_err(|refusal| refused(&runtime.definition.title, grounds, refusal))
}

/// Fails if a rule forbids to install packages with the runtime's package tool, which takes them from the
/// person's registry.
pub fn check_packages(runtime: &Runtime<'_>) -> Done {
    let rules = &runtime.environment().settings()?.rules;
    match rule_against_packages(runtime.name(), rules) {
        Some(rule) => Err(Error::Forbidden {
            title: format!("packages of {}", runtime.definition.title),
            what: Forbidden::Source(packages_source(runtime.name())),
            why: None,
            file: rule.file.clone(),
            line: rule.line,
        }),
        None => Ok(()),
    }
}

/// Admits what is adopted as this release.
pub fn admit_adopted(
    runtime: &Runtime<'_>,
    version: &Version,
    publisher: &str,
) -> Result<Admitted, Error> {
    admit(runtime, version, publisher, Origin::Adopted)
}

/// Admits an install that was on this shelf before, as its record says.
pub fn admit_former(runtime: &Runtime<'_>, record: &RecordContents) -> Result<Admitted, Error> {
    let origin = Origin::Former {
        source: runtime.definition.source(&record.source),
        was_adopted: record.adopted.is_some(),
    };
    admit(runtime, &record.version, &record.publisher, origin)
}

fn admit(
    runtime: &Runtime<'_>,
    version: &Version,
    publisher: &str,
    origin: Origin<'_>,
) -> Result<Admitted, Error> {
    let grounds = grounds(runtime, version, publisher, Narrowing::Open)?;
    let admitted = grounds.admit(origin);
    admitted.map_err(|refusal| refused(&runtime.definition.title, &grounds, refusal))
}

/// The error of a refusal; `runtime` is the runtime's title.
pub fn refused(runtime: &str, grounds: &Grounds, refusal: Refusal) -> Error {
    let title = format!("{runtime} {}", grounds.version);
    match refusal {
        Refusal::Forbidden {
            what,
            why,
            file,
            line,
        } => Error::Forbidden {
            title,
            what,
            why,
            file,
            line,
        },
        Refusal::OtherDigest { stated, accepted } => match grounds.narrowing {
            Narrowing::Lock(_) => Error::LockedOtherwise {
                title,
                runtime: grounds.runtime.clone(),
                locked: accepted,
                stated: vec![stated],
            },
            Narrowing::Open | Narrowing::Same(_) => Error::OtherDigest {
                title,
                selector: format!("{}@{}", grounds.runtime, grounds.version),
                before: accepted.concat(),
                now: stated,
            },
        },
    }
}
