//! Adds and removes watchers.

use super::message::Effect;
use super::overlays::frames::state::Log;
use super::state::{Link, State, WatcherState};
use crate::personas::{Persona, Watcher};

/// Adds a watcher and starts it.
pub fn add_watcher(s: &mut State, persona: &str, query: &str, place: usize) -> Vec<Effect> {
    let Some(identity) = s.personas.get(persona).cloned() else { return vec![] };
    let id = s.watcher_id();
    let frames = Log::default();
    s.watchers.push(WatcherState {
        id,
        persona: persona.to_string(),
        role: identity.roles.first().cloned().unwrap_or_else(|| "anyone".into()),
        query: query.to_string(),
        place,
        link: Link::Connecting,
        refused: None,
        current: None,
        listens_after: None,
        subscription: None,
        rows: 0,
        heard: 0,
        table: gossip_core::query::queried_table(query).map(|name| name.to_string()).unwrap_or_default(),
        since: None,
        event_heard: None,
        snapshots: vec![],
        absent: vec![],
        frames: frames.clone(),
    });
    vec![Effect::Listen { watcher: id, persona: persona.into(), identity, query: query.into(), place, frames }]
}

/// The personas as whom something can be asked from here.
pub fn choosable(s: &State) -> Vec<String> {
    let can = |(name, p): &(&String, &Persona)| s.can_mint || p.roles.is_empty() || s.given.contains(*name);
    s.personas.iter().filter(can).map(|(n, _)| n.clone()).collect()
}

/// The watchers as the configuration has them.
pub(super) fn watchers_to_save(s: &State) -> Vec<Watcher> {
    let kept = |w: &WatcherState| Watcher {
        persona: w.persona.clone(),
        query: w.query.clone(),
        instance: s.places.get(w.place).filter(|_| s.places.len() > 1).map(|p| p.name.clone()),
    };
    s.watchers.iter().map(kept).collect()
}
