//! The only way to the person: results on standard output, everything else on standard error.

use std::collections::HashSet;
use std::fmt::Display;
use std::io::{self, IsTerminal, Write};
use std::os::fd::AsFd;
use std::path::Path;
use std::process::{Command, Stdio};
use std::sync::mpsc::Sender;
use std::sync::{Arc, Mutex};
use std::time::Duration;

use anstream::{AutoStream, ColorChoice};
use anstyle::Style;
use vshelf_app::environment::RuntimeChooser;
use vshelf_app::events::{Deleting, TransferState};
use vshelf_sources::OnWait;
use vshelf_view::Palette;
use vshelf_view::browse::TransferProgress;
use vshelf_view::table::{Frame, Table};
use vshelf_view::words::{listed, megabytes, printable};

use crate::failure::{Class, Failure, Hint};
use crate::interruption;
use crate::progress::{Appearance, Bars, DeletionBar};
use crate::request_watch::{self, PATIENCE, Wait};
use crate::sentences::{hint, wrapped};

/// How long between two looks at how far it is.
const BETWEEN_LOOKS: Duration = Duration::from_millis(100);

/// When to colour.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, clap::ValueEnum)]
pub enum Colour {
    /// On a terminal, unless NO_COLOR is set.
    #[default]
    Auto,
    /// Always.
    Always,
    /// Never.
    Never,
}

/// The way to the person.
pub struct Ui {
    choice: ColorChoice,
    quiet: bool,
    /// Whether the person said yes in advance.
    yes: bool,
    unicode: bool,
    /// Whether results are left out, because one of another form follows.
    no_results: bool,
    /// The view that shows it all in a place of its own, where one is open.
    view: Option<Sender<Output>>,
    /// The bars of transfers under way.
    bars: Arc<Mutex<Option<Bars>>>,
    /// The steps of builds that were told, where nothing is drawn.
    told_steps: Mutex<HashSet<String>>,
    /// Why something that a listener was told could not be written.
    kept_failure: Arc<Mutex<Option<Failure>>>,
    /// What is waited for.
    wait: Mutex<Option<Wait>>,
}

/// What a command writes to a view.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Output {
    /// A result, or something to know.
    Line(String),
    /// Why it failed.
    Failure(String),
    /// How far a transfer is.
    Progress(TransferProgress),
}

impl Ui {
    /// Output as the person requires it.
    pub fn new(colour: Colour, quiet: bool) -> Ui {
        let choice = match colour {
            Colour::Auto => ColorChoice::Auto,
            Colour::Always => ColorChoice::Always,
            Colour::Never => ColorChoice::Never,
        };
        Ui::plain(choice, quiet, locale_is_utf8())
    }

    /// Output in which nothing was told yet.
    fn plain(choice: ColorChoice, quiet: bool, unicode: bool) -> Ui {
        Ui {
            choice,
            quiet,
            yes: false,
            unicode,
            no_results: false,
            view: None,
            bars: Arc::default(),
            told_steps: Mutex::default(),
            kept_failure: Arc::default(),
            wait: Mutex::default(),
        }
    }

    /// The same output, with yes as the answer to every question that a command asks before it goes on, if `yes`.
    pub fn answering_yes(self, yes: bool) -> Ui {
        Ui { yes, ..self }
    }

    /// Whether the person said yes in advance.
    pub fn says_yes(&self) -> bool {
        self.yes
    }

    /// The output of a command that a view gives: no terminal, nobody to ask.
    pub fn within(&self, view: Sender<Output>) -> Ui {
        Ui {
            view: Some(view),
            ..Ui::plain(ColorChoice::Never, self.quiet, self.unicode)
        }
    }

    /// The same output, without the results of what happens where `json` says that one of that form
    /// follows.
    pub fn for_events(&self, json: bool) -> Ui {
        Ui {
            yes: self.yes,
            no_results: json,
            view: self.view.clone(),
            kept_failure: Arc::clone(&self.kept_failure),
            bars: Arc::clone(&self.bars),
            ..Ui::plain(self.choice, self.quiet, self.unicode)
        }
    }

    /// Keeps why something could not be written, until the command ends.
    pub fn keep_failure(&self, failure: Failure) {
        let mut kept = self.kept_failure.lock().expect("no listener panics");
        kept.get_or_insert(failure);
    }

    /// Why something that a listener was told could not be written.
    pub fn kept_failure(&self) -> Result<(), Failure> {
        let kept = self.kept_failure.lock().expect("no listener panics").take();
        kept.map_or(Ok(()), Err)
    }

