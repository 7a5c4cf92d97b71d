//! Why a program does not start: what the system's loader says, understood.

use crate::distribution::Distribution;

/// What a program needs and this system does not have.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum MissingDependency {
    /// A shared library, by its file name.
    Library(String),
    /// A newer C library, by the version that is asked for, as in `GLIBC_2.38`.
    LibraryVersion {
        /// The library's file name.
        library: String,
        /// The version of its symbols that is asked for.
        version: String,
    },
    /// The loader or interpreter that the program names, by its path.
    Interpreter(String),
}

/// What the loader's complaint says is missing, where it is one of those that are known.
///
/// The forms are those of the dynamic loaders of the GNU C library, musl and macOS.
pub fn read_complaint(complaint: &str) -> Option<MissingDependency> {
    complaint.lines().find_map(|line| {
        missing_version(line)
            .or_else(|| missing_library(line))
            .or_else(|| missing_on_mac(line))
    })
}

/// `…: /lib/libc.so.6: version 'GLIBC_2.38' not found (required by …)`
fn missing_version(line: &str) -> Option<MissingDependency> {
    let (before, behind) = line.split_once(": version ")?;
    let (quoted, _) = behind.split_once(" not found")?;
    let library = before.rsplit([' ', '/']).next()?;
    Some(MissingDependency::LibraryVersion {
        library: library.to_owned(),
        version: quoted.trim_matches(['`', '\'', '"']).to_owned(),
    })
}

/// `… libx.so.1: cannot open shared object file …`, from a program or from what it loads later, or
/// `Error loading shared library libx.so.1: No such file or directory (needed by …)`
fn missing_library(line: &str) -> Option<MissingDependency> {
    let before = line.split_once(": cannot open shared object file");
    let library = match before {
        Some((before, _)) => before.rsplit([' ', '/']).next()?,
        None => {
            let (_, behind) = line.split_once("Error loading shared library ")?;
            behind.split_once(':')?.0
        }
    };
    Some(MissingDependency::Library(library.to_owned()))
}

/// `dyld[…]: Library not loaded: @rpath/libx.dylib`
fn missing_on_mac(line: &str) -> Option<MissingDependency> {
    let (_, path) = line.split_once("Library not loaded: ")?;
    let library = path.rsplit('/').next()?;
    Some(MissingDependency::Library(library.to_owned()))
}

/// The families of systems whose package names are known.
const FAMILIES: [&str; 4] = ["debian", "fedora", "alpine", "arch"];

/// The packages that bring a library, in the order of [`FAMILIES`]; empty where the family has it
/// in another form.
const PACKAGES: [(&str, [&str; 4]); 14] = [
    (
        "libatomic.so.1",
        ["libatomic1", "libatomic", "libatomic", "libatomic"],
    ),
    ("libbz2.so.1.0", ["libbz2-1.0", "", "libbz2", "bzip2"]),
    (
        "libcrypto.so.1.1",
        ["libssl1.1", "openssl1.1", "libcrypto1.1", "openssl-1.1"],
    ),
    (
        "libcrypto.so.3",
        ["libssl3", "openssl-libs", "libcrypto3", "openssl"],
    ),
    ("libffi.so.8", ["libffi8", "libffi", "libffi", "libffi"]),
    (
        "libgcc_s.so.1",
        ["libgcc-s1", "libgcc", "libgcc", "gcc-libs"],
    ),
    (
        "libgomp.so.1",
        ["libgomp1", "libgomp", "libgomp", "gcc-libs"],
    ),
    ("liblzma.so.5", ["liblzma5", "xz-libs", "xz-libs", "xz"]),
    (
        "libreadline.so.8",
        ["libreadline8", "readline", "readline", "readline"],
    ),
    (
        "libssl.so.1.1",
        ["libssl1.1", "openssl1.1", "libssl1.1", "openssl-1.1"],
    ),
    (
        "libssl.so.3",
        ["libssl3", "openssl-libs", "libssl3", "openssl"],
    ),
    (
        "libstdc++.so.6",
        ["libstdc++6", "libstdc++", "libstdc++", "gcc-libs"],
    ),
    (
        "libyaml-0.so.2",
        ["libyaml-0-2", "libyaml", "yaml", "libyaml"],
    ),
    ("libz.so.1", ["zlib1g", "zlib", "zlib", "zlib"]),
];

/// The command that installs the package that usually brings `library` on the system that
/// `os_release` (the text of `/etc/os-release`) describes, where both are known; for root or for a person.
pub fn package_command(library: &str, os_release: &str, as_root: bool) -> Option<String> {
    let system = Distribution::of(os_release)?;
    let family = FAMILIES.iter().position(|family| *family == system.name)?;
    let (_, packages) = PACKAGES.iter().find(|(known, _)| *known == library)?;
    let package = packages[family];
    (!package.is_empty()).then(|| system.install_command(&[package], as_root))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn library(name: &str) -> Option<MissingDependency> {
        Some(MissingDependency::Library(name.to_owned()))
    }

    #[rstest]
    #[case(
        "marram: error while loading shared libraries: libatomic.so.1: cannot open shared object file: No such file or directory",
        library("libatomic.so.1")
    )]
    #[case(
        "ImportError: libtide.so.3: cannot open shared object file: No such file or directory",
        library("libtide.so.3")
    )]
    #[case(
        "Error loading shared library libstdc++.so.6: No such file or directory (needed by /m/bin/marram)",
        library("libstdc++.so.6")
    )]
    #[case(
        "dyld[41]: Library not loaded: @rpath/libtide.3.dylib\n  Referenced from: /m/bin/marram",
        library("libtide.3.dylib")
    )]
    #[case(
        "/m/bin/marram: /lib/x86_64-linux-gnu/libc.so.6: version `GLIBC_2.38' not found (required by /m/bin/marram)",
        Some(MissingDependency::LibraryVersion { library: "libc.so.6".to_owned(), version: "GLIBC_2.38".to_owned() })
    )]
    #[case("marram: no bell at Gull Point", None)]
    #[case("", None)]
    fn complaints_are_understood(
        #[case] complaint: &str,
        #[case] expected: Option<MissingDependency>,
    ) {
        assert_eq!(read_complaint(complaint), expected);
    }

    #[rstest]
    #[case(
        "libatomic.so.1",
        "ID=debian\n",
        Some("sudo apt-get install libatomic1")
    )]
    #[case(
        "libatomic.so.1",
        "NAME=x\nID=mint\nID_LIKE=\"ubuntu debian\"\n",
        Some("sudo apt-get install libatomic1")
    )]
    #[case(
        "libssl.so.3",
        "ID=\"rocky\"\nID_LIKE=\"rhel centos fedora\"\n",
        Some("sudo dnf install openssl-libs")
    )]
    #[case("libz.so.1", "ID=alpine", Some("sudo apk add zlib"))]
    #[case("libbz2.so.1.0", "ID=fedora", None)]
    #[case("libtide.so.3", "ID=debian", None)]
    #[case("libz.so.1", "ID=gull-os", None)]
    #[case("libz.so.1", "", None)]
    fn packages_are_named_where_they_are_known(
        #[case] library: &str,
        #[case] os_release: &str,
        #[case] expected: Option<&str>,
    ) {
        assert_eq!(
            package_command(library, os_release, false).as_deref(),
            expected
        );
    }
}
