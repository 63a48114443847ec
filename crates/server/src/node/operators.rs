//! What operators are told: recent transactions, verdicts, and how things stand.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;
use std::sync::atomic::Ordering::Relaxed;

use gossip_core::explain::Tally;
use gossip_core::position::{Interval, Micros, Old, Position, RowChange, Transaction};
use gossip_core::rule::RuleText;
use gossip_core::schema::{Column, Row, SYSTEM_SCHEMA, TOPIC_SOURCE, Table, TableName};
use gossip_core::topic::Keep;
use gossip_core::value::Value;
use gossip_core::wire;
use gossip_relay::{About, Heard};
use serde_json::{Value as Json, json};

use super::Node;
use crate::now;
use crate::outbox::Subscription;
use gossip_relay::cloudevent::SENDER;

/// Rows of one transaction that are shown to operators.
const SHOWN_ROWS: usize = 50;

/// Messages of the relay that are told in a second; how many are left out then is told with the next one.
const SHOWN_MESSAGES: u32 = 50;

/// Characters of one value that are shown to operators.
const SHOWN_TEXT: usize = 120;

/// Tables that are put together only while somebody looks at them.
const SAMPLED: [&str; 4] = ["feeds", "tables", "rules", "clients"];

impl Node {
    #[allow(clippy::too_many_arguments)]
    pub(super) fn tell_verdict(
        &mut self,
        sub: &Subscription,
        source: &str,
        position: Position,
        verdict: &str,
        tally: Tally,
        at: Micros,
        cursor: Value,
    ) {
        self.system.add(
            "verdicts",
            vec![
                format!("{source}:{position}").into(),
                self.start.name.as_str().into(),
                sub.observed.as_deref().unwrap_or("").into(),
                Value::Int(sub.id as i64),
                verdict.into(),
                Value::Int(tally.added.into()),
                Value::Int(tally.replaced.into()),
                Value::Int(tally.removed.into()),
                Value::Int(at),
                cursor,
            ],
        );
    }

    pub(super) fn taken(&mut self, interval: &Interval, t: &Transaction) {
        if &*interval.source == SYSTEM_SCHEMA {
            return;
        }
        let changes: Vec<&RowChange> = t.changes.iter().filter(|c| !c.is_nothing()).collect();
        self.counters.changes += changes.len() as u64;
        let topic = &*interval.source == TOPIC_SOURCE;
        for c in &changes {
            let of_table = self.counters.of_table.entry(c.table.to_string()).or_default();
            *of_table = (of_table.0 + 1, t.committed.to);
        }
        // Where an event of a topic stands is each instance's own: told by several it would look like several.
        if topic {
            return;
        }
        let before = interval.transactions.iter().rev().find(|b| b.position < t.position).map(|b| b.position);
        let shown: Vec<Json> = {
            let catalog = self.engine.catalog();
            let shape =
                |c: &RowChange| catalog.get(&c.table).filter(|_| catalog.identity(&c.table) == Some(c.description));
            let show = |c: &&RowChange| show_change(c, shape(c).map(|t| &**t));
            changes.iter().take(SHOWN_ROWS).map(show).collect()
        };
        self.system.add(
            "changes",
            vec![
                format!("{}:{}", interval.source, t.position).into(),
                format!("{}:{}", interval.source, before.unwrap_or(interval.from)).into(),
                Value::Int(t.committed.from),
                Value::Int(t.committed.to),
                Value::Int(interval.read_at),
                Value::Int(self.received),
                interval.reader.as_ref().into(),
                self.start.name.as_str().into(),
                Value::Int(changes.len() as i64),
                Json::from(shown).to_string().into(),
                if t.xid > 0 { Value::Int(t.xid as i64) } else { Value::Null },
            ],
        );
    }

