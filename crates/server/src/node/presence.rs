//! Presence at this instance: clients that joined a place, while they have the right to.

use gossip_core::cluster::JoinError;
use gossip_core::cluster::message::presence_row;
use gossip_core::cluster::presence::Location;
use gossip_core::publication::Publication;
use gossip_core::schema::{ColumnSet, PRESENCE, TableName};
use gossip_core::value::Value;
use gossip_protocol::system::{Moment, PresenceRow, SystemRow};
use gossip_protocol::timestamp::rfc3339;
use gossip_protocol::{RpcError, code, message};
use serde_json::{Value as Json, json};

use super::state::Node;
use crate::now;

/// Bytes of a place's name, and of a member's own data there.
const MAX_PLACE: usize = 200;
const MAX_DATA: usize = 4 * 1024;

/// The place of a column in rows of presence.
fn column(name: &str) -> usize {
    PresenceRow::SHAPE.column(name).unwrap_or_default()
}

/// A member's own data on joining; the instance adds the rest.
pub(super) fn chosen() -> ColumnSet {
    [column("place"), column("data")].into_iter().collect()
}

fn limit(what: &str, most: usize) -> RpcError {
    RpcError::new(code::LIMIT, format!("limit reached: {what}, at most {most}"))
}

impl Node {
    /// Somebody comes to a place, or says something else there.
    pub(super) fn join(&mut self, client: u64, place: String, data: Json) -> Result<Json, RpcError> {
        let Some((c, _)) = self.clients.get(&client) else { return Ok(json!({})) };
        let claims = c.claims.lock().clone();
        let refused = || RpcError::new(code::NOT_KNOWN, "this place is not known or not permitted");
        let table = self.engine.catalog().get(&TableName::system(PRESENCE)).cloned().ok_or_else(refused)?;
        if place.is_empty() || place.len() > MAX_PLACE {
            return Err(RpcError::invalid(format!("place: expected 1 to {MAX_PLACE} bytes")));
        }
        if data.to_string().len() > MAX_DATA {
            return Err(limit("bytes of data", MAX_DATA));
        }
        let at: Location = (place.as_str().into(), client);
        let before = self.cluster.presence().own().get(&at);
        let since = before.and_then(|row| row[column("since")].to_json().as_str().map(String::from));
        let row = presence_row(PresenceRow {
            place,
            instance: self.start.name.clone(),
            client,
            subject: claims.subject().map(String::from),
            data,
            since: Moment(since.unwrap_or_else(|| rfc3339(now()))),
        });
        let wanted = Publication { table: &table, row: &row, chosen: &chosen(), claims: &claims };
        if !wanted.is_permitted(self.engine.rules(), self.engine.catalog()) {
            return Err(refused());
        }
        let outputs = self.cluster.join(at, row).map_err(|full| match full {
            JoinError::TooManyPeople(most) => limit("people at one instance", most),
            JoinError::TooManyPlaces(most) => limit("places of one client", most),
        })?;
        self.cluster_outputs(outputs);
        Ok(json!({}))
    }

    /// Somebody leaves a place.
    pub(super) fn leave(&mut self, client: u64, place: &str) -> Result<Json, RpcError> {
        let outputs = self.cluster.leave(&(place.into(), client));
        if outputs.is_empty() {
            let shown: String = place.chars().take(60).collect();
            return Err(RpcError::new(code::UNKNOWN_NAME, format!("this connection has not joined {shown}")));
        }
        self.cluster_outputs(outputs);
        Ok(json!({}))
    }

    /// A client has gone, from wherever it was.
    pub(super) fn leave_everywhere(&mut self, client: u64) {
        let outputs = self.cluster.leave_everywhere(client);
        self.cluster_outputs(outputs);
    }

    /// Removes clients, or one of them, from places where the current rules and claims do not permit them.
    pub(super) fn leave_where_not_permitted(&mut self, of: Option<u64>) {
        let Some(table) = self.engine.catalog().get(&TableName::system(PRESENCE)).cloned() else { return };
        let (chosen, subject) = (chosen(), column("subject"));
        let own = self.cluster.presence().own().iter().filter(|((_, c), _)| of.is_none_or(|of| of == *c));
        let may = |(at, row): &(&Location, &gossip_core::schema::Row)| {
            let claims = self.clients.get(&at.1).map(|(c, _)| c.claims.lock().clone());
            claims.is_some_and(|claims| {
                // Under another name it would have to come anew.
                let named = claims.subject().map_or(Value::Null, Value::from) == row[subject];
                let wanted = Publication { table: &table, row, chosen: &chosen, claims: &claims };
                named && wanted.is_permitted(self.engine.rules(), self.engine.catalog())
            })
        };
        let leaving: Vec<Location> = own.filter(|one| !may(one)).map(|(at, _)| at.clone()).collect();
        let outputs = leaving.iter().flat_map(|at| self.cluster.leave(at)).collect();
        self.cluster_outputs(outputs);
    }

    /// What somebody asks of a place is answered at once.
    pub(super) fn presence(&mut self, client: u64, call: &Json, outcome: Result<Json, RpcError>) {
        let Some((client, _)) = self.clients.get(&client) else { return };
        client.outbox.say(&outcome.map_or_else(|e| message::refuse(call, &e), |done| message::reply(call, done)));
        self.writers.due(client);
    }
}
