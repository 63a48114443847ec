//! System tables for operators: recent transactions, verdicts, and the instance's state.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use gossip_core::cluster::message::Message;
use gossip_core::explain::Tally;
use gossip_core::position::{Interval, RowChange, Timestamp, Transaction};
use gossip_core::rule::RuleText;
use gossip_core::schema::{Column, SYSTEM_SCHEMA, TOPIC_SOURCE, TableName};
use gossip_protocol::cloudevent::SENDER;
use gossip_protocol::system::{
    ChangesRow, Embedded, EventRow, FeedRow, InstanceRow, LinkRow, RuleRow, ShownChange, SystemRow, TableColumn,
    TableRow, TrafficRow, VerdictRow,
};
use gossip_protocol::timestamp::rfc3339;
use gossip_relay::{About, Received};
use serde_json::Value as Json;

use super::state::Node;
use crate::now;
use crate::outbox::Subscription;
use crate::shown::{self, SHOWN_TEXT};

/// Rows of one transaction that are shown to operators.
const SHOWN_ROWS: usize = 50;

/// Messages of the relay that are shown per second; the next one says how many were left out.
const SHOWN_MESSAGES: u32 = 50;

/// Tables that are sampled only while they are subscribed to.
const SAMPLED: [&str; 4] = ["feeds", "tables", "rules", "clients"];

impl Node {
    /// Tells what became of a transaction for a subscription that is observed.
    pub(super) fn record_verdict(&mut self, sub: &Subscription, position: String, verdict: &str, passed: Passing) {
        let Passing { tally, at, cursor } = passed;
        self.system.add(VerdictRow {
            position,
            instance: self.start.name.clone(),
            label: sub.observed.clone().unwrap_or_default(),
            subscription: sub.id,
            verdict: verdict.into(),
            added: tally.added.into(),
            replaced: tally.replaced.into(),
            removed: tally.removed.into(),
            at,
            cursor,
        });
    }

    pub(super) fn taken(&mut self, interval: &Interval, t: &Transaction) {
        if &*interval.source == SYSTEM_SCHEMA {
            return self.tell_events(interval, t);
        }
        let changes: Vec<&RowChange> = t.changes.iter().filter(|c| !c.is_nothing()).collect();
        self.counters.changes += changes.len() as u64;
        let topic = &*interval.source == TOPIC_SOURCE;
        for c in &changes {
            let of_table = self.counters.of_table.entry(c.table.to_string()).or_default();
            *of_table = (of_table.0 + 1, t.committed.to);
        }
        // Positions of topics are local to an instance, and so they are told of otherwise.
        if topic {
            return self.tell_events(interval, t);
        }
        let before = interval.transactions.iter().rev().find(|b| b.position < t.position).map(|b| b.position);
        let shown: Vec<ShownChange> = changes.iter().take(SHOWN_ROWS).map(|c| self.shown(c)).collect();
        self.system.add(ChangesRow {
            position: format!("{}:{}", interval.source, t.position),
            after: format!("{}:{}", interval.source, before.unwrap_or(interval.from)),
            committed_from: t.committed.from,
            committed_to: t.committed.to,
            read_at: interval.read_at,
            received_at: self.received,
            reader: interval.reader.to_string(),
            instance: self.start.name.clone(),
            rows: changes.len() as u64,
            changes: Embedded(shown),
            xid: Some(t.number).filter(|xid| *xid > 0),
        });
    }

    /// A row's change as operators are shown it.
    pub(super) fn shown(&self, change: &RowChange) -> ShownChange {
        let catalog = self.engine.catalog();
        let table = catalog.get(&change.table);
        let table = table.filter(|_| catalog.identity(&change.table) == Some(change.description));
        shown::change(change, table.map(|t| &**t))
    }

