//! The full-screen view: lines as the spines of books on a shelf, the releases of one, the card of
//! one of these. This is what it knows and how keys change it; `draw` puts it on a terminal.

mod draw;

use std::collections::BTreeSet;

use jiff::civil::Date;
use nucleo_matcher::pattern::{CaseMatching, Normalization, Pattern};
use nucleo_matcher::{Config, Matcher, Utf32Str};
use ratatui::crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use vshelf_core::Phase;

pub use draw::{Look, SMALLEST, draw};

/// What there is to look at, as one moment of shelf and catalog gives it.
#[derive(Clone, Debug, Default)]
pub struct Stand {
    /// The runtime as people call it.
    pub title: String,
    /// What is active in the calling shell, in words.
    pub active: String,
    /// Release lines, newest first.
    pub spines: Vec<Spine>,
    /// Releases, newest first, and installs that are not published.
    pub entries: Vec<Entry>,
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
pub struct Entry {
    /// The place of its line among the spines.
    pub spine: Option<usize>,
    /// The selector that means exactly it.
    pub name: String,
    /// The day of publication.
    pub date: Option<Date>,
    /// Whether it is on the shelf.
    pub on_shelf: bool,
    /// Whether taking it off the shelf changes what the shell or new shells use.
    pub in_use: bool,
    /// What taking it off the shelf comes to, in sentences.
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
pub enum Wish {
    /// Put the entry with this name on the shelf.
    Install(String),
    /// Use it in the calling shell.
    Switch(String),
    /// Give it to new shells.
    Default(String),
    /// Bind a label to it: the label, then the name.
    Label(String, String),
    /// Take it off the shelf, even though it is in use where that is so.
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
enum Mode {
    /// They move and ask for things.
    #[default]
    Looking,
    /// They write the filter.
    Filtering,
    /// They write a label.
    Naming(String),
    /// They say yes or no to a question.
    Asking(String, Wish),
    /// Any of them takes the list of keys away.
    Helping,
}

/// What is told of a command at the lower edge.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Told {
    /// The command that runs or ran.
    Command(String),
    /// Something that it says.
    Line(String),
    /// Why it failed.
    Failure(String),
}

/// How far a download is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Headway {
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
    stand: Stand,
    /// The line that stands out.
    spine: usize,
    /// The entries that are listed, best first.
    listed: Vec<usize>,
    /// The place in the list.
    place: usize,
    filter: String,
    mode: Mode,
    told: Vec<Told>,
    headway: Option<Headway>,
    busy: bool,
    /// The card of the chosen entry: names and facts.
    card: Vec<(String, String)>,
}

impl Browser {
    /// A view with nothing chosen yet.
    pub fn new() -> Browser {
        Browser::default()
    }

    /// Shows another moment; what was chosen stays chosen where it is still there.
    pub fn show(&mut self, stand: Stand) {
        let line = self.stand.spines.get(self.spine);
        let line = line.map(|spine| spine.name.clone());
        let chosen = self.chosen().map(|entry| entry.name.clone());
        let is_first = self.stand.spines.is_empty();
        self.stand = stand;
        let same = |spine: &Spine| Some(&spine.name) == line.as_ref();
        self.spine = match is_first {
            true => self.first_spine(),
            false => self.stand.spines.iter().position(same).unwrap_or(0),
        };
        self.list();
        let same = |entry: &usize| Some(&self.stand.entries[*entry].name) == chosen.as_ref();
        let in_use = |entry: &usize| is_first && self.stand.entries[*entry].in_use;
        let place = self.listed.iter().position(same);
        let place = place.or_else(|| self.listed.iter().position(in_use));
        self.place = place.unwrap_or(0);
    }

    /// The line to begin with: that of what is marked first, or else the newest that is supported.
    fn first_spine(&self) -> usize {
        let in_use = (self.stand.entries.iter()).find(|entry| entry.in_use);
        let supported = |spine: &Spine| spine.phase.is_supported() && spine.phase != Phase::Preview;
        in_use
            .and_then(|entry| entry.spine)
            .or_else(|| self.stand.spines.iter().position(supported))
            .unwrap_or(0)
    }

    /// Begins with this text in the filter.
    pub fn filter(&mut self, text: &str) {
        text.clone_into(&mut self.filter);
        self.list();
    }