    /// The hook of a transport whose requests are mentioned on a terminal if they take a while, if there is one.
    pub fn on_wait(&self) -> Option<Arc<OnWait>> {
        self.shows_progress()
            .then(|| request_watch::on_wait(self.choice, Arc::clone(&self.bars)))
    }

    /// Says what is waited for on a terminal, once it takes longer than a second, and how far deleting is.
    pub fn begin_wait(&self, what: String, deleting: Option<Deleting>) {
        if !self.shows_progress() {
            return;
        }
        let (choice, appearance) = (self.choice, self.appearance());
        let wait = Wait::begin(move |end| {
            if !end.is_not_within(PATIENCE) {
                return;
            }
            let Some(deleting) = deleting else {
                let mut err = AutoStream::new(io::stderr().lock(), choice);
                // Where standard error is closed there is nobody left to tell.
                return writeln!(err, "{what}").unwrap_or_default();
            };
            let bar = DeletionBar::new(appearance, what, deleting.bytes);
            while end.is_not_within(BETWEEN_LOOKS) {
                bar.show(deleting.freed.bytes());
            }
        });
        *self.wait.lock().expect("no listener panics") = Some(wait);
    }

    /// What was waited for ended, and nothing is drawn of it any more.
    pub fn end_wait(&self) {
        let wait = self.wait.lock().expect("no listener panics").take();
        drop(wait);
    }

    /// Has an interruption say what is kept of transfers and builds; a view ends in its own way.
    pub fn announce_interruptions(&self, archives: &Path, builds: &Path) {
        if !self.is_within_view() {
            let ui = self.for_events(false);
            let say = move |kept: &str| ui.note_above_bars(kept);
            interruption::say_what_is_kept(say, archives, builds);
        }
    }

    /// Begins the bars of transfers; `several` stay to be seen until all are done.
    pub fn begin_bars(&self, several: bool, titles: usize) {
        *self.bars.lock().expect("no listener panics") =
            Some(Bars::new(self.appearance(), several, titles));
    }

    /// Moves the bar of a transfer.
    pub fn move_bar(&self, id: usize, title: &str, state: TransferState) {
        if self.is_within_view() {
            return self.show(Output::Progress(crate::progress::for_view(title, state)));
        }
        let begins = match state {
            TransferState::Started(size) => Some(("Fetching", size)),
            TransferState::Sending(0, size) => Some(("Sending", Some(size))),
            _ => None,
        };
        if let Some((what, size)) = begins.filter(|_| !io::stderr().is_terminal()) {
            let size = size.map(|size| format!(" ({})", megabytes(size)));
            self.note(format!("{what} {title}{}.", size.unwrap_or_default()));
        }
        let mut bars = self.bars.lock().expect("no listener panics");
        let bars = bars.get_or_insert_with(|| Bars::new(self.appearance(), false, 0));
        bars.tell(id, title, state);
    }

    /// Shows how far a build is, and what it wrote since it was shown last; where nothing is drawn, each step
    /// is told once.
    pub fn show_step(&self, title: &str, step: &str, elapsed: Duration, lines: &[String]) {
        if !io::stderr().is_terminal() {
            let text = format!("{title}: {step}.");
            let mut told = self.told_steps.lock().expect("no listener panics");
            if told.insert(text.clone()) {
                self.note(&text);
            }
            return;
        }
        let mut bars = self.bars.lock().expect("no listener panics");
        let bars = bars.get_or_insert_with(|| Bars::new(self.appearance(), false, 0));
        bars.step(title, step, elapsed, lines.last().map(String::as_str));
    }

    /// Takes the steps of a build away.
    pub fn hide_steps(&self, title: &str) {
        if let Some(bars) = &mut *self.bars.lock().expect("no listener panics") {
            bars.end_build(title);
        }
    }

    /// Takes all bars away.
    pub fn end_bars(&self) {
        *self.bars.lock().expect("no listener panics") = None;
    }

    /// Writes something to know above the bars.
    pub fn note_above_bars(&self, text: &str) {
        match &*self.bars.lock().expect("no listener panics") {
            Some(bars) => bars.suspend(|| self.note(text)),
            None => self.note(text),
        }
    }

    fn appearance(&self) -> Appearance {
        Appearance {
            drawn: self.shows_progress(),
            coloured: self.colours_notes(),
            unicode: self.unicode,
        }
    }

    /// Says something to the view, where there is one.
    pub fn show(&self, said: Output) {
        if let Some(view) = &self.view {
            // Where the view is gone there is nobody left to tell.
            view.send(said).unwrap_or_default();
        }
    }

    /// Whether a view shows what is said.
    pub fn is_within_view(&self) -> bool {
        self.view.is_some()
    }

