//! How far downloads are: a bar for each on a terminal, one line at the beginning otherwise.

use std::fmt::Write;
use std::io::{self, IsTerminal};

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use vshelf_view::words::megabytes;

use crate::ui::Ui;

/// The bars of one command.
pub struct Progress {
    bars: MultiProgress,
    /// Whether a bar stays until all are done.
    several: bool,
    /// The width of the titles, in characters.
    titles: usize,
}

/// How far one download is.
pub struct Bar {
    bar: ProgressBar,
    several: bool,
}

impl Progress {
    /// Nothing is drawn before a bar begins.
    pub fn new(ui: &Ui, several: bool, titles: usize) -> Progress {
        let target = match ui.shows_progress() {
            true => ProgressDrawTarget::stderr(),
            false => ProgressDrawTarget::hidden(),
        };
        Progress {
            bars: MultiProgress::with_draw_target(target),
            several,
            titles,
        }
    }

    /// Begins the bar of a download of `size` bytes.
    pub fn begin(&self, ui: &Ui, title: &str, size: Option<u64>) -> Bar {
        let bar = self.bars.add(ProgressBar::new(size.unwrap_or(0)));
        bar.set_style(style(ui));
        bar.set_message(format!("{title:<width$}", width = self.titles));
        if !io::stderr().is_terminal() {
            let size = size
                .map(|size| format!(" ({})", megabytes(size)))
                .unwrap_or_default();
            ui.note(format!("Fetching {title}{size}."));
        }
        Bar {
            bar,
            several: self.several,
        }
    }

    /// Writes something to know above the bars.
    pub fn note(&self, ui: &Ui, text: &str) {
        self.bars.suspend(|| ui.note(text));
    }

    /// Takes all bars away.
    pub fn end(&self) {
        // A terminal that is gone needs no clearing.
        self.bars.clear().unwrap_or_default();
    }
}

impl Bar {
    /// Moves the bar.
    pub fn at(&self, bytes: u64, all: Option<u64>) {
        if self.bar.length() != all
            && let Some(all) = all
        {
            self.bar.set_length(all);
        }
        self.bar.set_position(bytes);
    }

    /// Shows what is done now that all bytes are here.
    pub fn now(&self, doing: &str) {
        let style = ProgressStyle::with_template("{msg}  {prefix}");
        self.bar.set_style(style.expect("the template is one"));
        self.bar.set_prefix(doing.to_owned());
    }

    /// Takes the bar away.
    pub fn end(&self) {
        self.bar.finish_and_clear();
    }
}

impl Drop for Bar {
    fn drop(&mut self) {
        if self.bar.is_finished() {
            return;
        }
        match self.several {
            true => self.now("done"),
            false => self.bar.finish_and_clear(),
        }
    }
}

fn style(ui: &Ui) -> ProgressStyle {
    const TEMPLATE: &str = "{msg}  {bar:18}  {done} of {all}  {rate}/s  {eta} left";
    let written = |bytes: f64, to: &mut dyn Write| {
        // A bar that cannot be drawn in full is still a bar.
        write!(to, "{}", megabytes(bytes as u64)).unwrap_or_default();
    };
    ProgressStyle::with_template(TEMPLATE)
        .expect("the template above is one")
        .with_key("done", move |state: &ProgressState, to: &mut dyn Write| {
            written(state.pos() as f64, to);
        })
        .with_key("all", move |state: &ProgressState, to: &mut dyn Write| {
            written(state.len().unwrap_or(0) as f64, to);
        })
        .with_key("rate", move |state: &ProgressState, to: &mut dyn Write| {
            written(state.per_sec(), to);
        })
        .progress_chars(if ui.is_unicode() { "━━ " } else { "== " })
}