    /// The entry that the keys are about.
    pub fn chosen(&self) -> Option<&Entry> {
        self.stand.entries.get(*self.listed.get(self.place)?)
    }

    /// Sets the card of the chosen entry.
    pub fn set_card(&mut self, card: Vec<(String, String)>) {
        self.card = card;
    }

    /// Begins to tell of a command.
    pub fn begin(&mut self, command: String) {
        self.busy = true;
        self.told = vec![Told::Command(command)];
    }

    /// Tells something of the command.
    pub fn tell(&mut self, told: Told) {
        self.told.push(told);
    }

    /// Shows how far the command is.
    pub fn set_headway(&mut self, headway: Option<Headway>) {
        self.headway = headway;
    }

    /// The command has ended.
    pub fn end(&mut self) {
        self.busy = false;
        self.headway = None;
    }

    /// Lists what passes the filter: best first, and what is as good newest first; without a filter
    /// the releases of the line.
    fn list(&mut self) {
        self.place = 0;
        if self.filter.trim().is_empty() {
            let of_line = |entry: &usize| self.stand.entries[*entry].spine == Some(self.spine);
            self.listed = (0..self.stand.entries.len()).filter(of_line).collect();
            return;
        }
        let pattern = Pattern::parse(&self.filter, CaseMatching::Ignore, Normalization::Smart);
        let mut matcher = Matcher::new(Config::DEFAULT);
        let mut buffer = Vec::new();
        let mut scored: Vec<(u32, usize)> = (0..self.stand.entries.len())
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
        let entry = &self.stand.entries[entry];
        let shelf = if entry.on_shelf { "shelf" } else { "" };
        let line = entry.spine.map(|spine| &self.stand.spines[spine]);
        let line = line.map(|spine| format!("{} {}", spine.codename, spine.phase));
        let line = line.unwrap_or_default();
        let marks = [&entry.marks[..], &entry.remarks].concat().join(" ");
        format!("{} {shelf} {marks} {line}", entry.name)
    }

    /// Lets the line of the chosen entry stand out.
    fn follow(&mut self) {
        if let Some(spine) = self.chosen().and_then(|entry| entry.spine) {
            self.spine = spine;
        }
    }

    /// The lines that have something in the list.
    fn listed_spines(&self) -> BTreeSet<usize> {
        let spine = |entry: &usize| self.stand.entries[*entry].spine;
        self.listed.iter().filter_map(spine).collect()
    }

