//! Where data, cache and settings are kept.

use std::ffi::OsString;
use std::path::{Path, PathBuf};

use vshelf_files::system;

/// The program's folders of one user.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Folders {
    /// Installs, records, hooks: what must not be lost.
    pub data: PathBuf,
    /// Catalogs and archives: what can be fetched again.
    pub cache: PathBuf,
    /// Settings and the person's own definitions.
    pub config: PathBuf,
    /// Settings of the company, below the person's own.
    pub company: PathBuf,
}

/// Neither the folder itself nor a home folder is known.
#[derive(Debug, PartialEq, Eq, thiserror::Error)]
#[error("neither {variable} nor HOME is set to an absolute path")]
pub struct NoFolder {
    /// The variable that would set the folder itself.
    pub variable: &'static str,
}

const NAME: &str = "vivid-shelf";

impl Folders {
    /// All three below one folder.
    pub fn below(home: &Path) -> Folders {
        Folders {
            data: home.join("data"),
            cache: home.join("cache"),
            config: home.join("config"),
            company: home.join("company"),
        }
    }

    /// The folders that `variable` (the environment) says: `VSHELF_DATA`, `VSHELF_CACHE` and
    /// `VSHELF_CONFIG` first, then the platform's own places (XDG Base Directory Specification on
    /// Linux, `~/Library` on macOS). Those of the company are in `/etc/vivid-shelf` if that belongs to the
    /// administrator, or else in `VSHELF_COMPANY` if that is set.
    pub fn find(variable: impl Fn(&str) -> Option<OsString>) -> Result<Folders, NoFolder> {
        let absolute = |name: &str| {
            let path = variable(name).map(PathBuf::from);
            path.filter(|path| path.is_absolute())
        };
        let place = |own: &'static str, xdg: &str, below_home: &str, on_mac: &str| {
            if let Some(folder) = absolute(own) {
                return Ok(folder);
            }
            let mac = cfg!(target_os = "macos");
            if !mac && let Some(base) = absolute(xdg) {
                return Ok(base.join(NAME));
            }
            absolute("HOME")
                .map(|home| home.join(if mac { on_mac } else { below_home }).join(NAME))
                .ok_or(NoFolder { variable: own })
        };
        Ok(Folders {
            data: place(
                "VSHELF_DATA",
                "XDG_DATA_HOME",
                ".local/share",
                "Library/Application Support",
            )?,
            cache: place("VSHELF_CACHE", "XDG_CACHE_HOME", ".cache", "Library/Caches")?,
            config: place(
                "VSHELF_CONFIG",
                "XDG_CONFIG_HOME",
                ".config",
                "Library/Preferences",
            )?,
            company: company_folder(Path::new("/etc").join(NAME), absolute("VSHELF_COMPANY")),
        })
    }
}

/// The folder of the company's settings. A variable can move it only if the administrator has made no folder in
/// its usual place: otherwise anybody could switch the company's rules off.
fn company_folder(usual: PathBuf, variable: Option<PathBuf>) -> PathBuf {
    match variable {
        Some(folder) if !system::is_administrators_folder(&usual) => folder,
        _ => usual,
    }
}

#[cfg(all(test, target_os = "linux"))]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(&[("HOME", "/home/gull")], "/home/gull/.local/share/vivid-shelf")]
    #[case(&[("HOME", "/home/gull"), ("XDG_DATA_HOME", "/data")], "/data/vivid-shelf")]
    #[case(&[("HOME", "/home/gull"), ("XDG_DATA_HOME", "relative")], "/home/gull/.local/share/vivid-shelf")]
    #[case(&[("HOME", "/home/gull"), ("VSHELF_DATA", "/shelf")], "/shelf")]
    fn the_nearest_setting_holds(#[case] variables: &[(&str, &str)], #[case] data: &str) {
        let find = |name: &str| {
            variables
                .iter()
                .find(|(known, _)| *known == name)
                .map(|(_, value)| value.into())
        };
        assert_eq!(Folders::find(find).unwrap().data, PathBuf::from(data));
    }

    /// `/etc` belongs to the administrator on every machine, and the folder here to whoever runs this.
    #[test]
    fn a_variable_does_not_move_the_folder_of_the_administrator() {
        let elsewhere = || Some(PathBuf::from("/tmp/company"));
        let folder = |usual: &str, variable| company_folder(usual.into(), variable);
        assert_eq!(folder("/etc", elsewhere()), PathBuf::from("/etc"));
        assert_eq!(folder("/etc", None), PathBuf::from("/etc"));
        let missing = "/etc/no-such-company";
        assert_eq!(folder(missing, elsewhere()), elsewhere().unwrap());
        assert_eq!(folder(missing, None), PathBuf::from(missing));
    }

    #[test]
    fn without_a_home_the_error_names_the_variable() {
        let error = Folders::find(|_| None).unwrap_err();
        assert_eq!(error.variable, "VSHELF_DATA");
    }
}
