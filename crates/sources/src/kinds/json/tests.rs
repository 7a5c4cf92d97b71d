//! A document's rows: which count, which do not and why.

use super::*;
use rstest::rstest;

const SHA256: &str = "0a0b0c0d0a0b0c0d0a0b0c0d0a0b0c0d0a0b0c0d0a0b0c0d0a0b0c0d0a0b0c0d";

const DEFINITION: &str = r#"
    name = "harbour"
    kind = "json"
    publisher = "saltmarsh"
    address = "https://saltmarsh.example/releases?page={page}"
    pages = { size = 20 }
    releases = "releases[]"
    builds = "files[]"
    version = "version.full"
    versions = ["orache-{version}"]
    date = "published"
    url = "file.link"
    size = "file.size"
    digest = { path = "file.checksum", algorithm = "sha256" }
    where = { kind = ["archive"], draft = [false] }
    platforms.linux-x64-gnu = { os = "linux", libc = "gnu" }
    platforms.linux-x64-musl = { os = "linux", libc = "musl" }
"#;

fn json(definition: &str) -> Json {
    let definition: SourceDefinition = toml::from_str(definition).unwrap();
    let vshelf_core::definition::SourceKind::Json(source) = definition.kind.clone() else {
        panic!("it is of the kind json");
    };
    Json {
        runtime: "orache".to_owned(),
        definition,
        source: *source,
        platform: "linux-x64-gnu".parse().unwrap(),
    }
}

fn read(definition: &str, document: &str) -> Result<PublishedCatalog, SourceError> {
    let json = json(definition);
    let address = Address::read("https://saltmarsh.example/releases").unwrap();
    let platforms: Vec<Platform> = json.source.platforms.keys().cloned().collect();
    let rows = rows::read(&json.source, &platforms, &address, document.as_bytes());
    let rows = rows.map_err(|error| SourceError::document(&address, error.to_string()))?;
    let mut gathered = Gathered::default();
    let name = address.to_string();
    (gathered.documents).keep(name.clone(), Validators::default(), Said::Rows(rows));
    gathered.addresses.push(name);
    json.publish(gathered, &["2.6".to_owned()])
}

/// Each build with its version and day, then each skipped row.
fn told(published: &PublishedCatalog) -> Vec<String> {
    let mut told = Vec::new();
    for release in &published.catalog.releases {
        let key = (release.version.clone(), release.publisher.clone());
        let day = release
            .date
            .map_or("undated".to_owned(), |day| day.to_string());
        for build in &published.details[&key].builds {
            let (platform, address, size) = (&build.platform, &build.address, build.size);
            told.push(format!(
                "{} {day} {platform} {address} {size:?}",
                release.version
            ));
        }
        if published.details[&key].builds.is_empty() {
            told.push(format!("{} {day} not installable", release.version));
        }
    }
    let skipped = published.skipped.iter();
    told.extend(skipped.map(|row| format!("{}: {} {}", row.row, row.field, row.problem)));
    told
}

fn release(build: &str) -> String {
    format!(
        r#"{{ "releases": [{{ "version": {{ "full": "orache-2.6.3" }}, "published": "2026-10-14T09:00:00Z", "draft": false,
           "files": [{build}] }}] }}"#
    )
}

const BUILD: &str = r#"{ "os": "linux", "libc": "gnu", "kind": "archive",
    "file": { "link": "https://dunefield.example/o%2B1.tar.gz", "size": "7", "checksum": "DIGEST" } }"#;

fn build() -> String {
    BUILD.replace("DIGEST", SHA256)
}

const GOOD: &str = "2.6.3 2026-10-14 linux-x64-gnu https://dunefield.example/o%2B1.tar.gz Some(7)";

#[test]
fn two_levels_of_rows_become_releases_and_builds() {
    let musl = build()
        .replace("\"gnu\"", "\"musl\"")
        .replace("\"7\"", "-1");
    let published = read(DEFINITION, &release(&format!("{},{musl}", build()))).unwrap();
    let musl = "2.6.3 2026-10-14 linux-x64-musl https://dunefield.example/o%2B1.tar.gz None";
    assert_eq!(told(&published), [GOOD, musl]);
    let line = published.catalog.line_named("2.6").is_some();
    assert!(!line, "a line has no code name");
    assert!(published.catalog.lines.iter().any(|line| line.long_term));
}

#[rstest]
#[case::kind("\"archive\"", "\"installer\"", "orache-2.6.3: kind is \"installer\"")]
#[case::platform("\"linux\"", "\"tide\"", "orache-2.6.3: os is \"tide\"")]
#[case::no_field("\"libc\"", "\"c\"", "orache-2.6.3: libc is missing")]
#[case::no_address("\"link\"", "\"path\"", "orache-2.6.3: file.link is missing")]
#[case::in_the_clear(
    "https:",
    "http:",
    "orache-2.6.3: file.link is \"http://dunefield.example/o%2B1.tar.gz\", which is not encrypted"
)]
#[case::another_kind(
    "\"os\": \"linux\"",
    "\"os\": [1]",
    "orache-2.6.3: os is a list, not a text"
)]
#[case::a_file_here(
    "https://dunefield.example/o%2B1.tar.gz",
    "file:///etc/passwd",
    "names"
)]
fn a_row_that_does_not_count_says_which_field_decides(
    #[case] from: &str,
    #[case] to: &str,
    #[case] expected: &str,
) {
    let bad = build().replacen(from, to, 1).replace("2.6.3", "2.6.2");
    let published = read(DEFINITION, &release(&format!("{bad},{}", build()))).unwrap();
    let told = told(&published);
    assert_eq!(told[0], GOOD);
    let expected = expected.replace("names", "orache-2.6.3: file.link");
    assert!(told[1].starts_with(&expected), "{}", told[1]);
}

