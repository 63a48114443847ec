//! Earshot: marks, the flow, and which lines are shown.

use super::*;

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

fn event(s: &mut State, place: usize, instance: &str, number: u64, (gauge, level): (&str, f64)) {
    let changes = json!([{"table": "tide", "key": [gauge], "old": null, "new": {"gauge": gauge, "level_m": level}}]);
    let r = json!({"identity": format!("{gauge}{level}"), "position": format!("topics:{number}"), "instance": instance,
        "kind": "topic", "at": 10_000_000, "received_at": 10_000_001, "rows": 1, "changes": changes.to_string()});
    update(s, Message::Event(place, row(r)));
}

#[test]
fn an_event_is_one_line_whoever_tells_of_it_and_each_kind_can_be_switched_off() {
    let mut s = state();
    let table = json!({"name": "tide", "source": "topics", "columns": "[]", "key": "gauge"});
    update(&mut s, Message::Table("tide".into(), Some(row(table))));
    for (place, name) in ["north", "south"].into_iter().enumerate() {
        s.places[place].name = name.into();
    }
    add_watcher(&mut s, "Board", "SELECT * FROM tide", 1);
    update(&mut s, Message::Listening(3, 2, 1));
    change(&mut s, 1);
    // Each instance counts by itself, and one verdict is faster than its line.
    let told = json!({"position": "topics:90", "instance": "south", "label": "abc-3", "subscription": 7, "verdict": "matched",
        "added": 1, "at": 10_000_002, "cursor": "c"});
    update(&mut s, Message::Verdict(row(told)));
    event(&mut s, 0, "north", 4, ("gauge-1", 3.5));
    event(&mut s, 1, "south", 90, ("gauge-1", 3.5));
    let delta = Message::Delta { watcher: 3, at: 10_000_500, cursor: "c".into(), frame: "{}".into(), rows: 1 };
    update(&mut s, delta);
    // The same again is another event.
    event(&mut s, 0, "north", 5, ("gauge-1", 3.5));
    event(&mut s, 1, "south", 91, ("gauge-1", 3.5));
    assert_eq!(s.lines.len(), 3);
    let of_board = |s: &State| s.lines.iter().map(|l| s.mark(l, &s.watchers[2]).word()).collect::<Vec<_>>();
    let marks = of_board(&s);
    assert!(marks.contains(&"heard: added") && marks.contains(&"other table"), "{marks:?}");
    let of_imre: Vec<&str> = s.lines.iter().map(|l| s.mark(l, &s.watchers[0]).word()).collect();
    assert_eq!(of_imre.iter().filter(|word| **word == "other table").count(), 2, "{of_imre:?}");

    // Its own instance is asked, at its own position.
    let heard = s.lines.iter().find(|l| s.mark(l, &s.watchers[2]).is_heard()).unwrap().id;
    (s.chosen, s.held, s.column) = (Some(heard), Some(s.lines[0].id), 2);
    match &press(&mut s, KeyCode::Char('w'))[..] {
        [Effect::Explain { at, subscription: 7, place: 1, .. }] => assert_eq!(at.as_reported(), "topics:90"),
        other => panic!("{other:?}"),
    }
    press(&mut s, KeyCode::Esc);
    // Topics off, and on again; then only what happened to one key.
    press(&mut s, KeyCode::Char('k'));
    press(&mut s, KeyCode::Down);
    press(&mut s, KeyCode::Char(' '));
    assert!(draw(&mut s, 160, 47).contains("□ events of topics"));
    press(&mut s, KeyCode::Enter);
    let seen = draw(&mut s, 160, 47);
    assert!(seen.contains("without events of topics") && !seen.contains("gauge-1"), "{seen}");
    for key in [KeyCode::Char('k'), KeyCode::Down, KeyCode::Char(' '), KeyCode::Enter] {
        press(&mut s, key);
    }
    (s.chosen, s.held) = (Some(heard), None);
    press(&mut s, KeyCode::Char('o'));
    let seen = draw(&mut s, 160, 47);
    assert!(seen.contains("what happened to tide gauge-1") && !seen.contains("calls 1"), "{seen}");
    press(&mut s, KeyCode::Esc);
    assert_eq!(s.visible().count(), 3);
}

