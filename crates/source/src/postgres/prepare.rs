//! What a server needs for streaming: publications, old values where requested, a slot.
//!
//! Tables whose changes name the row they are about go into one publication; the others into a second one that
//! publishes inserts and truncates only, because publishing their updates would make the application's updates fail.
//! Publications come before the slot: a slot that is older than its publication would never see it.

use super::catalog::{self, Described};
use super::client::Client;
use super::connect::{connect_plainly, literal, quote};
use super::{PostgresSource, relations};
use crate::{Plan, Result, SourceError};

/// What the first publication publishes, in the order in which it is written.
pub const ALL: &str = "insert, update, delete, truncate";

/// What the one for tables without a key publishes.
pub const KEYLESS: &str = "insert, truncate";

/// A publication as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Publication {
    /// Its name.
    pub name: String,
    /// What it publishes.
    pub publishes: String,
    /// Whether it publishes partitions under the name of the partitioned table.
    pub via_root: bool,
    /// Whether it has all tables of the database.
    pub all_tables: bool,
    /// Its tables: the name in SQL, and whether rows or columns are left out.
    pub tables: Vec<(String, bool)>,
}

/// A replication slot as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Slot {
    /// The output plugin.
    pub plugin: String,
    /// The database.
    pub database: String,
    /// Whether it is being read.
    pub active: bool,
    /// Whether the server has given it up.
    pub lost: bool,
    /// Bytes of log that are retained for it.
    pub held: u64,
}

/// Why relations of a kind and persistence cannot stream, as a clause that follows a name.
pub fn unfit_kind(kind: char, persistence: char) -> Option<&'static str> {
    match (kind, persistence) {
        ('v', _) => Some("is a view, and views do not change by themselves: stream the tables it reads"),
        ('m', _) => Some("is a materialised view; its changes cannot stream: stream the tables it reads"),
        ('f', _) => Some("is a foreign table; its changes happen elsewhere: make that database the source"),
        (_, 't') => Some("is a temporary table; its changes are not logged and cannot stream"),
        (_, 'u') => Some("is an unlogged table; its changes are not logged and cannot stream"),
        ('r' | 'p', _) => None,
        _ => Some("is not a table"),
    }
}

/// Why something cannot stream, as a clause that follows its name, and what mends it.
pub fn unfit(d: &Described) -> Option<(String, Option<String>)> {
    let reserved = d.name.schema.as_ref() == gossip_core::schema::SYSTEM_SCHEMA;
    let text = match unfit_kind(d.kind, d.persistence) {
        None if reserved => "is in the schema gossip, which is reserved for Gossip's tables; use another schema",
        None => return None,
        Some(why) => why,
    };
    let logged = matches!(d.kind, 'r' | 'p') && d.persistence == 'u';
    Some((text.into(), logged.then(|| format!("ALTER TABLE {} SET LOGGED", d.sql_name))))
}

/// Reads a publication.
///
/// # Errors
/// The connection is lost, or what the server says.
pub fn publication(db: &mut Client, name: &str) -> Result<Option<Publication>> {
    let sql = "SELECT concat_ws(', ', CASE WHEN pubinsert THEN 'insert' END, CASE WHEN pubupdate THEN 'update' END, \
               CASE WHEN pubdelete THEN 'delete' END, CASE WHEN pubtruncate THEN 'truncate' END), \
               pubviaroot, puballtables FROM pg_publication WHERE pubname = $1";
    let Some(row) = db.query_opt(sql, &[&name])? else { return Ok(None) };
    // Row filters and column lists came with version 15.
    let version: i32 = db.query_one("SELECT current_setting('server_version_num')::int", &[])?.get(0);
    let partial = if version >= 150_000 { "r.prqual IS NOT NULL OR r.prattrs IS NOT NULL" } else { "false" };
    let sql = format!(
        "SELECT quote_ident(n.nspname), quote_ident(c.relname), {partial}, n.nspname, c.relname \
         FROM pg_publication_rel r JOIN pg_publication p ON p.oid = r.prpubid JOIN pg_class c ON c.oid = r.prrelid \
         JOIN pg_namespace n ON n.oid = c.relnamespace WHERE p.pubname = $1 ORDER BY 4, 5"
    );
    let table = |r: &tokio_postgres::Row| (format!("{}.{}", quote(r.get(3)), quote(r.get(4))), r.get(2));
    let tables = db.query(&sql, &[&name])?.iter().map(table).collect();
    let (publishes, via_root, all_tables) = (row.get(0), row.get(1), row.get(2));
    Ok(Some(Publication { name: name.into(), publishes, via_root, all_tables, tables }))
}

