//! Tables: what is there, and what is in the way.

use super::*;

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
fn tables_topics_and_system_tables_stand_in_groups_and_what_cannot_stream_says_why() {
    let mut s = state();
    for (name, source) in [("calls", "h"), ("tide", "topics")] {
        let r =
            json!({"name": name, "source": source, "columns": "[{\"name\":\"id\",\"type\":\"int8\"}]", "key": "id"});
        update(&mut s, Message::Table(name.into(), Some(row(r))));
    }
    let mut found = inspection();
    let why = "is a view, and views do not change by themselves: stream the tables it reads";
    let unfit = Some(Unfit { why: why.into(), fix: None });
    found.tables.push(Inspected {
        name: "arrivals".into(),
        is_table: false,
        rows: None,
        unfit,
        ..found.tables[1].clone()
    });
    update(&mut s, Message::Inspected(Ok(found)));
    press(&mut s, KeyCode::Char('3'));
    let seen = draw(&mut s, 160, 47);
    let at = |text: &str| seen.lines().position(|l| l.contains(text)).unwrap_or_else(|| panic!("{text}: {seen}"));
    assert!(at("arrivals") < at("topics") && at("topics") < at("tide") && at("tide") < at("gossip.alarms"), "{seen}");
    assert!(seen.contains("journal mode  delete") && seen.contains("╳ cannot"), "{seen}");
    // Nothing is offered that cannot be done.
    (s.has_config, s.has_cluster) = (true, true);
    s.tables.chosen = s.tables.entries().iter().position(|e| e.name == "arrivals").unwrap();
    assert!(press(&mut s, KeyCode::Char('s')).is_empty());
    assert!(draw(&mut s, 160, 47).contains(why));
    s.tables.chosen = s.tables.entries().iter().position(|e| e.name == "gossip.verdicts").unwrap();
    let seen = draw(&mut s, 160, 47);
    assert!(seen.contains("subscription") && seen.matches("what is in the way").count() == 1, "{seen}");
}
