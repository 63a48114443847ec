//! The workbench drawn in memory: what keys and messages do, and that nothing makes it panic.
#![allow(clippy::unwrap_used)]

use crossterm::event::{KeyCode, KeyEvent, KeyModifiers};
use gossip::workbench::message::{Effect, Message};
use gossip::workbench::state::{Overlay, State};
use gossip::workbench::theme::Theme;
use gossip::workbench::update::{add_watcher, update};
use gossip::workbench::view::view;
use gossip::workbench::{Access, Place};
use gossip_server::config::Persona;
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

fn row(v: Json) -> Map<String, Json> {
    v.as_object().cloned().unwrap_or_default()
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
    assert!(after.contains("held, 10 newer"));
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
        let made = Message::Made(*id, gossip::workbench::message::Made::Logged(n));
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
    .chain(" wmndpif/?elc1x{}\"',ä語é".chars().map(KeyCode::Char))
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
            if let Effect::Explain { line, watcher, .. } = effect {
                update(&mut s, Message::Explained(line, watcher, Err("no".into())));
            }
        }
        if i % 20 == 0 {
            let size = *[(160, 47), (100, 30), (80, 24), (60, 10)].choose(&mut rng).unwrap();
            draw(&mut s, size.0, size.1);
        }
        assert!(!s.leaving);
    }
    s.overlay = Overlay::None;
    press(&mut s, KeyCode::Char('q'));
    assert!(s.leaving);
}
