//! What keeps a server from being a source, or may surprise its operator: each problem with the SQL that fixes it.

use super::catalog::{self, Described};
use super::client::Client;
use super::connect::{literal, quote};
use super::indexes::Indexes;
use super::prepare::{ALL, KEYLESS, Publication, publication, size, slot, unfit};
use super::stream::Stream;
use super::{PostgresSource, relations};
use crate::{Condition, Finding, Result};

/// Findings on their way.
struct Findings<'a> {
    found: Vec<Finding>,
    source: &'a PostgresSource,
}

impl Findings<'_> {
    fn add(&mut self, blocks: bool, about: &str, text: impl Into<String>, fix: impl Into<Option<String>>) {
        self.found.push(Finding { blocks, about: about.into(), text: text.into(), fix: fix.into() });
    }

    /// About the source as a whole.
    fn general(&mut self, blocks: bool, text: impl Into<String>, fix: impl Into<Option<String>>) {
        let name = self.source.name.to_string();
        self.add(blocks, &name, text, fix);
    }

    fn server(&mut self, db: &mut Client) -> Result<()> {
        let sql = "SELECT pg_is_in_recovery(), current_setting('wal_level'), current_user::text, \
                   r.rolsuper OR r.rolreplication, current_setting('max_slot_wal_keep_size'), \
                   current_setting('server_version_num')::int \
                   FROM pg_roles r WHERE r.rolname = current_user";
        let r = db.query_one(sql, &[])?;
        if r.get(0) {
            self.general(
                true,
                "the url leads to a standby; snapshots must be taken on the primary: give its url",
                None,
            );
            return Ok(());
        }
        let (level, user): (String, String) = (r.get(1), r.get(2));
        if level != "logical" {
            let text =
                format!("wal_level is {level}: row changes are not in the log; the fix needs a restart of the server");
            self.general(true, text, Some("ALTER SYSTEM SET wal_level = 'logical'".into()));
        }
        if !r.get::<_, bool>(3) {
            let fix = format!("ALTER ROLE {} REPLICATION", quote(&user));
            self.general(true, format!("role {user} may not stream changes"), Some(fix));
        }
        if r.get::<_, String>(4) == "-1" {
            let text = "max_slot_wal_keep_size is not set: while no instance runs, the log retained by the slot can fill \
                        the disk";
            let fix = "ALTER SYSTEM SET max_slot_wal_keep_size = '16GB';\nSELECT pg_reload_conf()";
            self.general(false, text, Some(fix.into()));
        }
        Ok(())
    }

    fn slot(&mut self, db: &mut Client) -> Result<()> {
        let name = &self.source.slot;
        let create = format!("SELECT pg_create_logical_replication_slot({}, 'pgoutput')", literal(name));
        let again = format!("SELECT pg_drop_replication_slot({});\n{create}", literal(name));
        match slot(db, name)? {
            None => self.general(true, format!("replication slot {name} does not exist"), Some(create)),
            Some(s) if s.plugin != "pgoutput" => {
                let text = format!("replication slot {name} is of the plugin {:?}, not of pgoutput", s.plugin);
                self.general(true, text, Some(again));
            }
            Some(s) if s.database != self.source.address.database => {
                let text =
                    format!("replication slot {name} is of database {}: give another name with slot", s.database);
                self.general(true, text, None);
            }
            Some(s) if s.lost => {
                let text = format!(
                    "replication slot {name} was given up by the server: changes are lost; with a new \
                                    slot every feed takes a new snapshot"
                );
                self.general(true, text, Some(again));
            }
            Some(s) if s.held > self.source.max_wal_bytes / 2 => {
                let text = format!(
                    "replication slot {name} holds back {} of log{}; dropping the backlog means that every feed takes a new snapshot",
                    size(s.held),
                    if s.active { "" } else { " and nobody reads it: start an instance" },
                );
                // The slot can only advance past a record that a checkpoint writes.
                let advance = format!("SELECT pg_replication_slot_advance({}, pg_current_wal_lsn())", literal(name));
                let fix = format!("CHECKPOINT;\n{advance}");
                self.general(false, text, Some(fix));
            }
            Some(_) => {}
        }
        Ok(())
    }

    /// Whether changes can be streamed from where the configuration says, and from the same server.
    fn replication(&mut self, db: &mut Client) -> Result<()> {
        let asked = Stream::connect(&self.source.replication).and_then(|mut s| s.identify());
        match asked {
            Err(e) => {
                let text = format!(
                    "changes cannot be streamed: {e}; a pooler does not pass replication on: give replication_url"
                );
                self.general(true, text, None);
            }
            Ok(system) => {
                let sql = "SELECT system_identifier::text FROM pg_control_system()";
                // Not every role may ask.
                let own = db.query_one(sql, &[]).ok().map(|r| r.get::<_, String>(0));
                if own.is_some_and(|own| own != system.id.to_string()) {
                    self.general(true, "url and replication_url lead to different servers", None);
                }
            }
        }
        Ok(())
    }

    fn table(
        &mut self,
        db: &mut Client,
        wanted: &str,
        d: &Described,
        publications: &[Option<Publication>],
    ) -> Result<()> {
        if let Some((why, fix)) = unfit(d) {
            self.add(true, wanted, why, fix);
            return Ok(());
        }
        let sql = "SELECT has_schema_privilege(c.relnamespace, 'usage'), has_table_privilege(c.oid, 'select'), \
                   row_security_active(c.oid), current_user::text, n.nspname::text \
                   FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE c.oid = $1";
        let r = db.query_one(sql, &[&d.oid])?;
        let (usage, select, filtered): (bool, bool, bool) = (r.get(0), r.get(1), r.get(2));
        let (user, schema): (String, String) = (quote(r.get(3)), quote(r.get(4)));
        if !usage {
            let fix = format!("GRANT USAGE ON SCHEMA {schema} TO {user}");
            self.add(true, wanted, format!("is in a schema that role {user} may not use"), Some(fix));
        }
        if !select {
            let fix = format!("GRANT SELECT ON {} TO {user}", d.sql_name);
            self.add(true, wanted, format!("may not be read by role {user}"), Some(fix));
        }
        if filtered {
            let text = format!(
                "has row security, which would hide rows from snapshots, while the stream brings all rows: \
                                role {user} must see all of them; Gossip's own rules say who sees what"
            );
            self.add(true, wanted, text, Some(format!("ALTER ROLE {user} BYPASSRLS")));
        }
        self.key(db, wanted, d)?;
        self.published(wanted, d, publications);
        for column in &d.generated {
            let text = format!("has the generated column {column}, which does not stream: queries cannot name it");
            let fix = format!("ALTER TABLE {} ALTER COLUMN {} DROP EXPRESSION", d.sql_name, quote(column));
            self.add(false, wanted, text, Some(fix));
        }
        if d.has_children {
            let text =
                "has tables that inherit from it; their rows are not part of it here: stream them by their own names";
            self.add(false, wanted, text, None);
        }
        Ok(())
    }

    fn key(&mut self, db: &mut Client, wanted: &str, d: &Described) -> Result<()> {
        if d.publishes_changes() {
            return Ok(());
        }
        let nothing = d.leaves.iter().find(|l| l.identity == 'n');
        if let (Some(leaf), false) = (nothing, d.key.is_empty()) {
            let text =
                "writes nothing of old rows to the log (REPLICA IDENTITY NOTHING): only inserts and truncates stream";
            let fix = format!("ALTER TABLE {} REPLICA IDENTITY DEFAULT", leaf.sql_name);
            self.add(false, wanted, text, Some(fix));
            return Ok(());
        }
        // An index that would do as a key, if there is one.
        let sql = "SELECT i.indexrelid::regclass::text, quote_ident(x.relname) FROM pg_index i \
                   JOIN pg_class x ON x.oid = i.indexrelid \
                   WHERE i.indrelid = $1 AND i.indisunique AND i.indimmediate AND i.indisvalid AND i.indpred IS NULL \
                     AND i.indexprs IS NULL AND NOT EXISTS (SELECT FROM pg_attribute a \
                         WHERE a.attrelid = i.indrelid AND a.attnum = ANY (i.indkey) AND NOT a.attnotnull) LIMIT 1";
        let index = db.query_opt(sql, &[&d.oid])?.map(|r| r.get::<_, String>(1));
        let fix = match index {
            Some(index) if d.kind == 'r' => format!("ALTER TABLE {} REPLICA IDENTITY USING INDEX {index}", d.sql_name),
            _ => format!(
                "ALTER TABLE {} ADD COLUMN gossip_id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY",
                d.sql_name
            ),
        };
        let text = "has no key by which the log tells its rows apart: only inserts and truncates stream";
        self.add(false, wanted, text, Some(fix));
        Ok(())
    }

    fn published(&mut self, wanted: &str, d: &Described, publications: &[Option<Publication>]) {
        let (which, other) = if d.publishes_changes() { (0, 1) } else { (1, 0) };
        let name = match which {
            0 => self.source.publication.clone(),
            _ => self.source.keyless_publication(),
        };
        let only = if d.kind == 'p' { "" } else { "ONLY " };
        let find = |i: usize| publications[i].as_ref().and_then(|p| p.tables.iter().find(|(t, _)| *t == d.sql_name));
        let misplaced = find(other).is_some();
        match (find(which), &publications[which]) {
            (None, Some(p)) if p.all_tables => {}
            (None, present) => {
                let add = match (present, which) {
                    (Some(_), _) => format!("ALTER PUBLICATION {} ADD TABLE {only}{}", quote(&name), d.sql_name),
                    (None, i) => format!(
                        "CREATE PUBLICATION {} FOR TABLE {only}{} WITH (publish = '{}')",
                        quote(&name),
                        d.sql_name,
                        if i == 0 { ALL } else { KEYLESS },
                    ),
                };
                let wrong =
                    if other == 0 { self.source.publication.clone() } else { self.source.keyless_publication() };
                let (text, fix) = match misplaced {
                    false => (format!("is not in publication {name}: its changes do not stream"), add),
                    true => (
                        format!("is in publication {wrong} but belongs in {name}, as its key is now"),
                        format!("ALTER PUBLICATION {} DROP TABLE {};\n{add}", quote(&wrong), d.sql_name),
                    ),
                };
                self.add(true, wanted, text, Some(fix));
            }
            (Some((_, true)), _) => {
                let text = "is published with a row filter or a list of columns: what those leave out is missing \
                                    from every feed; rules say who sees what";
                let p = quote(&name);
                let fix = format!(
                    "ALTER PUBLICATION {p} DROP TABLE {0};\nALTER PUBLICATION {p} ADD TABLE {only}{0}",
                    d.sql_name
                );
                self.add(true, wanted, text, Some(fix));
            }
            (Some((_, false)), _) => {}
        }
    }

    fn publication(&mut self, p: &Publication, wants: &str) {
        if p.publishes != wants {
            let text = format!("publication {} publishes only {:?}; other changes do not stream", p.name, p.publishes);
            let fix = format!("ALTER PUBLICATION {} SET (publish = '{wants}')", quote(&p.name));
            self.general(true, text, Some(fix));
        }
        if p.via_root {
            let text = format!(
                "publication {} publishes partitions as if they were one table, which hides what happens to \
                                single ones",
                p.name
            );
            let fix = format!("ALTER PUBLICATION {} SET (publish_via_partition_root = false)", quote(&p.name));
            self.general(true, text, Some(fix));
        }
    }

    fn condition(&mut self, wanted: &str, d: &Described, indexes: Option<&Indexes>, c: &Condition) {
        let full = || {
            let leaves: Vec<String> =
                d.leaves.iter().map(|l| format!("ALTER TABLE {} REPLICA IDENTITY FULL", l.sql_name)).collect();
            leaves.join(";\n")
        };
        let column = |name: &String| d.columns.iter().find(|k| k.name == *name);
        if d.publishes_changes() && !d.old_values() {
            let large: Vec<&str> =
                c.columns.iter().filter_map(column).filter(|k| k.may_be_apart).map(|k| k.name.as_str()).collect();
            if large.is_empty() {
                let text = format!(
                    "{} has a condition on it and old values are not in the log: to tell that a row has left, the keys of \
                     what was sent are kept in memory, and nobody can resume",
                    c.place
                );
                self.add(false, wanted, text, Some(full()));
            } else {
                let text = format!(
                    "{} has a condition on {}, whose large values are not in the log unless they change, and old values \
                     are not either: each such change makes a feed take a new snapshot",
                    c.place,
                    large.join(", ")
                );
                self.add(false, wanted, text, Some(full()));
            }
        }
        for k in c.ordered.iter().filter_map(column).filter(|k| k.other_order) {
            let text = format!(
                "{} compares {} with < or >: here texts are compared by bytes, in the database by its own collation",
                c.place, k.name
            );
            let fix =
                format!("ALTER TABLE {} ALTER COLUMN {} TYPE {} COLLATE \"C\"", d.sql_name, quote(&k.name), k.declared);
            self.add(false, wanted, text, Some(fix));
        }
        if let Some((columns, fix)) = indexes.and_then(|indexes| indexes.missing(d, c)) {
            let text =
                format!("{} finds its rows by {columns}, of which there is no index: all rows are read", c.place);
            self.add(false, wanted, text, Some(fix));
        }
    }
}