#[rstest]
#[case::empty("", "its file.checksum is empty")]
#[case::short("0a0b", "its file.checksum is \"0a0b\", which is no sha256 digest")]
#[case::weak("md5:0a0b0c0d0a0b0c0d0a0b0c0d0a0b0c0d", "which is no sha256 digest")]
#[case::of_another_length(&"0a".repeat(64), "which is no sha256 digest")]
fn a_build_without_an_accepted_digest_is_listed_and_not_offered(
    #[case] checksum: &str,
    #[case] why: &str,
) {
    let bad = BUILD.replace("DIGEST", checksum);
    let published = read(DEFINITION, &release(&bad)).unwrap();
    assert_eq!(told(&published)[0], "2.6.3 2026-10-14 not installable");
    let card = published.details.values().next().unwrap();
    assert!(card.not_installable[0].why.contains(why), "{card:?}");
    assert!(published.catalog.releases[0].platforms.is_empty());
}

#[test]
fn the_second_row_of_a_build_does_not_count() {
    let second = build().replace("o%2B1", "o2");
    let published = read(DEFINITION, &release(&format!("{},{second}", build()))).unwrap();
    let told = told(&published);
    assert_eq!(told[0], GOOD);
    let second = "is of another row for linux-x64-gnu too; the first counts";
    assert!(told[1].ends_with(second), "{}", told[1]);
}

#[test]
fn a_file_with_two_digests_is_not_installable() {
    let second = BUILD.replace("DIGEST", &"0f".repeat(32));
    let published = read(DEFINITION, &release(&format!("{},{second}", build()))).unwrap();
    assert_eq!(told(&published)[0], "2.6.3 2026-10-14 not installable");
    let card = published.details.values().next().unwrap();
    assert_eq!(
        card.not_installable[0].why,
        "two rows state different digests"
    );
}

#[rstest]
#[case("[]", "expected an object with \"releases\"")]
#[case("{ \"list\": [] }", "it has no \"releases\"")]
#[case("{ \"releases\": {} }", "expected a list")]
#[case("{ \"releases\": [", "EOF")]
#[case("<html>", "expected value")]
fn a_document_of_another_shape_is_refused(#[case] document: &str, #[case] problem: &str) {
    let error = read(DEFINITION, document).unwrap_err().to_string();
    assert!(error.contains(problem), "{error}");
}

#[test]
fn objects_by_version_and_platform_are_rows_too() {
    let definition = r#"
        name = "index"
        kind = "json"
        publisher = "saltmarsh"
        address = "https://saltmarsh.example/index.json"
        releases = "{version}"
        builds = "{platform}"
        version = "version"
        date = "date"
        url = "tarball"
        size = "size"
        digest = { path = "shasum" }
        platforms.linux-x64 = { platform = "x64-linux" }
    "#;
    let document = format!(
        r#"{{ "next": {{ "version": "0.16.0-dev.7+0a0b0c", "date": "2026-11-20", "docs": "https://saltmarsh.example/d",
              "src": {{ "tarball": "o.tar.xz", "shasum": "{SHA256}", "size": "9" }},
              "x64-linux": {{ "tarball": "https://saltmarsh.example/o.tar.xz", "shasum": "{SHA256}", "size": "9" }} }},
             "0.15.1": {{ "date": "2026-08-01", "x64-linux": {{ "tarball": "/o1.tar.xz", "shasum": "{SHA256}" }} }} }}"#
    );
    let published = read(definition, &document).unwrap();
    let expected = [
        "0.16.0-dev.7+0a0b0c 2026-11-20 linux-x64 https://saltmarsh.example/o.tar.xz Some(9)",
        "0.15.1 2026-08-01 linux-x64 https://saltmarsh.example/o1.tar.xz None",
        "0.16.0-dev.7+0a0b0c: platform is \"src\"",
    ];
    assert_eq!(told(&published), expected);
}

#[rstest]
#[case(
    "file = \"{url}.sha256\"",
    "listed in https://saltmarsh.example/f/orache-2.tar.gz.sha256"
)]
#[case("url-at = \"sum\"", "listed in https://saltmarsh.example/s.txt")]
#[case("list = \"SUMS\"", "listed in https://saltmarsh.example/f/SUMS")]
fn a_digest_can_be_in_a_file_of_its_own(#[case] digest: &str, #[case] checksum: &str) {
    let definition = format!(
        r#"
        name = "index"
        kind = "json"
        publisher = "saltmarsh"
        address = "https://saltmarsh.example/index.json"
        releases = "[]"
        version = "v"
        url = "https://saltmarsh.example/f/{{name}}"
        digest = {{ {digest} }}
        platforms.any = {{}}
        "#
    );
    let document =
        r#"[{ "v": 2, "name": "orache-2.tar.gz", "sum": "https://saltmarsh.example/s.txt" }]"#;
    let published = read(&definition, document).unwrap();
    let build = published.builds().next().unwrap();
    assert_eq!(build.checksum.to_string(), checksum);
}

#[test]
fn a_million_rows_are_bounded() {
    let row = build().replace("\"archive\"", "\"installer\"");
    let rows = vec![row; 30_000].join(",");
    let published = read(DEFINITION, &release(&format!("{},{rows}", build()))).unwrap();
    assert_eq!(told(&published)[0], GOOD);
    assert!(published.skipped.len() < 20_010);
    let last = published.skipped.last().unwrap();
    assert_eq!(
        (&*last.row, &*last.problem),
        ("others", "has more than 20000 builds")
    );
}
