//! What keeps an install, and what speaks against it, as parts of sentences.

use jiff::civil::Date;
use vshelf_core::tidy::{Protection, Reason, Witness};
use vshelf_view::words::{listed, printable, span};

use super::paths::project_name;

/// A reason; `on` is the day that ages are told from.
pub fn reason(reason: &Reason, on: Date) -> String {
    match reason {
        Reason::Superseded { by } => format!("superseded by {by}"),
        Reason::Ended { end: Some(end) } => {
            let ago = span(*end, on);
            format!("support ended on {end}, {ago} ago")
        }
        Reason::Ended { end: None } => "support has ended".to_owned(),
        Reason::Withdrawn { why } => format!("withdrawn: {}", printable(why)),
        Reason::FinalOut { version } => format!("{version} is final"),
        Reason::Idle { days } => format!("not used for {days} days"),
        Reason::Asked => "named by you".to_owned(),
    }
}

/// The most protections, or projects, of one install that are named.
const MOST_NAMED: usize = 3;

/// The first few protections of an install, and the number of the others. Projects that require it count as one.
pub fn protections<'p>(all: impl IntoIterator<Item = &'p Protection>) -> String {
    let (mut first, mut projects, mut others) = (Vec::new(), Vec::new(), Vec::new());
    for one in all {
        match one {
            Protection::Requirement { file } => projects.push(project_name(file)),
            Protection::ThisShell => first.insert(0, protection(one)),
            Protection::Default => first.push(protection(one)),
            other => others.push(protection(other)),
        }
    }
    // In the order of the marks in lists.
    let named = first.into_iter().chain(required_by(projects)).chain(others);
    let mut named: Vec<String> = named.collect();
    let more = named.len().saturating_sub(MOST_NAMED);
    named.truncate(MOST_NAMED);
    let named = named.join(", ");
    match more {
        0 => named,
        more => format!("{named} and {more} more"),
    }
}

/// The mark of an install that projects require, with the names of the first few: `None` if there are none.
pub fn required_by(projects: impl IntoIterator<Item = String>) -> Option<String> {
    let mut names: Vec<String> = Vec::new();
    for project in projects {
        if !names.contains(&project) {
            names.push(project);
        }
    }
    (!names.is_empty()).then(|| format!("required by {}", first_few(names)))
}

/// The first few names, and how many more there are.
pub fn first_few(mut names: Vec<String>) -> String {
    let more = names.len().saturating_sub(MOST_NAMED);
    names.truncate(MOST_NAMED);
    match more {
        0 => listed(&names, "and"),
        more => format!("{} and {more} more", names.join(", ")),
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
        Protection::LeftOut => "left out".to_owned(),
        Protection::ProjectAway { file } => {
            format!("required by {}, whose drive is away", project_name(file))
        }
        Protection::RenewalUnfinished { successor } => {
            format!("renewal to {} not finished", successor.version_text())
        }
        Protection::Unclear { what, cause } => {
            format!("{} unknown: {}", witness(*what), printable(cause))
        }
    }
}

/// What cannot be told where a witness cannot be read.
fn witness(witness: Witness) -> &'static str {
    match witness {
        Witness::Projects => "projects",
        Witness::Processes => "running programs",
        Witness::Shells => "open shells",
        Witness::LastUses => "last use",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_few_protections_are_named_and_the_rest_counted() {
        let shells = |count: u32| (1..=count).map(|id| Protection::Shell { id });
        let named = |count| protections(&shells(count).collect::<Vec<_>>());
        assert_eq!(named(0), "");
        assert_eq!(named(3), "shell 1, shell 2, shell 3");
        assert_eq!(named(5), "shell 1, shell 2, shell 3 and 2 more");
    }
}
