//! The tables: a struct each.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};

use super::field::{Embedded, Moment};
use super::row::table;

table! {
    /// `gossip.instances`: the cluster, as the answering instance knows it.
    InstanceRow, "instances", key 1, {
        /// Its name.
        name: String,
        /// Where it listens.
        address: String,
        /// When it began, RFC 3339.
        since: String,
        /// Its source's name.
        source: String,
        /// Whether it is the one that reads the source.
        reads: bool,
        /// Who reads the source.
        reader: String,
        /// How often the reader has changed.
        epoch: u64,
        /// How far it has followed the source, as `source:position`.
        position: String,
        /// Milliseconds since it was known to be current.
        behind_ms: u64,
        /// What its reading thread does.
        state: String,
        /// Connected clients.
        clients: u64,
        /// Their subscriptions.
        subscriptions: u64,
        /// Feeds, each shared by equal subscriptions.
        feeds: u64,
        /// Row changes that it has taken.
        changes: u64,
        /// Deltas that it has handed to clients.
        deliveries: u64,
        /// The hash of its rules.
        rules: String,
        /// Its release.
        version: String,
        /// How the service stands that decides about rights, if there is one.
        decisions: Option<String>,
        /// Messages that wait for clients.
        waiting: u64,
        /// Audits made.
        audits: u64,
        /// Differences that audits found.
        audit_differences: u64,
        /// Whether it is the answering instance.
        here: bool,
    }
}

table! {
    /// `gossip.links`: each instance's way to the relay.
    LinkRow, "links", key 1, {
        /// The instance.
        instance: String,
        /// The relay's kind.
        kind: String,
        /// Whether it is connected.
        connected: bool,
        /// Messages sent.
        sent: u64,
        /// Messages received.
        heard: u64,
        /// Messages that were lost on their way.
        lost: u64,
        /// Messages that could not be read.
        malformed: u64,
        /// Why the last of them could not.
        last_malformed: Option<String>,
        /// The round trip of the instance's own messages, in milliseconds.
        delay_ms: Option<f64>,
        /// Messages that wait to be taken.
        waiting: u64,
        /// How the connections to other programs' brokers stand.
        foreign: String,
        /// What the broker says of itself.
        broker: Option<String>,
        /// Messages of row changes that the broker stores for those who come later.
        stored: Option<u64>,
        /// Their bytes, as the broker counts them.
        stored_bytes: Option<u64>,
    }
}

table! {
    /// `gossip.topics`, for each topic and instance.
    TopicRow, "topics", key 2, {
        /// The topic.
        name: String,
        /// The instance.
        instance: String,
        /// What is retained.
        keep: String,
        /// Events that are retained.
        kept: u64,
        /// Events taken.
        taken: u64,
        /// Events passed on to others.
        passed: u64,
        /// Events that could not be read.
        malformed: u64,
        /// Why the last of them could not.
        last_malformed: Option<String>,
    }
}

table! {
    /// `gossip.presence`: who is where.
    PresenceRow, "presence", key 3, {
        /// The place.
        place: String,
        /// The instance that the client is connected to.
        instance: String,
        /// The client's number there.
        client: u64,
        /// Who it is.
        subject: Option<String>,
        /// What it says of itself there.
        data: Json,
        /// Since when it is there.
        since: Moment,
    }
}

table! {
    /// `gossip.tables`: what streams.
    TableRow, "tables", key 1, {
        /// The table.
        name: String,
        /// Its source.
        source: String,
        /// Its columns.
        columns: Embedded<Vec<TableColumn>>,
        /// The key's columns, with commas between.
        key: String,
        /// Whether rows are known as they were before a change.
        old_values: bool,
        /// Feeds on it.
        feeds: u64,
        /// Changes of it so far.
        changes: u64,
        /// When the last one was, RFC 3339.
        last_change: Option<String>,
        /// Roles that may read it, with commas between.
        roles: String,
    }
}

/// A column of a table that streams.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct TableColumn {
    /// Its name.
    pub name: String,
    /// Its type's name.
    #[serde(rename = "type")]
    pub ty: String,
}

table! {
    /// `gossip.rules`: the rules in force.
    RuleRow, "rules", key 1, {
        /// Its place among the rules, from 1.
        number: u64,
        /// Whom it is for.
        role: String,
        /// The table.
        table: String,
        /// What it permits, with commas between.
        may: String,
        /// The condition on rows, in SQL.
        rows: Option<String>,
        /// The columns; NULL: all.
        columns: Option<Embedded<Vec<String>>>,
        /// What is shown in place of a column's value.
        masks: Embedded<BTreeMap<String, String>>,
        /// Its line in the configuration.
        line: u64,
    }
}

table! {
    /// `gossip.feeds`: what subscriptions share.
    FeedRow, "feeds", key 1, {
        /// Its number.
        id: u64,
        /// Its table.
        table: String,
        /// Its query with the rules in it.
        query: String,
        /// Subscriptions that share it.
        subscriptions: u64,
        /// Deltas so far.
        deltas: u64,
    }
}

table! {
    /// `gossip.clients`: who is connected here.
    ClientRow, "clients", key 1, {
        /// Its number.
        id: u64,
        /// Who it is.
        subject: Option<String>,
        /// Its roles, with commas between.
        roles: String,
        /// Where it comes from.
        address: String,
        /// Whether it may operate.
        operator: bool,
        /// The transport: `websocket` or `sse`.
        transport: String,
        /// When it came, RFC 3339.
        since: String,
        /// Its subscriptions.
        subscriptions: Embedded<Vec<ClientSubscription>>,
        /// Messages that wait for it.
        waiting: u64,
        /// Their bytes.
        waiting_bytes: u64,
        /// Messages written to it.
        sent: u64,
        /// How often it was too slow and was caught up.
        caught_up: u64,
        /// All that concerns it up to here, `source:position`, has been written to its socket.
        written_to: Option<String>,
        /// Milliseconds for which an operator still holds what is to be written to it.
        held_ms: u64,
    }
}

