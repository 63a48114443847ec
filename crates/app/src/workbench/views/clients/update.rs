//! Clients: what changes the view's state, and what it asks for.

use gossip_client::Direction;
use gossip_protocol::system::{ClientRow, ConnectionRow, FrameRow};

use super::state::{ClientId, MAX_COMINGS};
use crate::workbench::message::Effect;
use crate::workbench::overlays::frames::state::{Log, Looking, Whose};
use crate::workbench::rail::View;
use crate::workbench::state::{Overlay, State};
use crate::workbench::views::tables::state::{Proposal, Proposed};

/// How long a client is held, in milliseconds.
pub const HOLD_MS: u64 = 10_000;

/// Somebody is connected, or not any more.
pub fn told(s: &mut State, place: usize, number: u64, row: Option<ClientRow>) {
    match row {
        Some(row) => drop(s.clients.known.insert((place, number), row)),
        None => drop(s.clients.known.remove(&(place, number))),
    }
}

/// All who are connected to an instance.
pub fn told_all(s: &mut State, place: usize, rows: Vec<ClientRow>) {
    s.clients.known.retain(|(of, _), _| *of != place);
    s.clients.known.extend(rows.into_iter().map(|row| ((place, row.id), row)));
}

/// Somebody came or went.
pub fn came(s: &mut State, row: ConnectionRow) {
    let at = s.clients.comings.iter().position(|c| c.at <= row.at).unwrap_or(s.clients.comings.len());
    s.clients.comings.insert(at, row);
    s.clients.comings.truncate(MAX_COMINGS);
}

/// A frame went over the connection that is followed.
pub fn frame(s: &mut State, place: usize, row: &FrameRow) {
    if s.clients.followed == Some((place, row.client)) {
        // As the client sees it, like a watcher's.
        let direction = if row.direction == "sent" { Direction::Received } else { Direction::Sent };
        s.clients.frames.note_cut(row.at, direction, &row.text, row.bytes as usize);
    }
}

/// Begins and ends to follow what the view shows, as it is opened, left, or moved in.
pub fn look(s: &mut State) -> Vec<Effect> {
    let open = s.view == View::Clients && !s.recorded;
    let mut effects = Vec::new();
    if open != s.clients.open {
        s.clients.open = open;
        effects.push(Effect::FollowClients(open));
    }
    let wanted = if open { s.clients.chosen().map(|(id, _)| id) } else { None };
    if wanted != s.clients.followed {
        s.clients.followed = wanted;
        s.clients.frames = Log::default();
        effects.push(Effect::FollowFrames(wanted));
    }
    effects
}

/// Moves along the list.
pub fn step(s: &mut State, by: isize) {
    let shown: Vec<ClientId> = s.clients.shown().into_iter().map(|(id, _)| id).collect();
    let at = s.clients.chosen().and_then(|(id, _)| shown.iter().position(|other| *other == id)).unwrap_or(0);
    let at = at.saturating_add_signed(by).min(shown.len().saturating_sub(1));
    s.clients.chosen = shown.get(at).copied();
}

/// Holds what is written to the selected client for a while, or lets it go on.
pub fn hold(s: &mut State) -> Vec<Effect> {
    let Some(((place, client), row)) = s.clients.chosen() else { return vec![] };
    let ms = if row.held_ms > 0 { 0 } else { HOLD_MS };
    vec![Effect::HoldClient { place, client, ms }]
}

/// Proposes to end the selected client's connection.
pub fn disconnect(s: &mut State) {
    let Some((id, row)) = s.clients.chosen() else { return };
    let who = row.subject.clone().unwrap_or_else(|| "Anyone".into());
    s.overlay = Overlay::Proposal(Proposal {
        title: format!("Disconnect {who}, {}", row.address),
        effects: vec![
            "The connection ends with code 1012. A client that follows the protocol connects again, and goes on from where it was."
                .into(),
        ],
        sql: vec![],
        what: Proposed::Disconnect(id),
    });
}

/// Opens the frames of the selected client.
pub fn frames(s: &mut State) {
    if s.clients.followed.is_some() {
        s.overlay = Overlay::Frames(Looking::of(Whose::Client));
    }
}
