//! What the full-screen view knows, and how keys change it.

use std::collections::BTreeSet;

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use jiff::civil::Date;
use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};
use vshelf_core::Phase;

/// The entries that a page key goes past.
pub(super) const PAGE: usize = 10;

/// What there is to look at, as one moment of shelf and catalog gives it.
#[derive(Clone, Debug, Default)]
pub struct Snapshot {
    /// The runtime as people call it.
    pub title: String,
    /// What is active in the calling shell, in words.
    pub active: String,
    /// Release lines, newest first.
    pub spines: Vec<Spine>,
    /// Releases, newest first, and installs that are not published.
    pub entries: Vec<BrowseItem>,
}

/// A release line.
#[derive(Clone, Debug)]
pub struct Spine {
    /// Its leading numbers.
    pub name: String,
    /// Its code name, empty where it has none.
    pub codename: String,
    /// Where it stands today.
    pub phase: Phase,
    /// Its phase and support in words.
    pub about: String,
}

/// A release, or an install that nobody publishes.
#[derive(Clone, Debug)]
pub struct BrowseItem {
    /// The place of its line among the spines.
    pub spine: Option<usize>,
    /// The selector that means exactly it.
    pub name: String,
    /// The day of publication.
    pub date: Option<Date>,
    /// Whether it is on the shelf.
    pub on_shelf: bool,
    /// Whether removing it changes what the shell or new shells use.
    pub in_use: bool,
    /// What removing it means, in sentences.
    pub removal: String,
    /// Why it cannot be installed.
    pub refused: Option<String>,
    /// What its install is to the person, in words.
    pub marks: Vec<String>,
    /// What is special about the release, in words.
    pub remarks: Vec<String>,
}

/// What a person asks for by a key.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Action {
    /// Put the entry with this name on the shelf.
    Install(String),
    /// Use it in the calling shell.
    Switch(String),
    /// Give it to new shells.
    Default(String),
    /// Bind a label to it: the label, then the name.
    Label(String, String),
    /// Remove it, even though it is in use where that is so.
    Remove {
        /// Its name.
        name: String,
        /// Whether it is in use.
        in_use: bool,
    },
    /// Leave the view.
    Leave,
}

/// What keys do now.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub(super) enum Mode {
    /// They move and ask for things.
    #[default]
    Looking,
    /// They write the filter.
    Filtering,
    /// They write a label.
    Naming(String),
    /// They say yes or no to a question.
    Asking(String, Action),
    /// Any of them takes the list of keys away.
    Helping,
}

/// What is told of a command at the lower edge.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Message {
    /// The command that runs or ran.
    Command(String),
    /// Something that it says.
    Line(String),
    /// Why it failed.
    Failure(String),
}

/// How far a download is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TransferProgress {
    /// What comes.
    pub title: String,
    /// Bytes that are here.
    pub bytes: u64,
    /// Bytes of all of it, where they are known.
    pub all: Option<u64>,
    /// What is done after the download.
    pub doing: Option<String>,
}

/// The view's state.
#[derive(Debug, Default)]
pub struct Browser {
    pub(super) snapshot: Snapshot,
    /// The line that stands out.
    pub(super) spine: usize,
    /// The entries that are listed, best first.
    pub(super) listed: Vec<usize>,
    /// The place in the list.
    pub(super) place: usize,
    pub(super) filter: String,
    pub(super) mode: Mode,
    pub(super) told: Vec<Message>,
    pub(super) progress: Option<TransferProgress>,
    pub(super) busy: bool,
    /// The card of the chosen entry: names and facts.
    pub(super) card: Vec<(String, String)>,
}

impl Browser {
    /// A view with nothing chosen yet.
    pub fn new() -> Browser {
        Browser::default()
    }

    /// Shows another moment; what was chosen stays chosen where it is still there.
    pub fn show(&mut self, snapshot: Snapshot) {
        let line = self.snapshot.spines.get(self.spine);
        let line = line.map(|spine| spine.name.clone());
        let chosen = self.chosen().map(|entry| entry.name.clone());
        let is_first = self.snapshot.spines.is_empty();
        self.snapshot = snapshot;
        let same = |spine: &Spine| Some(&spine.name) == line.as_ref();
        self.spine = match is_first {
            true => self.first_spine(),
            false => self.snapshot.spines.iter().position(same).unwrap_or(0),
        };
        self.list();
        let same = |entry: &usize| Some(&self.snapshot.entries[*entry].name) == chosen.as_ref();
        let in_use = |entry: &usize| is_first && self.snapshot.entries[*entry].in_use;
        let place = self.listed.iter().position(same);
        let place = place.or_else(|| self.listed.iter().position(in_use));
        self.place = place.unwrap_or(0);
    }

