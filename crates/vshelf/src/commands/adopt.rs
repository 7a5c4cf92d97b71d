//! `vshelf adopt`: put on the shelf what is on this machine already.

use std::fs::{self, File};
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use clap::Args;
use vshelf_core::catalog::DigestAlgorithm;
use vshelf_core::selector::Selector;
use vshelf_core::{Definition, Request, Version};
use vshelf_shelf::adoption::{copy_tree, find_root};
use vshelf_shelf::journal::Deed;
use vshelf_shelf::probe;
use vshelf_shelf::receipt::{Adopted, ReceiptContents};
use vshelf_shelf::shelf::program_in;
use vshelf_shelf::unpack::{Bounds, unpack_file};
use vshelf_shelf::{Install, Manifest};
use vshelf_sources::digest::digest_of_file;
use vshelf_view::Palette;

use crate::activity::Activity;
use crate::commands::{CommandArgs, install};
use crate::context::Context;
use crate::definitions;
use crate::failure::{Failure, Kind, Outcome, file_failure, shown};
use crate::first_start;
use crate::keeping::record::{Done, record};
use crate::runtime::Runtime;
use crate::ui::{Ui, styled};

/// The publisher of what is adopted, unless another is named.
const PUBLISHER: &str = "adopted";

/// Put a folder or archive from elsewhere on the shelf
///
/// A folder is copied, or linked with --link; an archive is unpacked. The program is asked which
/// version it is. From then on it is an install like any other, from the publisher "adopted".
#[derive(Debug, Args)]
pub struct Adopt {
    /// A folder, an archive, or system for the copy that is on PATH already
    #[arg(value_name = "PATH")]
    path: PathBuf,
    /// What to call it, as in 8.3.1 or gull-point/8.3.1; also says the runtime, as in marram@8.3.1
    #[arg(long, value_name = "VERSION")]
    r#as: Option<String>,
    /// Leave the folder where it is, and only put a link on the shelf
    #[arg(long)]
    link: bool,
}

/// What `--as` says.
#[derive(Default)]
struct Name {
    runtime: Option<String>,
    publisher: Option<String>,
    version: Option<Version>,
}

impl CommandArgs for Adopt {
    const NAME: &'static str = "adopt";
    const GROUP: &'static str = "Keep";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let name = self.name()?;
        if let Some(request) = self.system_request() {
            let named = name.runtime.clone().or(request.runtime);
            let runtime = context.runtime(named.as_deref())?;
            return self.adopt_system(ui, &runtime, name);
        }
        let path = std::path::absolute(&self.path)
            .map_err(|error| file_failure(&self.path, "found", error))?;
        let found = fs::metadata(&path).map_err(|error| file_failure(&path, "read", error))?;
        match found.is_dir() {
            true => self.adopt_folder(ui, context, &path, name),
            false if self.link => Err(Failure::new(
                Kind::Usage,
                format!("{} is no folder, and --link needs one", shown(&path)),
            )
            .say("Without --link an archive is unpacked.")),
            false => self.adopt_archive(ui, context, &path, name),
        }
    }
}

