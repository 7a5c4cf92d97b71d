//! What is known of a publisher's releases and lines, in documents of a package in a registry that
//! speaks the npm protocol: true days, which releases fix security problems, the support life of lines.

use std::collections::BTreeMap;

use jiff::civil::Date;
use serde::Deserialize;
use serde_json::Value;
use vshelf_core::catalog::Line;
use vshelf_core::definition::SourceDefinition;

use crate::address::Address;
use crate::api::{Fetched, Known, Source, SourceError};
use crate::found::{Found, named_line};
use crate::npm::{NpmRegistry, WHOLE, packument};
use crate::transport::Transport;

/// A source that knows, and has no builds.
pub struct Facts {
    pub(crate) runtime: String,
    pub(crate) definition: SourceDefinition,
    pub(crate) package: String,
    pub(crate) releases: Option<String>,
    pub(crate) lines: Option<String>,
    pub(crate) registry: NpmRegistry,
}

#[derive(Deserialize)]
struct KnownRelease {
    version: String,
    date: Option<Date>,
    security: Option<bool>,
    /// The code name of its line's long-term support, or `false`.
    #[serde(default)]
    lts: Value,
}

#[derive(Deserialize)]
struct KnownLine {
    start: Option<Date>,
    lts: Option<Date>,
    maintenance: Option<Date>,
    end: Option<Date>,
    codename: Option<String>,
}

impl Source for Facts {
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError> {
        let address = self.registry.address_of(&self.package)?;
        let Some((document, validators)) =
            packument(transport, &address, &known.validators, WHOLE)?
        else {
            return Ok(Fetched::Unchanged);
        };
        let names: Vec<&str> = [&self.releases, &self.lines]
            .into_iter()
            .flatten()
            .map(String::as_str)
            .collect();
        let (texts, address) = self
            .registry
            .packaged_files(transport, document, &address, &names)?;
        let mut published = self.publish(&texts, &address)?;
        published.validators = validators;
        Ok(Fetched::Changed(Box::new(published)))
    }
}

impl Facts {
    /// The catalog in these texts: of the releases, where there is a file of them, then of the lines.
    fn publish(
        &self,
        texts: &[String],
        address: &Address,
    ) -> Result<crate::PublishedCatalog, SourceError> {
        let mut texts = texts.iter();
        let mut lines = Vec::new();
        let mut found = Found::new(&self.definition);
        if let Some(file) = &self.releases {
            let releases: Vec<KnownRelease> = read(texts.next(), file, address)?;
            for entry in &releases {
                let Some(spelled) = found.version(entry.version.trim_start_matches('v')) else {
                    continue;
                };
                let (release, _) = found.release(&spelled.version);
                release.date = entry.date;
                release.security = entry.security;
                if let Some(codename) = entry.lts.as_str() {
                    named_line(&mut lines, &spelled.version, codename);
                }
            }
        }
        if let Some(file) = &self.lines {
            let known: BTreeMap<String, KnownLine> = read(texts.next(), file, address)?;
            let named = std::mem::take(&mut lines);
            lines = known
                .into_iter()
                .map(|(name, line)| Line {
                    codename: line.codename.filter(|name| !name.is_empty()),
                    start: line.start,
                    lts: line.lts,
                    maintenance: line.maintenance,
                    end: line.end,
                    ..Line::undated(name.trim_start_matches('v'))
                })
                .collect();
            for line in &mut lines {
                if let Some(other) = named.iter().find(|other| other.numbers == line.numbers) {
                    line.complete(other);
                }
            }
        }
        found.publish(&self.runtime, lines, address)
    }
}

/// A document in the package.
fn read<'t, T: Deserialize<'t>>(
    text: Option<&'t String>,
    file: &str,
    address: &Address,
) -> Result<T, SourceError> {
    let text = text.map_or("", String::as_str);
    serde_json::from_str(text)
        .map_err(|error| SourceError::document(address, format!("{file}: {error}")))
}

#[cfg(test)]
mod tests {
    use super::*;
    use vshelf_core::Phase;

