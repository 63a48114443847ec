//! The workbench drawn in memory: what keys and messages do, and that nothing makes it panic.
#![allow(clippy::unwrap_used)]

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
use gossip_source::database::{Column, Inspected};
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
fn marks_tell_what_became_of_each_change() {
    let mut s = state();
    for n in 1..=5 {
        change(&mut s, n);
    }
    let delta = |s: &mut State, cursor: &str| {
        let m = Message::Delta { watcher: 1, at: 10_000_500, cursor: cursor.into(), frame: "{}".into(), rows: 3 };
        update(s, m);
    };
    // The frame before its verdict, and after it.
    delta(&mut s, "c1");
    verdict(&mut s, 1, 1, "matched", "c1");
    verdict(&mut s, 2, 1, "matched", "c2");
    delta(&mut s, "c2");
    verdict(&mut s, 3, 1, "matched", "c3");
    verdict(&mut s, 4, 1, "withheld", "");
    // A verdict that is faster than its line.
    verdict(&mut s, 6, 1, "outside", "");
    change(&mut s, 6);
    let words = |s: &State| -> Vec<&str> { s.lines.iter().map(|l| s.mark(l, &s.watchers[0]).word()).collect() };
    assert_eq!(
        words(&s),
        ["outside the query", "on its way", "withheld by rule", "on its way", "heard: replaced", "heard: replaced"]
    );
    // Its own connection was told of a later position, and the delta had not come: it never will.
    update(&mut s, Message::Current(1, "h:6".into()));
    assert_eq!(words(&s)[3], "missed");
    assert!(draw(&mut s, 160, 47).contains("✖ missed"));
    // A snapshot brings what was missed.
    update(&mut s, Message::Snapshot(1, "gap".into(), 3));
    assert_eq!(words(&s)[3], "late, by snapshot");
}

#[test]
fn the_flow_holds_still_while_lines_arrive() {
    let mut s = state();
    (1..=40).for_each(|n| change(&mut s, n));
    draw(&mut s, 160, 47);
    press(&mut s, KeyCode::Down);
    let before = draw(&mut s, 160, 47);
    (41..=50).for_each(|n| change(&mut s, n));
    let after = draw(&mut s, 160, 47);
    assert!(after.contains("paused, 10 newer"));
    let body = |text: &str| text.lines().skip(7).take(20).map(String::from).collect::<Vec<_>>();
    assert_eq!(body(&before), body(&after));
    press(&mut s, KeyCode::Char(' '));
    assert!(draw(&mut s, 160, 47).contains("calls 50"));
}