/// A subscription of a client.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub struct ClientSubscription {
    /// Its id in the instance.
    pub id: u64,
    /// Its number within the connection.
    pub number: u64,
    /// Its query.
    pub query: String,
    /// The label under which it is observed.
    pub observed: Option<String>,
    /// The claims of the client, if it is observed: an operator connected it.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub claims: Option<Map<String, Json>>,
}

table! {
    /// `gossip.alarms`: what needs an operator's attention.
    AlarmRow, "alarms", key 3, {
        /// The instance.
        instance: String,
        /// Its kind.
        kind: String,
        /// The table or part that it is about.
        about: String,
        /// What and what to do.
        text: String,
        /// Since when, RFC 3339.
        since: String,
        /// How often it was raised.
        count: u64,
    }
}

table! {
    /// `gossip.changes`, a stream: the transactions that an instance has taken.
    ChangesRow, "changes", key 0, {
        /// Its position, as `source:position`.
        position: String,
        /// The position before it.
        after: String,
        /// It was committed at this time or later, in microseconds since 1970.
        committed_from: i64,
        /// And at this time or earlier.
        committed_to: i64,
        /// When it was read.
        read_at: i64,
        /// When the instance received it.
        received_at: i64,
        /// Who read it.
        reader: String,
        /// The instance that has taken it.
        instance: String,
        /// Rows that it changed.
        rows: u64,
        /// The first of them.
        changes: Embedded<Vec<ShownChange>>,
        /// The database's number for it, where it has one.
        xid: Option<u64>,
    }
}

table! {
    /// `gossip.events`, a stream: events of topics that an instance has taken, and changes of presence, while it is
    /// subscribed to. Every instance tells of each.
    EventRow, "events", key 0, {
        /// What happened, as a hash: the same at every instance. What happens twice is told twice under it.
        identity: String,
        /// The position at this instance, as `source:position`. Others count otherwise.
        position: String,
        /// The instance that has taken it.
        instance: String,
        /// `topic` or `presence`.
        kind: String,
        /// When it happened, in microseconds since 1970.
        at: i64,
        /// When the instance received it.
        received_at: i64,
        /// Rows that it changed.
        rows: u64,
        /// The first of them.
        changes: Embedded<Vec<ShownChange>>,
        /// Events left out before it, because there were too many.
        left_out: u64,
    }
}

/// A row's change, cut where it is long.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct ShownChange {
    /// The table.
    pub table: String,
    /// The key's values.
    pub key: Vec<Json>,
    /// The row before, where it is known.
    #[serde(default)]
    pub old: Option<Map<String, Json>>,
    /// The row after; `None`: deleted, or of a table that is described otherwise by now.
    #[serde(default)]
    pub new: Option<Map<String, Json>>,
}

table! {
    /// `gossip.traffic`, a stream: messages of the relay, while it is subscribed to.
    TrafficRow, "traffic", key 0, {
        /// When, in microseconds since 1970.
        at: i64,
        /// The instance that received it.
        instance: String,
        /// What it is about.
        name: String,
        /// Who said it.
        sender: String,
        /// The message in short.
        what: String,
        /// Messages left out before it.
        left_out: u64,
    }
}

table! {
    /// `gossip.connections`, a stream: who came and went, and why.
    ConnectionRow, "connections", key 0, {
        /// When, in microseconds since 1970.
        at: i64,
        /// The instance.
        instance: String,
        /// The client's number there.
        client: u64,
        /// Who it was by then.
        subject: Option<String>,
        /// Its roles by then, with commas between.
        roles: String,
        /// Where it comes from.
        address: String,
        /// Whether it may operate.
        operator: bool,
        /// The transport: `websocket` or `sse`.
        transport: String,
        /// `connected`, `authenticated` or `disconnected`.
        what: String,
        /// Why it was disconnected.
        why: Option<String>,
        /// Messages written to it by then.
        sent: u64,
    }
}

table! {
    /// `gossip.frames`, a stream: what goes over a client's connection, both ways, while somebody subscribes to it with
    /// `WHERE client = …`. Tokens and grants are left out.
    FrameRow, "frames", key 0, {
        /// When, in microseconds since 1970.
        at: i64,
        /// The instance.
        instance: String,
        /// The client's number there.
        client: u64,
        /// `sent` by the instance, or `received` by it.
        direction: String,
        /// Bytes of the whole text.
        bytes: u64,
        /// The text, cut where it is long.
        text: String,
        /// Frames left out before it, because there were too many.
        left_out: u64,
    }
}

table! {
    /// `gossip.verdicts`, a stream: what became of a transaction for a subscription that is observed.
    VerdictRow, "verdicts", key 0, {
        /// The transaction, as `source:position`.
        position: String,
        /// The instance.
        instance: String,
        /// The subscription's label.
        label: String,
        /// Its id in the instance.
        subscription: u64,
        /// What became of it.
        verdict: String,
        /// Rows added.
        added: u64,
        /// Rows replaced.
        replaced: u64,
        /// Rows removed.
        removed: u64,
        /// When, in microseconds since 1970.
        at: i64,
        /// The cursor after it, if a delta was sent.
        cursor: Option<String>,
    }
}