    const RELEASES: &str = r#"[
        { "name": "marram", "version": "8.3.1", "date": "2026-10-14", "lts": "Eelgrass", "security": true },
        { "version": "9.0.0", "date": "2026-04-14", "lts": false },
        { "version": "soon" } ]"#;
    const LINES: &str = r#"{
        "v8": { "start": "2025-04-15", "lts": "2025-10-21", "maintenance": "2027-10-19", "end": "2029-04-30", "codename": "" },
        "v0.11": {} }"#;

    fn facts() -> Facts {
        let definition = "name = 'facts'\nkind = 'facts'\npublisher = 'saltmarsh'\npackage = 'marram-facts'\nlines = 'l.json'";
        Facts {
            runtime: "marram".to_owned(),
            definition: toml::from_str(definition).unwrap(),
            package: "marram-facts".to_owned(),
            releases: Some("r.json".to_owned()),
            lines: Some("l.json".to_owned()),
            registry: NpmRegistry::default(),
        }
    }

    #[test]
    fn two_documents_become_one_catalog_without_builds() {
        let address = Address::read("http://gull.example/t.tgz").unwrap();
        let texts = [RELEASES, LINES].map(str::to_owned);
        let read = facts().publish(&texts, &address).unwrap();
        let told: Vec<_> = (read.catalog.releases.iter())
            .map(|release| (release.version.as_str(), release.date, release.security))
            .collect();
        let day = |text: &str| text.parse().ok();
        assert_eq!(
            told,
            [
                ("9.0.0", day("2026-04-14"), None),
                ("8.3.1", day("2026-10-14"), Some(true))
            ]
        );
        assert_eq!(read.left_out, ["soon"]);
        let line = read.catalog.line_named("eelgrass").unwrap();
        assert_eq!(line.phase_on("2026-11-23".parse().unwrap()), Phase::Lts);
    }

    /// Of the documents in version 2.0.65 of the package `node-releases`.
    const NODE_RELEASES: &str = r#"[
        { "name": "nodejs", "version": "20.20.0", "date": "2026-01-12", "lts": "Iron", "security": true },
        { "name": "nodejs", "version": "22.11.0", "date": "2024-10-29", "lts": "Jod", "security": false },
        { "name": "nodejs", "version": "24.16.0", "date": "2026-05-21", "lts": "Krypton", "security": false },
        { "name": "nodejs", "version": "24.17.0", "date": "2026-06-17", "lts": "Krypton", "security": true },
        { "name": "nodejs", "version": "26.13.0", "date": "2026-10-28", "lts": "Lithium", "security": false } ]"#;
    const NODE_LINES: &str = r#"{
        "v0.12": { "start": "2015-02-06", "end": "2016-12-31" },
        "v20": { "start": "2023-04-18", "lts": "2023-10-24", "maintenance": "2024-10-22", "end": "2026-04-30", "codename": "Iron" },
        "v22": { "start": "2024-04-24", "lts": "2024-10-29", "maintenance": "2025-10-21", "end": "2027-04-30", "codename": "Jod" },
        "v24": { "start": "2025-05-06", "lts": "2025-10-28", "maintenance": "2026-10-20", "end": "2028-04-30", "codename": "Krypton" },
        "v25": { "start": "2025-10-15", "maintenance": "2026-04-01", "end": "2026-06-01" },
        "v26": { "start": "2026-05-05", "lts": "2026-10-28", "maintenance": "2027-10-20", "end": "2029-04-30", "codename": "Lithium" },
        "v27": { "alpha": "2026-10-28", "start": "2027-04-22", "lts": "2027-10-20", "end": "2030-04-30", "codename": "" } }"#;

    #[test]
    fn what_is_known_of_node_is_true_on_a_day() {
        let address = Address::read("http://gull.example/t.tgz").unwrap();
        let texts = [NODE_RELEASES, NODE_LINES].map(str::to_owned);
        let read = facts().publish(&texts, &address).unwrap();
        let today = "2026-11-27".parse().unwrap();
        let phase_of = |line: &Line| (line.name.clone(), line.phase_on(today).as_str());
        let phases: Vec<_> = read.catalog.lines.iter().map(phase_of).collect();
        let expected = [
            ("27", "preview"),
            ("26", "lts"),
            ("25", "ended"),
            ("24", "maintenance"),
            ("22", "maintenance"),
            ("20", "ended"),
            ("0.12", "ended"),
        ];
        assert_eq!(
            phases,
            expected.map(|(line, phase)| (line.to_owned(), phase))
        );
        let release = |version: &str| {
            let found = read
                .catalog
                .releases
                .iter()
                .find(|one| one.version.as_str() == version);
            let found = found.unwrap();
            (found.date.unwrap().to_string(), found.security)
        };
        assert_eq!(release("22.11.0"), ("2024-10-29".to_owned(), Some(false)));
        let security =
            ["20.20.0", "24.17.0", "24.16.0", "26.13.0"].map(|version| release(version).1);
        assert_eq!(security, [true, true, false, false].map(Some));
    }

    #[test]
    fn what_is_no_document_of_that_kind_is_named_by_its_file() {
        let address = Address::read("http://gull.example/t.tgz").unwrap();
        let texts = ["[]".to_owned(), "[]".to_owned()];
        let error = facts().publish(&texts, &address).unwrap_err().to_string();
        assert!(error.contains("l.json: invalid type"), "{error}");
    }
}
