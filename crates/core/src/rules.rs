//! Rules of settings: what may be installed, and from where. A company's count as much as the person's own, and
//! nobody's take another's back.

use std::ops::Range as Span;
use std::path::{Path, PathBuf};

use crate::Range;
use crate::definition::day;
use jiff::civil::Date;
use serde::Deserialize;
use toml::Spanned;

/// The rules of one settings file, as they are written.
#[derive(Clone, Debug, Default, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields, rename_all = "kebab-case")]
pub struct RuleTexts {
    /// Releases that are not installed.
    pub denied: Vec<Spanned<Denied>>,
    /// That releases of lines without support are not installed.
    pub ended_lines: Option<Spanned<Refusal>>,
    /// The only sources that anything is installed from, each as runtime and source joined with a dot.
    pub sources: Option<Spanned<Vec<String>>>,
    /// Whether nothing is installed but from catalogs of ours that are signed.
    pub signed_only: Option<Spanned<bool>>,
    /// Whether `sources` and `signed-only` of this file let the person adopt what no source vouches for.
    pub adopting: bool,
}

/// Releases that are not installed.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Denied {
    /// The runtime.
    pub runtime: String,
    /// Which of its releases.
    pub versions: Range,
    /// Why.
    pub why: String,
    /// The first day on which that counts.
    #[serde(default, deserialize_with = "day")]
    pub from: Option<Date>,
}

/// That something is not done.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Refusal {
    /// Why.
    pub why: String,
    /// The first day on which that counts.
    #[serde(default, deserialize_with = "day")]
    pub from: Option<Date>,
}

/// A rule in force.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rule {
    /// The file that has it.
    pub file: PathBuf,
    /// The line, counted from 1.
    pub line: usize,
    /// What it is.
    pub kind: RuleKind,
    /// Whether its file allows adopting.
    pub adopting: bool,
}

/// What a rule is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum RuleKind {
    /// These releases are not installed.
    Denied(Denied),
    /// Releases of lines without support are not installed.
    EndedLines(Refusal),
    /// Nothing is installed from another source.
    Sources(Vec<String>),
    /// Nothing is installed but from signed catalogs.
    SignedOnly,
}

impl RuleTexts {
    /// The rules of the settings file at `file`, whose text this is.
    pub fn in_force(self, file: &Path, text: &str) -> Vec<Rule> {
        let rule = |span: Span<usize>, kind| Rule {
            file: file.to_owned(),
            line: text[..span.start.min(text.len())].matches('\n').count() + 1,
            kind,
            adopting: self.adopting,
        };
        let mut rules = Vec::new();
        for denied in self.denied {
            rules.push(rule(denied.span(), RuleKind::Denied(denied.into_inner())));
        }
        if let Some(ended) = self.ended_lines {
            rules.push(rule(ended.span(), RuleKind::EndedLines(ended.into_inner())));
        }
        if let Some(sources) = self.sources {
            rules.push(rule(
                sources.span(),
                RuleKind::Sources(sources.into_inner()),
            ));
        }
        if let Some(signed) = self.signed_only.filter(|signed| *signed.get_ref()) {
            rules.push(rule(signed.span(), RuleKind::SignedOnly));
        }
        rules
    }
}
