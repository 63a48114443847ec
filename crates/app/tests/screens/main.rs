//! The workbench drawn in memory: what keys and messages do, and that nothing makes it panic.
#![allow(clippy::unwrap_used)]

mod ask;
mod clients;
mod earshot;
mod recordings;
mod rules;
mod tables;

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers, MouseButton, MouseEvent, MouseEventKind};
use gossip::personas::Persona;
use gossip::recording::{self, Event};
use gossip::workbench::Access;
use gossip::workbench::Place;
use gossip::workbench::message::Effect;
use gossip::workbench::message::Message;
use gossip::workbench::message::QueryUpdate;
use gossip::workbench::rail::View;
use gossip::workbench::replay;
use gossip::workbench::state::Overlay;
use gossip::workbench::state::State;
use gossip::workbench::theme::Theme;
use gossip::workbench::update::update;
use gossip::workbench::view::view;
use gossip::workbench::views::ask::state::Refused;
use gossip::workbench::views::tables::state::{Inspection, Proposed};
use gossip::workbench::watchers::add_watcher;
use gossip_client::Direction;
use gossip_protocol::ColumnInfo;
use gossip_protocol::system::{ClientRow, ColumnType, FrameRow, SystemRow, TABLES};
use gossip_source::Finding;
use gossip_source::database::{Column, Inspected, Standing, Unfit};
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use ratatui::Terminal;
use ratatui::backend::TestBackend;
use serde_json::{Map, Value as Json, json};

fn state() -> State {
    let place = |name: &str| Place { name: name.into(), url: format!("127.0.0.1:{}", name.len()) };
    let mut access = Access { places: vec![place("north"), place("south")], title: "Test".into(), ..Access::default() };
    access.personas.insert("Imre".into(), Persona { roles: vec!["control".into()], claims: Map::new() });
    access.personas.insert("Board".into(), Persona::default());
    let mut s = State::new(&access, Theme::dark(), 10_000_000);
    s.has_database = true;
    s.has_cluster = true;
    s.can_mint = true;
    add_watcher(&mut s, "Imre", "SELECT * FROM calls", 0);
    add_watcher(&mut s, "Board", "SELECT eta FROM calls", 1);
    for (i, w) in [1, 2].into_iter().enumerate() {
        update(&mut s, Message::Place(i, 1, Ok(())));
        update(&mut s, Message::Listening(w, 2, 3));
    }
    s
}

fn row<R: SystemRow>(v: Json) -> Box<R> {
    Box::new(R::read(v.as_object().unwrap()).unwrap())
}

fn change(s: &mut State, n: u64) {
    let at = 10_000_000 + n as i64;
    let changes = json!([{"table": "calls", "key": [n], "old": {"id": n, "status": "expected"}, "new": {"id": n, "status": "inböund\u{7}"}}]);
    let r = json!({"position": format!("h:{n}"), "after": format!("h:{}", n - 1), "committed_from": at - 5, "committed_to": at,
        "read_at": at + 1, "received_at": at + 2, "reader": "north", "instance": "north", "rows": 1, "changes": changes.to_string()});
    update(s, Message::Change(0, row(r)));
}

fn verdict(s: &mut State, n: u64, watcher: u32, word: &str, cursor: &str) {
    let r = json!({"position": format!("h:{n}"), "label": format!("abc-{watcher}"), "verdict": word, "added": 0, "replaced": 1,
        "removed": 0, "at": 10_000_100, "cursor": cursor});
    update(s, Message::Verdict(row(r)));
}

fn draw(s: &mut State, columns: u16, rows: u16) -> String {
    let mut t = Terminal::new(TestBackend::new(columns, rows)).unwrap();
    t.draw(|f| view(s, f)).unwrap();
    let buffer = t.backend().buffer();
    (0..rows).map(|y| (0..columns).map(|x| buffer[(x, y)].symbol()).collect::<String>() + "\n").collect()
}

fn press(s: &mut State, code: KeyCode) -> Vec<Effect> {
    update(s, Message::Key(KeyEvent::new(code, KeyModifiers::NONE)))
}