impl Adopt {
    fn name(&self) -> Result<Name, Failure> {
        let Some(text) = &self.r#as else {
            return Ok(Name::default());
        };
        let request: Request = text.parse()?;
        let Selector::Version(version) = request.selector else {
            let message = format!("--as is {text:?}, which is no version");
            return Err(Failure::new(Kind::Usage, message).say("A version is written as in 8.3.1."));
        };
        Ok(Name {
            runtime: request.runtime,
            publisher: request.publisher,
            version: Some(version),
        })
    }

    /// The request for the system's copy, where that is what is meant.
    fn system_request(&self) -> Option<Request> {
        let request: Request = self.path.to_str()?.parse().ok()?;
        (request.selector == Selector::System).then_some(request)
    }

    /// The system's copy is a program among others in a folder: a link to it alone is adopted.
    fn adopt_system(&self, ui: &Ui, runtime: &Runtime<'_>, name: Name) -> Outcome {
        let activity = Activity::of(runtime);
        let program = activity.need_system_copy(runtime)?.to_owned();
        let adoption = Adoption::begin(runtime)?;
        let folder = runtime.definition.folders.first().map_or("", |f| f);
        let place = adoption.tree.join(folder);
        let link = place.join(&runtime.definition.program);
        fs::create_dir_all(&place)
            .and_then(|()| symlink(&program, &link))
            .map_err(|error| file_failure(&link, "written", error))?;
        let kind = Adopted::Linked;
        adoption.finish(ui, runtime, name, &program, kind, None)
    }

    fn adopt_folder(&self, ui: &Ui, context: &Context, path: &Path, name: Name) -> Outcome {
        let failed = |error| file_failure(path, "read", error);
        let (definition, root) = find_runtime(context, path, &name)?;
        let runtime = Runtime::open(context, definition)?;
        let adoption = Adoption::begin(&runtime)?;
        fs::remove_dir(&adoption.tree).map_err(failed)?;
        let kind = match self.link {
            true => {
                let root = fs::canonicalize(&root).map_err(failed)?;
                symlink(root, &adoption.tree).map_err(failed)?;
                Adopted::Linked
            }
            false => {
                copy_tree(&root, &adoption.tree).map_err(failed)?;
                Adopted::Copied
            }
        };
        adoption.finish(ui, &runtime, name, &root, kind, None)
    }

    fn adopt_archive(&self, ui: &Ui, context: &Context, path: &Path, name: Name) -> Outcome {
        let failed = |error| file_failure(path, "read", error);
        // The runtime is only known once the archive is unpacked.
        let known = candidates(context, &name)?;
        let first = known
            .first()
            .cloned()
            .ok_or_else(|| nothing_in(path, &[]))?;
        let runtime = Runtime::open(context, first)?;
        let unpacked = Adoption::begin(&runtime)?;
        let mut file = File::open(path).map_err(failed)?;
        unpack_file(&mut file, 0, &unpacked.tree, Bounds::default())
            .map_err(|error| Failure::unpacking(&shown(path), &error))?;
        let digest = digest_of_file(DigestAlgorithm::Sha256, path).map_err(failed)?;
        let size = file.metadata().map_err(failed)?.len();
        let (definition, root) = pick(known, &unpacked.tree, path)?;
        let runtime = Runtime::open(context, definition)?;
        let adoption = Adoption {
            tree: root,
            ..unpacked
        };
        let archive = Some((digest.to_string(), size));
        adoption.finish(ui, &runtime, name, path, Adopted::Copied, archive)
    }
}

/// Something that is being adopted.
struct Adoption {
    stage: vshelf_shelf::staging::Stage,
    tree: PathBuf,
}

impl Adoption {
    fn begin(runtime: &Runtime<'_>) -> Result<Adoption, Failure> {
        let stage = runtime.shelf.stage(PUBLISHER)?;
        let tree = stage.path().join("tree");
        fs::create_dir(&tree).map_err(|error| file_failure(&tree, "written", error))?;
        Ok(Adoption { stage, tree })
    }

