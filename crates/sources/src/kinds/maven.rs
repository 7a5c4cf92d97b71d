//! Archives in a Maven repository: the metadata of an artifact lists its versions, and beside each archive is a file with
//! its digest (Maven documentation, "Repository Layout").

use roxmltree::Document;
use vshelf_core::catalog::{Build, Checksum, NotInstallable};
use vshelf_core::definition::SourceDefinition;
use vshelf_core::{Platform, Range};

use crate::address::{Address, Addresses};
use crate::api::{Fetched, Known, PublishedCatalog, Source, SourceError, fetch_document};
use crate::found::Found;
use crate::registries::UserSettings;
use crate::transport::Transport;

/// The endings of files with digests that are accepted, the strongest first.
const DIGESTS: [&str; 2] = ["sha512", "sha256"];

/// A source that is an artifact in a Maven repository.
pub struct Maven {
    pub(crate) runtime: String,
    pub(crate) definition: SourceDefinition,
    pub(crate) artifact: Artifact,
    /// The repository; that of the person's settings if it is absent.
    pub(crate) address: Option<String>,
    pub(crate) settings: UserSettings,
}

/// Which archives of a repository are builds.
pub struct Artifact {
    pub(crate) group: String,
    pub(crate) name: String,
    pub(crate) classifier: Option<String>,
    pub(crate) extension: String,
    /// The releases without an accepted digest beside their archives.
    pub(crate) without_digests: Option<Range>,
}

impl Artifact {
    /// The address of its folder in the repository at `repository`.
    fn folder(&self, repository: &str) -> String {
        let group = self.group.replace('.', "/");
        format!(
            "{}/{group}/{}/",
            repository.trim_end_matches('/'),
            self.name
        )
    }

    /// The path of a version's archive, relative to the folder.
    fn archive(&self, version: &str) -> String {
        let classifier = self
            .classifier
            .as_ref()
            .map(|classifier| format!("-{classifier}"));
        let classifier = classifier.unwrap_or_default();
        format!(
            "{version}/{}-{version}{classifier}.{}",
            self.name, self.extension
        )
    }
}

impl Source for Maven {
    fn fetch(&self, transport: &Transport, known: &Known) -> Result<Fetched, SourceError> {
        let repository = match &self.address {
            Some(address) => address.clone(),
            None => self.settings.maven_repository()?,
        };
        let folder = Address::read(&self.artifact.folder(&repository))?;
        let metadata = folder.join("maven-metadata.xml")?;
        if !metadata.is_private() {
            let problem = "the repository is neither https nor of this machine";
            return Err(SourceError::document(&metadata, problem));
        }
        let addresses = Addresses::from(metadata);
        fetch_document(transport, &addresses, known, None, |bytes, address| {
            self.publish(&String::from_utf8_lossy(bytes), address)
        })
    }
}