#[test]
fn what_happened_to_one_key_is_shown_also_where_the_flow_is_paused_at_another() {
    let mut s = state();
    (1..=9).for_each(|n| change(&mut s, n));
    (0..4).for_each(|_| drop(press(&mut s, KeyCode::Down)));
    let chosen = s.chosen_line().unwrap().id;
    assert_ne!(s.held, Some(chosen));
    press(&mut s, KeyCode::Char('o'));
    let seen = draw(&mut s, 160, 47);
    assert!(seen.contains("what happened to calls 5") && seen.contains("status expected"), "{seen}");
    press(&mut s, KeyCode::Char('o'));
    assert_eq!((s.chosen, s.held), (Some(chosen), Some(chosen)), "it is where it was");
    // A kind that is switched off takes the line at which the flow was paused with it.
    for key in [KeyCode::Char('k'), KeyCode::Char(' '), KeyCode::Enter] {
        press(&mut s, key);
    }
    event(&mut s, 0, "north", 4, ("gauge-1", 3.5));
    assert!(s.held.is_none() && draw(&mut s, 160, 47).contains("gauge-1"));
}

#[test]
fn the_flow_stops_at_the_first_line_with_a_mark() {
    let mut s = state();
    change(&mut s, 1);
    verdict(&mut s, 1, 2, "withheld", "");
    press(&mut s, KeyCode::Char('s'));
    // The fifth is “withheld by rule”; the first line means that it does not stop.
    (0..4).for_each(|_| drop(press(&mut s, KeyCode::Down)));
    press(&mut s, KeyCode::Enter);
    update(&mut s, Message::Tick(10_100_000));
    assert!(
        s.held.is_none() && draw(&mut s, 160, 47).contains("stops at ◆ withheld by rule"),
        "what was there does not count"
    );
    (2..=9).for_each(|n| change(&mut s, n));
    [4, 6].into_iter().for_each(|n| verdict(&mut s, n, 2, "withheld", ""));
    update(&mut s, Message::Tick(10_200_000));
    let line = s.chosen_line().unwrap();
    assert_eq!((line.rows[0].key.as_str(), s.held, s.column), ("4", Some(line.id), 1));
    press(&mut s, KeyCode::Char(' '));
    update(&mut s, Message::Tick(10_300_000));
    assert!(s.held.is_none(), "it stops once");
}

#[test]
fn too_many_lines_are_summed_until_somebody_wants_to_see_them() {
    let mut s = state();
    // The changes of this test are committed within one second.
    (1..=300).for_each(|n| change(&mut s, n));
    (1..=120).for_each(|n| verdict(&mut s, n, 2, "withheld", ""));
    update(&mut s, Message::Tick(11_000_000));
    let seen = draw(&mut s, 160, 47);
    assert!(seen.contains("300 lines, 300 rows") && seen.contains("◆ 120"), "{seen}");
    assert!(seen.contains("in sums; space shows lines"), "{seen}");
    press(&mut s, KeyCode::Char(' '));
    assert!(draw(&mut s, 160, 47).contains("status expected"), "paused, they can be read");
    press(&mut s, KeyCode::Char(' '));
    assert!(draw(&mut s, 160, 47).contains("300 lines, 300 rows"));
    s.filter = "calls 7".into();
    assert!(draw(&mut s, 160, 47).contains("status expected"), "some of them are wanted");
    s.filter.clear();
    update(&mut s, Message::Tick(20_000_000));
    assert!(!s.is_summed(), "it is quiet again");
}

#[test]
fn lines_of_a_source_keep_its_order_and_those_of_several_that_of_time() {
    let mut rng = StdRng::seed_from_u64(7);
    for _ in 0..50 {
        let mut s = state();
        let mut next = [1, 1];
        let mut sent = Vec::new();
        for time in 0..60_i64 {
            let source = usize::from(rng.random_bool(0.5));
            sent.push((source, next[source], time));
            next[source] += 1;
        }
        // Reports overtake each other a little.
        for i in 0..sent.len() - 3 {
            let other = i + rng.random_range(0..3);
            sent.swap(i, other);
        }
        for (source, n, time) in sent {
            let at = 10_000_000 + time;
            let name = ["a", "b"][source];
            let changes = json!([{"table": name, "key": [n], "new": {"id": n}}]).to_string();
            let r = json!({"position": format!("{name}:{n}"), "after": format!("{name}:{}", n - 1), "committed_from": at,
                "committed_to": at, "read_at": at, "received_at": at, "reader": "north", "instance": "north", "rows": 1,
                "changes": changes});
            update(&mut s, Message::Change(0, row(r)));
        }
        for source in ["a", "b"] {
            let own: Vec<u64> = s
                .lines
                .iter()
                .filter_map(|l| l.at.as_ref())
                .filter(|at| at.source == source)
                .map(|at| at.number)
                .collect();
            assert!(own.is_sorted_by(|a, b| a > b), "{source}: {own:?}");
        }
        let times: Vec<i64> = s.lines.iter().map(|l| l.committed.1).collect();
        assert!(times.is_sorted_by(|a, b| a >= b), "{times:?}");
    }
}
