//! `vshelf demo`: a full example on made-up data, in a throwaway home.

use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

use clap::Args;
use signal_hook::consts::{SIGINT, SIGTERM};
use vshelf_app::Environment;
use vshelf_demo::TODAY;
use vshelf_demo::server::{Fault, StandIn};
use vshelf_view::Palette;

use super::command::{CommandArgs, RunCommand};
use crate::failure::{Class, Failure, Outcome};
use crate::throwaway_home::{Home, play, tell};
use crate::ui::{Ui, styled};

/// See it all at work on made-up data
///
/// The demo runs in a throwaway home with a stand-in release server on the loopback address. It
/// touches nothing of yours and leaves nothing behind. The data is that of Marram and Orache, two
/// made-up languages, on 2026-11-23.
#[derive(Debug, Args)]
pub struct Demo {
    /// Open a connected shell on the same data, to play in
    #[arg(long, conflicts_with = "serve")]
    shell: bool,
    /// Only run the stand-in release server, until Ctrl-C
    #[arg(long, hide = true)]
    serve: bool,
    /// The port of the server
    #[arg(long, value_name = "PORT", requires = "serve", hide = true)]
    port: Option<u16>,
    /// Let the server misbehave: slow, cut, wrong-bytes, wrong-length, 404, 500, busy, redirect,
    /// no-ranges, hang
    #[arg(long, value_name = "FAULT", requires = "serve", hide = true)]
    misbehave: Vec<Fault>,
}

impl CommandArgs for Demo {
    const NAME: &'static str = "demo";
    const GROUP: &'static str = "Connect";
}

impl RunCommand for Demo {
    fn run(self, ui: &Ui, _: &Environment) -> Outcome {
        let server = StandIn::start(self.port).map_err(|error| {
            Failure::new(
                Class::Other,
                format!("the stand-in server does not start: {error}"),
            )
        })?;
        if self.serve {
            return serve(ui, server, &self.misbehave);
        }
        let home = Home::make(&server)?;
        let interrupted = watch_signals()?;
        let status = match self.shell {
            true => play(ui, &home)?,
            false => tell(ui, &home)?,
        };
        home.leave()?;
        if !self.shell && interrupted.load(Ordering::Relaxed) {
            let killed = signal_hook::low_level::emulate_default_handler(SIGINT);
            return killed.map_err(|error| Failure::new(Class::Other, error.to_string()));
        }
        match status.success() || self.shell {
            true => Ok(()),
            false => Err(Failure::new(
                Class::Other,
                format!("the demo ended early: {status}"),
            )),
        }
    }
}

fn serve(ui: &Ui, server: StandIn, faults: &[Fault]) -> Outcome {
    server.misbehave(faults);
    let address = server.address();
    ui.result(format!("The stand-in release server answers at {address}"))?;
    ui.result("These lines point a shelf of its own at it:")?;
    for line in [
        "export VSHELF_DATA=/tmp/vshelf-demo/data VSHELF_CACHE=/tmp/vshelf-demo/cache VSHELF_CONFIG=/tmp/vshelf-demo/config".to_owned(),
        format!("export VSHELF_TODAY={TODAY}"),
        format!("vshelf runtimes --add {address}/marram.toml"),
        format!("vshelf runtimes --add {address}/orache.toml"),
        "vshelf catalog marram".to_owned(),
    ] {
        ui.result(format!("  {}", styled(Palette::COMMAND, line)))?;
    }
    ui.note("Ctrl-C ends it.");
    server.serve_on();
    Ok(())
}

/// A signal ends the shell of the demo; this process stays to clean up behind it.
fn watch_signals() -> Result<Arc<AtomicBool>, Failure> {
    let seen = Arc::new(AtomicBool::new(false));
    for signal in [SIGINT, SIGTERM] {
        signal_hook::flag::register(signal, Arc::clone(&seen))
            .map_err(|error| Failure::new(Class::Other, error.to_string()))?;
    }
    Ok(seen)
}