#[test]
fn a_change_made_here_becomes_the_line_that_the_stream_brings() {
    let mut s = state();
    update(&mut s, Message::Instance(0, row(json!({"name": "north", "source": "h"}))));
    for made_first in [true, false] {
        let n = s.lines.len() as u64 + 1;
        press(&mut s, KeyCode::Char('m'));
        let effects = press(&mut s, KeyCode::Enter);
        let Some(Effect::Make(id, _)) = effects.first() else { panic!("{effects:?}") };
        let made = Message::Made(*id, gossip_source::database::Made::Logged(gossip_source::database::KnownBy::Log(n)));
        if made_first {
            update(&mut s, made);
            change(&mut s, n);
        } else {
            change(&mut s, n);
            update(&mut s, made);
        }
        assert_eq!(s.lines.len() as u64, n, "one line, not two");
        assert!(draw(&mut s, 160, 47).contains("(yours)"));
    }
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
fn clients_are_followed_while_they_are_looked_at_and_acted_on() {
    let mut s = state();
    let effects = press(&mut s, KeyCode::Char('6'));
    assert!(matches!(&effects[..], [Effect::FollowClients(true)]), "{effects:?}");
    assert!(draw(&mut s, 160, 47).contains("Nobody is connected."));
    let effects = update(&mut s, Message::OnlyClients(0, vec![*client(1, "Imre"), *client(2, "Tove")]));
    assert!(matches!(&effects[..], [Effect::FollowFrames(Some((0, 1)))]), "the first: {effects:?}");
    let delta = r#"{"method":"delta","params":{"changes":[{"op":"replace","key":[13],"changed":["status"]}]}}"#;
    update(&mut s, Message::ClientFrame(0, frame(1, delta)));
    update(&mut s, Message::ClientFrame(0, frame(2, "of somebody else")));
    let left = json!({"at": 9_000_000, "instance": "south", "client": 5, "subject": "Oyelaran", "roles": "agent",
        "what": "disconnected", "why": "it read nothing for 60 s", "sent": 1});
    update(&mut s, Message::Came(1, row(left)));
    for (columns, rows) in [(160, 47), (100, 30)] {
        let screen = draw(&mut s, columns, rows);
        for text in [
            "2 clients",
            "Imre",
            "SELECT Imre FROM calls",
            "replace 13: status",
            "Oyelaran",
            "it read nothing for 60 s",
        ] {
            assert!(screen.contains(text), "{text} at {columns}\n{screen}");
        }
        assert!(!screen.contains("of somebody else"));
    }
    assert!(draw(&mut s, 160, 47).contains("h:7"), "what has been written, where there is room");
    // Whoever is slow stands first, and what is chosen stays chosen.
    update(
        &mut s,
        Message::Client(0, 2, Some(Box::new(ClientRow { waiting: 3, waiting_bytes: 5_000, ..*client(2, "Tove") }))),
    );
    let screen = draw(&mut s, 160, 47);
    let line = |name: &str| screen.lines().position(|l| l.contains(name) && l.contains("control")).unwrap();
    assert!(line("Tove") < line("Imre") && screen.contains("4 KiB (3)"), "{screen}");
    assert_eq!(s.clients.followed, Some((0, 2)), "nobody was chosen: the first is shown");
    press(&mut s, KeyCode::Down);
    assert_eq!(s.clients.followed, Some((0, 1)));
    assert!(matches!(press(&mut s, KeyCode::Char('l'))[..], [Effect::HoldClient { place: 0, client: 1, ms: 10_000 }]));
    update(&mut s, Message::Client(0, 1, Some(Box::new(ClientRow { held_ms: 900, ..*client(1, "Imre") }))));
    assert!(matches!(press(&mut s, KeyCode::Char('l'))[..], [Effect::HoldClient { ms: 0, .. }]));
    // What ends a connection asks first.
    assert!(press(&mut s, KeyCode::Char('d')).is_empty());
    assert!(draw(&mut s, 160, 47).contains("Disconnect Imre"));
    let effects = press(&mut s, KeyCode::Enter);
    assert!(matches!(&effects[..], [Effect::CarryOut(p)] if p.what == Proposed::Disconnect((0, 1))), "{effects:?}");
    update(&mut s, Message::Client(0, 1, None));
    update(&mut s, Message::OnlyClients(0, vec![]));
    assert_eq!(s.clients.followed, None);
    let effects = press(&mut s, KeyCode::Char('1'));
    assert!(matches!(&effects[..], [Effect::FollowClients(false)]), "{effects:?}");
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

/// Rows of every table with the strangest values that a file can have: they are shown, counted and reported, and nothing ends.
#[test]
fn recordings_that_nobody_would_make_do_no_harm() {
    let mut rng = StdRng::seed_from_u64(11);
    let value = |rng: &mut StdRng, column: &str, ty: ColumnType| -> Json {
        let numbers = [0, 1, -1, i64::MIN, i64::MAX, 1_000_000, 4_102_444_800_000_000];
        let listed = r#"[{"id":1,"number":1,"query":"q","observed":"a-1","table":"t","key":[1],"new":{"id":1}}]"#;
        match (column, ty) {
            ("subscriptions" | "changes", _) => json!(["[]", listed, "{"][rng.random_range(0..3)]),
            ("columns" | "masks", _) => json!(["[]", "{}", "null", "7"][rng.random_range(0..4)]),
            ("position" | "after" | "written_to", _) => {
                json!(["h:1", "h:2", "h:18446744073709551615", "h", ""][rng.random_range(0..5)])
            }
            ("label" | "observed", _) => json!(["a-1", "b-2", "é"][rng.random_range(0..3)]),
            ("verdict", _) => json!(["written", "matched", "withheld", "other"][rng.random_range(0..4)]),
            (_, ColumnType::Bool) => json!(rng.random_bool(0.5)),
            (_, ColumnType::Float8) => json!([0.0, -1.0, f64::MAX, 1e-300][rng.random_range(0..4)]),
            (_, ColumnType::Int8) => match rng.random_range(0..8) {
                7 => json!(u64::MAX),
                i => json!(numbers[i]),
            },
            _ => json!(["", "north", "語\u{7}", "it read nothing for 60 s", "disconnected"][rng.random_range(0..5)]),
        }
    };
    for round in 0..150 {
        let mut events: Vec<Event> = (0..60)
            .map(|_| {
                let shape = TABLES.choose(&mut rng).unwrap();
                let table = recording::TABLES.into_iter().find(|t| *t == shape.name).unwrap_or("verdicts");
                let shape = TABLES.iter().find(|shape| shape.name == table).unwrap();
                let mut row: Map<String, Json> =
                    shape.columns.iter().map(|(name, ty)| (name.to_string(), value(&mut rng, name, *ty))).collect();
                if rng.random_bool(0.1) {
                    row.insert("gone".into(), true.into());
                }
                let at = [0, 1, 2_000_000, 90_000_000_000_000_000][rng.random_range(0..4)];
                Event { instance: ["north", "south", ""].choose(&mut rng).unwrap().to_string(), table, at, row }
            })
            .collect();
        if rng.random_bool(0.5) {
            events.sort_by_key(|event| event.at);
        }
        let mut s = replay::state(events.clone(), "strange".into(), Theme::dark());
        let report = gossip::incident::report::report(&s, &events);
        assert!(report.pages.len() >= 2, "round {round}");
        for key in ["1", "w", "X", "3", "6", "7", "-", "x", "<", ".", ".", "1"] {
            press(&mut s, KeyCode::Char(key.chars().next().unwrap()));
            replay::play(&mut s, i64::from(round) * 1_000_000);
            let size = if round % 2 == 0 { (160, 47) } else { (100, 30) };
            draw(&mut s, size.0, size.1);
        }
        press(&mut s, KeyCode::Enter);
        draw(&mut s, 160, 47);
    }
}

#[test]
fn a_recording_is_played_by_its_own_clock() {
    let change = |n: i64| {
        let at = 1_000_000 * n;
        let changes = json!([{"table": "calls", "key": [n], "new": {"id": n}}]).to_string();
        let r = json!({"position": format!("h:{n}"), "after": format!("h:{}", n - 1), "committed_from": at, "committed_to": at,
            "read_at": at, "received_at": at, "reader": "north", "instance": "north", "rows": 1, "changes": changes});
        Event { instance: "north".into(), table: "changes", at, row: r.as_object().cloned().unwrap() }
    };
    let events: Vec<Event> = (1..=9).map(change).collect();
    let mut s = replay::state(events, "test".into(), Theme::dark());
    assert_eq!(s.lines.len(), 9);
    assert!(draw(&mut s, 160, 47).contains("at its end"));
    let mut now = 77_000_000;
    let mut after = |s: &mut State, key: Option<char>, passed: i64| {
        key.into_iter().for_each(|c| drop(press(s, KeyCode::Char(c))));
        replay::play(s, now);
        now += passed;
        replay::play(s, now);
        s.lines.len()
    };
    assert_eq!(after(&mut s, Some('<'), 5_000_000), 0, "at the beginning, and paused");
    assert_eq!(after(&mut s, Some('.'), 0), 1);
    assert_eq!(after(&mut s, Some('.'), 9_000_000), 2, "one, however long it takes");
    assert_eq!(after(&mut s, Some('>'), 2_000_000), 4, "two seconds more");
    assert_eq!(after(&mut s, Some(']'), 1_000_000), 6, "twice as fast");
    assert_eq!(after(&mut s, Some('>'), 9_000_000), 6, "paused");
    assert!(draw(&mut s, 160, 47).contains("paused, 6 of 9 events, 2×"));
    assert_eq!(after(&mut s, Some('>'), 60_000_000), 9);
    assert!(draw(&mut s, 160, 47).contains("at its end"));
    assert_eq!(after(&mut s, Some('>'), 500_000), 2, "and anew: the first second is where it begins");
}

#[test]
fn a_frame_that_is_looked_at_stays_while_others_arrive() {
    let mut s = state();
    let log = s.watchers[0].frames.clone();
    let note = |n: u32| log.note(1, Direction::Received, &format!("{{\"frame\":{n}}}"));
    (1..=3).for_each(note);
    press(&mut s, KeyCode::Char('F'));
    assert!(draw(&mut s, 160, 47).contains("\"frame\": 3"), "the newest");
    press(&mut s, KeyCode::Down);
    (4..=9).for_each(note);
    assert!(draw(&mut s, 160, 47).contains("\"frame\": 2"), "the one that was chosen");
    press(&mut s, KeyCode::Char('/'));
    type_text(&mut s, "7");
    press(&mut s, KeyCode::Enter);
    assert!(draw(&mut s, 160, 47).contains("\"frame\": 7"));
    let copied = press(&mut s, KeyCode::Char('y'));
    assert!(matches!(&copied[..], [Effect::Copy(text)] if text == "{\"frame\":7}"), "{copied:?}");
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
        rows: Some(rows),
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
    }
}

fn type_text(s: &mut State, text: &str) {
    text.chars().for_each(|c| drop(press(s, KeyCode::Char(c))));
}

#[test]
fn a_query_is_completed_asked_and_shown_as_it_changes() {
    let mut s = state();
    s.has_config = true;
    let columns = json!([{"name": "id", "type": "int8"}, {"name": "status", "type": "text"}]).to_string();
    update(&mut s, Message::Table("calls".into(), Some(row(json!({"name": "calls", "columns": columns})))));
    press(&mut s, KeyCode::Char('2'));
    // Tables after FROM, then columns, then parameters that claims can fill.
    assert!(draw(&mut s, 160, 47).contains("tab begins with this"));
    press(&mut s, KeyCode::Tab);
    type_text(&mut s, "ca");
    assert!(draw(&mut s, 160, 47).contains("▸ calls"));
    press(&mut s, KeyCode::Tab);
    type_text(&mut s, " WHERE sta");
    press(&mut s, KeyCode::Tab);
    type_text(&mut s, " = 'x'");
    assert_eq!(s.ask.text(), "SELECT * FROM calls WHERE status = 'x'");
    let effects = press(&mut s, KeyCode::Enter);
    let asked: Vec<(u32, String)> = effects
        .iter()
        .filter_map(|e| match e {
            Effect::Ask { id, persona, query, .. } if *query == s.ask.text() => Some((*id, persona.clone())),
            _ => None,
        })
        .collect();
    let [(board, b), (imre, i)] = &asked[..] else { panic!("{effects:?}") };
    assert_eq!((b.as_str(), i.as_str()), ("Board", "Imre"));

    let refused = Refused { text: "column status is not known or not permitted".into(), place: Some((1, 27)) };
    update(&mut s, Message::Asked(*board, QueryUpdate::Refused(refused)));
    update(&mut s, Message::Asked(*imre, rows(&[(1, "expected"), (2, "inbound"), (3, "berthed")], 0)));
    let screen = draw(&mut s, 160, 47);
    let query_line = screen.lines().find(|l| l.contains("WHERE status")).unwrap();
    let error_line = screen.lines().find(|l| l.contains("▴ Board: column status")).unwrap();
    let column =
        |line: &str, what: &str| line.chars().collect::<String>().split(what).next().map(|l| l.chars().count());
    assert_eq!(column(query_line, "status"), column(error_line, "▴"), "{screen}");
    assert!(!screen.contains('⊕'), "the first rows are not news");
    assert_eq!(screen.matches("column status is not known").count(), 1, "said once: {screen}");
    assert!(!s.ask.editing, "there is a result to look at");

    update(&mut s, Message::Asked(*imre, rows(&[(1, "anchored"), (3, "berthed"), (4, "expected")], 1)));
    let screen = draw(&mut s, 160, 47);
    for (mark, text) in [("●", "anchored"), ("⊖", "inbound"), ("⊕", "4")] {
        assert!(screen.lines().any(|l| l.contains(mark) && l.contains(text)), "{mark} {text}: {screen}");
    }
    assert!(screen.lines().any(|l| l.contains("anchored") && l.contains('·')), "a column that is withheld: {screen}");
    let later = gossip_server::now() + 3_000_000;
    update(&mut s, Message::Tick(later));
    let screen = draw(&mut s, 160, 47);
    assert!(!screen.contains('⊕') && !screen.contains("inbound"), "marks fade, what is gone goes: {screen}");

    // It can be kept, and asked as others.
    press(&mut s, KeyCode::Esc);
    press(&mut s, KeyCode::Char('k'));
    type_text(&mut s, "mine");
    let kept = press(&mut s, KeyCode::Enter);
    assert!(matches!(&kept[..], [Effect::KeepQuery(name, sql)] if name == "mine" && sql.ends_with("'x'")), "{kept:?}");
    press(&mut s, KeyCode::Char('a'));
    press(&mut s, KeyCode::Char(' '));
    let again = press(&mut s, KeyCode::Enter);
    assert_eq!(again.iter().filter(|e| matches!(e, Effect::Unask(_))).count(), 2, "{again:?}");
    assert_eq!(s.ask.panes.len(), 1);
}

#[test]
fn tables_show_what_is_in_the_way_and_what_mends_it_before_it_is_done() {
    let mut s = state();
    s.has_config = true;
    let known = json!({"name": "calls", "key": "id", "old_values": true, "feeds": 2, "changes": 7, "roles": ""});
    update(&mut s, Message::Table("calls".into(), Some(row(known))));
    press(&mut s, KeyCode::Char('3'));
    update(&mut s, Message::Inspected(Ok(inspection())));
    let screen = draw(&mut s, 160, 47);
    for text in ["3  Tables  ▴", "◆ in part", "is not streaming", "journal mode is delete", "nobody: no rule"] {
        assert!(screen.contains(text), "{text}: {screen}");
    }
    assert!(matches!(&press(&mut s, KeyCode::Char('f'))[..], [Effect::PlanStream(t, true)] if t == "calls"));
    press(&mut s, KeyCode::Tab);
    assert!(press(&mut s, KeyCode::Char('f')).is_empty());
    assert!(draw(&mut s, 160, 47).contains("PRAGMA journal_mode = WAL"));
    assert!(matches!(&press(&mut s, KeyCode::Enter)[..], [Effect::CarryOut(p)] if p.sql[0].starts_with("PRAGMA")));
    // A table that does not stream changes all the same.
    press(&mut s, KeyCode::Down);
    assert!(draw(&mut s, 160, 47).contains("It does not stream"));
    let mut later = inspection();
    later.tables[1].rows = Some(4);
    update(&mut s, Message::Inspected(Ok(later)));
    let screen = draw(&mut s, 160, 47);
    assert!(screen.contains("+3") && screen.contains("rows were added or removed since"), "{screen}");
    assert!(matches!(&press(&mut s, KeyCode::Char('s'))[..], [Effect::PlanStream(t, true)] if t == "dues"));
    for (columns, rows) in [(100, 30), (80, 24)] {
        assert!(draw(&mut s, columns, rows).contains("what is in the way"));
    }
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
