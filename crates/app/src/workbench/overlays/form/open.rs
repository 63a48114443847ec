//! Forms as they open, with likely values filled in.

use gossip_core::schema::TOPIC_SOURCE;
use serde_json::Value as Json;

use super::state::{Form, FormKind, field, form, proposed};
use crate::workbench::rail::View;
use crate::workbench::state::State;
use crate::workbench::watchers::choosable;

/// The form to save a query.
pub fn save_query() -> Form {
    form(FormKind::KeepQuery, vec![field("name", "", vec![])])
}

/// The form to save a recording.
pub fn record() -> Form {
    let fields = vec![proposed("file", "gossip-recording.jsonl"), field("mask columns", "", vec![])];
    form(FormKind::Record, fields)
}

/// The form for a watcher.
pub fn watcher(s: &State) -> Form {
    let personas = choosable(s);
    let places: Vec<String> = s.places.iter().map(|p| p.name.clone()).collect();
    let first = |v: &[String]| v.first().cloned().unwrap_or_default();
    // Likely values: the persona created last, and the first streaming table.
    let newest = s.newest_persona.clone().filter(|p| personas.contains(p)).unwrap_or_else(|| first(&personas));
    let table = s.tables.granted().unwrap_or_default();
    let fields = vec![
        field("persona", &newest, personas.clone()),
        field("query", &format!("SELECT * FROM {table}"), vec![]),
        field("instance", &first(&places), places.clone()),
    ];
    form(FormKind::Watcher, fields)
}

/// The form for a new persona.
pub fn new_persona(s: &State) -> Form {
    let names = ["Ada", "Ben", "Cleo", "Dara", "Emil", "Fay"];
    let free = names.iter().find(|n| !s.personas.contains_key(**n)).unwrap_or(&"");
    let role = s.tables.rules.first().map_or("", |r| r.role.as_str()).to_string();
    let fields = [("name", *free), ("roles", role.as_str()), ("claims", "{}")];
    form(FormKind::Persona, fields.map(|(label, text)| proposed(label, text)).into())
}

/// The form to connect instances through a broker.
pub fn broker() -> Form {
    form(FormKind::Broker, vec![proposed("address", "nats://127.0.0.1:4222"), proposed("names begin with", "gossip")])
}

/// The form to publish an event as somebody.
pub fn publish(s: &State) -> Form {
    let personas = choosable(s);
    let of_column = s.watchers.get(s.column).map(|w| w.persona.clone()).filter(|p| personas.contains(p));
    let persona = of_column.or_else(|| personas.first().cloned()).unwrap_or_default();
    let topics = topics(s);
    let chosen = s.chosen_line().and_then(|line| line.rows.first()).map(|row| row.table.clone());
    let topic = chosen.filter(|t| topics.contains(t)).or_else(|| topics.first().cloned()).unwrap_or_default();
    let data = proposed("data", &data_of(s, &topic));
    let fields = vec![field("persona", &persona, personas), field("topic", &topic, topics), data];
    Form { about: topic, ..form(FormKind::Publish, fields) }
}

/// The topics, by name.
pub fn topics(s: &State) -> Vec<String> {
    let topics = s.tables.known.values().filter(|known| known.row.source == TOPIC_SOURCE);
    topics.map(|known| known.row.name.clone()).collect()
}

/// Data for an event of a topic, as its columns would have it. Which of them come from elsewhere only its declaration says.
pub fn data_of(s: &State, topic: &str) -> String {
    let columns = s.tables.known.get(topic).map(|known| known.columns()).unwrap_or_default();
    let value = |ty: &str| match ty {
        "bool" => Json::from(false),
        "text" | "uuid" | "any" => "".into(),
        "date" | "timestamp" | "timestamptz" => Json::Null,
        _ => 0.into(),
    };
    let data: serde_json::Map<String, Json> = columns.into_iter().map(|(name, ty)| (name, value(&ty))).collect();
    Json::Object(data).to_string()
}

/// The form for the selected watcher's persona.
pub fn persona(s: &State) -> Form {
    let name = s.watchers.get(s.column).map(|w| w.persona.clone()).unwrap_or_default();
    let p = s.personas.get(&name).cloned().unwrap_or_default();
    let (roles, claims) = (p.roles.join(", "), Json::Object(p.claims).to_string());
    let fields = [("name", name.as_str()), ("roles", roles.as_str()), ("claims", claims.as_str())];
    form(FormKind::Persona, fields.map(|(label, text)| field(label, text, vec![])).into())
}

/// The form for the view's filter.
pub fn filter(s: &State) -> Form {
    let (label, now) = match s.view {
        View::Ask => ("only rows with", &s.ask.find),
        View::Tables => ("only tables with", &s.tables.find),
        View::Clients => ("only clients with", &s.clients.find),
        View::Earshot | View::Rules | View::Relay | View::Charts | View::Steps => ("only lines with", &s.filter),
    };
    form(FormKind::Filter, vec![field(label, now, vec![])])
}
