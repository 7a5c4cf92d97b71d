//! Putting on the shelf what is on this machine already: a folder, an archive, the system's copy.

use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::sync::Arc;

use vshelf_core::catalog::DigestAlgorithm;
use vshelf_core::definition::{ArchiveLayout, RecordedDefinition};
use vshelf_core::selector::is_publisher;
use vshelf_core::{Definition, Key, Request, Selector, Version};
use vshelf_files::action::FileAction;
use vshelf_files::system;
use vshelf_shelf::adoption::{copy_tree, find_root};
use vshelf_shelf::probe::{self, Answer, Surroundings};
use vshelf_shelf::record::{Adopted, RecordContents};
use vshelf_shelf::staging::Stage;
use vshelf_shelf::store::program_in;
use vshelf_shelf::unpack::{Bounds, unpack_file};
use vshelf_shelf::{Manifest, Staged, recovery};
use vshelf_sources::digest::digest_of_file;

use crate::activity::Activity;
use crate::admission;
use crate::base;
use crate::environment::Environment;
use crate::error::{Done, Error, file_error};
use crate::events::{Event, Listener};
use crate::install::conclude::{Installed, Takeover, conclude};
use crate::install::first_start;
use crate::runtime::{Runtime, opening};

/// The publisher of what is adopted, unless another is named.
const PUBLISHER: &str = "adopted";

/// What is to be adopted.
#[derive(Clone, Debug)]
pub struct AdoptRequest {
    /// A folder or archive; or the system's copy, where it reads as that.
    pub path: PathBuf,
    /// What to call it.
    pub name: Name,
    /// Whether a folder stays where it is, and only a link to it goes on the shelf.
    pub link: bool,
}

/// What to call something that is adopted; what is missing is found out.
#[derive(Clone, Debug, Default)]
pub struct Name {
    /// The runtime.
    pub runtime: Option<String>,
    /// The publisher.
    pub publisher: Option<String>,
    /// The version.
    pub version: Option<Version>,
}

impl Name {
    /// The name that this text gives: `8.3.1`, `gull-point/8.3.1` or `marram@8.3.1`.
    pub fn read(text: &str) -> Result<Name, Error> {
        let request: Request = text.parse()?;
        let Selector::Version(version) = request.selector else {
            return Err(Error::AdoptName {
                text: text.to_owned(),
            });
        };
        Ok(Name {
            runtime: request.runtime,
            publisher: request.publisher,
            version: Some(version),
        })
    }
}

/// Adopts what is asked for.
pub fn adopt(environment: &Environment, asked: AdoptRequest, listener: &dyn Listener) -> Done {
    environment.need_settings()?;
    if let Some(request) = system_request(&asked.path) {
        let named = asked.name.runtime.clone().or(request.runtime);
        let runtime = Runtime::named(environment, named.as_deref())?;
        return adopt_system(&runtime, asked.name, listener);
    }
    let path = environment.here()?.join(&asked.path);
    let path = std::path::absolute(&path).map_err(file_error(&asked.path, FileAction::Find))?;
    let found = fs::metadata(&path).map_err(file_error(&path, FileAction::Read))?;
    match found.is_dir() {
        true => adopt_folder(environment, &path, asked.name, asked.link, listener),
        false if asked.link => Err(Error::LinkToFile { path }),
        false => adopt_archive(environment, &path, asked.name, listener),
    }
}

/// The request for the system's copy, where that is what is meant.
fn system_request(path: &Path) -> Option<Request> {
    let request: Request = path.to_str()?.parse().ok()?;
    (request.selector == Selector::System).then_some(request)
}

/// The system's copy is a program among others in a folder: a link to it alone is adopted.
fn adopt_system(runtime: &Runtime<'_>, name: Name, listener: &dyn Listener) -> Done {
    let activity = Activity::of(runtime);
    let program = activity.need_system_copy(runtime)?.to_owned();
    let adoption = Adoption::begin(runtime)?;
    let folder = runtime.definition.folders.first().map_or("", |f| f);
    let place = adoption.tree.join(folder);
    let link = place.join(&runtime.definition.program);
    fs::create_dir_all(&place)
        .and_then(|()| system::symlink(&program, &link))
        .map_err(file_error(&link, FileAction::Write))?;
    adoption.finish(
        runtime,
        Adoptee {
            name,
            from: &program,
            how: How::Linked,
        },
        listener,
    )
}

fn adopt_folder(
    environment: &Environment,
    path: &Path,
    name: Name,
    link: bool,
    listener: &dyn Listener,
) -> Done {
    let (definition, root) = pick(candidates(environment, &name)?, path, path)?;
    let runtime = Runtime::open(environment, definition)?;
    let adoption = Adoption::begin(&runtime)?;
    fs::remove_dir(&adoption.tree).map_err(file_error(path, FileAction::Read))?;
    let how = match link {
        true => {
            let root = fs::canonicalize(&root).map_err(file_error(path, FileAction::Read))?;
            system::symlink(&root, &adoption.tree).map_err(file_error(path, FileAction::Read))?;
            How::Linked
        }
        false => {
            copy_tree(&root, &adoption.tree).map_err(file_error(path, FileAction::Read))?;
            How::Copied
        }
    };
    adoption.finish(
        &runtime,
        Adoptee {
            name,
            from: &root,
            how,
        },
        listener,
    )
}

