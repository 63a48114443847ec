//! Recordings: played, and never to be trusted.

use super::*;

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

/// A recording of three calls, of which Tove heard those of Brightwater.
fn recorded(claims: bool) -> Vec<Event> {
    let at = |n: i64| 1_700_000_000_000_000 + n * 1_000_000;
    let event = |table: &'static str, n: i64, row: Json| Event {
        instance: "north".into(),
        table,
        at: at(n),
        row: row.as_object().cloned().unwrap(),
    };
    let columns =
        json!([{"name": "id", "type": "int8"}, {"name": "agency", "type": "text"}, {"name": "note", "type": "text"}]);
    let mut listed = json!({"query": "SELECT id, agency FROM calls", "observed": "ab-1"});
    if claims {
        listed["claims"] = json!({"sub": "Tove", "agency": "Brightwater"});
    }
    let mut events = vec![
        event(
            "tables",
            0,
            json!({"name": "calls", "source": "h", "columns": columns.to_string(), "key": "id", "old_values": true}),
        ),
        event(
            "rules",
            0,
            json!({"number": 1, "role": "agent", "table": "calls", "may": "read", "rows": "agency = claim.agency", "masks": "{}"}),
        ),
        event(
            "clients",
            0,
            json!({"id": 1, "subject": "Tove", "roles": "agent", "subscriptions": json!([listed]).to_string()}),
        ),
    ];
    for (n, agency) in [(1, "Brightwater"), (2, "Northlight"), (3, "Northlight")] {
        let changes =
            json!([{"table": "calls", "key": [n], "old": null, "new": {"id": n, "agency": agency, "note": "x"}}]);
        let position = format!("h:{n}");
        events.push(event("changes", n, json!({"position": position, "after": format!("h:{}", n - 1), "committed_from": at(n),
            "committed_to": at(n), "read_at": at(n), "received_at": at(n), "reader": "north", "instance": "north", "rows": 1,
            "changes": changes.to_string()})));
        let verdict = if agency == "Brightwater" { "matched" } else { "withheld" };
        events.push(event(
            "verdicts",
            n,
            json!({"position": position, "instance": "north", "label": "ab-1", "subscription": 1,
            "verdict": verdict, "added": u8::from(verdict == "matched"), "at": at(n)}),
        ));
    }
    events
}

#[test]
fn other_rules_are_tried_on_what_was_recorded() {
    let mut s = replay::state(recorded(true), "then".into(), Theme::dark());
    press(&mut s, KeyCode::Char('4'));
    press(&mut s, KeyCode::Char('e'));
    // All rows: without the condition's line.
    let text = draw(&mut s, 160, 47);
    assert!(text.contains("rows = \"agency = claim.agency\""), "{text}");
    let mut asked = None;
    for key in [KeyCode::End].into_iter().chain(std::iter::repeat_n(KeyCode::Backspace, 60)) {
        for effect in press(&mut s, key) {
            if let Effect::Rehearse { number, watchers, question } = effect {
                let answer = gossip::incident::rehearsal::answer(&question);
                let told = serde_json::from_value(answer).map_err(|e| e.to_string());
                asked = Some(watchers.clone());
                update(&mut s, Message::Tried(number, watchers, told));
            }
        }
        if s.rules
            .edited
            .as_ref()
            .is_some_and(|e| e.editor.lines().iter().all(|l| l.starts_with("role") || !l.starts_with('r')))
        {
            break;
        }
    }
    assert_eq!(asked.map(|w| w.len()), Some(1));
    let seen = draw(&mut s, 160, 47);
    assert!(seen.contains("tried on 3 recent transactions") && seen.contains("would have heard 2 more"), "{seen}");
    assert!(seen.contains("withheld by rule → heard: added"), "{seen}");

    // Whose claims are not in it cannot be told of.
    let mut s = replay::state(recorded(false), "then".into(), Theme::dark());
    press(&mut s, KeyCode::Char('4'));
    press(&mut s, KeyCode::Char('e'));
    press(&mut s, KeyCode::Backspace);
    assert!(draw(&mut s, 160, 47).contains("does not have the claims of those who listened"));
}

/// Where a change does not carry the row as it was, that is unknown, and not that there was none.
#[test]
fn rows_that_were_not_recorded_are_not_taken_for_new_ones() {
    let mut events = recorded(true);
    events[0].row.insert("old_values".into(), false.into());
    let s = replay::state(events.clone(), "then".into(), Theme::dark());
    let catalog = gossip::workbench::views::tables::catalog::catalog(&s);
    let told = format!("{:?}", gossip::incident::rehearsal::Recorded::of(&events, &catalog));
    assert!(told.contains("old: Unknown") && !told.contains("old: Known(None)"), "{told}");
}