#[test]
fn a_window_that_is_too_small_is_told_so() {
    let mut s = state();
    change(&mut s, 1);
    assert!(draw(&mut s, 79, 24).contains("make it larger"));
    assert!(draw(&mut s, 100, 30).contains("what changed"));
    for (columns, rows) in [(1, 1), (80, 24), (300, 100)] {
        draw(&mut s, columns, rows);
    }
}

#[test]
fn ten_thousand_random_keys_do_no_harm() {
    let mut rng = StdRng::seed_from_u64(7);
    let mut s = state();
    let keys: Vec<KeyCode> = [
        KeyCode::Up,
        KeyCode::Down,
        KeyCode::Left,
        KeyCode::Right,
        KeyCode::Enter,
        KeyCode::Esc,
        KeyCode::Tab,
        KeyCode::BackTab,
        KeyCode::Home,
        KeyCode::End,
        KeyCode::PageUp,
        KeyCode::PageDown,
        KeyCode::Backspace,
        KeyCode::Delete,
        KeyCode::Insert,
        KeyCode::F(5),
    ]
    .into_iter()
    .chain(" wmndpif/?elc1234567+-haskr:x{}\"',ä語é".chars().map(KeyCode::Char))
    .collect();
    let mut n = 1;
    for i in 0..10_000 {
        if rng.random_bool(0.2) {
            change(&mut s, n);
            verdict(
                &mut s,
                n,
                rng.random_range(1..5),
                ["matched", "withheld", "written"].choose(&mut rng).unwrap(),
                "c",
            );
            n += 1;
        }
        let key = *keys.choose(&mut rng).unwrap();
        for effect in press(&mut s, key) {
            match effect {
                Effect::Explain { line, watcher, .. } => {
                    update(&mut s, Message::Explained(line, watcher, Err("no".into())));
                }
                Effect::Ask { id, .. } => {
                    update(&mut s, Message::Asked(id, rows(&[(1, "a"), (2, "b")], 0)));
                    update(&mut s, Message::Asked(id, rows(&[(2, "c語")], rng.random_range(0..9))));
                }
                Effect::FollowClients(true) => {
                    drop(update(&mut s, Message::OnlyClients(0, vec![*client(1, "Imre"), *client(2, "語")])))
                }
                Effect::FollowFrames(Some((place, of))) => {
                    drop(update(&mut s, Message::ClientFrame(place, frame(of, "{"))))
                }
                Effect::Inspect => drop(update(&mut s, Message::Inspected(Ok(inspection())))),
                _ => {}
            }
        }
        if i % 50 == 0 {
            let later = s.now + 500_000;
            update(&mut s, Message::Tick(later));
            update(
                &mut s,
                Message::Instance(
                    0,
                    row(json!({"name": "north", "here": true, "reads": true, "changes": i, "deliveries": 2 * i})),
                ),
            );
        }
        if i % 20 == 0 {
            let size = *[(160, 47), (100, 30), (80, 24), (60, 10)].choose(&mut rng).unwrap();
            draw(&mut s, size.0, size.1);
        }
        assert!(!s.leaving);
    }
    s.overlay = Overlay::None;
    (s.ask.editing, s.view) = (false, View::Earshot);
    press(&mut s, KeyCode::Char('q'));
    assert!(s.leaving);
}

fn client(id: u64, subject: &str) -> Box<ClientRow> {
    let subscriptions =
        json!([{"id": 9, "number": 1, "query": format!("SELECT {subject} FROM calls"), "observed": null}]).to_string();
    row(json!({"id": id, "subject": subject, "roles": "control", "address": "10.0.0.9:5", "transport": "websocket",
        "since": format!("2031-05-11T06:00:0{id}Z"), "subscriptions": subscriptions, "sent": 40 + id, "written_to": "h:7"}))
}

fn frame(client: u64, text: &str) -> Box<FrameRow> {
    row(
        json!({"at": 10_000_000, "instance": "north", "client": client, "direction": "sent", "bytes": text.len(), "text": text}),
    )
}

