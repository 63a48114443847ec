//! A server, a source on it and its reader.

use std::collections::BTreeMap;
use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use gossip_core::plan::SnapshotRequest;
use gossip_core::position::{Interval, Reset, RowChange, SnapshotPoint};
use gossip_core::schema::{Row, Table};
use gossip_source::{ChangeReader, Settings, Source};
use postgres::{Client, NoTls};
use serde_json::json;
use testbed::Postgres;

pub struct Bench {
    pub server: Postgres,
    pub db: Client,
    pub settings: Settings,
}

impl Bench {
    pub fn new(schema: &str, tables: &[&str]) -> Bench {
        Bench::on(Postgres::start(), schema, tables)
    }

    pub fn on(server: Postgres, schema: &str, tables: &[&str]) -> Bench {
        let mut db = Client::connect(&server.url(), NoTls).unwrap();
        db.batch_execute(schema).unwrap();
        let settings = Settings {
            name: "s".into(),
            url: server.url(),
            tables: tables.iter().map(|t| t.to_string()).collect(),
            ..Settings::default()
        };
        Bench { server, db, settings }
    }

    pub fn with_old_values(mut self, tables: &[&str]) -> Bench {
        self.settings.options.insert("old_values".into(), json!(tables));
        self
    }

    pub fn source(&self) -> Arc<dyn Source> {
        gossip_source::from_settings(&self.settings, Path::new("/")).unwrap()
    }

    pub fn prepare(&self) {
        let source = self.source();
        source.carry_out(&source.plan().unwrap().statements).unwrap();
        assert!(source.plan().unwrap().statements.is_empty(), "prepared twice");
    }

    pub fn run(&mut self, sql: &str) {
        self.db.batch_execute(sql).unwrap();
    }

    pub fn table(&self, name: &str) -> Arc<Table> {
        self.source().describe().unwrap().into_iter().find(|t| &*t.name.name == name).unwrap()
    }

    /// Prepares and becomes the reader.
    pub fn follow(&self) -> Reader {
        self.prepare();
        self.follow_prepared()
    }

    pub fn follow_prepared(&self) -> Reader {
        Reader { follow: self.source().try_to_lead("test", None).unwrap().unwrap() }
    }

    /// All rows of a table, by what `Debug` says of their key.
    pub fn snapshot(&self, table: &Arc<Table>) -> (BTreeMap<String, Row>, SnapshotPoint) {
        let mut rows = BTreeMap::new();
        let mut take = |piece: Vec<Row>| {
            rows.extend(piece.into_iter().map(|r| (format!("{:?}", table.key_of(&r)), r)));
            true
        };
        let shows = self.source().snapshot(&SnapshotRequest::whole(table), &mut take).unwrap().unwrap();
        (rows, shows)
    }
}

pub struct Reader {
    pub follow: Box<dyn ChangeReader>,
}

impl Reader {
    /// The next interval that says something.
    pub fn next(&mut self) -> Interval {
        let end = Instant::now() + testbed::PATIENCE;
        loop {
            let found = self.follow.next(Duration::from_millis(250)).unwrap();
            if let Some(interval) = found {
                self.follow.acknowledge(interval.to).unwrap();
                if !interval.transactions.iter().all(|t| t.changes.is_empty()) || !interval.resets.is_empty() {
                    return interval;
                }
            }
            assert!(Instant::now() < end, "nothing came");
        }
    }

    /// The changes of the next transactions until one of `table` has come.
    pub fn change(&mut self) -> RowChange {
        self.changes().remove(0)
    }

    pub fn changes(&mut self) -> Vec<RowChange> {
        loop {
            let interval = self.next();
            let changes: Vec<RowChange> =
                interval.transactions.iter().flat_map(|t| t.changes.iter().cloned()).collect();
            if !changes.is_empty() {
                return changes;
            }
        }
    }

    /// The next reset of a table, other than the first description.
    pub fn reset(&mut self) -> Reset {
        loop {
            let interval = self.next();
            let found = interval.resets.into_iter().find(|r| r.why != gossip_core::position::ResetReason::Described);
            if let Some(reset) = found {
                return reset;
            }
        }
    }
}