/// Reads the slot.
///
/// # Errors
/// The connection is lost, or what the server says.
pub fn slot(db: &mut Client, name: &str) -> Result<Option<Slot>> {
    let sql = "SELECT coalesce(plugin, ''), coalesce(database, ''), active, coalesce(wal_status = 'lost', false), \
               coalesce(pg_wal_lsn_diff(pg_current_wal_lsn(), restart_lsn), 0)::int8 \
               FROM pg_replication_slots WHERE slot_name = $1";
    let slot = |r: tokio_postgres::Row| Slot {
        plugin: r.get(0),
        database: r.get(1),
        active: r.get(2),
        lost: r.get(3),
        held: r.get::<_, i64>(4).max(0).unsigned_abs(),
    };
    Ok(db.query_opt(sql, &[&name])?.map(slot))
}

fn create_slot(name: &str) -> String {
    format!("SELECT pg_create_logical_replication_slot({}, 'pgoutput')", literal(name))
}

fn drop_slot(name: &str) -> String {
    format!("SELECT pg_drop_replication_slot({})", literal(name))
}

fn in_publication(d: &Described) -> String {
    format!("{}{}", if d.kind == 'p' { "" } else { "ONLY " }, d.sql_name)
}

/// Bytes for people.
pub fn size(bytes: u64) -> String {
    match bytes {
        0..0x10_0000 => format!("{} kB", bytes >> 10),
        0x10_0000..0x4000_0000 => format!("{} MB", bytes >> 20),
        _ => format!("{:.1} GB", bytes as f64 / (1u64 << 30) as f64),
    }
}

impl PostgresSource {
    /// Fails, with what to do, unless publications and slot are there.
    ///
    /// # Errors
    /// It is not: what is missing, and what to do.
    pub fn need_prepared(&self) -> Result<()> {
        let mut db = self.connect()?;
        let present = self.publications_present(&mut db)?;
        if present.is_empty() || (slot(&mut db, &self.slot)?.is_none() && !self.renew_lost_slot) {
            let text = format!("database {} is not prepared; run gossip prepare first", self.place());
            return Err(SourceError::NotReady(text));
        }
        Ok(())
    }

