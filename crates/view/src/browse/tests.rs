//! The view, key by key, and what it draws.

use super::draw::*;
use super::state::*;
use crossterm::event::KeyCode;
use rstest::rstest;
use vshelf_core::Phase;

const PLAIN: Appearance = Appearance {
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

fn entry(spine: usize, name: &str, marks: &[&str]) -> BrowseItem {
    BrowseItem {
        spine: Some(spine),
        name: name.to_owned(),
        date: None,
        on_shelf: !marks.is_empty(),
        in_use: marks.contains(&"default"),
        removal: "This frees 0.4 MB.".to_owned(),
        refused: (name == "8.2.1").then(|| "it was withdrawn".to_owned()),
        marks: marks.iter().map(|mark| (*mark).to_owned()).collect(),
        remarks: Vec::new(),
    }
}

fn snapshot() -> Snapshot {
    Snapshot {
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
    browser.show(snapshot());
    browser
}

/// Presses keys: letters as they are, others by their names in angle brackets.
fn press(browser: &mut Browser, keys: &str) -> Option<Action> {
    let mut action = None;
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
        action = browser.press(code.into());
    }
    action
}

fn chosen(browser: &Browser) -> &str {
    browser.chosen().map_or("", |entry| &entry.name)
}

fn screen(browser: &Browser, width: u16, height: u16, look: Appearance) -> String {
    let rows = draw((width, height), browser, look).texts().into_iter();
    rows.map(|row| row.trim_end().to_owned() + "\n").collect()
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
#[case("s", Action::Switch("8.3.1".to_owned()))]
#[case("enter", Action::Switch("8.3.1".to_owned()))]
#[case("d", Action::Default("8.3.1".to_owned()))]
#[case("l o l d enter", Action::Label("old".to_owned(), "8.3.1".to_owned()))]
#[case("l o x back enter", Action::Label("o".to_owned(), "8.3.1".to_owned()))]
#[case("r y", Action::Remove { name: "8.3.1".to_owned(), in_use: true })]
#[case("right r y", Action::Remove { name: "6.20.2".to_owned(), in_use: false })]
#[case("left i", Action::Install("9.2.0".to_owned()))]
#[case("left enter", Action::Install("9.2.0".to_owned()))]
#[case("q", Action::Leave)]
#[case("esc", Action::Leave)]
#[case("? q q", Action::Leave)]
fn keys_ask_for_what_the_entry_can_give(#[case] keys: &str, #[case] expected: Action) {
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
#[case("x", "x does nothing here; ? lists the keys.")]
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
    assert!(screen(&browser, 80, 24, PLAIN).contains("Leave, and cancel it?"));
    assert_eq!(press(&mut browser, "n"), None);
    assert_eq!(press(&mut browser, "q y"), Some(Action::Leave));
    browser.end();
    assert_eq!(press(&mut browser, "q"), Some(Action::Leave));
}

#[test]
fn it_begins_at_what_is_in_use() {
    let mut snapshot = snapshot();
    snapshot
        .entries
        .insert(1, entry(1, "adopted/8.4.0", &["own"]));
    let mut browser = Browser::new();
    browser.show(snapshot);
    assert_eq!(chosen(&browser), "8.3.1");
    assert_eq!(press(&mut browser, "up"), None);
    assert_eq!(chosen(&browser), "adopted/8.4.0");
}

#[test]
fn what_is_chosen_stays_chosen_at_another_moment() {
    let mut browser = browser();
    press(&mut browser, "right down");
    let mut later = snapshot();
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
    browser.show(Snapshot::default());
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
        browser.tell(Message::Line(format!("said {number}")));
    }
    browser.set_progress(Some(TransferProgress {
        title: "Marram 9.2.0".to_owned(),
        bytes: 12_000_000,
        all: Some(24_000_000),
        doing: None,
    }));
    let colours = unicode;
    let screen = screen(&browser, 80, 24, Appearance { colours, unicode });
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
    let mut many = snapshot();
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

#[rstest]
#[case(100, "this shell, default, label board")]
#[case(
    144,
    "this shell, default, label board, required by tide-board and 4 more"
)]
fn marks_are_whole_while_there_is_room_beside_the_card(#[case] columns: u16, #[case] marks: &str) {
    let mut snapshot = snapshot();
    snapshot.entries[1].marks = marks.split(", ").map(str::to_owned).collect();
    let mut browser = Browser::new();
    browser.show(snapshot);
    let drawn = screen(&browser, columns, 24, PLAIN);
    assert!(drawn.contains(marks), "{drawn}");
    // And the card has room for itself.
    let narrow = screen(&browser, 80, 24, PLAIN);
    assert!(
        !narrow.contains("required by tide-board and 4 more"),
        "{narrow}"
    );
}
