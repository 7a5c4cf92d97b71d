//! The platform that builds have to run on here.

use std::fs;
use std::path::Path;

use vshelf_core::Platform;
use vshelf_shelf::probe::interpreter_of;

/// This machine's platform.
pub fn this_platform() -> Platform {
    let os = match std::env::consts::OS {
        "macos" => "darwin",
        other => other,
    };
    let arch = match std::env::consts::ARCH {
        "x86_64" => "x64",
        "aarch64" => "arm64",
        other => other,
    };
    let libc = match os {
        "linux" => libc_below(Path::new("/")).map_or("", Libc::ending),
        _ => "",
    };
    format!("{os}-{arch}{libc}")
        .parse()
        .expect("the names of systems and processors are small letters and digits")
}

/// A C library of Linux.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Libc {
    Gnu,
    Musl,
}

impl Libc {
    /// What names it in a platform.
    fn ending(self) -> &'static str {
        match self {
            Libc::Gnu => "-gnu",
            Libc::Musl => "-musl",
        }
    }

    /// The library whose loader has this name.
    fn of_loader(name: &str) -> Option<Libc> {
        match name {
            name if name.starts_with("ld-linux") || name == "ld64.so.2" => Some(Libc::Gnu),
            name if name.starts_with("ld-musl") => Some(Libc::Musl),
            _ => None,
        }
    }
}

/// The C library of the system below `root`, whatever this program itself was built with: that of its shell, and
/// where the shell needs none, the one whose loader is there. Nothing where there is none.
fn libc_below(root: &Path) -> Option<Libc> {
    let name_of = |path: &Path| Some(path.file_name()?.to_str()?.to_owned());
    let shell = interpreter_of(&root.join("bin/sh")).ok().flatten();
    let of_shell = shell.and_then(|loader| Libc::of_loader(&name_of(&loader)?));
    of_shell.or_else(|| {
        let folders = ["lib64", "lib"].into_iter();
        let entries = folders.filter_map(|folder| fs::read_dir(root.join(folder)).ok());
        let mut names = entries.flatten().flatten().map(|entry| entry.path());
        names.find_map(|path| Libc::of_loader(&name_of(&path)?))
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// A program for 64 bits that the loader at `path` starts, which it names behind `offset` bytes, 120 or more
    /// (System V ABI, "ELF Header").
    fn started_by(path: &str, offset: usize) -> Vec<u8> {
        let mut bytes = Vec::new();
        bytes.extend(b"\x7fELF\x02\x01\x01");
        bytes.resize(16, 0);
        // Its type, the machine, the version, where it begins, and where its one program header is.
        bytes.extend([3, 0, 62, 0, 1, 0, 0, 0]);
        bytes.extend(0_u64.to_le_bytes());
        bytes.extend(64_u64.to_le_bytes());
        bytes.extend(0_u64.to_le_bytes());
        bytes.extend(0_u32.to_le_bytes());
        for number in [64_u16, 56, 1, 0, 0, 0] {
            bytes.extend(number.to_le_bytes());
        }
        // The interpreter's segment, readable.
        bytes.extend([3, 0, 0, 0, 4, 0, 0, 0]);
        let length = path.len() as u64 + 1;
        for number in [offset as u64, 0, 0, length, length, 1] {
            bytes.extend(number.to_le_bytes());
        }
        bytes.resize(offset, 0);
        bytes.extend(path.as_bytes());
        bytes.push(0);
        bytes
    }

    #[rstest]
    #[case("/lib64/ld-linux-x86-64.so.2", &[], Some(Libc::Gnu))]
    #[case("/lib/ld-linux-aarch64.so.1", &[], Some(Libc::Gnu))]
    #[case("/lib/ld-musl-x86_64.so.1", &["lib64/ld-linux-x86-64.so.2"], Some(Libc::Musl))]
    // A shell that is whole by itself says nothing.
    #[case("", &["lib/ld-musl-aarch64.so.1"], Some(Libc::Musl))]
    #[case("", &["lib64/ld-linux-x86-64.so.2", "lib/libc.so"], Some(Libc::Gnu))]
    #[case("", &["lib/libc.so"], None)]
    fn the_system_says_which_it_has(
        #[case] shell: &str,
        #[case] files: &[&str],
        #[case] expected: Option<Libc>,
    ) {
        let root = tempfile::tempdir().unwrap();
        for file in files.iter().chain(&["bin/sh"]) {
            let path = root.path().join(file);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(
                path,
                if *file == "bin/sh" {
                    started_by(shell, 120)
                } else {
                    Vec::new()
                },
            )
            .unwrap();
        }
        assert_eq!(libc_below(root.path()), expected);
    }

    #[test]
    fn a_shell_may_name_its_loader_far_behind_its_head() {
        let root = tempfile::tempdir().unwrap();
        fs::create_dir(root.path().join("bin")).unwrap();
        let shell = started_by("/lib/ld-musl-x86_64.so.1", 100_000);
        fs::write(root.path().join("bin/sh"), shell).unwrap();
        assert_eq!(libc_below(root.path()), Some(Libc::Musl));
    }

    #[test]
    fn a_system_without_a_shell_has_none() {
        let root = tempfile::tempdir().unwrap();
        assert_eq!(libc_below(root.path()), None);
    }
}