    /// Tells of a message that has come over the relay, if an operator listens to that. Heartbeats are not worth a word.
    pub(super) fn tell_traffic(&mut self, heard: &Heard) {
        if !self.traffic_wanted {
            return;
        }
        let (name, sender, what) = match heard {
            Heard::Interval(i) if i.from == i.to => return,
            Heard::Interval(i) => {
                let rows: usize = i.transactions.iter().map(|t| t.changes.len()).sum();
                let tables: BTreeSet<String> =
                    i.transactions.iter().flat_map(|t| &t.changes).map(|c| c.table.to_string()).collect();
                let tables = tables.into_iter().collect::<Vec<_>>().join(", ");
                let what = format!("({}, {}]  {} × {rows} rows  {tables}", i.from, i.to, i.transactions.len());
                (format!("rows.{}", i.source), i.reader.to_string(), what)
            }
            Heard::Event(e) => {
                let name = match &e.about {
                    About::Topic(name) => format!("topic.{name}"),
                    About::Members => format!("member.{}", e.event.source.trim_start_matches("/gossip/")),
                };
                let what = match &e.about {
                    About::Topic(_) => e.event.data.to_string(),
                    // What is said again and again.
                    About::Members if e.event.kind == super::members::STANDS || e.event.data.get("round").is_some() => {
                        return;
                    }
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
        let row = vec![
            Value::Int(now()),
            self.start.name.as_str().into(),
            name.into(),
            sender.into(),
            what.into(),
            Value::Int(left_out as i64),
        ];
        self.system.add("traffic", row);
        self.flush_system();
    }

    pub(super) fn sample(&mut self) {
        let progress = self.engine.progress(&self.start.source);
        let (feeds, own) = self.engine.counts();
        let reading = self.start.reading.status();
        let instance = vec![
            self.start.name.as_str().into(),
            self.start.address.to_string().into(),
            wire::rfc3339(self.since).into(),
            self.start.source.as_ref().into(),
            Value::Bool(reading == "reading"),
            self.reader.as_ref().into(),
            Value::Int(progress.epoch as i64),
            self.position().into(),
            Value::Int(self.behind_ms() as i64),
            reading.into(),
            int(self.clients.len()),
            int(own),
            int(feeds),
            Value::Int(self.counters.changes as i64),
            Value::Int(self.counters.deliveries as i64),
            self.engine.rules().hash().into(),
            env!("CARGO_PKG_VERSION").into(),
            self.start.decisions.as_ref().map_or(Value::Null, |d| d.state().into()),
            Value::Int(self.counters.audits.cast_signed()),
            Value::Int(self.counters.audit_differences.cast_signed()),
            Value::Bool(true),
        ];
        let standing = self.start.relay.standing();
        let link = vec![
            self.start.name.as_str().into(),
            standing.kind.into(),
            Value::Bool(standing.connected),
            Value::Int(standing.sent as i64),
            Value::Int(standing.heard as i64),
            Value::Int(standing.lost as i64),
            Value::Int(standing.malformed as i64),
            standing.last_malformed.as_deref().map_or(Value::Null, Value::from),
            self.members.round_trip.map_or(Value::Null, |t| Value::Float(t as f64 / 1_000.0)),
            int(self.waiting),
            self.foreign_state().into(),
        ];
        let topics: Vec<Vec<Value>> = self
            .topics
            .iter()
            .map(|(name, state, counts)| {
                let keep = match state.topic().keep {
                    Keep::Nothing => "nothing".to_string(),
                    Keep::Last => "last".to_string(),
                    Keep::Newest(n) => n.to_string(),
                    Keep::During(time) => format!("{} s", time / 1_000_000),
                };
                let last = self.topics.last_malformed().filter(|why| why.starts_with(&format!("{name}:")));
                vec![
                    name.into(),
                    self.start.name.as_str().into(),
                    keep.into(),
                    int(state.len()),
                    Value::Int(counts.taken as i64),
                    Value::Int(counts.passed as i64),
                    Value::Int(counts.malformed as i64),
                    last.map_or(Value::Null, Value::from),
                ]
            })
            .collect();
        let alarms = self.alarms.rows(&self.start.name);
        self.tell_how_it_stands(&instance, &link, &topics, &alarms);
        self.system.show("instances", [instance].into_iter().chain(self.members.instances()).collect());
        self.system.show("links", [link].into_iter().chain(self.members.links()).collect());
        self.system.show("topics", topics.into_iter().chain(self.members.topics()).collect());
        self.system.show("alarms", alarms.into_iter().chain(self.members.alarms()).collect());

        self.traffic_wanted = self.engine.is_asked(&TableName::system("traffic"));
        // What takes time in proportion to what there is, is put together only while somebody looks.
        for name in SAMPLED {
            if self.engine.is_asked(&TableName::system(name)) {
                self.sample_table(name);
            }
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
        for f in engine.feeds().filter(|f| !f.effective.table.name.is_system()) {
            let known = before.remove(&f.id).filter(|(of, _)| Arc::ptr_eq(of, &f.effective));
            let (of, text) = known.unwrap_or_else(|| (f.effective.clone(), f.effective.to_sql().into()));
            let (id, table) = (int(f.id as usize), f.effective.table.name.to_string().into());
            rows.push(vec![id, table, text.clone(), int(f.subscriptions), Value::Int(f.deltas as i64)]);
            texts.insert(f.id, (of, text));
        }
        system.show("feeds", rows);
    }

    fn sample_tables(&mut self) {
        let mut of_table: BTreeMap<TableName, usize> = BTreeMap::new();
        self.engine.feeds().for_each(|f| *of_table.entry(f.effective.table.name.clone()).or_default() += 1);
        let mut tables = Vec::new();
        for t in self.engine.catalog().iter().filter(|t| !t.name.is_system()) {
            let (changes, last) = self.counters.of_table.get(&t.name.to_string()).copied().unwrap_or_default();
            let columns: Vec<Json> = t.columns.iter().map(|c| json!({"name": &*c.name, "type": c.ty.name()})).collect();
            let key: Vec<&str> = t.key.iter().map(|&i| &*t.columns[i].name).collect();
            let rules = self.engine.rules().texts().iter().filter(|r| r.table == t.name && r.may.read);
            let roles: BTreeSet<&str> = rules.map(|r| r.role.as_str()).collect();
            tables.push(vec![
                t.name.to_string().into(),
                t.source.as_ref().into(),
                Json::from(columns).to_string().into(),
                key.join(", ").into(),
                Value::Bool(t.old_values),
                int(of_table.get(&t.name).copied().unwrap_or(0)),
                Value::Int(changes as i64),
                if changes > 0 { wire::rfc3339(last).into() } else { Value::Null },
                roles.into_iter().collect::<Vec<_>>().join(", ").into(),
            ]);
        }
        self.system.show("tables", tables);
    }

    fn sample_rules(&mut self) {
        let rule = |(i, r): (usize, &RuleText)| {
            let columns = r.columns.as_ref().map_or(Value::Null, |c| json!(c).to_string().into());
            vec![
                int(i + 1),
                r.role.as_str().into(),
                r.table.to_string().into(),
                r.may.words().collect::<Vec<_>>().join(", ").into(),
                r.rows.as_deref().map_or(Value::Null, Value::from),
                columns,
                json!(r.masks).to_string().into(),
                int(r.line),
            ]
        };
        let rules = self.engine.rules().texts().iter().enumerate().map(rule).collect();
        self.system.show("rules", rules);
    }

    fn sample_clients(&mut self) {
        let mut clients = Vec::new();
        for (c, subs) in self.clients.values() {
            let claims = c.claims.lock().clone();
            let (waiting, bytes) = c.outbox.waiting();
            let subs: Vec<Json> = subs
                .iter()
                .filter_map(|(number, id)| {
                    let s = self.subs.get(id)?;
                    Some(json!({"id": id, "number": number, "query": s.text, "observed": s.subscription.observed}))
                })
                .collect();
            clients.push(vec![
                Value::Int(c.id as i64),
                claims.subject().map_or(Value::Null, Value::from),
                claims.roles.join(", ").into(),
                c.address.to_string().into(),
                c.transport.into(),
                wire::rfc3339(c.since).into(),
                Json::from(subs).to_string().into(),
                int(waiting),
                int(bytes),
                // Whoever watches this table would otherwise keep changing it.
                Value::Int(if claims.operator { 0 } else { c.outbox.sent.load(Relaxed) as i64 }),
                Value::Int(c.outbox.caught_up.load(Relaxed) as i64),
            ]);
        }
        self.system.show("clients", clients);
    }
}

fn int(n: usize) -> Value {
    Value::Int(n as i64)
}

/// A row's change as operators are shown it, cut where it is long.
pub(super) fn show_change(c: &RowChange, table: Option<&Table>) -> Json {
    let row = |row: &Row| -> Json {
        let Some(table) = table else { return Json::Null };
        let cell = |(column, v): (&Column, &Value)| {
            let v = match v.to_json() {
                Json::String(s) if s.chars().count() > SHOWN_TEXT => {
                    Json::from(s.chars().take(SHOWN_TEXT).chain(['…']).collect::<String>())
                }
                v => v,
            };
            (column.name.to_string(), v)
        };
        table.columns.iter().zip(row.iter()).map(cell).collect::<serde_json::Map<_, _>>().into()
    };
    let old = match &c.old {
        Old::Known(Some(old)) => row(old),
        _ => Json::Null,
    };
    let key: Vec<Json> = c.key.iter().map(Value::to_json).collect();
    json!({"table": c.table.to_string(), "key": key, "old": old, "new": c.new.as_ref().map(row)})
}