    /// What a key asks for, where it asks for something; else it changes the view.
    pub fn press(&mut self, key: KeyEvent) -> Option<Wish> {
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
                    return (!name.is_empty()).then_some(Wish::Label(name, entry));
                }
                KeyCode::Esc => self.mode = Mode::Looking,
                _ => {}
            },
        }
        None
    }

    fn look(&mut self, key: KeyEvent) -> Option<Wish> {
        match key.code {
            KeyCode::Esc if !self.filter.is_empty() => self.filter(""),
            KeyCode::Char('q') | KeyCode::Esc if self.busy => {
                let question = "It is still at work. Leave, and break it off?".to_owned();
                self.mode = Mode::Asking(question, Wish::Leave);
            }
            KeyCode::Char('q') | KeyCode::Esc => return Some(Wish::Leave),
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
            KeyCode::PageUp => self.place.saturating_sub(draw::PAGE),
            KeyCode::PageDown => self.place + draw::PAGE,
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
            false => (0..self.stand.spines.len()).collect(),
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
            let of_line = |entry: &usize| self.stand.entries[*entry].spine == Some(next);
            self.place = self.listed.iter().position(of_line).unwrap_or(0);
        } else {
            self.list();
        }
    }

    /// What a letter asks for, where the chosen entry can give it.
    fn ask_for(&mut self, letter: char) -> Option<Wish> {
        let entry = self.chosen()?.clone();
        let name = entry.name;
        match (letter, entry.on_shelf) {
            ('i', false) if entry.refused.is_none() => Some(Wish::Install(name)),
            ('s', true) => Some(Wish::Switch(name)),
            ('d', true) => Some(Wish::Default(name)),
            ('l', true) => {
                self.mode = Mode::Naming(String::new());
                None
            }
            ('r', true) => {
                let (title, removal) = (&self.stand.title, &entry.removal);
                let question = format!("Take {title} {name} off the shelf? {removal}");
                let in_use = entry.in_use;
                self.mode = Mode::Asking(question, Wish::Remove { name, in_use });
                None
            }
            _ => {
                self.told = vec![Told::Line(self.why_not(letter))];
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
            _ => format!("No key is {letter}; ? shows those there are."),
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
                self.filter("");
            }
            KeyCode::Enter => self.mode = Mode::Looking,
            KeyCode::Left => self.turn(-1),
            KeyCode::Right => self.turn(1),
            code => self.walk(code),
        }
    }

    fn answer(&mut self, key: KeyEvent) -> Option<Wish> {
        let is_yes = matches!(key.code, KeyCode::Char('y' | 'Y'));
        match std::mem::take(&mut self.mode) {
            Mode::Asking(_, wish) if is_yes => Some(wish),
            // A mere Enter is no, as everywhere.
            _ => None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use ratatui::Terminal;
    use ratatui::backend::TestBackend;
    use rstest::rstest;

    const PLAIN: Look = Look {
        colours: false,
        unicode: false,
    };

    fn spine(name: &str, codename: &str, phase: Phase) -> Spine {
        Spine {
            name: name.to_owned(),
            codename: codename.to_owned(),
            phase,
            about: format!("{name} {codename}: {phase}"),
        }
    }

    fn entry(spine: usize, name: &str, marks: &[&str]) -> Entry {
        Entry {
            spine: Some(spine),
            name: name.to_owned(),
            date: None,
            on_shelf: !marks.is_empty(),
            in_use: marks.contains(&"default"),
            removal: "0.4 MB are free then.".to_owned(),
            refused: (name == "8.2.1").then(|| "it was withdrawn".to_owned()),
            marks: marks.iter().map(|mark| (*mark).to_owned()).collect(),
            remarks: Vec::new(),
        }
    }

    fn stand() -> Stand {
        Stand {
            title: "Marram".to_owned(),
            active: "default: 8.3.1".to_owned(),
            spines: vec![
                spine("9", "", Phase::Current),
                spine("8", "Eelgrass", Phase::Lts),
                spine("6", "Samphire", Phase::Maintenance),
                spine("4", "Glasswort", Phase::Ended),
            ],
            entries: vec![
                entry(0, "9.2.0", &[]),
                entry(1, "8.3.1", &["default"]),
                entry(1, "8.2.1", &[]),
                entry(1, "8.2.0", &[]),
                entry(2, "6.20.2", &["board"]),
                entry(2, "dunefield/6.20.2", &[]),
                entry(3, "4.8.3", &[]),
            ],
        }
    }

    fn browser() -> Browser {
        let mut browser = Browser::new();
        browser.show(stand());
        browser
    }

    /// Presses keys: letters as they are, others by their names in angle brackets.
    fn press(browser: &mut Browser, keys: &str) -> Option<Wish> {
        let mut wish = None;
        for key in keys.split(' ') {
            let code = match key {
                "left" => KeyCode::Left,
                "right" => KeyCode::Right,
                "up" => KeyCode::Up,
                "down" => KeyCode::Down,
                "end" => KeyCode::End,
                "home" => KeyCode::Home,
                "enter" => KeyCode::Enter,
                "esc" => KeyCode::Esc,
                "back" => KeyCode::Backspace,
                key => KeyCode::Char(key.chars().next().unwrap()),
            };
            wish = browser.press(code.into());
        }
        wish
    }

    fn chosen(browser: &Browser) -> &str {
        browser.chosen().map_or("", |entry| &entry.name)
    }

    fn screen(browser: &Browser, width: u16, height: u16, look: Look) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| draw(frame, browser, look)).unwrap();
        let buffer = terminal.backend().buffer();
        let rows = buffer.content().chunks(usize::from(width));
        let row = |row: &[ratatui::buffer::Cell]| {
            let row: String = row.iter().map(|cell| cell.symbol()).collect();
            row.trim_end().to_owned() + "\n"
        };
        rows.map(row).collect()
    }

    #[rstest]
    // It begins with the line of what is in use.
    #[case("", "8.3.1")]
    #[case("down", "8.2.1")]
    #[case("down up", "8.3.1")]
    #[case("end", "8.2.0")]
    #[case("end down", "8.2.0")]
    #[case("right", "6.20.2")]
    #[case("right right right right", "4.8.3")]
    #[case("left left left", "9.2.0")]
    // As typed, wherever it is.
    #[case("6 . 2 0", "6.20.2")]
    #[case("/ d u n e", "dunefield/6.20.2")]
    #[case("/ g l a s s", "4.8.3")]
    #[case("/ e n d e d", "4.8.3")]
    #[case("/ b o a r d", "6.20.2")]
    #[case("/ l t s enter down", "8.2.1")]
    #[case("/ l t s esc", "8.3.1")]
    #[case("/ l x back t s", "8.3.1")]
    #[case("/ z z z", "")]
    // Among what is listed, to another line.
    #[case("/ s h e l f enter right", "6.20.2")]
    #[case("/ s h e l f enter right left", "8.3.1")]
    fn keys_choose(#[case] keys: &str, #[case] expected: &str) {
        let mut browser = browser();
        if !keys.is_empty() {
            assert_eq!(press(&mut browser, keys), None);
        }
        assert_eq!(chosen(&browser), expected);
    }

    #[rstest]
    #[case("s", Wish::Switch("8.3.1".to_owned()))]
    #[case("enter", Wish::Switch("8.3.1".to_owned()))]
    #[case("d", Wish::Default("8.3.1".to_owned()))]
    #[case("l o l d enter", Wish::Label("old".to_owned(), "8.3.1".to_owned()))]
    #[case("l o x back enter", Wish::Label("o".to_owned(), "8.3.1".to_owned()))]
    #[case("r y", Wish::Remove { name: "8.3.1".to_owned(), in_use: true })]
    #[case("right r y", Wish::Remove { name: "6.20.2".to_owned(), in_use: false })]
    #[case("left i", Wish::Install("9.2.0".to_owned()))]
    #[case("left enter", Wish::Install("9.2.0".to_owned()))]
    #[case("q", Wish::Leave)]
    #[case("esc", Wish::Leave)]
    #[case("? q q", Wish::Leave)]
    fn keys_ask_for_what_the_entry_can_give(#[case] keys: &str, #[case] expected: Wish) {
        assert_eq!(press(&mut browser(), keys), Some(expected));
    }

    #[rstest]
    #[case("r n", "")]
    #[case("r enter", "")]
    #[case("r esc", "")]
    #[case("l esc", "")]
    #[case("l enter", "")]
    #[case("i", "8.3.1 is on the shelf already.")]
    #[case("down i", "8.2.1 cannot be installed: it was withdrawn.")]
    #[case("left s", "9.2.0 is not on the shelf yet; i installs it.")]
    #[case("left r", "9.2.0 is not on the shelf yet; i installs it.")]
    #[case("x", "No key is x; ? shows those there are.")]
    fn nothing_happens_without_need(#[case] keys: &str, #[case] told: &str) {
        let mut browser = browser();
        assert_eq!(press(&mut browser, keys), None);
        let screen = screen(&browser, 80, 24, PLAIN);
        assert!(screen.contains(told), "{screen}");
        assert!(
            screen.contains("default: 8.3.1") && screen.contains("q leave"),
            "{screen}"
        );
    }

    #[test]
    fn a_command_at_work_leaves_only_moving() {
        let mut browser = browser();
        browser.begin("vshelf install 9.2.0".to_owned());
        for keys in ["s", "d", "r", "l", "left i", "enter"] {
            assert_eq!(press(&mut browser, keys), None);
        }
        assert_eq!(press(&mut browser, "q"), None);
        assert!(screen(&browser, 80, 24, PLAIN).contains("Leave, and break it off?"));
        assert_eq!(press(&mut browser, "n"), None);
        assert_eq!(press(&mut browser, "q y"), Some(Wish::Leave));
        browser.end();
        assert_eq!(press(&mut browser, "q"), Some(Wish::Leave));
    }

    #[test]
    fn it_begins_at_what_is_in_use() {
        let mut stand = stand();
        stand.entries.insert(1, entry(1, "adopted/8.4.0", &["own"]));
        let mut browser = Browser::new();
        browser.show(stand);
        assert_eq!(chosen(&browser), "8.3.1");
        assert_eq!(press(&mut browser, "up"), None);
        assert_eq!(chosen(&browser), "adopted/8.4.0");
    }

    #[test]
    fn what_is_chosen_stays_chosen_at_another_moment() {
        let mut browser = browser();
        press(&mut browser, "right down");
        let mut later = stand();
        later.entries.remove(4);
        browser.show(later.clone());
        assert_eq!(chosen(&browser), "dunefield/6.20.2");
        later.entries.remove(4);
        later.spines.remove(2);
        for entry in &mut later.entries {
            entry.spine = entry.spine.map(|spine| spine.min(2));
        }
        browser.show(later);
        assert_eq!(chosen(&browser), "9.2.0");
        browser.show(Stand::default());
        assert_eq!(chosen(&browser), "");
        assert!(screen(&browser, 80, 24, PLAIN).contains("Nothing of this line"));
    }

    #[rstest]
    #[case::unicode(true)]
    #[case::ascii(false)]
    fn it_is_all_there_at_80_by_24(#[case] unicode: bool) {
        let mut browser = browser();
        browser.set_card(vec![
            ("published".to_owned(), "2026-10-14, 6 weeks ago".to_owned()),
            (
                "checksum here".to_owned(),
                format!("sha256:{}", "8c".repeat(32)),
            ),
        ]);
        browser.begin("vshelf install 9.2.0".to_owned());
        for number in 1..9 {
            browser.tell(Told::Line(format!("said {number}")));
        }
        browser.set_headway(Some(Headway {
            title: "Marram 9.2.0".to_owned(),
            bytes: 12_000_000,
            all: Some(24_000_000),
            doing: None,
        }));
        let colours = unicode;
        let screen = screen(&browser, 80, 24, Look { colours, unicode });
        let rows: Vec<&str> = screen.lines().collect();
        assert_eq!(rows.len(), 24);
        for text in [
            "Marram   7 releases in 4 lines, 2 on the shelf",
            "Eelgrass",
            "maintenance",
            "8 Eelgrass: lts",
            "8.3.1",
            "6 weeks ago",
            "vshelf install 9.2.0",
            "said 8",
            "12.0 MB of 24.0 MB",
            "? keys  q leave",
        ] {
            assert!(screen.contains(text), "{text}\n{screen}");
        }
        // The command stays above what it said last.
        assert!(!screen.contains("said 5"), "{screen}");
        assert_eq!(screen.is_ascii(), !unicode, "{screen}");
        let digest: String = rows.iter().filter_map(|row| row.get(60..)).collect();
        assert!(unicode || digest.contains("8c8c8c"), "{screen}");
    }

    #[rstest]
    #[case(79, 24)]
    #[case(80, 23)]
    #[case(20, 5)]
    #[case(1, 1)]
    fn too_small_a_window_is_told(#[case] width: u16, #[case] height: u16) {
        let screen = screen(&browser(), width, height, PLAIN);
        assert!(
            width < 20 || screen.starts_with("This view needs 80"),
            "{screen}"
        );
    }

    #[rstest]
    #[case(80, 24)]
    #[case(128, 38)]
    #[case(250, 70)]
    fn the_line_that_stands_out_is_always_in_sight(#[case] width: u16, #[case] height: u16) {
        let mut many = stand();
        many.spines = (0..60)
            .rev()
            .map(|n| spine(&format!("{n}"), "", Phase::Ended))
            .collect();
        many.entries = (0..60)
            .map(|n| entry(n, &format!("{}.0.0", 59 - n), &[]))
            .collect();
        let mut browser = Browser::new();
        browser.show(many);
        for line in (0..60).rev() {
            let screen = screen(&browser, width, height, PLAIN);
            // Alone in the row above the other lines' numbers.
            let about = format!("{line} : ended");
            assert!(screen.contains(&about), "{about}\n{screen}");
            let words: Vec<&str> = screen.lines().nth(3).unwrap().split_whitespace().collect();
            assert!(words.contains(&line.to_string().as_str()), "{words:?}");
            press(&mut browser, "right");
        }
    }
}