    /// Whether the terminal can show more than ASCII.
    pub fn is_unicode(&self) -> bool {
        self.unicode
    }

    /// Whether results go to a terminal.
    pub fn is_terminal(&self) -> bool {
        self.view.is_none() && io::stdout().is_terminal()
    }

    /// Whether results are coloured.
    pub fn colours(&self) -> bool {
        AutoStream::new(io::stdout(), self.choice).current_choice() != ColorChoice::Never
    }

    /// Whether progress and notes are coloured.
    pub fn colours_notes(&self) -> bool {
        AutoStream::new(io::stderr(), self.choice).current_choice() != ColorChoice::Never
    }

    /// Whether progress, notes and hints are left out.
    pub fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Whether progress can be drawn.
    pub fn shows_progress(&self) -> bool {
        self.view.is_none() && io::stderr().is_terminal() && !self.quiet
    }

    /// Whether the person can be asked something.
    pub fn can_ask(&self) -> bool {
        self.view.is_none() && io::stdin().is_terminal() && io::stderr().is_terminal()
    }

    /// Asks a question that is answered with yes or no; a mere Enter is no.
    pub fn ask_yes_no(&self, question: &str) -> io::Result<bool> {
        let mut err = AutoStream::new(io::stderr().lock(), self.choice);
        write!(err, "{question} [y/N] ")?;
        err.flush()?;
        let mut answer = String::new();
        io::stdin().read_line(&mut answer)?;
        Ok(matches!(answer.trim().to_lowercase().as_str(), "y" | "yes"))
    }

    /// Asks on a terminal which of several runtimes is meant.
    pub fn runtime_chooser(&self) -> RuntimeChooser {
        let choice = self.choice;
        let asks = self.can_ask();
        RuntimeChooser(Box::new(move |names| match asks {
            true => ask_for_one(choice, "Which runtime?", names).ok().flatten(),
            false => None,
        }))
    }

    /// Writes a table that may be long: through the person's pager where it is longer than the
    /// terminal.
    pub fn page(&self, table: &Table) -> Result<(), Failure> {
        let text = table.render(self.frame());
        let too_long = terminal_size().is_some_and(|(_, rows)| text.lines().count() >= rows);
        if !self.is_terminal() || !too_long || !self.through_pager(&text) {
            return self.result(text.trim_end_matches('\n'));
        }
        Ok(())
    }

    /// Hands text to the pager in PAGER, or to less; says whether one took it.
    fn through_pager(&self, text: &str) -> bool {
        let pager = std::env::var("PAGER")
            .ok()
            .filter(|pager| !pager.trim().is_empty());
        let pager = pager.unwrap_or_else(|| "less".to_owned());
        let started = Command::new("sh")
            .args(["-c", &format!("exec {pager}")])
            // Colours pass, and what fits on the screen is left there.
            .env(
                "LESS",
                std::env::var("LESS").unwrap_or_else(|_| "FRX".to_owned()),
            )
            .stdin(Stdio::piped())
            .spawn();
        let Ok(mut pager) = started else {
            return false;
        };
        if let Some(mut stdin) = pager.stdin.take() {
            let plain = anstream::adapter::strip_str(text).to_string();
            let shown = if self.colours() { text } else { &plain };
            // A person who has seen enough closes the pager early.
            stdin.write_all(shown.as_bytes()).unwrap_or_default();
        }
        // 127: there is no such pager.
        pager.wait().is_ok_and(|status| status.code() != Some(127))
    }

    /// Writes a result, with a line break behind it.
    pub fn result(&self, text: impl Display) -> Result<(), Failure> {
        if self.no_results {
            return Ok(());
        }
        if self.is_within_view() {
            self.show(Output::Line(plain(&text.to_string())));
            return Ok(());
        }
        let mut text = format!("{text}\n");
        if !self.colours() {
            text = plain(&text);
        }
        // At once, and not line by line.
        let mut out = io::stdout().lock();
        out.write_all(text.as_bytes())
            .and_then(|()| out.flush())
            .map_err(output_failure)
    }

    /// Writes a sentence as a result, broken at words where the terminal is narrower.
    pub fn sentence(&self, text: impl Display) -> Result<(), Failure> {
        self.result(wrapped(&text.to_string(), self.columns(), ""))
    }

    /// The columns that results have, if they go to a terminal.
    pub fn columns(&self) -> Option<usize> {
        self.frame().width
    }

    /// Says what was done, unless it should be quiet.
    pub fn done(&self, text: impl Display) -> Result<(), Failure> {
        match self.quiet && !self.is_within_view() {
            true => Ok(()),
            false => self.sentence(text),
        }
    }

