//! What every command shares, loaded when it is needed.

use std::cell::OnceCell;
use std::path::PathBuf;

use jiff::civil::Date;
use jiff::{Timestamp, tz::TimeZone};
use vshelf_core::{Definition, Platform, Request};
use vshelf_shelf::{Folders, Shelf};
use vshelf_sources::CatalogCache;
use vshelf_sources::transport::{Patience, Transport};
use vshelf_view::words::listed;

use crate::calling_shell::CallingShell;
use crate::definitions;
use crate::failure::{Failure, Kind};
use crate::runtime::Runtime;
use crate::settings::Settings;

/// Sets the day on which phases are computed, for tests and demonstrations.
const TODAY: &str = "VSHELF_TODAY";

/// The surroundings of one command.
#[derive(Debug)]
pub struct Context {
    /// The shell that called.
    pub shell: CallingShell,
    /// The door to the network.
    pub transport: Transport,
    /// The platform that builds have to run on.
    pub platform: Platform,
    /// Where catalogs are kept, where that is not the usual place.
    catalogs: Option<PathBuf>,
    folders: OnceCell<Folders>,
    settings: OnceCell<Settings>,
    command_id: OnceCell<String>,
}

impl Context {
    /// Nothing is read yet, so that help never fails.
    pub fn new(offline: bool) -> Context {
        Context::in_shell(CallingShell::read(), offline)
    }

    /// The surroundings of a command that another one gives in the same shell.
    pub fn in_shell(shell: CallingShell, offline: bool) -> Context {
        Context {
            shell,
            transport: Transport::new(offline, Patience::default()),
            platform: this_platform(),
            catalogs: None,
            folders: OnceCell::new(),
            settings: OnceCell::new(),
            command_id: OnceCell::new(),
        }
    }

    /// The same surroundings as a machine of this platform would have them; what sources say to it
    /// is kept in `catalogs`, because some say to each platform only what is for it.
    pub fn on_platform(&self, platform: Platform, catalogs: PathBuf) -> Context {
        Context {
            transport: self.transport.clone(),
            platform,
            catalogs: Some(catalogs),
            ..Context::in_shell(self.shell.clone(), self.transport.is_offline())
        }
    }

    /// The program's folders.
    pub fn folders(&self) -> Result<&Folders, Failure> {
        if let Some(folders) = self.folders.get() {
            return Ok(folders);
        }
        let folders = Folders::find(|name| std::env::var_os(name))?;
        Ok(self.folders.get_or_init(|| folders))
    }

    /// The settings in force.
    pub fn settings(&self) -> Result<&Settings, Failure> {
        if let Some(settings) = self.settings.get() {
            return Ok(settings);
        }
        let settings = Settings::read(&self.folders()?.config)?;
        Ok(self.settings.get_or_init(|| settings))
    }

    /// The day on which phases are computed: today in UTC.
    pub fn today(&self) -> Result<Date, Failure> {
        match std::env::var(TODAY) {
            Ok(text) => text.parse().map_err(|_| {
                Failure::new(
                    Kind::Usage,
                    format!("{TODAY} is {text:?}, which is not a date"),
                )
                .say("A date is written as in 2026-11-23.")
            }),
            Err(_) => Ok(Timestamp::now().to_zoned(TimeZone::UTC).date()),
        }
    }

    /// The time that uses and deeds are noted with: that of the day on which phases are computed.
    pub fn now(&self) -> Result<Timestamp, Failure> {
        match std::env::var_os(TODAY) {
            Some(_) => {
                let noon = self.today()?.at(12, 0, 0, 0);
                let noon = noon.to_zoned(TimeZone::UTC);
                Ok(noon.map_or_else(|_| Timestamp::now(), |noon| noon.timestamp()))
            }
            None => Ok(Timestamp::now()),
        }
    }

