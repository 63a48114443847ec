//! Ask.

use super::*;

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
