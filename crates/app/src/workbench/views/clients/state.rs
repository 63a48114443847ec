//! State of Clients: who is connected, who came and went, and the frames of one of them.

use std::collections::{BTreeMap, VecDeque};

use gossip_protocol::system::{ClientRow, ConnectionRow};

use crate::workbench::overlays::frames::state::Log;

/// A client: the index of its instance, and its number there.
pub type ClientId = (usize, u64);

/// Arrivals and departures kept; the oldest are dropped.
pub const MAX_COMINGS: usize = 1_000;

/// The view's state.
#[derive(Default)]
pub struct Clients {
    /// Rows of `gossip.clients`.
    pub known: BTreeMap<ClientId, ClientRow>,
    /// Who came and went, newest first.
    pub comings: VecDeque<ConnectionRow>,
    /// The selected client; the first one if `None` or gone.
    pub chosen: Option<ClientId>,
    /// Whose frames are followed.
    pub followed: Option<ClientId>,
    /// The newest of its frames.
    pub frames: Log,
    /// Only clients with this text are shown.
    pub find: String,
    /// Whether instances are asked who is connected: while the view is open.
    pub open: bool,
}

impl Clients {
    /// The clients that are shown: those for whom most waits first, then by when they came; operators last.
    pub fn shown(&self) -> Vec<(ClientId, &ClientRow)> {
        let wanted = self.find.to_lowercase();
        let fits = |c: &ClientRow| {
            let who = c.subject.as_deref().unwrap_or("anyone").to_lowercase();
            let queries = || c.subscriptions.0.iter().any(|s| s.query.to_lowercase().contains(&wanted));
            who.contains(&wanted)
                || c.roles.to_lowercase().contains(&wanted)
                || c.address.contains(&wanted)
                || queries()
        };
        let mut shown: Vec<(ClientId, &ClientRow)> =
            self.known.iter().filter(|(_, c)| wanted.is_empty() || fits(c)).map(|(id, c)| (*id, c)).collect();
        shown.sort_by(|(a, x), (b, y)| {
            let of = |c: &ClientRow| (!c.operator, c.waiting_bytes > 0 || c.held_ms > 0, c.waiting_bytes);
            of(y).cmp(&of(x)).then_with(|| x.since.cmp(&y.since)).then_with(|| a.cmp(b))
        });
        shown
    }

    /// The selected client.
    pub fn chosen(&self) -> Option<(ClientId, &ClientRow)> {
        let of = |id: ClientId| self.known.get(&id).map(|c| (id, c));
        self.chosen.and_then(of).or_else(|| self.shown().into_iter().next())
    }
}