fn adopt_archive(
    environment: &Environment,
    path: &Path,
    name: Name,
    listener: &dyn Listener,
) -> Done {
    // The runtime is only known once the archive is unpacked.
    let known = candidates(environment, &name)?;
    let first = known.first().cloned();
    let first = first.ok_or_else(|| nothing_in(path, &[]))?;
    let unpacked = Adoption::begin(&Runtime::open(environment, first)?)?;
    let mut file = File::open(path).map_err(file_error(path, FileAction::Read))?;
    unpack_file(
        &mut file,
        &ArchiveLayout::below(0),
        &unpacked.tree,
        Bounds::default(),
    )
    .map_err(|error| Error::Unpack {
        archive: path.display().to_string(),
        error,
    })?;
    let digest = digest_of_file(DigestAlgorithm::Sha256, path)
        .map_err(file_error(path, FileAction::Read))?;
    let size = file
        .metadata()
        .map_err(file_error(path, FileAction::Read))?
        .len();
    let (definition, root) = pick(known, &unpacked.tree, path)?;
    let runtime = Runtime::open(environment, definition)?;
    let adoption = Adoption {
        tree: root,
        ..unpacked
    };
    let how = How::Unpacked {
        digest: digest.to_string(),
        size,
    };
    adoption.finish(
        &runtime,
        Adoptee {
            name,
            from: path,
            how,
        },
        listener,
    )
}

/// How something came onto the shelf.
enum How {
    Linked,
    Copied,
    Unpacked { digest: String, size: u64 },
}

/// A copy to adopt: its name, its origin and the way in which it is adopted.
struct Adoptee<'a> {
    name: Name,
    from: &'a Path,
    how: How,
}

impl Adoptee<'_> {
    /// The contents of its record.
    fn contents(
        &self,
        runtime: &Runtime<'_>,
        version: Version,
        publisher: String,
        manifest: &Manifest,
    ) -> Result<RecordContents, Error> {
        let environment = runtime.environment();
        let (digest, archive_size) = match &self.how {
            How::Unpacked { digest, size } => (Some(digest.clone()), Some(*size)),
            How::Linked | How::Copied => (None, None),
        };
        Ok(RecordContents {
            runtime: runtime.name().to_owned(),
            version,
            publisher,
            source: PUBLISHER.to_owned(),
            address: self.from.display().to_string(),
            platform: environment.platform().to_string(),
            spelled: None,
            repack: false,
            digest,
            archive_size,
            unpacked_size: manifest.bytes(),
            shared_size: 0,
            files: manifest.files(),
            installed: environment.now()?,
            command: environment.command_id()?,
            definition: Some(RecordedDefinition::of(&runtime.definition)),
            companions: Vec::new(),
            built: None,
            adopted: Some(match self.how {
                How::Linked => Adopted::Linked,
                How::Copied | How::Unpacked { .. } => Adopted::Copied,
            }),
            broken: None,
        })
    }
}

/// A stage with a tree that is being adopted.
struct Adoption {
    stage: Stage,
    tree: PathBuf,
}

impl Adoption {
    fn begin(runtime: &Runtime<'_>) -> Result<Adoption, Error> {
        recovery::recover(&runtime.environment().layout()?);
        let stage = runtime.shelf.stage(PUBLISHER)?;
        let tree = stage.path().join("tree");
        fs::create_dir(&tree).map_err(file_error(&tree, FileAction::Write))?;
        Ok(Adoption { stage, tree })
    }

    /// Asks the program its version, and publishes the tree on the shelf.
    fn finish(self, runtime: &Runtime<'_>, adoptee: Adoptee<'_>, listener: &dyn Listener) -> Done {
        let (version, publisher) = self.identify(runtime, &adoptee)?;
        let key = Key::new(&version, &publisher);
        let admitted = admission::admit_adopted(runtime, &version, &publisher)?;
        let title = &runtime.definition.title;
        let lock = runtime.shelf.lock(&key, &mut |holder| {
            listener.tell(Event::Waiting {
                title: &runtime.names().title_of(&key),
                holder,
            });
        })?;
        if runtime.shelf.install(&key)?.is_some() {
            return Err(Error::AlreadyAdopted {
                title: title.clone(),
                publisher,
                version,
            });
        }
        let linked = matches!(adoptee.how, How::Linked);
        let manifest = if linked {
            Manifest::default()
        } else {
            Manifest::of(&self.tree).map_err(file_error(&self.tree, FileAction::Read))?
        };
        let staged = Staged {
            tree: &self.tree,
            contents: adoptee.contents(runtime, version.clone(), publisher, &manifest)?,
            manifest: &manifest,
            log: None,
        };
        let durability = runtime.environment().settings()?.durability();
        (runtime.shelf).publish(&self.stage, &admitted, staged, durability)?;
        drop(self.stage);
        // What follows takes it itself.
        drop(lock);
        listener.tell(Event::Adopted {
            title: &format!("{title} {version}"),
            linked,
            from: adoptee.from,
        });
        let again = runtime.reopened()?;
        let request: Request = again.names().selector_of(&key).parse()?;
        let installed = Installed {
            request,
            definition: Arc::clone(&runtime.definition),
            key,
        };
        let environment = runtime.environment();
        conclude(environment, &[installed], Takeover::default(), listener)
    }

