//! What a shell is switched to, as its environment and our notes write it.

use std::collections::BTreeMap;

use vshelf_core::Pick;

/// What a shell is switched to, by runtime.
pub type Switches = BTreeMap<String, Pick>;

/// What a text such as `marram=8.3.1 node=20.1.0` says, by runtime: how a switch stands in the
/// environment. Words of another form are left out.
pub fn read_switches(text: &str) -> Switches {
    text.split_whitespace().filter_map(read_switch).collect()
}

fn read_switch(word: &str) -> Option<(String, Pick)> {
    let (runtime, pick) = word.split_once('=')?;
    Some((runtime.to_owned(), pick.parse().ok()?))
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
        assert_eq!(write_switches(&read_switches(text)), text);
        let odd = read_switches(" marram=saltmarsh-8.3.1  rubbish node= sedge=../x =8 ");
        assert_eq!(write_switches(&odd), "=8 marram=saltmarsh-8.3.1");
    }
}
