//! What keeps an install, and what speaks against it, as parts of sentences.

use jiff::civil::Date;
use vshelf_core::tidy::{Protection, Reason};
use vshelf_view::words::{printable, span};

use super::paths::project_name;

/// A reason; `on` is the day that ages are told from.
pub fn reason(reason: &Reason, on: Date) -> String {
    match reason {
        Reason::Superseded { by } => format!("superseded by {by}"),
        Reason::Ended { end } => {
            let ago = span(*end, on);
            format!("support ended on {end}, {ago} ago")
        }
        Reason::Withdrawn { why } => format!("withdrawn: {}", printable(why)),
        Reason::FinalOut { version } => format!("{version} is final"),
        Reason::Idle { days } => format!("not used for {days} days"),
        Reason::Asked => "named by you".to_owned(),
    }
}

/// A protection.
pub fn protection(protection: &Protection) -> String {
    match protection {
        Protection::Default => "default".to_owned(),
        Protection::ThisShell => "this shell".to_owned(),
        Protection::Shell { id } => format!("shell {id}"),
        Protection::Process { id, program } => format!("{} runs ({id})", printable(program)),
        Protection::Requirement { file } => format!("required by {}", project_name(file)),
        Protection::Label { label } => format!("label {label}"),
        Protection::Kept => "kept by you".to_owned(),
        Protection::LeftOut => "left out".to_owned(),
    }
}