    /// The version and the publisher that the adoptee gets. The program has to start, even if both are given.
    fn identify(
        &self,
        runtime: &Runtime<'_>,
        adoptee: &Adoptee<'_>,
    ) -> Result<(Version, String), Error> {
        let version = match &adoptee.name.version {
            Some(version) => {
                self.ask(runtime, adoptee.from)?;
                version.clone()
            }
            None => self.version(runtime, adoptee.from)?,
        };
        let publisher = adoptee.name.publisher.clone();
        let publisher = publisher.unwrap_or_else(|| PUBLISHER.to_owned());
        if is_publisher(&publisher) {
            Ok((version, publisher))
        } else {
            Err(Error::AdoptPublisher { publisher })
        }
    }

    /// The surroundings of the program. Its version, which decides them, is not known yet: the newest release's count.
    fn surroundings(&self, runtime: &Runtime<'_>) -> Result<Surroundings, Error> {
        let definition = &runtime.definition;
        let Some(newest) = definition.runs_on.first() else {
            return Ok(Surroundings::default());
        };
        let base = base::need(runtime.environment(), || definition.title.clone(), newest)?;
        Ok(base.surroundings)
    }

    /// What the program answers when it is asked for its version.
    fn ask(&self, runtime: &Runtime<'_>, from: &Path) -> Result<Answer, Error> {
        let program = program_in(&self.tree, &runtime.definition);
        let surroundings = self.surroundings(runtime)?;
        let arguments = &runtime.definition.probe.arguments;
        let answer = probe::ask(&program, arguments, &surroundings);
        answer.map_err(|error| Error::DoesNotStart {
            title: from.display().to_string(),
            failure: Box::new(first_start::explain(error)),
            selector: None,
        })
    }

    fn version(&self, runtime: &Runtime<'_>, from: &Path) -> Result<Version, Error> {
        let answer = self.ask(runtime, from)?;
        let version = answer.version(&runtime.definition);
        let version = version.and_then(|version| version.parse().ok());
        version.ok_or_else(|| Error::NoVersionIn {
            path: from.to_owned(),
            answer: answer.first_line().to_owned(),
            title: runtime.definition.title.clone(),
        })
    }
}

/// The runtimes that may be meant: the one that is named, or else all that are known.
fn candidates(environment: &Environment, name: &Name) -> Result<Vec<Arc<Definition>>, Error> {
    if let Some(name) = &name.runtime {
        return Ok(vec![environment.definition(name)?]);
    }
    let (defined, _) = opening::defined(environment)?;
    Ok((defined.into_iter())
        .map(|runtime| runtime.definition)
        .collect())
}

/// The one runtime whose program is in `folder`, and where; `path` is what the person named.
fn pick(
    known: Vec<Arc<Definition>>,
    folder: &Path,
    path: &Path,
) -> Result<(Arc<Definition>, PathBuf), Error> {
    let mut found = Vec::new();
    for definition in &known {
        let root = find_root(folder, definition).map_err(file_error(path, FileAction::Read))?;
        found.extend(root.map(|root| (Arc::clone(definition), root)));
    }
    match <[(Arc<Definition>, PathBuf); 1]>::try_from(found) {
        Ok([only]) => Ok(only),
        Err(none) if none.is_empty() => Err(nothing_in(path, &known)),
        Err(several) => Err(Error::SeveralIn {
            path: path.to_owned(),
            names: several
                .into_iter()
                .map(|(found, _)| found.name.clone())
                .collect(),
        }),
    }
}

fn nothing_in(path: &Path, known: &[Arc<Definition>]) -> Error {
    let program = |definition: &Arc<Definition>| {
        let folder = definition.folders.first().map_or("", |folder| folder);
        let program = Path::new(folder).join(&definition.program);
        let program = program.strip_prefix(".").unwrap_or(&program);
        program.display().to_string()
    };
    Error::NoRuntimeIn {
        path: path.to_owned(),
        programs: known.iter().map(program).collect(),
    }
}