    /// The line to begin with: that of what is marked first, or else the newest that is supported.
    fn first_spine(&self) -> usize {
        let in_use = (self.snapshot.entries.iter()).find(|entry| entry.in_use);
        let supported = |spine: &Spine| spine.phase.is_supported() && spine.phase != Phase::Preview;
        in_use
            .and_then(|entry| entry.spine)
            .or_else(|| self.snapshot.spines.iter().position(supported))
            .unwrap_or(0)
    }

    fn clear_filter(&mut self) {
        self.filter.clear();
        self.list();
    }

    /// The entry that the keys are about.
    pub fn chosen(&self) -> Option<&BrowseItem> {
        self.snapshot.entries.get(*self.listed.get(self.place)?)
    }

    /// Sets the card of the chosen entry.
    pub fn set_card(&mut self, card: Vec<(String, String)>) {
        self.card = card;
    }

    /// Begins to tell of a command.
    pub fn begin(&mut self, command: String) {
        self.busy = true;
        self.told = vec![Message::Command(command)];
    }

    /// Tells something of the command.
    pub fn tell(&mut self, told: Message) {
        self.told.push(told);
    }

    /// Shows how far the command is.
    pub fn set_progress(&mut self, progress: Option<TransferProgress>) {
        self.progress = progress;
    }

    /// The command has ended.
    pub fn end(&mut self) {
        self.busy = false;
        self.progress = None;
    }

    /// Lists what passes the filter: best first, and what is as good newest first; without a filter
    /// the releases of the line.
    fn list(&mut self) {
        self.place = 0;
        if self.filter.trim().is_empty() {
            let of_line = |entry: &usize| self.snapshot.entries[*entry].spine == Some(self.spine);
            self.listed = (0..self.snapshot.entries.len()).filter(of_line).collect();
            return;
        }
        let pattern = Pattern::parse(&self.filter, CaseMatching::Ignore, Normalization::Smart);
        let mut matcher = Matcher::new(Config::DEFAULT);
        let mut buffer = Vec::new();
        let mut scored: Vec<(u32, usize)> = (0..self.snapshot.entries.len())
            .filter_map(|entry| {
                let words = self.words(entry);
                let words = Utf32Str::new(&words, &mut buffer);
                Some((pattern.score(words, &mut matcher)?, entry))
            })
            .collect();
        scored.sort_by_key(|(score, entry)| (std::cmp::Reverse(*score), *entry));
        self.listed = scored.into_iter().map(|(_, entry)| entry).collect();
        self.follow();
    }

    /// What the filter looks at.
    fn words(&self, entry: usize) -> String {
        let entry = &self.snapshot.entries[entry];
        let shelf = if entry.on_shelf { "shelf" } else { "" };
        let line = entry.spine.map(|spine| &self.snapshot.spines[spine]);
        let line = line.map(|spine| format!("{} {}", spine.codename, spine.phase));
        let line = line.unwrap_or_default();
        let marks = [&entry.marks[..], &entry.remarks].concat().join(" ");
        format!("{} {shelf} {marks} {line}", entry.name)
    }

    /// Lets the line of the chosen entry snapshot out.
    fn follow(&mut self) {
        if let Some(spine) = self.chosen().and_then(|entry| entry.spine) {
            self.spine = spine;
        }
    }

    /// The lines that have something in the list.
    pub(super) fn listed_spines(&self) -> BTreeSet<usize> {
        let spine = |entry: &usize| self.snapshot.entries[*entry].spine;
        self.listed.iter().filter_map(spine).collect()
    }

    /// What a key asks for, where it asks for something; else it changes the view.
    pub fn press(&mut self, key: KeyEvent) -> Option<Action> {
        if key.modifiers.contains(KeyModifiers::CONTROL) && key.code == KeyCode::Char('l') {
            return None;
        }
        match &mut self.mode {
            Mode::Looking => return self.look(key),
            Mode::Filtering => self.write_filter(key),
            Mode::Helping => self.mode = Mode::Looking,
            Mode::Asking(..) => return self.answer(key),
            Mode::Naming(name) => match key.code {
                KeyCode::Char(c) => name.push(c),
                KeyCode::Backspace => {
                    name.pop();
                }
                KeyCode::Enter => {
                    let name = std::mem::take(name);
                    self.mode = Mode::Looking;
                    let entry = self.chosen()?.name.clone();
                    return (!name.is_empty()).then_some(Action::Label(name, entry));
                }
                KeyCode::Esc => self.mode = Mode::Looking,
                _ => {}
            },
        }
        None
    }