impl Maven {
    fn publish(&self, text: &str, address: &Address) -> Result<PublishedCatalog, SourceError> {
        // A document type could name other documents: it is refused.
        let document = Document::parse(text)
            .map_err(|error| SourceError::document(address, error.to_string()))?;
        let path = ["versioning", "versions"];
        let versions = path.iter().try_fold(document.root_element(), |node, name| {
            node.children()
                .find(|child| child.tag_name().name() == *name)
        });
        let versions =
            versions.ok_or_else(|| SourceError::document(address, "it lists no versions"))?;
        let any: Platform = "any".parse().expect("it is a platform");
        let mut found = Found::new(&self.definition);
        let listed = versions
            .children()
            .filter(|child| child.tag_name().name() == "version");
        for spelling in listed.filter_map(|version| version.text()) {
            let spelling = spelling.trim();
            let Some(spelled) = found.version(spelling) else {
                continue;
            };
            let without = self.artifact.without_digests.as_ref();
            if without.is_some_and(|range| range.contains(&spelled.version.to_final())) {
                let (_, card) = found.release(&spelled.version);
                card.not_installable.push(NotInstallable {
                    platform: any.clone(),
                    why: "no sha512 or sha256 digest lies beside its archive".to_owned(),
                });
                continue;
            }
            let archive = address.join(&self.artifact.archive(spelling))?.to_string();
            for ending in DIGESTS {
                let digest = Checksum::Listed(format!("{archive}.{ending}"));
                found.add(
                    &spelled,
                    spelling,
                    None,
                    Build::new(any.clone(), archive.clone(), digest),
                );
            }
        }
        found.publish(&self.runtime, Vec::new(), address)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn maven() -> Maven {
        let definition = "name = 'board'\nkind = 'maven'\nartifact = 'org.saltmarsh.orache:orache-tools'\npublisher = 'saltmarsh'\nextension = 'tar.gz'";
        Maven {
            runtime: "orache".to_owned(),
            definition: toml::from_str(definition).unwrap(),
            artifact: Artifact {
                group: "org.saltmarsh.orache".to_owned(),
                name: "orache-tools".to_owned(),
                classifier: Some("bin".to_owned()),
                extension: "tar.gz".to_owned(),
                without_digests: Some("<2".parse().unwrap()),
            },
            address: None,
            settings: UserSettings::default(),
        }
    }

    const FOLDER: &str = "https://board.example/maven/org/saltmarsh/orache/orache-tools";

    fn read(text: &str) -> Result<PublishedCatalog, SourceError> {
        let folder = maven().artifact.folder("https://board.example/maven/");
        assert_eq!(folder, format!("{FOLDER}/"));
        let address = Address::read(&folder)
            .unwrap()
            .join("maven-metadata.xml")
            .unwrap();
        maven().publish(text, &address)
    }

    #[test]
    fn metadata_lists_versions_whose_archives_have_digests_beside_them() {
        let text = "<?xml version=\"1.0\"?><metadata><versioning><latest>1.0</latest><versions>
            <version>2.6.3</version><version>1.9</version><version>soon</version><version> 2.7.0-rc-1 </version></versions></versioning></metadata>";
        let published = read(text).unwrap();
        let versions = published.catalog.releases.iter();
        let versions: Vec<_> = versions.map(|release| release.version.as_str()).collect();
        assert_eq!(versions, ["2.7.0-rc-1", "2.6.3", "1.9"]);
        let releases = published.catalog.releases.iter();
        let nowhere = releases.filter(|release| release.platforms.is_empty());
        assert_eq!(
            nowhere.count(),
            1,
            "a release without a digest is listed alone"
        );
        assert_eq!(published.left_out, ["soon"]);
        let release = &published.catalog.releases[1];
        let card = &published.details[&(release.version.clone(), release.publisher.clone())];
        let archive = format!("{FOLDER}/2.6.3/orache-tools-2.6.3-bin.tar.gz");
        let told: Vec<_> = card
            .builds
            .iter()
            .map(|build| (&*build.address, build.checksum.to_string()))
            .collect();
        let digest = |ending: &str| format!("listed in {archive}.{ending}");
        assert_eq!(
            told,
            [(&*archive, digest("sha512")), (&*archive, digest("sha256"))]
        );
    }

    #[rstest]
    #[case("<metadata><versioning/></metadata>", "it lists no versions")]
    #[case(
        "<!DOCTYPE m [<!ENTITY x SYSTEM \"file:///etc/passwd\">]><metadata>&x;</metadata>",
        "DTD"
    )]
    #[case("<html><p>sign in", "not a catalog")]
    #[case(
        "<metadata><versioning><versions><version>../../x</version></versions></versioning></metadata>",
        "none of its 1 versions"
    )]
    fn other_documents_are_refused(#[case] text: &str, #[case] problem: &str) {
        let error = read(text).unwrap_err().to_string();
        assert!(error.contains(problem), "{error}");
    }
}
