//! What operators are told: recent transactions, verdicts, and how things stand.

use std::sync::atomic::Ordering::Relaxed;

use gossip_core::explain::Tally;
use gossip_core::position::{Interval, Micros, Old, Position, RowChange, Transaction};
use gossip_core::schema::{Row, SYSTEM_SCHEMA};
use gossip_core::value::Value;
use gossip_core::wire;
use serde_json::{Value as Json, json};

use super::Node;
use crate::outbox::Subscription;

/// Rows of one transaction that are shown to operators.
const SHOWN_ROWS: usize = 50;

/// Characters of one value that are shown to operators.
const SHOWN_TEXT: usize = 120;

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
        self.counters.changes += t.changes.len() as u64;
        for c in &t.changes {
            let of_table = self.counters.of_table.entry(c.table.to_string()).or_default();
            *of_table = (of_table.0 + 1, t.committed.to);
        }
        let before = interval.transactions.iter().rev().find(|b| b.position < t.position).map(|b| b.position);
        let shown: Vec<Json> = t.changes.iter().take(SHOWN_ROWS).map(|c| self.show_change(c)).collect();
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
                Value::Int(t.changes.len() as i64),
                Json::from(shown).to_string().into(),
            ],
        );
    }

    fn show_change(&self, c: &RowChange) -> Json {
        let row = |row: &Row| -> Json {
            let Some(table) = self.engine.catalog().get(&c.table) else { return Json::Null };
            let cell = |(column, v): (&gossip_core::schema::Column, &Value)| {
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

    pub(super) fn sample(&mut self) {
        let int = |n: usize| Value::Int(n as i64);
        let progress = self.engine.progress(&self.start.source);
        let feeds: Vec<_> = self.engine.feeds().filter(|f| !f.effective.table.name.is_system()).collect();
        let own = feeds.iter().map(|f| f.subscriptions).sum();
        let reading = self.start.reading.lock().status();
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
            int(feeds.len()),
            Value::Int(self.counters.changes as i64),
            Value::Int(self.counters.deliveries as i64),
            self.engine.rules().hash().into(),
            env!("CARGO_PKG_VERSION").into(),
        ];
        self.system.show("instances", vec![instance]);

        let row = |f: &gossip_core::engine::FeedInfo| {
            let e = &f.effective;
            let deltas = Value::Int(f.deltas as i64);
            vec![int(f.id as usize), e.table.name.to_string().into(), e.to_sql().into(), int(f.subscriptions), deltas]
        };
        self.system.show("feeds", feeds.iter().map(row).collect());

        let mut tables = Vec::new();
        for t in self.engine.catalog().iter().filter(|t| !t.name.is_system()) {
            let (changes, last) = self.counters.of_table.get(&t.name.to_string()).copied().unwrap_or_default();
            let columns: Vec<Json> = t.columns.iter().map(|c| json!({"name": &*c.name, "type": c.ty.name()})).collect();
            let key: Vec<&str> = t.key.iter().map(|&i| &*t.columns[i].name).collect();
            let rules = self.engine.rules().texts().iter().filter(|r| r.table == t.name);
            let roles: std::collections::BTreeSet<&str> = rules.map(|r| r.role.as_str()).collect();
            tables.push(vec![
                t.name.to_string().into(),
                t.source.as_ref().into(),
                Json::from(columns).to_string().into(),
                key.join(", ").into(),
                Value::Bool(t.old_values),
                int(feeds.iter().filter(|f| f.effective.table.name == t.name).count()),
                Value::Int(changes as i64),
                if changes > 0 { wire::rfc3339(last).into() } else { Value::Null },
                roles.into_iter().collect::<Vec<_>>().join(", ").into(),
            ]);
        }
        self.system.show("tables", tables);

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
                "websocket".into(),
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