    /// Asks the program its version, and puts the tree on the shelf.
    fn finish(
        self,
        ui: &Ui,
        runtime: &Runtime<'_>,
        name: Name,
        from: &Path,
        adopted: Adopted,
        archive: Option<(String, u64)>,
    ) -> Outcome {
        let definition = &runtime.definition;
        let program = program_in(&self.tree, definition);
        let answer = probe::ask(&program, &definition.probe.arguments);
        let answer = answer.map_err(|error| first_start::explain(&shown(from), &error))?;
        let said = definition.version_in(&answer.output);
        let version = match (name.version, said.map(str::parse::<Version>)) {
            (Some(version), _) | (None, Some(Ok(version))) => version,
            (None, _) => {
                let line = answer.output.lines().next().unwrap_or_default();
                let message = format!(
                    "{} answers {line:?}, which says no version of {}",
                    shown(from),
                    definition.title
                );
                return Err(Failure::new(Kind::Verification, message)
                    .say("To name the version yourself, add --as VERSION."));
            }
        };
        let publisher = name.publisher.unwrap_or_else(|| PUBLISHER.to_owned());
        let key = match publisher.as_str() {
            // Without a catalog it is not known who the main publisher is; this one never is.
            PUBLISHER => format!("{PUBLISHER}-{version}"),
            _ => runtime.key_for(version.as_str(), &publisher),
        };
        let _lock = runtime.shelf.lock(&key, &mut |_| {})?;
        if runtime.shelf.install(&key)?.is_some() {
            let message = format!(
                "{} {publisher}/{version} is on the shelf already",
                definition.title
            );
            return Err(Failure::new(Kind::Refused, message)
                .say("To adopt this one beside it, add --as with another version or publisher."));
        }
        let failed = |error| file_failure(&self.tree, "read", error);
        let manifest = match adopted {
            Adopted::Copied => Manifest::of(&self.tree).map_err(failed)?,
            Adopted::Linked => Manifest::default(),
        };
        let (digest, archive_size) = archive.unzip();
        let contents = ReceiptContents {
            runtime: runtime.name().to_owned(),
            version: version.clone(),
            publisher: publisher.clone(),
            source: PUBLISHER.to_owned(),
            address: from.display().to_string(),
            platform: runtime.context().platform.to_string(),
            digest,
            archive_size,
            unpacked_size: manifest.bytes(),
            files: manifest.files(),
            installed: runtime.context().now()?,
            companions: Vec::new(),
            adopted: Some(adopted),
            broken: None,
        };
        let durability = runtime.context().settings()?.durability();
        let install: Install =
            (runtime.shelf).shelve(&key, &self.tree, contents, &manifest, durability)?;
        drop(self.stage);
        record(runtime.context(), Done::plain(Deed::Adopted), &install, &[])?;
        let title = styled(Palette::GOOD, format!("{} {version}", definition.title));
        let how = match adopted {
            Adopted::Copied => "copied from",
            Adopted::Linked => "as a link to",
        };
        ui.result(format!("{title} is on the shelf, {how} {}", shown(from)))?;
        let again = Runtime::open(runtime.context(), definition.clone())?;
        let request: Request = again.spelled(&install.shelved).parse()?;
        install::conclude(ui, &again, &request, &key, install::Takeover::default())
    }
}

/// The runtimes that may be meant: the one that is named, or else all that are known.
fn candidates(context: &Context, name: &Name) -> Result<Vec<Definition>, Failure> {
    let names = match &name.runtime {
        Some(name) => vec![name.clone()],
        None => definitions::names(&context.folders()?.config)?,
    };
    names.iter().map(|name| context.definition(name)).collect()
}

fn find_runtime(
    context: &Context,
    path: &Path,
    name: &Name,
) -> Result<(Definition, PathBuf), Failure> {
    pick(candidates(context, name)?, path, path)
}

/// The one runtime whose program is in `folder`, and where; `path` is what the person named.
fn pick(
    known: Vec<Definition>,
    folder: &Path,
    path: &Path,
) -> Result<(Definition, PathBuf), Failure> {
    let mut found = Vec::new();
    for definition in &known {
        let root = find_root(folder, definition).map_err(|e| file_failure(path, "read", e))?;
        found.extend(root.map(|root| (definition.clone(), root)));
    }
    match found.len() {
        0 => Err(nothing_in(path, &known)),
        1 => Ok(found.remove(0)),
        _ => {
            let names: Vec<&str> = found.iter().map(|(found, _)| &*found.name).collect();
            let message = format!(
                "{} holds several runtimes: {}",
                shown(path),
                names.join(", ")
            );
            Err(Failure::new(Kind::Usage, message).say(format!(
                "Say which is meant, as in --as {}@VERSION",
                names[0]
            )))
        }
    }
}

fn nothing_in(path: &Path, known: &[Definition]) -> Failure {
    let programs: Vec<String> = known
        .iter()
        .map(|definition| {
            let folder = definition.folders.first().map_or("", |folder| folder);
            let program = Path::new(folder).join(&definition.program);
            program
                .strip_prefix(".")
                .unwrap_or(&program)
                .display()
                .to_string()
        })
        .collect();
    let message = format!("{} holds no runtime that is known here", shown(path));
    Failure::new(Kind::NoMatch, message).say(format!(
        "Looked for {}, at the top and three folders down.",
        programs.join(", ")
    ))
}
