//! How far transfers are: a bar for each on a terminal.

use std::collections::HashMap;
use std::fmt::Write;
use std::time::Duration;

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressState, ProgressStyle};
use vshelf_app::events::TransferState;
use vshelf_view::browse::TransferProgress;
use vshelf_view::words::{megabytes, printable};

/// What bars look like.
#[derive(Clone, Copy, Debug)]
pub struct Appearance {
    /// Whether they are drawn at all.
    pub drawn: bool,
    /// Whether they have colours.
    pub coloured: bool,
    /// Whether they have more than ASCII.
    pub unicode: bool,
}

/// The bars of transfers under way; they go when this is dropped.
pub struct Bars {
    all: MultiProgress,
    appearance: Appearance,
    /// Whether bars stay until all are done.
    several: bool,
    /// The width of the titles, in characters.
    titles: usize,
    bars: HashMap<usize, ProgressBar>,
    /// Builds under way, by title.
    builds: HashMap<String, BuildBar>,
}

/// A build under way.
struct BuildBar {
    bar: ProgressBar,
    /// The last line that it wrote.
    line: String,
}

impl Bars {
    /// Nothing is drawn before a bar begins.
    pub fn new(appearance: Appearance, several: bool, titles: usize) -> Bars {
        let target = match appearance.drawn {
            true => ProgressDrawTarget::stderr(),
            false => ProgressDrawTarget::hidden(),
        };
        Bars {
            all: MultiProgress::with_draw_target(target),
            appearance,
            several,
            titles,
            bars: HashMap::new(),
            builds: HashMap::new(),
        }
    }

    /// Moves, begins or ends the bar of the transfer `id`.
    pub fn tell(&mut self, id: usize, title: &str, state: TransferState) {
        let bar = self.bars.entry(id).or_insert_with(|| {
            let bar = self.all.add(ProgressBar::new(0));
            bar.set_style(bar_style(self.appearance, false));
            bar.set_message(format!("{title:<width$}", width = self.titles));
            bar
        });
        match state {
            TransferState::Started(size) => {
                bar.set_style(bar_style(self.appearance, size.is_some()));
                bar.set_length(size.unwrap_or(0));
            }
            TransferState::Sending(bytes, all) => {
                bar.set_style(bar_style(self.appearance, true));
                bar.set_length(all);
                bar.set_position(bytes);
            }
            // What is here is unpacked while more comes; the rest of it takes its time.
            TransferState::Bytes(bytes, Some(all)) if bytes >= all => {
                bar.set_style(words_style(self.appearance));
                bar.set_prefix("unpacking");
            }
            TransferState::Bytes(bytes, all) => {
                if let Some(all) = all.filter(|all| bar.length() != Some(*all)) {
                    bar.set_style(bar_style(self.appearance, true));
                    bar.set_length(all);
                }
                bar.set_position(bytes);
            }
            TransferState::Ended(_) if !self.several => self.dismiss(id),
            TransferState::Dismissed => self.dismiss(id),
            other => {
                bar.set_style(words_style(self.appearance));
                bar.set_prefix(doing(other).unwrap_or_default());
            }
        }
    }

    /// Shows how far a build is: the step, and the last line that it wrote; the one before stays where it wrote
    /// none.
    pub fn step(&mut self, title: &str, step: &str, elapsed: Duration, line: Option<&str>) {
        /// As much of a line as one line of a terminal has room for.
        const LONGEST: usize = 60;
        let build = self.builds.entry(title.to_owned()).or_insert_with(|| {
            let bar = self.all.add(ProgressBar::new(0));
            bar.set_style(step_style(self.appearance));
            bar.set_message(title.to_owned());
            BuildBar {
                bar,
                line: String::new(),
            }
        });
        if let Some(line) = line {
            build.line = printable(line).chars().take(LONGEST).collect();
        }
        let minutes = elapsed.as_secs() / 60;
        let seconds = elapsed.as_secs() % 60;
        let line = &build.line;
        build
            .bar
            .set_prefix(format!("{step}, {minutes}:{seconds:02}\n  {line}"));
    }

    /// Takes a build away.
    pub fn end_build(&mut self, title: &str) {
        if let Some(build) = self.builds.remove(title) {
            build.bar.finish_and_clear();
        }
    }

