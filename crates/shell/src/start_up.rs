//! Start-up files: one guarded block, added once and taken out again without a trace.

use std::path::{Path, PathBuf};

use crate::Dialect;
use crate::quote;

const FIRST: &str = "# vivid-shelf begins here; `vshelf setup --undo` takes these lines out";
const LAST: &str = "# vivid-shelf ends here";

/// The start-up file that an interactive shell of this kind reads, below the home folder.
pub fn start_up_file(dialect: Dialect, home: &Path) -> PathBuf {
    match dialect {
        // Terminals on macOS open login shells, which read another file.
        Dialect::Bash if cfg!(target_os = "macos") => home.join(".bash_profile"),
        Dialect::Bash => home.join(".bashrc"),
    }
}

/// The line that makes a shell source the hook whose path is this, quoted already.
pub fn source_line(dialect: Dialect, quoted_hook: &str) -> String {
    match dialect {
        Dialect::Bash => format!("source {quoted_hook}"),
    }
}

fn block(dialect: Dialect, hook: &Path) -> String {
    let quoted = quote::posix(&hook.to_string_lossy());
    let line = source_line(dialect, &quoted);
    match dialect {
        Dialect::Bash => format!("{FIRST}\nif [ -r {quoted} ]; then {line}; fi\n{LAST}\n"),
    }
}

/// The text of a start-up file with our block in it: where it was, or else at the end.
pub fn with_block(text: &str, dialect: Dialect, hook: &Path) -> String {
    let block = block(dialect, hook);
    match find_block(text) {
        Some((start, end)) => format!("{}{block}{}", &text[..start], &text[end..]),
        None if text.is_empty() || text.ends_with('\n') => format!("{text}{block}"),
        None => format!("{text}\n{block}"),
    }
}

/// The text without our block, every other byte as it was; nothing where there is no block.
pub fn without_block(text: &str) -> Option<String> {
    let (start, end) = find_block(text)?;
    Some(format!("{}{}", &text[..start], &text[end..]))
}

/// Where the block begins and ends, its last line break included.
fn find_block(text: &str) -> Option<(usize, usize)> {
    let start = text.find(FIRST)?;
    let last = start + text[start..].find(LAST)? + LAST.len();
    let end = last + usize::from(text[last..].starts_with('\n'));
    Some((start, end))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("")]
    #[case("alias l=ls\n")]
    #[case("alias l=ls")]
    #[case("# one\r\n# two\r\n")]
    fn the_block_goes_in_once_and_comes_out_without_a_trace(#[case] before: &str) {
        let hook = Path::new("/home/gull point/it's/hook.bash");
        let with = with_block(before, Dialect::Bash, hook);
        assert_eq!(with_block(&with, Dialect::Bash, hook), with);
        assert_eq!(with.matches("vivid-shelf begins here").count(), 1);
        let moved = with_block(
            &(with.clone() + "# behind\n"),
            Dialect::Bash,
            Path::new("/new"),
        );
        assert!(moved.contains("source '/new'") && moved.ends_with("# behind\n"));
        // A last line without a line break gets one; all else comes back as it was.
        let back = without_block(&with).unwrap();
        assert_eq!(back.trim_end_matches('\n'), before.trim_end_matches('\n'));
        assert_eq!(without_block(before), None);
    }
}
