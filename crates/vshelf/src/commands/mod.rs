//! The commands: one file each, with the arguments, the use case that it calls, and where its outcome
//! is shown.

mod adopt;
mod browse;
mod carry;
mod catalog;
mod checkup;
pub mod command;
mod config;
mod connect;
mod default;
mod demo;
mod explain;
mod history;
mod install;
mod label;
mod launchers;
mod list;
mod lock;
mod mirror;
mod path;
mod remove;
mod renew;
mod require;
mod restore;
mod run;
mod runtimes;
mod status;
mod suggest;
mod switch;
mod tidy;
mod timeline;

use command::{CommandArgs, CommandEntry, entry};

/// Every command, in the order of the overview.
pub fn all() -> Vec<CommandEntry> {
    vec![
        entry::<catalog::Catalog>(),
        entry::<timeline::Timeline>(),
        entry::<browse::Browse>(),
        entry::<list::List>(),
        entry::<status::Status>(),
        entry::<explain::Explain>(),
        entry::<path::Path>(),
        entry::<checkup::Checkup>(),
        entry::<history::History>(),
        entry::<config::Config>(),
        entry::<install::Install>(),
        entry::<switch::Switch>(),
        entry::<default::Default>(),
        entry::<require::Require>(),
        entry::<lock::Lock>(),
        entry::<label::Label>(),
        entry::<run::Run>(),
        entry::<adopt::Adopt>(),
        entry::<remove::Remove>(),
        entry::<tidy::Tidy>(),
        entry::<restore::Restore>(),
        entry::<renew::Renew>(),
        entry::<carry::Carry>(),
        entry::<mirror::Mirror>(),
        entry::<connect::Connect>(),
        entry::<launchers::Launchers>(),
        suggest(),
        entry::<runtimes::Runtimes>(),
        entry::<demo::Demo>(),
    ]
}

/// It suggests among all commands, itself included.
fn suggest() -> CommandEntry {
    use suggest::Suggest;
    CommandEntry {
        name: Suggest::NAME,
        group: Suggest::GROUP,
        build: command::build::<Suggest>,
        run: |matches, ui, environment| {
            command::read::<Suggest>(matches)?.among(&all(), ui, environment)
        },
    }
}
