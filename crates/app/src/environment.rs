//! The surroundings of one command: folders, settings, clock, transport, calling shell. What has to be
//! read is read when something needs it.

use std::cell::{OnceCell, RefCell};
use std::collections::HashMap;
use std::fmt;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use jiff::civil::Date;
use jiff::{Timestamp, tz::TimeZone};
use vshelf_core::{Definition, Platform};
use vshelf_files::action::FileAction;
use vshelf_shelf::{Folders, Layout, Shelf, ShelfError, migration};
use vshelf_sources::CatalogCache;
use vshelf_sources::registries::UserSettings;
use vshelf_sources::transport::{Patience, Transport};

use crate::calling_shell::CallingShell;
use crate::definitions;
use crate::error::{Done, Error, file_error};
use crate::platform::this_platform;
use crate::settings::Settings;
use crate::snapshot::Snapshots;
use crate::variables::Variables;

/// Sets the day on which phases are computed, for tests and demonstrations.
const TODAY: &str = "VSHELF_TODAY";

/// The surroundings of one command.
#[derive(Debug)]
pub struct Environment {
    /// The shell that called.
    pub shell: CallingShell,
    /// The way to the network.
    pub transport: Transport,
    registries: UserSettings,
    /// The platform that builds have to run on.
    platform: OnceCell<Platform>,
    /// Where catalogs are kept, where that is not the usual place.
    catalogs: Option<PathBuf>,
    cache: OnceCell<CatalogCache>,
    folders: OnceCell<Folders>,
    layout: OnceCell<Layout>,
    /// The definitions that were read, by runtime.
    definitions: RefCell<HashMap<String, Arc<Definition>>>,
    snapshots: Snapshots,
    settings: OnceCell<Settings>,
    command_id: OnceCell<String>,
    /// The working folder, where that is not the process's.
    here: Option<PathBuf>,
    chooser: Option<RuntimeChooser>,
    /// The runtime that was chosen where none was named.
    chosen_runtime: OnceCell<String>,
}

/// Asks a person which of several runtimes is meant; nothing where nobody answers.
pub struct RuntimeChooser(pub Box<AskForOne>);

/// Asks for one of these names.
type AskForOne = dyn Fn(&[String]) -> Option<String>;

impl fmt::Debug for RuntimeChooser {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("RuntimeChooser")
    }
}

/// Where the package registries of the person with these variables are.
fn registries_of(variables: &Variables) -> UserSettings {
    UserSettings {
        variables: variables.texts().into(),
        home: variables.home().unwrap_or_default(),
    }
}

impl Environment {
    /// The surroundings of a command with these variables. Nothing is read yet, so that help never
    /// fails.
    pub fn new(variables: &Variables, offline: bool) -> Environment {
        Environment::in_shell(CallingShell::of(variables), offline)
    }

    /// The surroundings of a command that another one gives in the same shell.
    pub fn in_shell(shell: CallingShell, offline: bool) -> Environment {
        let registries = registries_of(shell.variables());
        let transport = Transport::new(offline, Patience::default());
        Environment {
            shell,
            transport: transport.of_person(registries.clone()),
            registries,
            platform: OnceCell::new(),
            catalogs: None,
            cache: OnceCell::new(),
            folders: OnceCell::new(),
            layout: OnceCell::new(),
            definitions: RefCell::default(),
            snapshots: Snapshots::default(),
            settings: OnceCell::new(),
            command_id: OnceCell::new(),
            here: None,
            chooser: None,
            chosen_runtime: OnceCell::new(),
        }
    }

    /// The same surroundings in another working folder.
    pub fn in_folder(self, here: PathBuf) -> Environment {
        Environment {
            here: Some(here),
            ..self
        }
    }

    /// The working folder.
    pub fn here(&self) -> Result<PathBuf, Error> {
        match &self.here {
            Some(here) => Ok(here.clone()),
            None => std::env::current_dir().map_err(file_error(Path::new("."), FileAction::Read)),
        }
    }

    /// The variables that the command was given.
    pub fn variables(&self) -> &Variables {
        self.shell.variables()
    }

    /// The same surroundings, with settings and definitions that are read again after this command changed them.
    pub fn anew(&self) -> Environment {
        Environment {
            transport: self.transport.clone(),
            here: self.here.clone(),
            ..Environment::in_shell(self.shell.clone(), self.transport.is_offline())
        }
    }

