//! Rules: what those see whom the selected cell covers, and what becomes of somebody who may not publish.

use gossip::personas::Persona;
use gossip_core::explain::{Passed, Step};

use super::*;

fn table(name: &str, source: &str) -> Message {
    let columns = json!([{"name": "id", "type": "int8"}, {"name": "agency", "type": "text"}]).to_string();
    let r = json!({"name": name, "source": source, "columns": columns, "key": "id", "roles": "agent"});
    Message::Table(name.into(), Some(row(r)))
}

#[test]
fn those_whom_a_cell_covers_are_shown_side_by_side_as_long_as_somebody_looks() {
    let mut s = state();
    for (name, agency) in [("Tove", "Brightwater"), ("Oyelaran", "Northlight")] {
        let claims = json!({"agency": agency}).as_object().cloned().unwrap();
        s.personas.insert(name.into(), Persona { roles: vec!["agent".into()], claims });
    }
    update(&mut s, table("calls", "h"));
    let rule = json!({"number": 1, "role": "agent", "table": "calls", "may": "read", "rows": "agency = claim.agency", "masks": "{}"});
    update(&mut s, Message::Rule(1, Some(*row(rule))));
    press(&mut s, KeyCode::Char('4'));
    let effects = update(&mut s, Message::Tick(11_000_000));
    let asked: Vec<(u32, String, String)> = effects
        .into_iter()
        .filter_map(|e| match e {
            Effect::Ask { id, persona, query, .. } => Some((id, persona, query)),
            _ => None,
        })
        .collect();
    assert_eq!(asked.len(), 4, "a count and the first rows of both: {asked:?}");
    assert!(update(&mut s, Message::Tick(11_250_000)).is_empty(), "once");
    for (id, persona, query) in &asked {
        let told = match query.contains("COUNT") {
            true => rows_of("n", &[(if persona == "Tove" { 17 } else { 4 }).into()]),
            false => rows_of("agency", &[json!(if persona == "Tove" { "Brightwater" } else { "Northlight" })]),
        };
        update(&mut s, Message::Asked(*id, told));
    }
    let seen = draw(&mut s, 160, 47);
    for text in ["what they see of calls now", "17 rows", "4 rows", "Brightwater", "Northlight"] {
        assert!(seen.contains(text), "{text}: {seen}");
    }
    assert!(s.ask.panes.is_empty(), "these are no results of Ask");
    // What was seen before a connection was lost is not shown as what is seen now.
    asked.iter().for_each(|(id, ..)| drop(update(&mut s, Message::Asked(*id, QueryUpdate::Lost("gone".into())))));
    let seen = draw(&mut s, 160, 47);
    assert!(
        seen.contains("out of touch: gone") && !seen.contains("17 rows") && !seen.contains("Brightwater"),
        "{seen}"
    );
    // Whoever looks elsewhere does not have them read.
    press(&mut s, KeyCode::Char('1'));
    let effects = update(&mut s, Message::Tick(12_000_000));
    let ended: Vec<u32> = effects
        .iter()
        .filter_map(|e| match e {
            Effect::Unask(id) => Some(*id),
            _ => None,
        })
        .collect();
    assert_eq!(ended, asked.iter().map(|(id, ..)| *id).collect::<Vec<_>>());
}

fn rows_of(column: &str, values: &[Json]) -> QueryUpdate {
    let rows = values
        .iter()
        .enumerate()
        .map(|(i, v)| (i.to_string(), [(column.to_string(), v.clone())].into_iter().collect::<Map<String, Json>>()));
    let columns = vec![ColumnInfo { name: column.into(), ty: "text".into(), key: false }];
    QueryUpdate::Rows { columns, rows: rows.collect(), total: values.len(), deltas: 0 }
}

#[test]
fn an_event_is_published_as_somebody_and_a_refusal_is_explained() {
    let mut s = state();
    assert!(press(&mut s, KeyCode::Char('e')).is_empty() && s.overlay == Overlay::None, "there is no topic yet");
    update(&mut s, table("tide", "topics"));
    press(&mut s, KeyCode::Char('e'));
    assert!(draw(&mut s, 160, 47).contains("Publish an event"));
    // What is proposed is replaced by typing.
    press(&mut s, KeyCode::Tab);
    press(&mut s, KeyCode::Tab);
    type_text(&mut s, "{\"id\"");
    assert!(press(&mut s, KeyCode::Enter).is_empty());
    assert!(draw(&mut s, 160, 47).contains("data: EOF"), "what is no JSON is refused in the form");
    type_text(&mut s, ": 7}");
    match &press(&mut s, KeyCode::Enter)[..] {
        [Effect::Publish { persona, topic, data, .. }] => {
            assert_eq!((persona.as_str(), topic.as_str(), data), ("Imre", "tide", &json!({"id": 7})));
        }
        other => panic!("{other:?}"),
    }
    let step = Step::new("rule", Passed::No, "agent on tide:  all rows", vec!["claim.agency is missing".into()]);
    update(&mut s, Message::NotPublished("Imre".into(), "tide".into(), vec![step]));
    let seen = draw(&mut s, 100, 30);
    assert!(seen.contains("Why Imre may not publish to tide") && seen.contains("claim.agency is missing"), "{seen}");
    press(&mut s, KeyCode::Esc);
    assert_eq!(s.overlay, Overlay::None);
}