    /// What all that this command does is known by in the history.
    pub fn command_id(&self) -> Result<String, Failure> {
        if let Some(id) = self.command_id.get() {
            return Ok(id.clone());
        }
        let seconds = self.now()?.as_second();
        let id = format!("{seconds}-{}", std::process::id());
        Ok(self.command_id.get_or_init(|| id).clone())
    }

    /// The cache of catalogs.
    pub fn catalogs(&self) -> Result<CatalogCache, Failure> {
        let folder = match &self.catalogs {
            Some(folder) => folder.clone(),
            None => self.folders()?.cache.join("catalogs"),
        };
        Ok(CatalogCache::new(
            folder,
            self.settings()?.catalog_fresh_for(),
        ))
    }

    /// The definition of the runtime with this name.
    pub fn definition(&self, name: &str) -> Result<Definition, Failure> {
        let config = &self.folders()?.config;
        let mut definition = definitions::find(config, name)?;
        // Settings that cannot be read are told by what needs them: whoever asks a source does.
        if let Ok(settings) = self.settings() {
            settings.move_sources(config, &mut definition)?;
        }
        Ok(definition)
    }

    /// The runtime that a request means: the one it names, else the main one, else the only one on
    /// the shelf, else the only one that is known.
    pub fn runtime_for(&self, request: &Request) -> Result<Runtime<'_>, Failure> {
        self.runtime(request.runtime.as_deref())
    }

    /// The runtime with this name, as in `marram` or `marram@`, or the one that is meant when none is
    /// named.
    pub fn runtime(&self, name: Option<&str>) -> Result<Runtime<'_>, Failure> {
        let name = match name {
            Some(name) => name.trim_end_matches('@').to_owned(),
            None => self.meant_runtime()?,
        };
        Runtime::open(self, self.definition(&name)?)
    }

    fn meant_runtime(&self) -> Result<String, Failure> {
        if let Some(main) = &self.settings()?.main_runtime {
            return Ok(main.clone());
        }
        let folders = self.folders()?;
        let shelved = Shelf::runtimes(folders)?;
        let known = match shelved.len() {
            0 => definitions::names(&folders.config)?,
            _ => shelved,
        };
        match known.as_slice() {
            [only] => Ok(only.clone()),
            several => Err(Failure::new(
                Kind::Usage,
                format!(
                    "no runtime is named, and there are several: {}",
                    listed(several, "and")
                ),
            )
            .say(format!(
                "Put one in front of the selector, as in {}@lts",
                several[0]
            ))
            .run(
                "To make one the main runtime",
                format!("vshelf setup --main {}", several[0]),
            )),
        }
    }

    /// The runtime that is named, as in `marram` or `marram@`; when none is, all on the shelf, or
    /// else the one that is meant.
    pub fn shown_runtimes(&self, name: Option<&str>) -> Result<Vec<Runtime<'_>>, Failure> {
        if let Some(name) = name {
            return Ok(vec![self.runtime(Some(name))?]);
        }
        let shelved = Shelf::runtimes(self.folders()?)?;
        if shelved.is_empty() {
            return Ok(vec![self.runtime(None)?]);
        }
        shelved
            .iter()
            .map(|name| self.runtime(Some(name)))
            .collect()
    }

    /// Whether output has to name the runtime in front of selectors.
    pub fn prefix(&self, runtime: &str) -> Result<String, Failure> {
        Ok(match self.meant_runtime() {
            Ok(meant) if meant == runtime => String::new(),
            _ => format!("{runtime}@"),
        })
    }
}

/// The platform of this program's own build.
fn this_platform() -> Platform {
    let os = match std::env::consts::OS {
        "macos" => "darwin",
        other => other,
    };
    let arch = match std::env::consts::ARCH {
        "x86_64" => "x64",
        "aarch64" => "arm64",
        other => other,
    };
    let libc = match (os, cfg!(target_env = "musl")) {
        ("linux", true) => "-musl",
        ("linux", false) => "-gnu",
        _ => "",
    };
    format!("{os}-{arch}{libc}")
        .parse()
        .expect("the names of systems and processors are small letters and digits")
}
