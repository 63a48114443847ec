//! Forms as they open, with likely values filled in.

use serde_json::Value as Json;

use super::state::{Form, FormKind, field, form};
use crate::workbench::rail::View;
use crate::workbench::state::State;
use crate::workbench::watchers::choosable;

/// The form to save a query.
pub fn save_query() -> Form {
    form(FormKind::KeepQuery, vec![field("name", "", vec![])])
}

/// The form to save a recording.
pub fn record() -> Form {
    let fields = vec![field("file", "gossip-recording.jsonl", vec![]), field("mask columns", "", vec![])];
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
    named(free, &role, "{}")
}

/// The form for the selected watcher's persona.
pub fn persona(s: &State) -> Form {
    let name = s.watchers.get(s.column).map(|w| w.persona.clone()).unwrap_or_default();
    let p = s.personas.get(&name).cloned().unwrap_or_default();
    named(&name, &p.roles.join(", "), &Json::Object(p.claims).to_string())
}

fn named(name: &str, roles: &str, claims: &str) -> Form {
    let fields = [("name", name), ("roles", roles), ("claims", claims)];
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
