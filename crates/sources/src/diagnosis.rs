//! The table of errors: the class of each, and the advice that goes with it.

use vshelf_core::diagnosis::{Action, Class, Diagnosis, OptionHint};
use vshelf_files::shown::shown;

use crate::address::Address;
use crate::api::SourceError;
use crate::cache::LoadError;
use crate::download::DownloadError;
use crate::mirror::MirrorError;
use crate::registries::RegistryError;
use crate::transport::TransportError;

impl TransportError {
    /// Its class and the advice against it.
    pub fn diagnosis(&self) -> Diagnosis {
        match self {
            TransportError::Offline(_) => Class::Source.option(OptionHint::AskServers),
            TransportError::Status {
                status: 404,
                address,
                ..
            } if address.is_of_registry() => {
                Class::Source.note("Nothing was published there yet, or under another name.")
            }
            TransportError::Status { status: 404, .. } => Class::Source.note(
                "It may have moved; the source's address is in the runtime's definition.",
            ),
            TransportError::LimitReached { .. } => Class::Source
                .note("It limits how often one address may ask; what is kept serves until then."),
            TransportError::Status { .. } => {
                Class::Source.note("The server has a problem; try again later.")
            }
            TransportError::Unknown { address, sent, .. } => Class::Source.note(match sent {
                Some(file) => format!("It does not accept the credentials in {}.", shown(file)),
                None if address.is_of_registry() => format!(
                    "None are known for it here; they belong under \"auths\" in ~/.config/containers/auth.json: {}",
                    registry_entry(address)
                ),
                None => format!(
                    "None are known for it here; they belong in ~/.npmrc, in a line such as {}, or in ~/.netrc, as a machine.",
                    npm_line(address)
                ),
            }),
            TransportError::Refused { sent, .. } => {
                let whose = match sent {
                    Some(file) => format!("The credentials in {} were sent", shown(file)),
                    None => "No credentials were sent".to_owned(),
                };
                Class::Source.note(format!("{whose}; the people who run the server grant access."))
            }
            TransportError::Unprotected { .. } => Class::Source
                .note("A name and password go over https alone, or to this machine itself."),
            TransportError::Unreachable { .. } | TransportError::BrokenOff { .. } => Class::Source
                .note("Check the connection and the proxy settings, then run the same command again."),
            TransportError::Certificate { .. } => Class::Source.note(
                "If your network has its own certificate authority, name the file with its certificate in SSL_CERT_FILE.",
            ),
            TransportError::Settings(error) => error.diagnosis(),
            TransportError::ThroughProxy { .. }
            | TransportError::Unencrypted { .. }
            | TransportError::TokenService { .. }
            | TransportError::TooLarge { .. }
            | TransportError::File { .. } => Class::Source.alone(),
        }
    }
}

/// The line of the npm client's settings that has a token for the server of an address.
fn npm_line(address: &Address) -> String {
    format!("//{}/:_authToken=TOKEN", address.server())
}

/// The entry of the containers' file that has the name and password for the server of an address.
fn registry_entry(address: &Address) -> String {
    let server = address.server();
    format!(r#""{server}": {{ "auth": "NAME:PASSWORD as base64" }}"#)
}

impl RegistryError {
    /// Its class and the advice against it.
    pub fn diagnosis(&self) -> Diagnosis {
        match self {
            RegistryError::NpmNotConfigured => Class::Source
                .note("Set npm_config_registry, or registry= in ~/.npmrc, to your registry's address."),
            RegistryError::PythonNotConfigured => Class::Source
                .note("Set PIP_INDEX_URL, or index-url in pip.conf, to your index's address."),
            RegistryError::MavenNotConfigured => Class::Source.note(
                "Name one in ~/.m2/settings.xml, as a mirror of central, or under [addresses] in shelf.toml.",
            ),
            RegistryError::Encrypted { .. } => {
                Class::Source.note("Write ${env.NAME} there instead, and set that variable.")
            }
            RegistryError::NotAUrl { .. }
            | RegistryError::Blocked { .. }
            | RegistryError::Helper { .. }
            | RegistryError::Unreadable { .. } => Class::Source.alone(),
        }
    }
}

impl SourceError {
    /// Its class and the advice against it.
    pub fn diagnosis(&self) -> Diagnosis {
        match self {
            SourceError::Transport(error) => error.diagnosis(),
            SourceError::Registry(error) => error.diagnosis(),
            SourceError::Signature { .. } => Class::Verification
                .note("Nothing of it was kept. If the publisher changed the key, change it in the definition."),
            SourceError::Older { .. } => Class::Verification
                .note("Nothing of it was kept: an old catalog may hide what was withdrawn since."),
            SourceError::Expired { .. } => Class::Verification.alone(),
            SourceError::Document { .. }
            | SourceError::Address(_)
            | SourceError::NotListed { .. }
            | SourceError::NoDigest { .. }
            | SourceError::NoCompanion { .. } => Class::Source.alone(),
        }
    }
}

impl LoadError {
    /// Its class and the advice against it.
    pub fn diagnosis(&self) -> Diagnosis {
        match self {
            LoadError::Source(error) => error.diagnosis(),
            LoadError::Write { source, .. } => Class::Disk.alone().of_io(source),
            LoadError::Seen { .. } => Class::Disk.alone(),
            LoadError::Damaged(damaged) => {
                Class::Disk.step("To fetch it again", Action::Delete(damaged.path.clone()))
            }
        }
    }
}

impl DownloadError {
    /// Its class and the advice against it.
    pub fn diagnosis(&self) -> Diagnosis {
        const KEPT: &str = "Nothing of it was kept. Try again; if it stays so, tell the publisher.";
        match self {
            DownloadError::Transport(error) => error.diagnosis(),
            DownloadError::Digest {
                expected, found, ..
            } => Class::Verification
                .note(format!("Promised: {expected}"))
                .note(format!("Found:    {found}"))
                .note(KEPT),
            DownloadError::Size { .. } => Class::Verification.note(KEPT),
            DownloadError::Partial { source, .. } => Class::Disk.alone().of_io(source),
            DownloadError::Sink(_) => Class::Other.alone(),
        }
    }
}

impl MirrorError {
    /// Its class and the advice against it.
    pub fn diagnosis(&self) -> Diagnosis {
        match self {
            MirrorError::File { source, .. } => Class::Disk.alone().of_io(source),
            MirrorError::Other { .. } => Class::Refused
                .note("Choose another place, or move what is there away and start over."),
            MirrorError::Download(error) => error.diagnosis(),
            MirrorError::Source(error) => error.diagnosis(),
            MirrorError::Registry(error) => error.diagnosis(),
            MirrorError::NotKept { .. } | MirrorError::Busy { .. } => {
                Class::Source.note("Run the same command again: what is there is not sent again.")
            }
            MirrorError::Unsigned { .. } => Class::Refused.option(OptionHint::SignKey),
            MirrorError::Key { .. } => Class::Refused.alone(),
        }
    }
}
