//! What a shell is switched to, as its environment and our notes write it.

use std::collections::BTreeMap;

use vshelf_core::Pick;

use crate::former_names::key_of_former;
use crate::layout::Layout;

/// What a shell is switched to, by runtime.
pub type Switches = BTreeMap<String, Pick>;

/// Reads a text such as `marram=saltmarsh-8.3.1 node=system`: how switches are written in the environment.
/// Skips words of another form. A shell that was switched by a program of layout 3 left out the publisher,
/// which the shelf in `layout` still knows.
pub fn read_switches(text: &str, layout: Option<&Layout>) -> Switches {
    let read = |word: &str| {
        let (runtime, text) = word.split_once('=')?;
        let former = || Some(key_of_former(layout?, runtime, text)?.into());
        let pick = text.parse().ok().or_else(former)?;
        Some((runtime.to_owned(), pick))
    };
    text.split_whitespace().filter_map(read).collect()
}

/// These switches as [`read_switches`] reads them.
pub fn write_switches(switches: &Switches) -> String {
    let words: Vec<String> = switches
        .iter()
        .map(|(runtime, pick)| format!("{runtime}={}", pick.as_str()))
        .collect();
    words.join(" ")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn switches_are_written_as_they_are_read() {
        let text = "marram=dunefield-8.3.1 node=system";
        assert_eq!(write_switches(&read_switches(text, None)), text);
        let odd = " marram=saltmarsh-8.3.1  rubbish node= sedge=../x =8 ";
        let read = write_switches(&read_switches(odd, None));
        assert_eq!(read, "marram=saltmarsh-8.3.1");
    }
}
