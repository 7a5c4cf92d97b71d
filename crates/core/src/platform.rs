//! Platforms that builds are made for: `os-arch[-libc]`.

use std::fmt;
use std::str::FromStr;
use std::sync::Arc;

/// What a build runs on, as `linux-x64-gnu`, `darwin-arm64` or `any`.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Platform(Arc<str>);

/// What source archives have in the place of a platform.
const SOURCE: &str = "source";

/// A text that is not `any`, `source`, `os-arch` or `os-arch-libc` in lower-case letters, digits and `_`.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{0:?} is not a platform; one looks like linux-x64-gnu")]
pub struct PlatformError(pub String);

impl Platform {
    /// The platform as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The operating system: `linux`, `darwin` …
    pub fn os(&self) -> &str {
        self.0.split('-').next().unwrap_or_default()
    }

    /// The processor: `x64`, `arm64` …; empty for `any`.
    pub fn arch(&self) -> &str {
        self.0.split('-').nth(1).unwrap_or_default()
    }

    /// The C library, where one is named: `gnu`, `musl`.
    pub fn libc(&self) -> Option<&str> {
        self.0.split('-').nth(2)
    }

    /// Whether it stands for a source archive, of which a build can be made.
    pub fn is_source(&self) -> bool {
        self.as_str() == SOURCE
    }

    /// The place of a build for this platform among those that run on a machine of platform `host`, the lowest
    /// first: what is made for just that machine, and a source last.
    pub fn order_on(&self, host: &Platform) -> (bool, bool) {
        (self.is_source(), self != host)
    }

    /// Whether a build for this platform runs on a machine of platform `host`.
    ///
    /// A build that names no C library needs none, and what is source is built where it is.
    pub fn runs_on(&self, host: &Platform) -> bool {
        self.as_str() == "any"
            || self.is_source()
            || self == host
            || (self.os() == host.os() && self.arch() == host.arch() && self.libc().is_none())
    }
}

impl FromStr for Platform {
    type Err = PlatformError;

    fn from_str(text: &str) -> Result<Self, PlatformError> {
        let parts: Vec<&str> = text.split('-').collect();
        let word = |part: &&str| {
            !part.is_empty()
                && part
                    .chars()
                    .all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_')
        };
        let shape = matches!(text, "any" | SOURCE) || (2..=3).contains(&parts.len());
        if shape && parts.iter().all(word) {
            Ok(Platform(text.into()))
        } else {
            Err(PlatformError(text.to_owned()))
        }
    }
}

impl fmt::Display for Platform {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

impl serde::Serialize for Platform {
    fn serialize<S: serde::Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(&self.0)
    }
}

#[cfg(feature = "schemas")]
impl schemars::JsonSchema for Platform {
    fn inline_schema() -> bool {
        true
    }

    fn schema_name() -> std::borrow::Cow<'static, str> {
        "Platform".into()
    }

    fn json_schema(generator: &mut schemars::SchemaGenerator) -> schemars::Schema {
        String::json_schema(generator)
    }
}

impl<'de> serde::Deserialize<'de> for Platform {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        let text = String::deserialize(deserializer)?;
        text.parse().map_err(serde::de::Error::custom)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("linux-x64-gnu", "linux-x64-gnu", true)]
    #[case("linux-x64", "linux-x64-musl", true)]
    #[case("linux-x64-gnu", "linux-x64-musl", false)]
    #[case("linux-arm64-gnu", "linux-x64-gnu", false)]
    #[case("darwin-arm64", "darwin-arm64", true)]
    #[case("any", "darwin-arm64", true)]
    fn builds_run_where_they_fit(#[case] build: &str, #[case] host: &str, #[case] runs: bool) {
        let read = |text: &str| text.parse::<Platform>().unwrap();
        assert_eq!(read(build).runs_on(&read(host)), runs);
    }

    #[rstest]
    fn refuses_what_is_no_platform(
        #[values("", "linux", "Linux-x64", "linux--x64", "a-b-c-d", "linux-x64/../..")] text: &str,
    ) {
        assert_eq!(
            text.parse::<Platform>(),
            Err(PlatformError(text.to_owned()))
        );
    }
}
