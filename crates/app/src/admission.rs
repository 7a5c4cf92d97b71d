//! Whether the rules of the settings allow to install a release.

use jiff::civil::Date;
use vshelf_core::definition::SourceDefinition;
use vshelf_core::{Phase, Release, Version};

use crate::error::{Done, Error};
use crate::runtime::Runtime;
use vshelf_core::rules::{Rule, RuleKind};

/// Fails if a rule forbids to have releases of this version on the shelf.
pub fn check_version(runtime: &Runtime<'_>, version: &Version) -> Done {
    let today = runtime.environment().today()?;
    let counts = |from: &Option<Date>| from.is_none_or(|from| from <= today);
    for rule in &runtime.environment().settings()?.rules {
        let (what, why) = match &rule.kind {
            RuleKind::Denied(denied)
                if denied.runtime == runtime.name()
                    && denied.versions.contains(&version.to_final())
                    && counts(&denied.from) =>
            {
                (format!("{} is denied", denied.versions), &denied.why)
            }
            RuleKind::EndedLines(refusal)
                if runtime.phase_of(version) == Some(Phase::Ended) && counts(&refusal.from) =>
            {
                ("its line is no longer supported".to_owned(), &refusal.why)
            }
            _ => continue,
        };
        return Err(forbidden(runtime, version, what, Some(why.clone()), rule));
    }
    Ok(())
}

/// Fails where a rule forbids to install a release from this source.
pub fn check_source(runtime: &Runtime<'_>, release: &Release, source: &SourceDefinition) -> Done {
    let name = format!("{}.{}", runtime.name(), source.name);
    for rule in &runtime.environment().settings()?.rules {
        let what = match &rule.kind {
            RuleKind::Sources(allowed) if !allowed.contains(&name) => {
                format!("the source {name} is not among those that may be used")
            }
            RuleKind::SignedOnly if !is_signed(source) => {
                format!("the source {name} is no signed catalog")
            }
            _ => continue,
        };
        return Err(forbidden(runtime, &release.version, what, None, rule));
    }
    Ok(())
}

/// Whether what a source says is signed.
fn is_signed(source: &SourceDefinition) -> bool {
    source.kind.key().is_some()
}

fn forbidden(
    runtime: &Runtime<'_>,
    version: &Version,
    what: String,
    why: Option<String>,
    rule: &Rule,
) -> Error {
    Error::Forbidden {
        title: format!("{} {}", runtime.definition.title, version),
        what,
        why,
        file: rule.file.clone(),
        line: rule.line,
    }
}