    fn dismiss(&mut self, id: usize) {
        if let Some(bar) = self.bars.remove(&id) {
            bar.finish_and_clear();
        }
    }

    /// Does something, such as writing, while no bar is drawn.
    pub fn suspend(&self, something: impl FnOnce()) {
        self.all.suspend(something);
    }
}

impl Drop for Bars {
    fn drop(&mut self) {
        let builds = self.builds.values().map(|build| &build.bar);
        for bar in self.bars.values().chain(builds) {
            bar.finish_and_clear();
        }
    }
}

/// The look of a build under way.
fn step_style(appearance: Appearance) -> ProgressStyle {
    let template = match appearance.coloured {
        true => "{msg:.bold}: {prefix}",
        false => "{msg}: {prefix}",
    };
    ProgressStyle::with_template(template).expect("the template is one")
}

/// What is done when all bytes are here.
fn doing(state: TransferState) -> Option<&'static str> {
    match state {
        TransferState::StartingOnce => Some("starting it once"),
        TransferState::Saving => Some("writing it to the disk"),
        TransferState::Ended(true) => Some("done"),
        TransferState::Ended(false) => Some("failed"),
        TransferState::Sending(..) => Some("sending it"),
        TransferState::Started(_) | TransferState::Bytes(..) | TransferState::Dismissed => None,
    }
}

/// How far a transfer is, for the full-screen view.
pub fn for_view(title: &str, state: TransferState) -> TransferProgress {
    let (bytes, all) = match state {
        TransferState::Bytes(bytes, all) => (bytes, all),
        TransferState::Sending(bytes, all) => (bytes, Some(all)),
        TransferState::Started(all) => (0, all),
        _ => (0, None),
    };
    TransferProgress {
        title: title.to_owned(),
        bytes,
        all,
        doing: doing(state).map(str::to_owned),
    }
}

/// A line of words where the bar was.
fn words_style(appearance: Appearance) -> ProgressStyle {
    let template = match appearance.coloured {
        true => "{msg}  {prefix:.dim}",
        false => "{msg}  {prefix}",
    };
    ProgressStyle::with_template(template).expect("the templates above are some")
}

/// A bar; where it is not known how much there is in all, only how much is here.
fn bar_style(appearance: Appearance, is_size_known: bool) -> ProgressStyle {
    match is_size_known {
        true => style_of(
            appearance,
            &format!("{}  {{rate}}/s  {{eta}} left", done_of_all(appearance)),
        ),
        false => style_of(appearance, "{msg}  {done}  {rate}/s"),
    }
}

/// The template of a bar with what is done of all.
fn done_of_all(appearance: Appearance) -> &'static str {
    match appearance.coloured {
        true => "{msg}  {bar:18.cyan/238}  {done} of {all}",
        false => "{msg}  {bar:18}  {done} of {all}",
    }
}

/// How far deleting is; it goes when this is dropped.
pub struct DeletionBar {
    bar: ProgressBar,
    appearance: Appearance,
}

impl DeletionBar {
    /// Nothing is freed yet of so many bytes.
    pub fn new(appearance: Appearance, what: String, bytes: u64) -> DeletionBar {
        let bar = ProgressBar::with_draw_target(Some(bytes), ProgressDrawTarget::stderr());
        bar.set_style(style_of(appearance, done_of_all(appearance)));
        bar.set_message(what);
        DeletionBar { bar, appearance }
    }

    /// So many bytes are freed. Where that is more than was counted, such as by packages that came later, it is not
    /// known how many there are in all.
    pub fn show(&self, freed: u64) {
        if self.bar.length().is_some_and(|all| freed > all) {
            self.bar
                .set_style(style_of(self.appearance, "{msg}  {done}"));
        }
        self.bar.set_position(freed);
    }
}

impl Drop for DeletionBar {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
    }
}

/// What the words in a template stand for.
fn style_of(appearance: Appearance, template: &str) -> ProgressStyle {
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
        .progress_chars(match (appearance.unicode, appearance.coloured) {
            (true, true) => "━━━",
            (true, false) => "━━╌",
            (false, _) => "==-",
        })
}
