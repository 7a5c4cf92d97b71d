//! `vshelf hook`: print the integration for a shell.

use clap::Args;
use vshelf_shell::{Dialect, hook};
use vshelf_view::words::{listed, printable};

use crate::commands::CommandArgs;
use crate::context::Context;
use crate::failure::{Failure, Kind, Outcome};
use crate::following;
use crate::hooks;
use crate::ui::Ui;

/// Print the integration for a shell
///
/// `vshelf setup` writes the same text to files that your shell sources. Print it to read it, or to
/// connect a shell that setup does not reach.
#[derive(Debug, Args)]
pub struct Hook {
    /// The shell: bash, zsh, fish, sh (dash, ash), ksh, mksh, elvish, tcsh, xonsh, nu or powershell
    #[arg(value_name = "SHELL")]
    shell: String,
    /// What the project here wants, as the hook asks for it: keys by runtime, then what to know
    #[arg(long)]
    here: bool,
}

impl CommandArgs for Hook {
    const NAME: &'static str = "hook";
    const GROUP: &'static str = "Connect";

    fn run(self, ui: &Ui, context: &Context) -> Outcome {
        let dialect = read_shell(&self.shell)?;
        if self.here {
            return show_wishes(ui, context, dialect);
        }
        // In one piece, the functions first: the hook then has no need to look for them.
        let functions = match dialect {
            // It runs the parts of the file that setup writes, or reads them in a place of their own.
            Dialect::Tcsh | Dialect::Elvish => String::new(),
            _ => hook::render_functions(dialect),
        };
        ui.result(functions + hooks::hook_text(context, dialect)?.trim_end())
    }
}

fn show_wishes(ui: &Ui, context: &Context, dialect: Dialect) -> Outcome {
    let followed = following::look(ui, context)?;
    let pairs = followed
        .keys
        .iter()
        .map(|(name, key)| format!("{name}={key}"));
    let pairs = pairs.collect::<Vec<_>>().join(" ");
    ui.result(match dialect {
        // It drops a line that is empty, and would take the next one for the first.
        Dialect::Tcsh if pairs.is_empty() => "-",
        _ => &pairs,
    })?;
    followed
        .notices
        .iter()
        .try_for_each(|notice| ui.result(printable(notice)))
}

/// The shell with this name, or a failure that lists those there are.
pub fn read_shell(name: &str) -> Result<Dialect, Failure> {
    name.parse().map_err(|error: vshelf_shell::UnknownShell| {
        let names: Vec<&str> = Dialect::ALL.iter().map(|dialect| dialect.name()).collect();
        Failure::from_error(Kind::Usage, &error)
            .say(format!(
                "Shells that can be connected: {}.",
                listed(&names, "and")
            ))
            .run(
                "To use a version in any shell",
                "vshelf run SELECTOR -- COMMAND",
            )
    })
}
