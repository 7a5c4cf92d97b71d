//! Why another copy answers than the one that should, and what changes that.

use vshelf_app::other_copy::OtherCopy;

use super::paths::{edit, shown};

/// Why it is so, as it follows "but"; `title` is the runtime's.
pub fn cause(other_copy: &OtherCopy, title: &str) -> String {
    match other_copy {
        OtherCopy::NotEntered => format!(
            "nothing of {title} is on PATH: this shell was opened before it was installed, or set PATH anew"
        ),
        OtherCopy::NotFollowed => "this shell has not followed the project yet".to_owned(),
        OtherCopy::OtherRuntime { name, program } => format!(
            "{} of {name}, which has a program of the same name, is first on PATH",
            shown(program)
        ),
        OtherCopy::InFront {
            program,
            start_up_file: Some(file),
        } => format!(
            "{} is first on PATH: {} puts it there, behind the Vivid Shelf block",
            shown(program),
            shown(file)
        ),
        OtherCopy::InFront {
            program,
            start_up_file: None,
        } => format!(
            "{} is first on PATH: something put it there since this shell was opened",
            shown(program)
        ),
    }
}

/// The command that changes it; `selector` means what should be active.
pub fn fix(other_copy: &OtherCopy, selector: &str) -> String {
    match other_copy {
        OtherCopy::InFront {
            start_up_file: Some(file),
            ..
        } => edit(file),
        // Of two runtimes with the same program one has to be chosen.
        OtherCopy::OtherRuntime { .. } => format!("vshelf switch {selector}"),
        _ => "vshelf switch --follow".to_owned(),
    }
}