    /// Tells of a message that has come over the relay, if an operator listens to that. Heartbeats are not worth a word.
    pub(super) fn count_traffic(&mut self, heard: &Received) {
        if !self.traffic_wanted {
            return;
        }
        let (name, sender, what) = match heard {
            Received::Interval(i) if i.from == i.to => return,
            Received::Interval(i) => {
                let rows: usize = i.transactions.iter().map(|t| t.changes.len()).sum();
                let tables: BTreeSet<String> =
                    i.transactions.iter().flat_map(|t| &t.changes).map(|c| c.table.to_string()).collect();
                let tables = tables.into_iter().collect::<Vec<_>>().join(", ");
                let counted = |n: usize, what: &str| format!("{n} {what}{}", if n == 1 { "" } else { "s" });
                let (transactions, rows) = (counted(i.transactions.len(), "transaction"), counted(rows, "row"));
                let what = format!("({}, {}]  {transactions}, {rows}  {tables}", i.from, i.to);
                (format!("rows.{}", i.source), i.reader.to_string(), what)
            }
            Received::Event(e) => {
                let name = match &e.about {
                    About::Topic(name) => format!("topic.{name}"),
                    About::Members => format!("member.{}", e.event.source.trim_start_matches("/gossip/")),
                };
                let what = match &e.about {
                    About::Topic(_) => e.event.data.to_string(),
                    About::Members if Message::read(&e.event).is_some_and(|(_, m)| m.is_routine()) => return,
                    About::Members => e.event.kind.clone(),
                };
                let sender = e.event.more.get(SENDER).and_then(Json::as_str).unwrap_or(&e.event.source);
                (name, sender.trim_start_matches("/gossip/").to_string(), what)
            }
        };
        let second = now() / 1_000_000;
        let (of, told, left_out) = &mut self.traffic_told;
        if *of != second {
            (*of, *told) = (second, 0);
        }
        *told += 1;
        if *told > SHOWN_MESSAGES {
            *left_out += 1;
            return;
        }
        let left_out = std::mem::take(left_out);
        let what: String = what.chars().take(SHOWN_TEXT).collect();
        let (at, instance) = (now(), self.start.name.clone());
        self.system.add(TrafficRow { at, instance, name, sender, what, left_out });
        self.flush_system();
    }

    pub(super) fn sample(&mut self) {
        let (instance, link, topics) = (self.instance_row(), self.link_row(), self.cluster.local_topics());
        let alarms = self.alarms.rows(&self.start.name);
        let outputs = self.cluster.report_status(instance.clone(), link.clone(), alarms.clone(), now());
        self.cluster_outputs(outputs);
        let others = &self.cluster;
        self.system.show([instance].into_iter().chain(others.instances()));
        self.system.show([link].into_iter().chain(others.links()));
        self.system.show(topics.into_iter().chain(others.other_topics()));
        self.system.show(alarms.into_iter().chain(others.alarms()));

        self.traffic_wanted = self.engine.has_feeds_on(&TableName::system(TrafficRow::SHAPE.name));
        self.events_told.wanted = self.engine.has_feeds_on(&TableName::system(EventRow::SHAPE.name));
        self.tap_clients();
        // What takes time in proportion to its size is sampled only while it is subscribed to.
        for name in SAMPLED {
            if self.engine.has_feeds_on(&TableName::system(name)) {
                self.sample_table(name);
            }
        }
    }

    fn instance_row(&self) -> InstanceRow {
        let progress = self.engine.progress(&self.start.source);
        let (feeds, subscriptions) = self.engine.counts();
        let reading = self.start.reading.status();
        InstanceRow {
            name: self.start.name.clone(),
            address: self.start.address.to_string(),
            since: rfc3339(self.since),
            source: self.start.source.to_string(),
            reads: reading == "reading",
            reader: self.reader.to_string(),
            epoch: progress.epoch,
            position: self.position(),
            behind_ms: self.behind_ms(),
            state: reading,
            clients: self.clients.len() as u64,
            subscriptions: subscriptions as u64,
            feeds: feeds as u64,
            changes: self.counters.changes,
            deliveries: self.counters.deliveries,
            rules: self.engine.rules().hash(),
            version: env!("CARGO_PKG_VERSION").into(),
            decisions: self.start.decisions.as_ref().map(|d| d.state()),
            waiting: self.clients.values().map(|(client, _)| client.outbox.waiting().0 as u64).sum(),
            audits: self.counters.audits,
            audit_differences: self.counters.audit_differences,
            here: true,
        }
    }

