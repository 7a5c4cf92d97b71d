//! The packages in an install, read from its folders: without starting anything.

use std::collections::HashSet;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use vshelf_core::packages::{FoundName, Package, PackageTool};
use vshelf_core::template::Template;
use vshelf_files::optional;

/// The largest manifest of a package that is read, in bytes.
const LARGEST_MANIFEST: u64 = 4 << 20;

/// The packages in the install at `folder`, as the templates of the tool find them, without those that
/// came with its build.
pub fn list(tool: &PackageTool, folder: &Path) -> io::Result<Vec<Package>> {
    let mut packages = Found::default();
    for template in &tool.found {
        let steps: Result<Vec<Template>, _> =
            template.as_str().split('/').map(str::parse).collect();
        let steps = steps.map_err(|error| io::Error::new(io::ErrorKind::InvalidInput, error))?;
        let at = Place {
            path: folder,
            told: FoundName::default(),
            elsewhere: None,
        };
        walk(&steps, at, &mut packages)?;
    }
    let mut packages = packages.packages;
    tool.order(&mut packages);
    packages.dedup();
    Ok(packages)
}

/// What was found.
#[derive(Default)]
struct Found {
    packages: Vec<Package>,
    /// The files and folders that show them: the first template that fits one reads it.
    shown_by: HashSet<PathBuf>,
}

/// A file or folder on the way to a package.
struct Place<'p> {
    path: &'p Path,
    told: FoundName,
    /// Where a link on the way leads.
    elsewhere: Option<String>,
}

/// Follows the steps from a place, and adds the packages that they end at.
fn walk(steps: &[Template], at: Place<'_>, packages: &mut Found) -> io::Result<()> {
    let Some((step, ahead)) = steps.split_first() else {
        if !packages.shown_by.insert(at.path.to_owned()) {
            return Ok(());
        }
        let manifest = manifest(at.path)?;
        packages
            .packages
            .push(at.told.package(manifest.as_deref(), at.elsewhere));
        return Ok(());
    };
    if step.places().next().is_none() {
        let path = at.path.join(step.as_str());
        return match path.exists() {
            true => walk(ahead, Place { path: &path, ..at }, packages),
            false => Ok(()),
        };
    }
    for entry in optional::entries(at.path)? {
        let name = entry.file_name();
        let Some(told) = name.to_str().and_then(|name| at.told.read(step, name)) else {
            continue;
        };
        let path = entry.path();
        let link = fs::read_link(&path).ok();
        let next = Place {
            path: &path,
            told,
            elsewhere: link.map(|link| link.to_string_lossy().into_owned()),
        };
        walk(ahead, next, packages)?;
    }
    Ok(())
}

/// The bytes of a file, as far as a manifest can have them; a folder has none.
fn manifest(path: &Path) -> io::Result<Option<Vec<u8>>> {
    let found = fs::metadata(path)?;
    match found.is_file() && found.len() <= LARGEST_MANIFEST {
        true => fs::read(path).map(Some),
        false => Ok(None),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::os::unix::fs::symlink;
    use vshelf_core::Definition;

    #[test]
    #[expect(clippy::too_many_lines, reason = "one table")]
    fn packages_are_found_where_the_templates_say() {
        let definition = Definition::read(
            r#"
            name = "marram"
            title = "Marram"
            program = "marram"
            probe = { arguments = ["--version"], answer = "marram {version}" }
            packages = { program = "tussock", list = ["list"], listed = "lines", install = ["add", "{package}"], bundled = ["tussock"], found = [
              "lib/packages/{name}/package.json",
              "lib/packages/@{scope}/{name}/package.json",
              "lib/marram{any}/{name}-{version}-{any}.dist-info",
              "lib/marram{any}/{name}-{version}.dist-info",
            ] }
            [[sources]]
            name = "saltmarsh"
            kind = "catalog"
            address = "catalog.json"
            "#,
        )
        .unwrap();
        let folder = tempfile::tempdir().unwrap();
        let write = |path: &str, text: &str| {
            let path = folder.path().join(path);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        };
        write(
            "lib/packages/tussock/package.json",
            r#"{ "version": "3.2.0" }"#,
        );
        write(
            "lib/packages/kelp/package.json",
            r#"{ "version": "1.0.0" }"#,
        );
        write(
            "lib/packages/@gull/buoy/package.json",
            r#"{ "version": "0.1.0" }"#,
        );
        write("lib/packages/.cache/package.json", "{}");
        write("lib/packages/empty/README", "");
        write("lib/marram8.3/tide-tables-2.1.0.dist-info/RECORD", "");
        write("lib/marram8.3/sand-1.4.0-linux-x64.dist-info/RECORD", "");
        write("elsewhere/package.json", r#"{ "version": "9.9.9" }"#);
        symlink("../../elsewhere", folder.path().join("lib/packages/own")).unwrap();
        let tool = definition.packages.unwrap();
        let spelled = |package: &Package| {
            let from = package
                .elsewhere
                .as_deref()
                .map(|from| format!(" from {from}"));
            package.spelled() + &from.unwrap_or_default()
        };
        let packages = list(&tool, folder.path()).unwrap();
        let found: Vec<String> = packages.iter().map(spelled).collect();
        assert_eq!(
            found,
            [
                "@gull/buoy@0.1.0",
                "kelp@1.0.0",
                "own@9.9.9 from ../../elsewhere",
                "sand@1.4.0",
                "tide-tables@2.1.0"
            ]
        );
        assert_eq!(list(&tool, Path::new("/no/such/folder")).unwrap(), []);
    }
}