    fn look(&mut self, key: KeyEvent) -> Option<Action> {
        match key.code {
            KeyCode::Esc if !self.filter.is_empty() => self.clear_filter(),
            KeyCode::Char('q') | KeyCode::Esc if self.busy => {
                let question = "It is still running. Leave, and cancel it?".to_owned();
                self.mode = Mode::Asking(question, Action::Leave);
            }
            KeyCode::Char('q') | KeyCode::Esc => return Some(Action::Leave),
            KeyCode::Char('?') => self.mode = Mode::Helping,
            KeyCode::Char('/') => self.mode = Mode::Filtering,
            // Versions begin with a digit, and no key is one.
            KeyCode::Char(c) if c.is_ascii_digit() => {
                self.mode = Mode::Filtering;
                self.write_filter(key);
            }
            KeyCode::Left => self.turn(-1),
            KeyCode::Right => self.turn(1),
            KeyCode::Char(c) if !self.busy => return self.ask_for(c),
            KeyCode::Enter if !self.busy => {
                let on_shelf = self.chosen()?.on_shelf;
                return self.ask_for(if on_shelf { 's' } else { 'i' });
            }
            _ => self.walk(key.code),
        }
        None
    }

    /// Goes up and down the list.
    fn walk(&mut self, key: KeyCode) {
        let last = self.listed.len().saturating_sub(1);
        self.place = match key {
            KeyCode::Up => self.place.saturating_sub(1),
            KeyCode::Down => self.place + 1,
            KeyCode::PageUp => self.place.saturating_sub(PAGE),
            KeyCode::PageDown => self.place + PAGE,
            KeyCode::Home => 0,
            KeyCode::End => last,
            _ => self.place,
        }
        .min(last);
        self.follow();
    }

    /// Goes to the next line that has something to show, to the left or to the right.
    fn turn(&mut self, by: isize) {
        let filtered = !self.filter.is_empty();
        let spines = match filtered {
            true => self.listed_spines(),
            false => (0..self.snapshot.spines.len()).collect(),
        };
        let next = match by < 0 {
            true => spines.range(..self.spine).next_back(),
            false => spines.range(self.spine + 1..).next(),
        };
        let Some(next) = next.copied() else {
            return;
        };
        self.spine = next;
        if filtered {
            let of_line = |entry: &usize| self.snapshot.entries[*entry].spine == Some(next);
            self.place = self.listed.iter().position(of_line).unwrap_or(0);
        } else {
            self.list();
        }
    }

    /// What a letter asks for, where the chosen entry can give it.
    fn ask_for(&mut self, letter: char) -> Option<Action> {
        let entry = self.chosen()?.clone();
        let name = entry.name;
        match (letter, entry.on_shelf) {
            ('i', false) if entry.refused.is_none() => Some(Action::Install(name)),
            ('s', true) => Some(Action::Switch(name)),
            ('d', true) => Some(Action::Default(name)),
            ('l', true) => {
                self.mode = Mode::Naming(String::new());
                None
            }
            ('r', true) => {
                let (title, removal) = (&self.snapshot.title, &entry.removal);
                let question = format!("Remove {title} {name}? {removal}");
                let in_use = entry.in_use;
                self.mode = Mode::Asking(question, Action::Remove { name, in_use });
                None
            }
            _ => {
                self.told = vec![Message::Line(self.why_not(letter))];
                None
            }
        }
    }

    /// Why a letter does nothing for the chosen entry.
    fn why_not(&self, letter: char) -> String {
        let Some(entry) = self.chosen() else {
            return String::new();
        };
        let name = &entry.name;
        match (letter, &entry.refused) {
            ('i', Some(reason)) => format!("{name} cannot be installed: {reason}."),
            ('i', None) => format!("{name} is on the shelf already."),
            ('s' | 'd' | 'l' | 'r', _) => {
                format!("{name} is not on the shelf yet; i installs it.")
            }
            _ => format!("{letter} does nothing here; ? lists the keys."),
        }
    }

    fn write_filter(&mut self, key: KeyEvent) {
        match key.code {
            KeyCode::Char(c) => {
                self.filter.push(c);
                self.list();
            }
            KeyCode::Backspace => {
                self.filter.pop();
                self.list();
            }
            KeyCode::Esc => {
                self.mode = Mode::Looking;
                self.clear_filter();
            }
            KeyCode::Enter => self.mode = Mode::Looking,
            KeyCode::Left => self.turn(-1),
            KeyCode::Right => self.turn(1),
            code => self.walk(code),
        }
    }

    fn answer(&mut self, key: KeyEvent) -> Option<Action> {
        let is_yes = matches!(key.code, KeyCode::Char('y' | 'Y'));
        match std::mem::take(&mut self.mode) {
            Mode::Asking(_, action) if is_yes => Some(action),
            // A mere Enter is no, as everywhere.
            _ => None,
        }
    }
}
