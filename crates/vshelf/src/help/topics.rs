//! Help on what is no command.

/// The topics by name, and what there is to know.
const TOPICS: [(&str, &str); 2] = [("selectors", SELECTORS), ("words", WORDS)];

/// The words of this program.
const WORDS: &str = "\
The words of vshelf:

  runtime      a language implementation, such as node
  release      one published version of it
  line         releases that share leading numbers and a support life
  phase        where a line stands: preview, current, lts, maintenance or ended
  publisher    whoever makes releases, such as the language's own project
  source       where a catalog and its archives come from
  catalog      all releases that the sources of a runtime publish
  repack       a release that somebody else packed again, such as for npm
  companion    a package that is added because a build comes without it
  shelf        the folder of your installs
  install      a release that is unpacked, or was built, on the shelf
  main         the runtime or publisher that is meant if none is named
  default      what new shells use
  switch       the choice of one shell
  follow       to use what the project requires, or else the default
  requirement  what a project requires, in a file in its folder
  lock file    the exact releases that a project's requirements resolve to
  label        a name of yours for a selector
  trash        where removed installs wait until they are deleted
";

/// What can be typed for a version.
const SELECTORS: &str = "\
A selector is what you type for a version: [RUNTIME@][PUBLISHER/]SELECTOR.
A runtime's name alone, such as node, means its stable release.

  8.3.1            exactly that release
  8, 8.3           the newest release that begins so; 8.3 never means 8.30
  \">=6 <8\", ^8.1   a range as in package.json; also ~8.1, \"6 || 8\", \"1 - 2\", 8.x
  latest           the highest version that is neither a pre-release nor withdrawn
  lts              the newest release of the newest line in long-term support
  stable           the publisher's stable release, or else the newest supported one
  preview          the newest of all, pre-releases included
  eelgrass, next   a code name or channel, as the catalog says
  board            a label of yours
  system           the first copy on PATH that is not on the shelf
  default          the default
  previous         what this shell used before; for switch also -

install and catalog choose among published releases; switch, default, run, remove
and path among installs. How one is resolved, step by step: vshelf explain SELECTOR
";

/// What there is to know of a topic.
pub fn text(topic: &str) -> Option<&'static str> {
    let mut known = TOPICS.iter();
    let found = known.find(|(name, _)| *name == topic || name.trim_end_matches('s') == topic);
    found.map(|(_, text)| *text)
}

#[cfg(test)]
mod tests {
    use super::*;
    use vshelf_core::Request;

    #[test]
    fn the_words_fit_a_terminal() {
        let text = text("words").unwrap();
        assert!(text.lines().count() < 24);
        assert!(text.lines().all(|line| line.len() <= 80));
    }

    #[test]
    fn a_topic_fits_a_terminal_and_its_selectors_are_understood() {
        let text = text("selectors").unwrap();
        assert!(text.lines().count() < 24);
        let mut count = 0;
        for line in text.lines().filter_map(|line| line.strip_prefix("  ")) {
            let forms = line.split("   ").next().unwrap();
            for form in forms.split(", ") {
                let read: Result<Request, _> = form.trim_matches('"').parse();
                assert!(read.is_ok(), "{form}: {read:?}");
                count += 1;
            }
        }
        assert_eq!(count, 15);
        assert!(super::text("kelp").is_none());
    }
}
