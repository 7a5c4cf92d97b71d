//! How far downloads are: a bar for each on a terminal, one line at the beginning otherwise.

use std::fmt::Write;
use std::io::{self, IsTerminal};
use std::sync::Mutex;

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use vshelf_view::browse::Headway;
use vshelf_view::words::megabytes;

use crate::ui::{Said, Ui};

/// The bars of one command.
pub struct Progress {
    bars: MultiProgress,
    /// Whether bars stay until all are done.
    several: bool,
    /// The width of the titles, in characters.
    titles: usize,
    /// The bars that stay until all are done.
    ended: Mutex<Vec<ProgressBar>>,
}

/// How far one download is.
pub struct Bar<'u> {
    bar: ProgressBar,
    title: String,
    ui: &'u Ui,
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
            ended: Mutex::default(),
        }
    }

    /// Begins the bar of a download of `size` bytes.
    pub fn begin<'u>(&self, ui: &'u Ui, title: &str, size: Option<u64>) -> Bar<'u> {
        let bar = self.bars.add(ProgressBar::new(size.unwrap_or(0)));
        bar.set_style(style(ui));
        bar.set_message(format!("{title:<width$}", width = self.titles));
        if !io::stderr().is_terminal() && !ui.is_within_view() {
            let size = size
                .map(|size| format!(" ({})", megabytes(size)))
                .unwrap_or_default();
            ui.note(format!("Fetching {title}{size}."));
        }
        Bar {
            bar,
            title: title.to_owned(),
            ui,
        }
    }

    /// Writes something to know above the bars.
    pub fn note(&self, ui: &Ui, text: &str) {
        self.bars.suspend(|| ui.note(text));
    }

    /// Takes all bars away.
    pub fn end(&self) {
        for bar in self.ended.lock().expect("no worker panics").drain(..) {
            bar.finish_and_clear();
        }
    }
}

impl Bar<'_> {
    /// Moves the bar.
    pub fn at(&self, bytes: u64, all: Option<u64>) {
        if self.bar.length() != all
            && let Some(all) = all
        {
            self.bar.set_length(all);
        }
        self.bar.set_position(bytes);
        self.show(bytes, all, None);
    }

    fn show(&self, bytes: u64, all: Option<u64>, doing: Option<&str>) {
        if self.ui.is_within_view() {
            self.ui.show(Said::Headway(Headway {
                title: self.title.clone(),
                bytes,
                all,
                doing: doing.map(str::to_owned),
            }));
        }
    }

    /// Shows what is done now that all bytes are here.
    pub fn now(&self, doing: &str) {
        self.bar.set_style(words(self.ui.colours_notes()));
        self.bar.set_prefix(doing.to_owned());
        self.show(0, None, Some(doing));
    }

    /// Shows how it ended; among several bars that stays to be seen until all are done.
    pub fn end(self, progress: &Progress, how: &str) {
        if !progress.several {
            return self.leave();
        }
        self.now(how);
        let mut ended = progress.ended.lock().expect("no worker panics");
        ended.push(self.bar);
    }

    /// Takes the bar away.
    pub fn leave(self) {
        self.bar.finish_and_clear();
    }
}

/// A line of words where the bar was.
fn words(coloured: bool) -> ProgressStyle {
    let template = match coloured {
        true => "{msg}  {prefix:.dim}",
        false => "{msg}  {prefix}",
    };
    ProgressStyle::with_template(template).expect("the templates above are some")
}

fn style(ui: &Ui) -> ProgressStyle {
    let template = match ui.colours_notes() {
        true => "{msg}  {bar:18.32/238}  {done} of {all}  {rate}/s  {eta} left",
        false => "{msg}  {bar:18}  {done} of {all}  {rate}/s  {eta} left",
    };
    let written = |bytes: f64, to: &mut dyn Write| {
        // A bar that cannot be drawn in full is still a bar.
        write!(to, "{}", megabytes(bytes as u64)).unwrap_or_default();
    };
    ProgressStyle::with_template(template)
        .expect("the templates above are some")
        .with_key("done", move |state: &ProgressState, to: &mut dyn Write| {
            written(state.pos() as f64, to);
        })
        .with_key("all", move |state: &ProgressState, to: &mut dyn Write| {
            written(state.len().unwrap_or(0) as f64, to);
        })
        .with_key("rate", move |state: &ProgressState, to: &mut dyn Write| {
            written(state.per_sec(), to);
        })
        .progress_chars(match (ui.is_unicode(), ui.colours_notes()) {
            (true, true) => "━━━",
            (true, false) => "━━╌",
            (false, _) => "==-",
        })
}