    /// The same surroundings as a machine of this platform would have them; what sources say to it
    /// is kept in `catalogs`, because some say to each platform only what is for it.
    pub fn on_platform(&self, platform: Platform, catalogs: PathBuf) -> Environment {
        Environment {
            transport: self.transport.clone(),
            platform: OnceCell::from(platform),
            catalogs: Some(catalogs),
            ..Environment::in_shell(self.shell.clone(), self.transport.is_offline())
        }
    }

    /// The same surroundings with a shelf, settings and a cache below this folder.
    pub fn with_folders_below(&self, folder: &Path) -> Environment {
        let own = ["data", "cache", "config"];
        let own = own.map(|name| {
            (
                format!("VSHELF_{}", name.to_uppercase()).into(),
                folder.join(name).into(),
            )
        });
        let all = self.variables().all();
        let all = all.map(|(name, value)| (name.clone(), value.clone()));
        let variables = Variables::from_iter(all.chain(own));
        Environment {
            transport: self.transport.clone(),
            ..Environment::in_shell(CallingShell::of(&variables), self.transport.is_offline())
        }
    }

    /// The platform that builds have to run on. The system is asked when it is first needed.
    pub fn platform(&self) -> &Platform {
        self.platform.get_or_init(this_platform)
    }

    /// The program's folders.
    pub fn folders(&self) -> Result<&Folders, Error> {
        if let Some(folders) = self.folders.get() {
            return Ok(folders);
        }
        let folders = Folders::find(|name| self.variables().get(name).map(Into::into))?;
        // Shells, settings and records hold these paths as text.
        let all = [
            &folders.data,
            &folders.cache,
            &folders.config,
            &folders.company,
        ];
        if let Some(folder) = all.into_iter().find(|folder| folder.to_str().is_none()) {
            return Err(Error::NotUtf8 {
                folder: folder.clone(),
            });
        }
        let layout = Layout::of(&folders);
        migration::prepare(&layout).map_err(ShelfError::from)?;
        self.layout.get_or_init(|| layout);
        Ok(self.folders.get_or_init(|| folders))
    }

    /// Where everything is in the data folder. All of a command share one, which counts the changes that it makes.
    pub fn layout(&self) -> Result<Layout, Error> {
        let folders = self.folders()?;
        Ok(self.layout.get_or_init(|| Layout::of(folders)).clone())
    }

    /// The catalogs and shelves that this command has read.
    pub fn snapshots(&self) -> &Snapshots {
        &self.snapshots
    }

    /// The settings in force.
    pub fn settings(&self) -> Result<&Settings, Error> {
        if let Some(settings) = self.settings.get() {
            return Ok(settings);
        }
        let folders = self.folders()?;
        let settings = Settings::read([&folders.company, &folders.config])?;
        if !settings.headers.is_empty() {
            let headers = settings.server_headers(&folders.config, &self.registries())?;
            self.transport.tell_servers(headers);
        }
        Ok(self.settings.get_or_init(|| settings))
    }

    /// Fails if the settings cannot be read: they may forbid what installs, or keep what is deleted.
    pub fn need_settings(&self) -> Done {
        self.settings().map(drop)
    }

    /// The day on which phases are computed: today in UTC.
    pub fn today(&self) -> Result<Date, Error> {
        match self.variables().get(TODAY) {
            Some(text) => {
                let text = text.to_string_lossy();
                text.parse().map_err(|_| Error::Today {
                    text: text.into_owned(),
                })
            }
            None => Ok(Timestamp::now().to_zoned(TimeZone::UTC).date()),
        }
    }

    /// The time that everything is noted with: that of the day on which phases are computed.
    pub fn now(&self) -> Result<Timestamp, Error> {
        match self.variables().get(TODAY) {
            Some(_) => {
                let noon = self.today()?.at(12, 0, 0, 0);
                let noon = noon.to_zoned(TimeZone::UTC);
                Ok(noon.map_or_else(|_| Timestamp::now(), |noon| noon.timestamp()))
            }
            None => Ok(Timestamp::now()),
        }
    }

    /// What everything that this command does has in common in the history.
    pub fn command_id(&self) -> Result<String, Error> {
        if let Some(id) = self.command_id.get() {
            return Ok(id.clone());
        }
        let seconds = self.now()?.as_second();
        let id = format!("{seconds}-{}", std::process::id());
        Ok(self.command_id.get_or_init(|| id).clone())
    }

    /// Where the person's package registries are.
    pub fn registries(&self) -> UserSettings {
        self.registries.clone()
    }