impl PostgresSource {
    /// Holds the source, and the conditions that rules and queries have, against the database.
    ///
    /// # Errors
    /// The server cannot be reached; what is wrong with it otherwise is a finding.
    pub fn check(&self, conditions: &[Condition]) -> Result<Vec<Finding>> {
        let mut db = self.connect()?;
        let mut findings = Findings { found: vec![], source: self };
        findings.server(&mut db)?;
        // A standby knows nothing of the rest.
        if findings.found.iter().any(|f| f.text.contains("standby")) {
            return Ok(findings.found);
        }
        findings.replication(&mut db)?;
        findings.slot(&mut db)?;
        let publications =
            [publication(&mut db, &self.publication)?, publication(&mut db, &self.keyless_publication())?];
        for (p, wants) in publications.iter().zip([ALL, KEYLESS]) {
            p.iter().for_each(|p| findings.publication(p, wants));
        }
        let described = catalog::describe(&mut db, &self.wanted(&self.tables))?;
        for (i, wanted) in self.tables.iter().enumerate() {
            let Some(d) = described.get(&i) else {
                let names = relations::table_names(&mut db, &self.schema)?;
                let hint = gossip_protocol::spelling::similar(wanted, names.iter().map(String::as_str));
                let hint = hint.map_or(String::new(), |h| format!("; did you mean {h}?"));
                findings.add(true, wanted, format!("there is no such table{hint}"), None);
                continue;
            };
            findings.table(&mut db, wanted, d, &publications)?;
            let indexes = Indexes::of(&mut db, d)?;
            for c in conditions.iter().filter(|c| c.table == d.name && d.can_stream()) {
                findings.condition(wanted, d, indexes.as_ref(), c);
            }
        }
        if self.tables.is_empty() {
            findings.general(true, "no tables are named; add tables = […] to the source", None);
        }
        Ok(findings.found)
    }
}
