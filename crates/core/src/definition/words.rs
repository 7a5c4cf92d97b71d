//! What the words of a definition may be: file names, paths and variables that stay where they belong.

use std::path::{Component, Path};

/// Whether `text` is the name of a file, without a folder.
pub(crate) fn is_plain_file_name(text: &str) -> bool {
    let mut parts = Path::new(text).components();
    matches!(
        (parts.next(), parts.next()),
        (Some(Component::Normal(_)), None)
    ) && !text.contains(|c: char| c.is_control() || c == '/')
}

/// Whether a path ends like the file of a build tool's wrapper, which is in a folder `wrapper` in a folder of the tool.
pub(crate) fn is_wrapper_file(file: &Path) -> bool {
    let name = file.file_name().unwrap_or_default().to_string_lossy();
    let folder = file.parent().and_then(Path::file_name);
    name.ends_with("-wrapper.properties") && folder.is_some_and(|folder| folder == "wrapper")
}

/// Whether a relative path stays below the folder that it is relative to.
pub(crate) fn is_inside(folder: &str) -> bool {
    !folder.contains(|c: char| c.is_control() || c == ':')
        && Path::new(folder)
            .components()
            .all(|part| matches!(part, Component::Normal(_) | Component::CurDir))
}

/// Whether a path relative to a document stays below its folder; it may hold `{version}`.
pub(super) fn is_file_inside(path: &str) -> bool {
    is_inside(path) && !path.is_empty()
}

/// Whether `text` is a variable's name in capital letters.
pub(super) fn is_variable(text: &str) -> bool {
    text.starts_with(|c: char| c.is_ascii_uppercase())
        && text
            .chars()
            .all(|c| c.is_ascii_uppercase() || c.is_ascii_digit() || c == '_')
}

/// Whether a variable is read by every program or shell, so that setting it would change more than one
/// runtime: POSIX.1-2024 (Base Definitions, §8), ld.so(8), the manuals of the shells.
pub(super) fn is_of_system(variable: &str) -> bool {
    const NAMES: [&str; 35] = [
        "PATH",
        "HOME",
        "IFS",
        "ENV",
        "SHELL",
        "USER",
        "LOGNAME",
        "PWD",
        "OLDPWD",
        "CDPATH",
        "TERM",
        "TMPDIR",
        "LANG",
        "LANGUAGE",
        "NLSPATH",
        "MANPATH",
        "INFOPATH",
        "TZ",
        "EDITOR",
        "VISUAL",
        "PAGER",
        "FPATH",
        "ZDOTDIR",
        "SHELLOPTS",
        "BASHOPTS",
        "HOSTNAME",
        "DISPLAY",
        "MAIL",
        "OPTIND",
        "UID",
        "EUID",
        "PPID",
        "RANDOM",
        "SECONDS",
        "COLUMNS",
    ];
    const FAMILIES: [&str; 13] = [
        "LD_", "DYLD_", "LC_", "BASH_", "ZSH_", "FISH_", "KSH_", "PS", "PROMPT", "XDG_", "VSHELF_",
        "MALLOC_", "GLIBC_",
    ];
    NAMES.contains(&variable) || FAMILIES.iter().any(|family| variable.starts_with(family))
}