    fn link_row(&self) -> LinkRow {
        let standing = self.start.relay.standing();
        LinkRow {
            instance: self.start.name.clone(),
            kind: standing.kind.into(),
            connected: standing.connected,
            sent: standing.sent,
            heard: standing.heard,
            lost: standing.lost,
            malformed: standing.malformed,
            last_malformed: standing.last_malformed,
            delay_ms: self.cluster.round_trip().map(|t| t as f64 / 1_000.0),
            waiting: self.waiting as u64,
            foreign: self.foreign_state(),
            broker: standing.broker,
            stored: standing.stored.map(|(messages, _)| messages),
            stored_bytes: standing.stored.map(|(_, bytes)| bytes),
        }
    }

    /// Brings one of the larger system tables up to date.
    pub(super) fn sample_table(&mut self, name: &str) {
        match name {
            "feeds" => self.sample_feeds(),
            "tables" => self.sample_tables(),
            "rules" => self.sample_rules(),
            "clients" => self.sample_clients(),
            _ => {}
        }
    }

    fn sample_feeds(&mut self) {
        let Node { engine, texts, system, .. } = self;
        let mut before = std::mem::take(texts);
        let mut rows = Vec::new();
        for f in engine.feeds().filter(|f| !f.plan.table().name.is_system()) {
            let known = before.remove(&f.id).filter(|(of, _)| Arc::ptr_eq(of, &f.plan));
            let (of, text) = known.unwrap_or_else(|| (f.plan.clone(), f.plan.to_sql().into()));
            rows.push(FeedRow {
                id: u64::from(f.id),
                table: f.plan.table().name.to_string(),
                query: text.to_string(),
                subscriptions: f.subscriptions as u64,
                deltas: f.deltas,
            });
            texts.insert(f.id, (of, text));
        }
        system.show(rows);
    }

    fn sample_tables(&mut self) {
        let mut of_table: BTreeMap<TableName, u64> = BTreeMap::new();
        self.engine.feeds().for_each(|f| *of_table.entry(f.plan.table().name.clone()).or_default() += 1);
        let mut tables = Vec::new();
        for t in self.engine.catalog().iter().filter(|t| !t.name.is_system()) {
            let (changes, last) = self.counters.of_table.get(&t.name.to_string()).copied().unwrap_or_default();
            let column = |c: &Column| TableColumn { name: c.name.to_string(), ty: c.ty.name().into() };
            let key: Vec<&str> = t.key.iter().map(|&i| &*t.columns[i].name).collect();
            let rules = self.engine.rules().texts().iter().filter(|r| r.table == t.name && r.may.read);
            let roles: BTreeSet<&str> = rules.map(|r| r.role.as_str()).collect();
            tables.push(TableRow {
                name: t.name.to_string(),
                source: t.source.to_string(),
                columns: Embedded(t.columns.iter().map(column).collect()),
                key: key.join(", "),
                old_values: t.old_values,
                feeds: of_table.get(&t.name).copied().unwrap_or(0),
                changes,
                last_change: (changes > 0).then(|| rfc3339(last)),
                roles: roles.into_iter().collect::<Vec<_>>().join(", "),
            });
        }
        self.system.show(tables);
    }

    fn sample_rules(&mut self) {
        let rule = |(i, r): (usize, &RuleText)| RuleRow {
            number: i as u64 + 1,
            role: r.role.clone(),
            table: r.table.to_string(),
            may: r.may.words().collect::<Vec<_>>().join(", "),
            rows: r.rows.clone(),
            columns: r.columns.clone().map(Embedded),
            masks: Embedded(r.masks.clone()),
            line: r.line as u64,
        };
        let rules: Vec<RuleRow> = self.engine.rules().texts().iter().enumerate().map(rule).collect();
        self.system.show(rules);
    }
}

/// A transaction on its way to a subscription.
#[derive(Default)]
pub(super) struct Passing {
    /// What it did to the result.
    pub(super) tally: Tally,
    /// When.
    pub(super) at: Timestamp,
    /// The cursor after it, if a delta was sent.
    pub(super) cursor: Option<String>,
}