    /// The cache of catalogs.
    pub fn catalogs(&self) -> Result<&CatalogCache, Error> {
        if let Some(cache) = self.cache.get() {
            return Ok(cache);
        }
        let folder = match &self.catalogs {
            Some(folder) => folder.clone(),
            None => self.folders()?.cache.join("catalogs"),
        };
        let cache = CatalogCache::new(
            folder,
            self.settings()?.catalog_fresh_for(),
            self.registries(),
            self.layout()?.signed_catalogs(),
        );
        Ok(self.cache.get_or_init(|| cache))
    }

    /// The definition of the runtime with this name.
    pub fn definition(&self, name: &str) -> Result<Arc<Definition>, Error> {
        if let Some(known) = self.definitions.borrow().get(name) {
            return Ok(Arc::clone(known));
        }
        let config = &self.folders()?.config;
        let mut definition = definitions::find(self.folders()?, name)?;
        // Settings that cannot be read are told by what needs them: whoever asks a source does.
        if let Ok(settings) = self.settings() {
            settings.adjust(config, &mut definition)?;
        }
        let definition = Arc::new(definition);
        let mut known = self.definitions.borrow_mut();
        known.insert(name.to_owned(), Arc::clone(&definition));
        Ok(definition)
    }

    /// Every known runtime with the names of the requirement files that its definition and the settings add to our own. A definition
    /// that cannot be used adds none.
    pub fn requirement_file_names(&self) -> Result<Vec<(String, Vec<String>)>, Error> {
        let mut names = Vec::new();
        // Commands that need the settings report it if they cannot be read.
        let added = (self.settings().ok()).map(|settings| &settings.requirement_files);
        for known in definitions::known(self.folders()?)? {
            let files = match known.requirement_files {
                Some(files) => {
                    let added = added.and_then(|added| added.get(&known.name));
                    let added = added.into_iter().flatten().cloned();
                    files
                        .iter()
                        .map(|&file| file.to_owned())
                        .chain(added)
                        .collect()
                }
                None => match self.definition(&known.name) {
                    Ok(definition) => {
                        let files = definition.requirement_files.iter();
                        files.map(|file| file.file.clone()).collect()
                    }
                    // Commands about this runtime report it.
                    Err(Error::Definition { .. }) => Vec::new(),
                    Err(error) => return Err(error),
                },
            };
            names.push((known.name, files));
        }
        Ok(names)
    }

    /// Forgets a definition whose file this command changed.
    pub fn forget_definition(&self, name: &str) {
        self.definitions.borrow_mut().remove(name);
    }

    /// The name of the runtime that is meant where none is named: the main one, else the only one on
    /// the shelf, else the only one that is known.
    pub fn meant_runtime(&self) -> Result<String, Error> {
        if let Some(main) = &self.settings()?.main_runtime {
            return Ok(main.clone());
        }
        let folders = self.folders()?;
        let on_shelf = Shelf::runtimes(folders)?;
        let known = match on_shelf.len() {
            0 => definitions::names(folders)?,
            _ => on_shelf,
        };
        match <[String; 1]>::try_from(known) {
            Ok([only]) => Ok(only),
            Err(names) => Err(Error::SeveralRuntimes { names }),
        }
    }

    /// The runtime that is meant where none is named; a person is asked where several could be.
    pub fn choose_runtime(&self) -> Result<String, Error> {
        if let Some(chosen) = self.chosen_runtime.get() {
            return Ok(chosen.clone());
        }
        let meant = self.meant_runtime();
        let (Err(Error::SeveralRuntimes { names }), Some(chooser)) = (&meant, &self.chooser) else {
            return meant;
        };
        match (chooser.0)(names) {
            Some(chosen) => Ok(self.chosen_runtime.get_or_init(|| chosen).clone()),
            None => meant,
        }
    }

    /// The same surroundings with somebody who can be asked which runtime is meant.
    pub fn asking(self, chooser: RuntimeChooser) -> Environment {
        Environment {
            chooser: Some(chooser),
            ..self
        }
    }

    /// What commands need in front of a selector of this runtime: nothing where it is meant anyway.
    pub fn prefix(&self, runtime: &str) -> String {
        match self.meant_runtime() {
            Ok(meant) if meant == runtime => String::new(),
            _ => format!("{runtime}@"),
        }
    }

    /// The runtimes that shells enter: those on the shelf, and the main one.
    pub fn entered_runtimes(&self) -> Result<Vec<String>, Error> {
        let mut names = Shelf::runtimes(self.folders()?)?;
        let defined = definitions::names(self.folders()?)?;
        let main = self.settings()?.main_runtime.clone();
        names.extend(main.filter(|main| defined.contains(main)));
        names.sort();
        names.dedup();
        Ok(names)
    }
}