    /// Writes a table of what was done, unless it should be quiet.
    pub fn done_table(&self, table: &Table) -> Result<(), Failure> {
        match self.quiet && !self.is_within_view() {
            true => Ok(()),
            false => self.table(table),
        }
    }

    /// Writes a table as a result.
    pub fn table(&self, table: &Table) -> Result<(), Failure> {
        let text = table.render(self.frame());
        self.result(text.trim_end_matches('\n'))
    }

    /// Says that nothing is on the shelf, and what can be.
    pub fn empty_shelf(&self) -> Result<(), Failure> {
        self.result("The shelf is empty: nothing is installed yet.")?;
        self.next("To see what can be installed", "vshelf runtimes");
        Ok(())
    }

    /// Writes facts as a result: names in one column, what they are in the next.
    pub fn facts(&self, facts: &[(&str, String)]) -> Result<(), Failure> {
        let width = facts.iter().map(|(name, _)| name.len()).max().unwrap_or(0);
        facts
            .iter()
            .try_for_each(|(name, fact)| self.fact(&format!("  {name:<width$}"), fact))
    }

    /// Writes a fact as a result behind its name, and breaks it at words in its own column.
    pub fn fact(&self, name: &str, fact: &str) -> Result<(), Failure> {
        let mut indent = " ".repeat(name.chars().count() + 2);
        let width = self.frame().width;
        let longest = fact.split(' ').map(|word| word.chars().count()).max();
        let is_too_long =
            (longest.zip(width)).is_some_and(|(word, width)| indent.len() + word > width);
        let name = styled(Palette::HEADING, name);
        if is_too_long {
            // A digest stays whole in a separate line.
            indent = " ".repeat(4);
            let fact = wrapped(fact, width, &indent);
            return self.result(format!("{name}\n{indent}{}", fact.trim_start()));
        }
        let fact = wrapped(fact, width, &indent);
        self.result(format!("{name}  {}", fact.trim_start()))
    }

    /// A spine in this style with a space behind, where rows have spines.
    pub fn spine(&self, style: Style) -> String {
        match self.frame().spine {
            Some(sign) => format!("{} ", styled(style, sign)),
            None => String::new(),
        }
    }

    /// The frame for tables on standard output.
    fn frame(&self) -> Frame {
        let terminal = self.is_terminal();
        Frame {
            width: terminal
                .then(terminal_size)
                .flatten()
                .map(|(columns, _)| columns),
            spine: terminal.then_some(if self.unicode { '▌' } else { '|' }),
        }
    }

    /// The frame for a timeline on standard output: 100 columns where that is no terminal.
    pub fn timeline_frame(&self) -> vshelf_view::timeline::Frame {
        let frame = self.frame();
        vshelf_view::timeline::Frame {
            // A terminal that breaks lines at its last column would show an empty one.
            width: frame.width.unwrap_or(101).max(81) - 1,
            unicode: self.unicode,
            spine: frame.spine.is_some(),
        }
    }

    /// Writes something to know, unless it should be quiet.
    pub fn note(&self, text: impl Display) {
        if !self.quiet {
            let columns = self.columns_of_notes();
            self.complain(&wrapped(&text.to_string(), columns, ""));
        }
    }

    /// Writes lines of a file beside notes, as they are.
    pub fn excerpt(&self, lines: &str) {
        if !self.quiet {
            let lines = lines
                .lines()
                .map(|line| format!("  {}", styled(Palette::QUIET, line)));
            self.complain(&lines.collect::<Vec<_>>().join("\n"));
        }
    }

    /// Writes a warning, unless it should be quiet. The word says it where no colour is shown.
    pub fn warn(&self, text: impl Display) {
        self.note(styled(Palette::WARNING, format!("Warning: {text}")));
    }

    /// Writes what to type next, unless it should be quiet, or would run into the output of the command
    /// that the results are piped to.
    pub fn next(&self, why: &str, command: &str) {
        let is_piped = !self.is_terminal() && io::stderr().is_terminal();
        if !self.quiet && (!is_piped || self.is_within_view()) {
            self.complain(&hint(why, command, self.columns_of_notes(), ""));
        }
    }