    /// Those of our publications that exist.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn publications_present(&self, db: &mut Client) -> Result<Vec<String>> {
        let names = [self.publication.clone(), self.keyless_publication()];
        let sql = "SELECT pubname::text FROM pg_publication WHERE pubname = ANY ($1) ORDER BY 1";
        Ok(db.query(sql, &[&&names[..]])?.iter().map(|r| r.get(0)).collect())
    }

    /// Ensures that the slot can be read, as far as the settings allow: replaces a lost one, and drops log that would fill
    /// the primary's disk. `false` if it is already being read.
    ///
    /// # Errors
    /// The slot cannot be used: why, and what to do.
    pub fn ready_slot(&self, db: &mut Client) -> Result<bool> {
        let found = slot(db, &self.slot)?;
        let lost = found.as_ref().is_none_or(|s| s.lost);
        if lost {
            let what = if found.is_some() { "was given up by the server" } else { "does not exist" };
            if !self.renew_lost_slot {
                let text = format!(
                    "replication slot {} {what}: changes since the last one read are lost; gossip prepare creates it \
                     again, and every feed takes a new snapshot",
                    self.slot
                );
                return Err(SourceError::NotReady(text));
            }
            tracing::error!(slot = %self.slot, "the replication slot {what}; it is created again, and all feeds take new snapshots");
            if found.is_some() {
                db.batch_execute(&drop_slot(&self.slot))?;
            }
            db.batch_execute(&create_slot(&self.slot))?;
            return Ok(true);
        }
        let Some(found) = found else { return Ok(true) };
        if found.active {
            return Ok(false);
        }
        self.drop_backlog_beyond(db, &found)?;
        Ok(true)
    }

    /// Drops log that nothing can read and that would fill the primary's disk. Returns whether it did.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn drop_backlog(&self) -> Result<bool> {
        let mut db = self.connect()?;
        match slot(&mut db, &self.slot)? {
            Some(found) if !found.lost && !found.active => self.drop_backlog_beyond(&mut db, &found),
            _ => Ok(false),
        }
    }

    fn drop_backlog_beyond(&self, db: &mut Client, found: &Slot) -> Result<bool> {
        if found.held <= self.max_wal_bytes {
            return Ok(false);
        }
        tracing::error!(
            slot = %self.slot,
            "the replication slot retained {} of log, more than {}: the backlog was dropped, and all feeds take new snapshots",
            size(found.held),
            size(self.max_wal_bytes),
        );
        db.query("SELECT pg_replication_slot_advance($1, pg_current_wal_lsn())", &[&self.slot])?;
        Ok(true)
    }

    /// Whether old values are requested.
    pub fn wants_old_values(&self, wanted: &str) -> bool {
        self.old_values
            .iter()
            .any(|t| catalog::split_name(t, &self.schema) == catalog::split_name(wanted, &self.schema))
    }

    /// Works out what has to be done so that all tables are followed. Nothing, if they are.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn plan(&self) -> Result<Plan> {
        let mut db = self.connect()?;
        let found = catalog::describe(&mut db, &self.wanted(&self.tables))?;
        let mut plan = Plan::default();
        let (mut keyed, mut keyless): (Vec<&Described>, Vec<&Described>) = (vec![], vec![]);
        for (i, wanted) in self.tables.iter().enumerate() {
            let Some(d) = found.get(&i) else {
                let names = relations::table_names(&mut db, &self.schema)?;
                let hint = gossip_protocol::spelling::similar(wanted, names.iter().map(String::as_str));
                let hint = hint.map_or(String::new(), |h| format!("; did you mean {h}?"));
                return Err(SourceError::NotReady(format!("there is no table {wanted} in the database{hint}")));
            };
            if let Some((why, fix)) = unfit(d) {
                let fix = fix.map_or(String::new(), |m| format!("; fix: {m}"));
                return Err(SourceError::NotReady(format!("table {wanted} {why}{fix}")));
            }
            let full = self.wants_old_values(wanted) && !d.key.is_empty();
            if full && !d.old_values() {
                let own = (d.kind == 'p').then(|| d.sql_name.clone());
                let leaves = d.leaves.iter().filter(|l| l.identity != 'f').map(|l| l.sql_name.clone());
                let of_each = own.into_iter().chain(leaves);
                plan.statements.extend(of_each.map(|t| format!("ALTER TABLE {t} REPLICA IDENTITY FULL")));
                plan.effects.push(format!(
                    "{wanted}: every UPDATE and DELETE writes the whole old row to the write-ahead log, not only its key"
                ));
            }
            if full || d.publishes_changes() {
                keyed.push(d);
            } else {
                keyless.push(d);
                plan.effects.push(format!(
                    "{wanted}: has no usable key, so only inserts and truncates stream; its updates go on as before"
                ));
            }
        }
        let before = plan.statements.len();
        for (name, tables, publishes) in
            [(self.publication.clone(), keyed, ALL), (self.keyless_publication(), keyless, KEYLESS)]
        {
            self.plan_publication(&mut db, &mut plan, &name, &tables, publishes)?;
        }
        if plan.statements.len() > before {
            plan.effects.push("publications cost writers nothing as long as nobody reads them".into());
        }
        self.plan_slot(&mut db, &mut plan)?;
        // Effects without a statement are no news.
        if plan.statements.is_empty() {
            plan.effects.clear();
        }
        Ok(plan)
    }

    fn plan_slot(&self, db: &mut Client, plan: &mut Plan) -> Result<()> {
        let found = slot(db, &self.slot)?;
        if found.as_ref().is_some_and(|s| !s.lost) {
            return Ok(());
        }
        if found.is_some() {
            plan.statements.push(drop_slot(&self.slot));
            plan.effects.push("the lost slot is created again; all feeds take new snapshots".into());
        }
        plan.statements.push(create_slot(&self.slot));
        plan.effects.push(format!(
            "slot {}: creating it waits for running transactions to end; from then on the server keeps its log \
             until an instance has read it, so the disk fills if none runs (see max_slot_wal_keep_size)",
            self.slot
        ));
        Ok(())
    }

    fn plan_publication(
        &self,
        db: &mut Client,
        plan: &mut Plan,
        name: &str,
        tables: &[&Described],
        publishes: &str,
    ) -> Result<()> {
        let quoted = quote(name);
        let list = |of: &[&&Described]| of.iter().map(|d| in_publication(d)).collect::<Vec<_>>().join(", ");
        let Some(present) = publication(db, name)? else {
            if !tables.is_empty() {
                let all = list(&tables.iter().collect::<Vec<_>>());
                plan.statements
                    .push(format!("CREATE PUBLICATION {quoted} FOR TABLE {all} WITH (publish = '{publishes}')"));
            }
            return Ok(());
        };
        if present.all_tables {
            let text = format!(
                "publication {name} is FOR ALL TABLES, which cannot be changed; give another name with publication = …"
            );
            return Err(SourceError::NotReady(text));
        }
        if present.publishes != publishes {
            plan.statements.push(format!("ALTER PUBLICATION {quoted} SET (publish = '{publishes}')"));
        }
        if present.via_root {
            plan.statements.push(format!("ALTER PUBLICATION {quoted} SET (publish_via_partition_root = false)"));
        }
        // A table that is published in part is published again, whole.
        let whole = |d: &&&Described| present.tables.iter().any(|(t, partial)| *t == d.sql_name && !partial);
        let missing: Vec<&&Described> = tables.iter().filter(|d| !whole(d)).collect();
        let wanted = |t: &String| tables.iter().any(|d| d.sql_name == *t && whole(&d));
        let extra: Vec<&str> =
            present.tables.iter().map(|(t, _)| t).filter(|t| !wanted(t)).map(String::as_str).collect();
        if !extra.is_empty() {
            plan.statements.push(format!("ALTER PUBLICATION {quoted} DROP TABLE {}", extra.join(", ")));
        }
        if !missing.is_empty() {
            plan.statements.push(format!("ALTER PUBLICATION {quoted} ADD TABLE {}", list(&missing)));
        }
        Ok(())
    }

    /// What takes everything of ours out of the database again.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn removal(&self) -> Result<Plan> {
        let mut db = self.connect()?;
        let mut plan = Plan::default();
        if let Some(s) = slot(&mut db, &self.slot)? {
            if s.active {
                let text = format!("slot {} is being read; stop the instances first", self.slot);
                return Err(SourceError::NotReady(text));
            }
            plan.statements.push(drop_slot(&self.slot));
        }
        let present = self.publications_present(&mut db)?;
        plan.statements.extend(present.iter().map(|p| format!("DROP PUBLICATION {}", quote(p))));
        let full = catalog::describe(&mut db, &self.wanted(&self.old_values))?;
        for leaf in full.values().flat_map(|d| &d.leaves).filter(|l| l.identity == 'f') {
            plan.effects.push(format!(
                "{} keeps writing whole old rows to the log; if nobody else needs them: ALTER TABLE {0} REPLICA \
                 IDENTITY DEFAULT",
                leaf.sql_name
            ));
        }
        Ok(plan)
    }

    /// Does what a plan says: what can be is one transaction, all of it or nothing.
    ///
    /// # Errors
    /// Which statement the server refused, and why.
    pub fn carry_out(&self, statements: &[String]) -> Result<()> {
        let mut db = connect_plainly(&self.address)?;
        // These may not be part of a transaction.
        let alone = |s: &&String| {
            let words = ["ALTER SYSTEM", "CHECKPOINT", "CREATE INDEX CONCURRENTLY", "REINDEX INDEX CONCURRENTLY"];
            words.iter().any(|w| s.starts_with(w)) || s.contains("_replication_slot(")
        };
        // The SQL of a finding may be several statements, one a line.
        let statements: Vec<String> = statements.iter().flat_map(|s| s.split(";\n")).map(str::to_string).collect();
        let mut rest = &statements[..];
        while let Some(first) = rest.first() {
            let together = rest.iter().take_while(|s| !alone(s)).count();
            if together == 0 {
                db.batch_execute(first)?;
                rest = &rest[1..];
            } else {
                // Ended unfinished, with its connection, if one of them fails.
                db.batch_execute("BEGIN")?;
                rest[..together].iter().try_for_each(|s| db.batch_execute(s))?;
                db.batch_execute("COMMIT")?;
                rest = &rest[together..];
            }
        }
        Ok(())
    }
}
