//! What happened, kept for a recording.

use std::collections::HashMap;

use gossip_core::explain::Step;
use gossip_core::rule::ANONYMOUS;
use gossip_protocol::system::SystemRow;
use serde_json::{Map, Value as Json, json};

use crate::recording::{EXPLANATIONS, Event};
use crate::workbench::ids::WatcherId;
use crate::workbench::line::At;
use crate::workbench::state::{State, WatcherState};
use crate::workbench::views::tables::state::TableInfo;

/// Most events kept for a recording; the oldest are dropped.
pub const MAX_RETAINED: usize = 20_000;

/// Most events kept that tell how things stand, the newest.
pub const MAX_SAMPLES: usize = 10_000;

/// Most events of topics and presence kept, so that they do not displace transactions.
pub const MAX_EVENTS: usize = 5_000;

/// Most verdicts of which the steps are kept.
const MAX_EXPLAINED: usize = 5_000;

impl State {
    /// Retains an event for a recording. What happens is not displaced by how things stand from second to second.
    pub fn keep(&mut self, table: &'static str, place: usize, row: Map<String, Json>) {
        let instance = self.places.get(place).map(|p| p.name.clone()).unwrap_or_default();
        self.keep_of(table, instance, row);
    }

    /// The same of an instance that is not connected to.
    pub fn keep_of(&mut self, table: &'static str, instance: String, row: Map<String, Json>) {
        if self.recorded {
            return;
        }
        let (ring, most) = match table {
            "changes" | "verdicts" | "connections" => (&mut self.kept, MAX_RETAINED),
            "events" => (&mut self.events, MAX_EVENTS),
            _ => (&mut self.samples, MAX_SAMPLES),
        };
        if ring.len() >= most {
            ring.pop_front();
        }
        ring.push_back(Event { instance, table, at: self.now, row });
    }

    /// Keeps the steps of a verdict, so that a recording has them.
    pub fn keep_steps(&mut self, line: u64, watcher: WatcherId, steps: &[Step]) {
        if self.explained.len() >= MAX_EXPLAINED {
            self.explained.clear();
        }
        let place = self.watcher(watcher).and_then(|w| self.places.get(w.place)).map_or("", |p| p.name.as_str());
        if let Some(at) = self.line(line).and_then(|line| line.at_place(place).cloned()) {
            self.explained.insert((at, watcher), steps.to_vec());
        }
    }

    /// All retained events, and the watchers.
    pub fn recording(&self) -> Vec<Event> {
        if self.recorded {
            return self.player.as_ref().map_or(vec![], |player| player.events.clone());
        }
        let mut happened: Vec<Event> = self.samples.iter().chain(&self.kept).chain(&self.events).cloned().collect();
        happened.sort_by_key(|event| event.at);
        let begin = happened.first().map_or(self.now, |event| event.at);
        let name = self.places.first().map(|p| p.name.clone()).unwrap_or_default();
        let table = |t: &TableInfo| Event { instance: name.clone(), table: "tables", at: begin, row: t.row.to_json() };
        let labels: HashMap<WatcherId, String> =
            self.watchers.iter().filter_map(|w| Some((w.id, self.label(w)?))).collect();
        let client = |w: &WatcherState| {
            let persona = self.personas.get(&w.persona);
            let mut claims = persona.map(|p| p.claims.clone());
            if let Some(claims) = claims.as_mut().filter(|_| persona.is_some_and(|p| !p.roles.is_empty())) {
                claims.entry("sub").or_insert_with(|| w.persona.clone().into());
            }
            let subscription = json!({"query": w.query, "observed": labels.get(&w.id)?, "claims": claims});
            let subscriptions = json!([subscription]).to_string();
            let roles = match persona {
                None => w.role.clone(),
                Some(p) if p.roles.is_empty() => ANONYMOUS.into(),
                Some(p) => p.roles.join(", "),
            };
            let row = json!({"subject": w.persona, "roles": roles, "subscriptions": subscriptions});
            let instance = self.places.get(w.place).map(|p| p.name.clone()).unwrap_or_default();
            Some(Event { instance, table: "clients", at: begin, row: row.as_object().cloned()? })
        };
        let steps = |((at, watcher), steps): (&(At, WatcherId), &Vec<Step>)| {
            let row = json!({"position": at.as_reported(), "label": labels.get(watcher)?, "steps": steps});
            let instance = at.source.split_once('@').map_or(name.as_str(), |(_, instance)| instance).to_string();
            Some(Event { instance, table: EXPLANATIONS, at: self.now, row: row.as_object().cloned()? })
        };
        let known = self.tables.known.values().map(table).chain(self.watchers.iter().filter_map(client));
        let mut all: Vec<Event> = known.collect();
        all.append(&mut happened);
        all.extend(self.explained.iter().filter_map(steps));
        all
    }

    /// The label under which a watcher is observed.
    fn label(&self, w: &WatcherState) -> Option<String> {
        let ends = format!("-{}", w.id);
        let label = |e: &Event| Some(e.row.get("label")?.as_str()?.to_string()).filter(|l| l.ends_with(&ends));
        self.kept.iter().rev().filter(|e| e.table == "verdicts").find_map(label)
    }
}