#[test]
fn charts_are_read_by_a_cursor_and_written_to_a_page() {
    let mut s = state();
    assert!(matches!(press(&mut s, KeyCode::Char('7'))[..], []));
    assert!(draw(&mut s, 160, 47).contains("Nothing has been counted yet."));
    for i in 0..90 {
        update(&mut s, Message::Tick(100_000_000 + i * 1_000_000));
        let told =
            json!({"name": "north", "here": true, "reads": true, "changes": 3 * i, "deliveries": 12 * i, "waiting": i});
        update(&mut s, Message::Instance(0, row(told)));
    }
    for (columns, rows) in [(160, 47), (100, 30)] {
        let screen = draw(&mut s, columns, rows);
        for text in ["deltas 12", "changes 3", "from commit to socket, ms", "00:02:08", "00:03:07"] {
            assert!(screen.contains(text), "{text}\n{screen}");
        }
    }
    draw(&mut s, 160, 47);
    let waiting = |s: &mut State| {
        draw(s, 160, 47)
            .lines()
            .find_map(|l| l.split("for clients ").nth(1).map(|r| r.split(' ').next().unwrap().to_string()))
    };
    assert_eq!(waiting(&mut s).as_deref(), Some("87"));
    press(&mut s, KeyCode::Left);
    press(&mut s, KeyCode::Left);
    assert!(draw(&mut s, 160, 47).contains("read at 00:03:05 UTC"));
    assert_eq!(waiting(&mut s).as_deref(), Some("85"));
    // What is read stays while time goes on, and what is before it can be gone back to.
    update(&mut s, Message::Tick(300_000_000));
    update(&mut s, Message::Instance(0, row(json!({"name": "north", "here": true, "reads": true, "changes": 300}))));
    assert_eq!(waiting(&mut s).as_deref(), Some("85"));
    press(&mut s, KeyCode::Char('-'));
    assert!(draw(&mut s, 160, 47).contains("5 minutes, one value for each 5 seconds"));
    press(&mut s, KeyCode::Esc);
    assert!(draw(&mut s, 160, 47).contains("read at the newest"));
    let effects = press(&mut s, KeyCode::Char('x'));
    let [Effect::Export(page)] = &effects[..] else { panic!("{effects:?}") };
    assert!(
        page.drawing.to_svg().contains("deltas\u{a0}for\u{a0}each\u{a0}change")
            && page.text.contains("[1] changes and deltas")
    );
}

#[test]
fn help_has_every_key_also_where_they_do_not_all_fit() {
    let mut s = state();
    press(&mut s, KeyCode::Char('?'));
    let first = draw(&mut s, 100, 30);
    assert!(first.contains("more: ↓") && !first.contains("leave the workbench"), "{first}");
    (0..5).for_each(|_| drop(press(&mut s, KeyCode::PageDown)));
    let last = draw(&mut s, 100, 30);
    assert!(last.contains("leave the workbench") && !last.contains("more: ↓"), "{last}");
    press(&mut s, KeyCode::Enter);
    assert_eq!(s.overlay, Overlay::None);
}

#[test]
fn a_click_chooses_what_is_under_it_and_the_wheel_walks() {
    let mut s = state();
    (1..=40).for_each(|n| change(&mut s, n));
    let at =
        |kind, x: u16, y: u16| Message::Mouse(MouseEvent { kind, column: x, row: y, modifiers: KeyModifiers::NONE });
    let press_at = MouseEventKind::Down(MouseButton::Left);
    let screen = draw(&mut s, 160, 47);
    let y = screen.lines().position(|l| l.contains("calls 33 ")).unwrap();
    let names = screen.lines().find(|l| l.contains("Board")).unwrap();
    let x = names.split("Board").next().map(|l| l.chars().count()).unwrap() as u16;
    update(&mut s, at(press_at, 30, y as u16));
    assert_eq!(s.chosen_line().and_then(|l| l.at.as_ref()).map(|a| a.number), Some(33));
    assert!(s.held.is_some(), "what is chosen stays where it is");
    update(&mut s, at(press_at, x + 2, y as u16));
    assert_eq!(s.column, 1);
    update(&mut s, at(MouseEventKind::ScrollDown, 30, 20));
    assert_eq!(s.chosen_line().and_then(|l| l.at.as_ref()).map(|a| a.number), Some(30));
    let rail = screen.lines().position(|l| l.starts_with(" 3  Tables")).unwrap();
    update(&mut s, at(press_at, 5, rail as u16));
    assert_eq!(s.view, View::Tables);
}