    /// Writes a failure with its causes and ways out, however quiet it should be.
    pub fn failure(&self, failure: &Failure) {
        let style = Palette::ERROR;
        let columns = self.columns_of_notes();
        let message = format!("{style}Error:{style:#} {}.", printable(&failure.message));
        let mut lines = vec![wrapped(&message, columns, "")];
        for cause in &failure.causes {
            let cause = printable(cause);
            let cause = format!("Because: {}.", cause.trim_end_matches('.'));
            lines.push(wrapped(&cause, columns, "  "));
        }
        lines.extend(failure.hints.iter().map(|advice| match advice {
            Hint::Say(words) => wrapped(&printable(words), columns, "  "),
            Hint::Run { why, command } => hint(why, &printable(command), columns, "  "),
        }));
        let text = lines.join("\n");
        match self.is_within_view() {
            true => self.show(Output::Failure(plain(&text))),
            false => self.complain(&text),
        }
    }

    /// Tells all failures but the last, which a command gives back.
    pub fn end_with(&self, mut failures: Vec<Failure>) -> Result<(), Failure> {
        let last = failures.pop();
        failures.iter().for_each(|failure| self.failure(failure));
        last.map_or(Ok(()), Err)
    }

    /// The columns that notes have, where they go to a terminal.
    pub fn columns_of_notes(&self) -> Option<usize> {
        if self.view.is_some() || !io::stderr().is_terminal() {
            return None;
        }
        size_of(io::stderr()).map(|(columns, _)| columns)
    }

    fn complain(&self, text: &str) {
        if self.is_within_view() {
            return self.show(Output::Line(plain(text)));
        }
        let mut err = AutoStream::new(io::stderr().lock(), self.choice);
        // Where standard error is closed there is nobody left to tell.
        writeln!(err, "{text}").unwrap_or_default();
    }
}

/// Text without styles.
pub fn plain(text: &str) -> String {
    anstream::adapter::strip_str(text).to_string()
}

/// `text` in a style.
pub fn styled(style: Style, text: impl Display) -> String {
    format!("{style}{text}{style:#}")
}

fn output_failure(error: io::Error) -> Failure {
    if error.kind() == io::ErrorKind::BrokenPipe {
        // Whoever reads has read enough: end as a program that knows pipes would.
        std::process::exit(0);
    }
    Failure::new(
        Class::Other,
        format!("the output cannot be written: {error}"),
    )
}

/// The columns and rows of the terminal that standard output is.
fn terminal_size() -> Option<(usize, usize)> {
    size_of(io::stdout())
}

/// The columns and rows of a terminal.
fn size_of(terminal: impl AsFd) -> Option<(usize, usize)> {
    let size = rustix::termios::tcgetwinsize(terminal).ok()?;
    (size.ws_col > 0).then_some((usize::from(size.ws_col), usize::from(size.ws_row)))
}

/// Whether the locale's characters are UTF-8 (POSIX.1-2024, Base Definitions, §8.2).
fn locale_is_utf8() -> bool {
    ["LC_ALL", "LC_CTYPE", "LANG"]
        .iter()
        .filter_map(|name| std::env::var(name).ok())
        .find(|value| !value.is_empty())
        .is_some_and(|value| {
            let value = value.to_lowercase();
            value.contains("utf-8") || value.contains("utf8")
        })
}

/// Asks which one of these is meant, by its number or name; nothing where the answer is neither.
fn ask_for_one(
    choice: ColorChoice,
    question: &str,
    names: &[String],
) -> io::Result<Option<String>> {
    let numbered = names.iter().zip(1..);
    let numbered: Vec<String> = numbered
        .map(|(name, number)| format!("{number} {name}"))
        .collect();
    let mut err = AutoStream::new(io::stderr().lock(), choice);
    let columns = size_of(io::stderr()).map(|(columns, _)| columns);
    let question = format!("{question} {}:", listed(&numbered, "or"));
    write!(err, "{} ", wrapped(&question, columns, ""))?;
    err.flush()?;
    let mut answer = String::new();
    io::stdin().read_line(&mut answer)?;
    Ok(chosen(answer.trim(), names))
}

/// The one of these that an answer means: its number or its name.
fn chosen(answer: &str, names: &[String]) -> Option<String> {
    let numbered = answer
        .parse()
        .ok()
        .and_then(|number: usize| names.get(number.checked_sub(1)?));
    let named = || names.iter().find(|name| name.eq_ignore_ascii_case(answer));
    numbered.or_else(named).cloned()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn one_of_several_is_chosen_by_number_or_name() {
        let names = ["deno".to_owned(), "node".to_owned()];
        for (answer, expected) in [
            ("1", Some("deno")),
            ("2", Some("node")),
            ("Node", Some("node")),
            ("0", None),
            ("3", None),
            ("", None),
            ("n", None),
        ] {
            assert_eq!(chosen(answer, &names).as_deref(), expected, "{answer}");
        }
    }
}
