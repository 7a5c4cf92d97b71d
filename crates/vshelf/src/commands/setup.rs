//! `vshelf setup`: connect the shell, choose the main runtime.

use clap::Args;
use vshelf_app::integrate::connect::{self, Connected, connect, disconnect};
use vshelf_app::{Environment, runtimes};
use vshelf_view::Palette;

use super::command::{CommandArgs, RunCommand};
use crate::failure::Outcome;
use crate::ui::{Ui, styled};
use crate::wording::paths::shown;

/// Connect your shell, and choose the main runtime
///
/// It writes the hook file and one guarded block into your shell's start-up file, and is safe to
/// repeat. The block sources the hook and starts no program.
#[derive(Debug, Args)]
pub struct Setup {
    /// The shell to connect, if it is not the one in SHELL
    #[arg(long, value_name = "SHELL")]
    shell: Option<String>,
    /// The runtime that selectors mean when they name none
    #[arg(long, value_name = "RUNTIME")]
    main: Option<String>,
    /// Take the block out of the start-up file again
    #[arg(long, conflicts_with = "main")]
    undo: bool,
}

impl CommandArgs for Setup {
    const NAME: &'static str = "setup";
    const GROUP: &'static str = "Connect";
}

impl RunCommand for Setup {
    fn run(self, ui: &Ui, environment: &Environment) -> Outcome {
        if let Some(main) = &self.main {
            runtimes::set_main(environment, main)?;
            ui.result(format!("Selectors without a runtime mean {main} now."))?;
        }
        let dialect = match &self.shell {
            Some(name) => connect::read_shell(name)?,
            None => connect::own_shell(environment)?,
        };
        if self.undo {
            let (file, was_connected) = disconnect(environment, dialect)?;
            let (file, name) = (shown(&file), dialect.name());
            return ui.result(match was_connected {
                true => format!("{file} no longer connects {name} to the shelf."),
                false => format!("{file} holds nothing of ours; nothing was changed."),
            });
        }
        say_connected(ui, &connect(environment, dialect)?)
    }
}

fn say_connected(ui: &Ui, connected: &Connected) -> Outcome {
    let (name, file) = (connected.dialect.name(), shown(&connected.start_up_file));
    if let Some(lines) = connected.new_lines.as_ref().filter(|_| ui.is_terminal()) {
        ui.note(format!("These lines are in {file} now:"));
        for line in lines.lines() {
            ui.note(format!("  {}", styled(Palette::QUIET, line)));
        }
    }
    ui.result(match (&connected.new_lines, connected.renewed) {
        (Some(_), _) => format!("New {name} shells are connected: {file} sources the hook."),
        (None, true) => format!("The hook of {name} is renewed; {file} was right already."),
        (None, false) => format!("{name} is connected already; nothing was changed."),
    })?;
    if let Some(line) = &connected.source_line {
        ui.next("To connect this shell too", line);
    }
    Ok(())
}
