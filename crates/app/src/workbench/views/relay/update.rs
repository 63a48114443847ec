//! Relay: how changes travel between instances, and where they wait.

use crossterm::event::{KeyCode, KeyEvent};
use gossip_protocol::system::{InstanceRow, LinkRow, TrafficRow};

use crate::relay_map::{Node, Picture, page, words};
use crate::workbench::ids::Micros;
use crate::workbench::page::Page;
use crate::workbench::state::{Link, Overlay, State};
use crate::workbench::views::relay::state::Said;

/// Most messages kept.
const KEPT: usize = 1_000;

/// The window that rates are computed over, in microseconds.
const SPAN: Micros = 5_000_000;

/// A row of `gossip.instances` arrived, from the instance itself or from another one.
pub fn instance(s: &mut State, name: &str, row: Option<&InstanceRow>) {
    let Some(row) = row else {
        s.relay.instances.remove(name);
        s.relay.links.remove(name);
        s.relay.counted.remove(name);
        return;
    };
    let itself = s.places.iter().any(|p| p.name == name && matches!(p.link, Link::Up(_)));
    if !row.here && itself && s.relay.instances.get(name).is_some_and(|known| known.here) {
        // Its own report is newer.
        return;
    }
    let counted = s.relay.counted.entry(name.into()).or_default();
    let (now, changes, deliveries) = (s.now, row.changes, row.deliveries);
    if counted.back().is_some_and(|(_, c, _)| *c > changes) {
        // It has restarted.
        counted.clear();
    }
    counted.push_back((now, changes, deliveries));
    while counted.len() > 2 && counted.front().is_some_and(|(at, ..)| now - at > SPAN) {
        counted.pop_front();
    }
    s.relay.instances.insert(name.into(), row.clone());
}

/// A row of `gossip.links` arrived.
pub fn link(s: &mut State, name: String, row: Option<LinkRow>) {
    match row {
        Some(row) => drop(s.relay.links.insert(name, row)),
        None => drop(s.relay.links.remove(&name)),
    }
}

/// A message passed the relay. All instances report the same ones: those of one are enough.
pub fn passed(s: &mut State, place: usize, row: TrafficRow) {
    let first = s.places.iter().position(|p| matches!(p.link, Link::Up(_)));
    if first.is_some_and(|first| first != place) {
        return;
    }
    let listed = s.relay.lists(&row.name);
    s.relay.passed.push_front(row);
    if s.relay.held && listed {
        s.relay.newer += 1;
        s.relay.scroll += 1;
    }
    s.relay.passed.truncate(KEPT);
}

/// Holds the list, or resumes it.
pub fn hold(s: &mut State) {
    s.relay.held = !s.relay.held;
    if !s.relay.held {
        (s.relay.newer, s.relay.scroll) = (0, 0);
    }
}

/// A key while kinds of messages are chosen.
pub fn choose_kinds(s: &mut State, key: KeyEvent, at: usize) {
    match key.code {
        KeyCode::Up => s.overlay = Overlay::Kinds(at.saturating_sub(1)),
        KeyCode::Down => s.overlay = Overlay::Kinds((at + 1).min(Said::ALL.len() - 1)),
        KeyCode::Char(' ') => {
            let Some(kind) = Said::ALL.get(at) else { return };
            match s.relay.without.contains(kind) {
                true => s.relay.without.retain(|k| k != kind),
                false => s.relay.without.push(*kind),
            }
            (s.relay.newer, s.relay.scroll) = (0, 0);
        }
        KeyCode::Enter | KeyCode::Esc => s.overlay = Overlay::None,
        _ => {}
    }
}

/// Moves along the list.
pub fn step(s: &mut State, by: isize) {
    let last = s.relay.listed().count().saturating_sub(1);
    s.relay.scroll = s.relay.scroll.saturating_add_signed(by).min(last);
    if by > 0 {
        s.relay.held = true;
    }
}

/// The cluster's drawing.
pub fn picture(s: &State) -> Picture {
    let rates = |name: &str| {
        let counted = s.relay.counted.get(name);
        let ends = counted.and_then(|c| Some((*c.front()?, *c.back()?)));
        match ends {
            Some(((from, c0, d0), (to, c1, d1))) if to > from => {
                let seconds = (to - from) as f64 / 1e6;
                ((c1 - c0) as f64 / seconds, d1.saturating_sub(d0) as f64 / seconds)
            }
            _ => (0.0, 0.0),
        }
    };
    let mut picture =
        Picture::new(&s.relay.instances, &s.relay.links, rates, gossip_protocol::timestamp::rfc3339(s.now));
    for node in &mut picture.nodes {
        if let Some(p) = s.places.iter().find(|p| p.name == node.name)
            && let Link::Down(since, _) = &p.link
        {
            // It cannot report this itself, and its last report is outdated.
            let (name, address) = (std::mem::take(&mut node.name), std::mem::take(&mut node.address));
            let away = Some((s.now - since) / 1_000_000);
            *node = Node { name, address, away, rules: std::mem::take(&mut node.rules), ..Node::default() };
        }
    }
    picture
}

/// The picture for a page.
pub fn export(s: &State) -> Page {
    let picture = picture(s);
    Page { name: "gossip-relay".into(), drawing: page(&picture), text: words(&picture) }
}
