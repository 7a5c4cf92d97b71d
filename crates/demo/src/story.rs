//! The story that the demo tells: the whole job once, in a developer's order.

use std::borrow::Cow;

/// A step: why, and the command line as typed.
pub struct Step {
    /// What happens, in a sentence.
    pub why: Cow<'static, str>,
    /// The command line.
    pub command: Cow<'static, str>,
}

const fn step(why: &'static str, command: &'static str) -> Step {
    Step {
        why: Cow::Borrowed(why),
        command: Cow::Borrowed(command),
    }
}

/// The steps in order, as they are typed in this shell: `bash` or `sh`.
pub fn steps(shell: &str) -> Vec<Step> {
    let typed = |text: Cow<'static, str>| match shell {
        "bash" => text,
        other => text.replace("source ", ". ").replace("bash", other).into(),
    };
    let steps = STEPS.into_iter();
    steps
        .map(|step| Step {
            why: typed(step.why),
            command: typed(step.command),
        })
        .collect()
}

const STEPS: [Step; 28] = [
    step(
        "You keep the instruments of the Gull Point tide station running. What is published of Marram?",
        "vshelf catalog",
    ),
    step(
        "Connect bash once. This writes one guarded block; no new shell ever starts a program for it.",
        "vshelf connect",
    ),
    step(
        "That line makes this shell follow too.",
        "source ~/.local/share/vivid-shelf/connect/shelf.bash",
    ),
    step(
        "The first install becomes the default.",
        "vshelf install lts",
    ),
    step(
        "An older line beside it, for the tide board. It does not take over by itself.",
        "vshelf install 6",
    ),
    step("What is on the shelf now?", "vshelf list"),
    step(
        "This shell needs the older one for a while.",
        "vshelf switch 6",
    ),
    step("It answers at once.", "marram -e 'print version'"),
    step("Which version is it here, and why?", "vshelf status"),
    step(
        "A new shell, elsewhere, has the default.",
        "env -u VSHELF_SWITCHED bash -i -c 'marram --version'",
    ),
    step(
        "One command on another version, without switching.",
        "vshelf run lts -- marram --version",
    ),
    step(
        "Back to the default in this shell.",
        "vshelf switch --follow",
    ),
    step(
        "How does a name become a release?",
        "vshelf explain eelgrass",
    ),
    step(
        "A name of your own, usable wherever a version is.",
        "vshelf label board samphire",
    ),
    step(
        "The tide board's folder says what the project requires, and the shell follows.",
        "mkdir tide-board && cd tide-board && vshelf require board",
    ),
    step(
        "So it answers here, until you leave the folder or switch.",
        "marram -e 'print version'",
    ),
    step(
        "Only what fixes a security problem, since last winter.",
        "vshelf catalog --security --since 2025-12-01",
    ),
    step(
        "A typing slip is met with what was meant.",
        "vshelf install 6.02",
    ),
    step(
        "Is everything connected and sound? Each finding would come with the command that fixes it.",
        "vshelf checkup",
    ),
    step(
        "An older patch of another line, with a package in it.",
        "vshelf install 9.1.0 && vshelf run 9.1.0 -- tussock add tide-tables@2.1.0",
    ),
    step(
        "The line moves to its newest patch, and the package comes along.",
        "vshelf renew 9 --yes",
    ),
    step(
        "Orache is a sister language: its lines have two numbers, and not all of them are dated.",
        "vshelf catalog orache",
    ),
    step(
        "A second publisher packs the same versions anew; both stand side by side.",
        "vshelf install orache@2.6 orache@dunefield/2.6 && vshelf list orache",
    ),
    step(
        "Its line 2.5 comes as source: it is built here, and missing libraries are named.",
        "vshelf install orache@2.5",
    ),
    step("What was done to the shelf?", "vshelf history"),
    step(
        "What was removed comes back with one command.",
        "vshelf restore",
    ),
    step(
        "What is outdated goes; what a project, a label or the default needs stays.",
        "vshelf tidy --yes",
    ),
    step(
        "The line of the tide board is no longer needed.",
        "cd .. && vshelf remove 6",
    ),
];

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plain_shell_is_told_what_it_understands() {
        let commands: Vec<String> = steps("sh")
            .into_iter()
            .map(|step| step.command.into())
            .collect();
        assert!(commands.contains(&". ~/.local/share/vivid-shelf/connect/shelf.sh".to_owned()));
        assert!(
            !commands.iter().any(|command| command.contains("bash")),
            "{commands:?}"
        );
        assert_eq!(steps("bash").len(), commands.len());
    }
}
