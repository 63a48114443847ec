//! What those see of a table whom the selected cell's rules cover: live queries, as each of them.

use gossip_core::schema::TableName;
use serde_json::{Map, Value as Json};

use super::state::{About, Person};
use super::update::{chosen, covered};
use crate::workbench::message::{Effect, QueryUpdate};
use crate::workbench::rail::View;
use crate::workbench::state::{Link, State};
use crate::workbench::watchers::choosable;

/// Most people side by side.
const MOST: usize = 4;

/// Rows of a table that is counted.
const COUNTED: u64 = 100_000;

/// Rows that are shown of each.
const ROWS: usize = 12;

/// The first number of these queries; those of Ask begin at 1.
const FIRST: u32 = 1 << 31;

/// On a tick: asks for those of the selected cell, if they are not the ones that are asked for.
pub fn tick(s: &mut State) -> Vec<Effect> {
    let reachable = s.places.first().is_some_and(|p| matches!(p.link, Link::Up(_)));
    let looked_at = s.view == View::Rules && !s.recorded && s.rules.edited.is_none() && reachable;
    let about = if looked_at { about(s) } else { None };
    if about == s.rules.views.of {
        return vec![];
    }
    let mut effects: Vec<Effect> = s.rules.views.people.drain(..).flat_map(|p| p.asked).map(Effect::Unask).collect();
    if let Some((_, table, people)) = &about {
        let queries = queries(s, table);
        // Whoever only looks does not have a large table read.
        let known = s.tables.inspected().iter().find(|t| t.name == table.to_string());
        let counts = known.is_none_or(|t| t.rows.is_some_and(|rows| rows <= COUNTED));
        for (name, persona) in people {
            let ids = [0, 1].map(|n| FIRST + (s.rules.views.next + n) % FIRST);
            s.rules.views.next = (s.rules.views.next + 2) % FIRST;
            for (id, query) in ids.into_iter().zip(&queries).filter(|(id, _)| counts || *id != ids[0]) {
                let (persona, identity, params) = (name.clone(), persona.clone(), Map::new());
                effects.push(Effect::Ask { id, persona, identity, query: query.clone(), params });
            }
            let (count, columns, rows, refused) = (None, vec![], vec![], None);
            s.rules.views.people.push(Person { name: name.clone(), count, columns, rows, refused, asked: ids });
        }
    }
    s.rules.views.of = about;
    effects
}

/// What is to be looked at. A table without a key has no first rows, and is not counted.
fn about(s: &State) -> Option<About> {
    let (role, table) = chosen(s)?;
    s.tables.known.get(&table.to_string()).filter(|known| !known.row.key.is_empty())?;
    let can = choosable(s);
    let covered = covered(s, &role, &Default::default()).into_iter().map(|(name, _)| name);
    let people = covered.filter(|name| can.contains(name)).take(MOST);
    let people = people.filter_map(|name| Some((name.clone(), s.personas.get(&name)?.clone()))).collect();
    Some((role, table, people))
}

/// The queries: how many rows, and the first of them. The first column that all see orders them.
fn queries(s: &State, table: &TableName) -> [String; 2] {
    let known = s.tables.known.get(&table.to_string());
    let quoted = |name: &str| format!("\"{}\"", name.replace('"', "\"\""));
    let name = match table.schema.is_empty() {
        true => quoted(&table.name),
        false => format!("{}.{}", quoted(&table.schema), quoted(&table.name)),
    };
    let role = s.rules.seen.roles.get(s.rules.chosen.1).map_or("", String::as_str);
    let columns = known.map(|known| known.columns()).unwrap_or_default();
    let key = known.map_or("", |known| known.row.key.as_str());
    let seen = |column: &str| s.tables.roles_seeing(&table.to_string(), column).contains(&role);
    let of_key = key.split(", ").filter(|column| seen(column)).map(String::from).next();
    let first = of_key.or_else(|| columns.iter().map(|(name, _)| name.clone()).find(|name| seen(name)));
    let order = first.map_or(String::new(), |column| format!(" ORDER BY {} LIMIT {ROWS}", quoted(&column)));
    [format!("SELECT COUNT(*) AS n FROM {name}"), format!("SELECT * FROM {name}{order}")]
}

/// An update about one of these queries; whether it was one of them.
pub fn told(s: &mut State, id: u32, told: &QueryUpdate) -> bool {
    if id < FIRST {
        return false;
    }
    let Some(person) = s.rules.views.people.iter_mut().find(|p| p.asked.contains(&id)) else { return true };
    match told {
        QueryUpdate::Rows { rows, .. } if id == person.asked[0] => {
            person.count = rows.first().and_then(|(_, row)| row.get("n")).and_then(Json::as_u64);
        }
        QueryUpdate::Rows { columns, rows, .. } => {
            person.columns = columns.iter().map(|c| c.name.clone()).collect();
            person.rows = rows.iter().take(ROWS).map(|(_, row)| row.clone()).collect();
            person.refused = None;
        }
        // What was seen before is not what is seen now.
        QueryUpdate::Refused(_) | QueryUpdate::Lost(_) if id == person.asked[0] => person.count = None,
        QueryUpdate::Refused(refused) => person.refused = Some(refused.text.clone()),
        QueryUpdate::Lost(why) => person.refused = Some(format!("out of touch: {why}")),
        QueryUpdate::About(_) | QueryUpdate::WhyNot(_) => {}
    }
    true
}