fn rows(all: &[(i64, &str)], deltas: u64) -> QueryUpdate {
    let column = |name: &str| ColumnInfo { name: name.into(), ty: "text".into(), key: name == "id" };
    let one = |(id, status): &(i64, &str)| {
        (format!("[{id}]"), json!({"id": id, "status": status}).as_object().cloned().unwrap())
    };
    QueryUpdate::Rows {
        columns: vec![column("id"), column("status"), column("hidden")],
        rows: all.iter().map(one).collect(),
        total: all.len(),
        deltas,
    }
}

fn inspection() -> Inspection {
    let column = |name: &str| Column {
        name: name.into(),
        declared: "TEXT".into(),
        not_null: false,
        key: name == "id",
        refers_to: None,
    };
    let table = |name: &str, wanted, rows| Inspected {
        name: name.into(),
        wanted,
        columns: vec![column("id"), column("status")],
        is_table: true,
        rows: Some(rows),
        unfit: None,
    };
    let finding = |about: &str, text: &str, fix: Option<&str>| Finding {
        blocks: true,
        about: about.into(),
        text: text.into(),
        fix: fix.map(String::from),
    };
    Inspection {
        tables: vec![table("calls", true, 3), table("dues", false, 1)],
        findings: vec![
            finding("calls", "is not streaming", Some("gossip prepare")),
            finding("h", "journal mode is delete", Some("PRAGMA journal_mode = WAL")),
        ],
        standing: vec![Standing { what: "journal mode".into(), how: "delete".into(), wrong: true }],
    }
}

fn type_text(s: &mut State, text: &str) {
    text.chars().for_each(|c| drop(press(s, KeyCode::Char(c))));
}

#[test]
fn the_palette_finds_every_action_by_its_words_and_does_it() {
    let mut s = state();
    change(&mut s, 1);
    press(&mut s, KeyCode::Char(':'));
    type_text(&mut s, "persona edit");
    assert!(draw(&mut s, 160, 47).contains("edit the chosen watcher's persona"));
    press(&mut s, KeyCode::Enter);
    assert!(draw(&mut s, 160, 47).contains("claims as JSON"));
    press(&mut s, KeyCode::Esc);
    press(&mut s, KeyCode::Char(':'));
    type_text(&mut s, "tables streams");
    press(&mut s, KeyCode::Enter);
    assert_eq!(s.view, View::Tables);
}

/// Over a slow line an escape and the next key arrive as one, which looks like Alt.
#[test]
fn an_escape_right_before_a_key_is_both() {
    let mut s = state();
    press(&mut s, KeyCode::Char(':'));
    assert!(matches!(s.overlay, Overlay::Palette(..)));
    let both = KeyEvent::new(KeyCode::Char('2'), KeyModifiers::ALT);
    update(&mut s, Message::Key(both));
    assert!(s.overlay == Overlay::None && s.view == View::Ask);
    // In a query, Alt and enter make a new line.
    update(&mut s, Message::Key(KeyEvent::new(KeyCode::Enter, KeyModifiers::ALT)));
    assert!(s.ask.editing && s.ask.editor.lines().len() == 2);
}

#[test]
fn trouble_with_decisions_from_elsewhere_is_told_on_every_view() {
    let mut s = state();
    let told = |text: Json| Message::Instance(0, row(json!({"name": "north", "decisions": text})));
    update(&mut s, told(json!("failing since 2026-11-23T10:00:00Z: no answer within 800 ms")));
    for view in ['1', '2', '4'] {
        press(&mut s, KeyCode::Esc);
        press(&mut s, KeyCode::Char(view));
        let screen = draw(&mut s, 160, 47);
        let told = screen.lines().nth(1).unwrap();
        assert!(told.contains("north: no decisions from elsewhere since "), "{screen}");
        assert!(told.contains(":00:00.000: no answer within 800 ms"), "{screen}");
    }
    update(&mut s, told(json!("answering")));
    assert!(!draw(&mut s, 160, 47).contains("decisions"));
}
