//! The message for a person who interrupts a command that fetches or builds.

use std::fs;
use std::path::{Path, PathBuf};
use std::sync::Once;
use std::thread;
use std::time::SystemTime;

use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};
use signal_hook::iterator::Signals;
use signal_hook::low_level::emulate_default_handler;
use vshelf_files::optional;
use vshelf_view::words::megabytes;

/// Has an interruption `say` what of the downloads in `archives` and of the builds in `builds` is kept, and then
/// end the program as it would have. Signals that are ignored stay so.
pub fn say_what_is_kept(say: impl Fn(&str) + Send + 'static, archives: &Path, builds: &Path) {
    static ONCE: Once = Once::new();
    let folders = [archives.to_owned(), builds.to_owned()];
    ONCE.call_once(|| {
        let ignored = ignored_signals();
        let heard = [SIGINT, SIGTERM, SIGHUP];
        let heard = heard
            .into_iter()
            .filter(|signal| ignored >> (signal - 1) & 1 == 0);
        // Without it, the program just ends.
        let Ok(mut signals) = Signals::new(heard) else {
            return;
        };
        let begun = SystemTime::now();
        thread::spawn(move || {
            for signal in signals.forever() {
                if let Some(kept) = kept_since(begun, &folders) {
                    say(&kept);
                }
                emulate_default_handler(signal).unwrap_or_default();
            }
        });
    });
}

/// The downloads and builds that are kept of those begun since then.
fn kept_since(begun: SystemTime, [archives, builds]: &[PathBuf; 2]) -> Option<String> {
    let sizes = |folder: &Path| -> Vec<u64> {
        let entries = optional::entries(folder).unwrap_or_default().into_iter();
        let found = entries.filter_map(|entry| entry.metadata().ok());
        found
            .filter(|found| found.modified().is_ok_and(|modified| modified >= begun))
            .map(|found| found.len())
            .collect()
    };
    let fetched: u64 = sizes(archives).iter().sum();
    let is_building = !sizes(builds).is_empty();
    let kept = match (fetched, is_building) {
        (0, false) => return None,
        (_, true) => "The steps of the build that are done are kept".to_owned(),
        (_, false) => format!("{} that came are kept", megabytes(fetched)),
    };
    Some(format!("Interrupted. {kept}; the same command resumes."))
}

/// The signals that whoever started this program had it ignore, such as `nohup`: a bit for each
/// (proc_pid_status(5), SigIgn). Systems without that table are taken to ignore none.
fn ignored_signals() -> u64 {
    let status = fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| line.strip_prefix("SigIgn:"));
    mask.and_then(|mask| u64::from_str_radix(mask.trim(), 16).ok())
        .unwrap_or_default()
}
