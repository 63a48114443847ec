//! A PostgreSQL database as any other program uses it.

use gossip_core::value::Value;
use serde_json::Map;
use tokio_postgres::{Row, SimpleQueryMessage};

use super::catalog::{self, split_name};
use super::client::Client;
use super::connect::{connect, connect_plainly, literal, quote};
use super::prepare::{publication, size, slot, unfit_kind};
use super::relations::{self, Relation};
use super::{PostgresSource, demo};
use crate::database::{CHOOSABLE, Column, Inspected, KnownBy, Look, Made, Runner, Standing, Store, TYPED, Unfit};
use crate::sql_name::name;
use crate::{Database, Source, SourceError};

fn message_of(e: SourceError) -> String {
    e.to_string().trim_start_matches("database: ").to_string()
}

fn in_sql((schema, table): &(String, String)) -> String {
    format!("{}.{}", quote(schema), quote(table))
}

/// Counts rows; `None` if that takes long or is not allowed.
fn count(db: &mut Client, table: &(String, String)) -> Option<u64> {
    db.batch_execute("BEGIN; SET LOCAL statement_timeout = 150").ok()?;
    let rows = db.query_one(&format!("SELECT count(*) FROM {}", in_sql(table)), &[]);
    db.batch_execute("ROLLBACK").ok()?;
    rows.ok().map(|r| r.get::<_, i64>(0).unsigned_abs())
}

fn columns(db: &mut Client, (schema, table): &(String, String)) -> Result<Vec<Column>, SourceError> {
    let sql = "SELECT a.attname::text, format_type(a.atttypid, a.atttypmod), a.attnotnull, \
                   EXISTS (SELECT FROM pg_index i WHERE i.indrelid = c.oid AND i.indisprimary AND a.attnum = ANY (i.indkey)), \
                   f.relname::text, \
                   (SELECT x.attname::text FROM pg_attribute x WHERE x.attrelid = k.confrelid AND x.attnum = k.confkey[1]) \
               FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
               JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped \
               LEFT JOIN pg_constraint k ON k.conrelid = c.oid AND k.contype = 'f' AND k.conkey = ARRAY[a.attnum] \
               LEFT JOIN pg_class f ON f.oid = k.confrelid \
               WHERE n.nspname = $1 AND c.relname = $2 ORDER BY a.attnum";
    let column = |r: &Row| Column {
        name: r.get(0),
        declared: r.get(1),
        not_null: r.get(2),
        key: r.get(3),
        refers_to: r.get::<_, Option<String>>(4).map(|t| (t, r.get::<_, Option<String>>(5).unwrap_or_default())),
    };
    Ok(db.query(sql, &[schema, table])?.iter().map(column).collect())
}

/// A connection like any other program's, on which names without a schema mean the source's.
fn open(source: &PostgresSource) -> Result<Client, String> {
    let mut db = connect_plainly(&source.address).map_err(|e| e.to_string())?;
    db.batch_execute(&format!("SET search_path = {}, public", quote(&source.schema))).map_err(message_of)?;
    Ok(db)
}

fn run(source: &PostgresSource, sql: &str) -> Result<Made, String> {
    let mut db = open(source)?;
    db.batch_execute("BEGIN").map_err(message_of)?;
    db.batch_execute(sql).map_err(message_of)?;
    // Which tables it changed, by the session's own counts; in the same transaction, or nothing is to be found.
    let counts = "SELECT c.oid, n.nspname::text, c.relname::text, \
                      pg_stat_get_xact_tuples_inserted(c.oid) + pg_stat_get_xact_tuples_updated(c.oid) \
                      + pg_stat_get_xact_tuples_deleted(c.oid) \
                  FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
                  WHERE c.relkind = 'r' AND n.nspname NOT IN ('pg_catalog', 'information_schema', 'pg_toast')";
    let mut touched: Vec<(u32, (String, String), u64)> = Vec::new();
    for r in db.query(counts, &[]).map_err(message_of)? {
        let rows: i64 = r.get(3);
        if rows > 0 {
            touched.push((r.get(0), (r.get(1), r.get(2)), rows.unsigned_abs()));
        }
    }
    let xid: Option<String> =
        db.query_one("SELECT pg_current_xact_id_if_assigned()::text", &[]).map_err(message_of)?.get(0);
    db.batch_execute("COMMIT").map_err(message_of)?;
    let described = catalog::describe(&mut db, &source.wanted(&source.tables)).map_err(|e| e.to_string())?;
    let streams = |oid: u32| described.values().any(|d| d.leaves.iter().any(|l| l.oid == oid));
    let heard = touched.iter().any(|(oid, ..)| streams(*oid));
    Ok(match xid.and_then(|x| x.parse().ok()) {
        Some(xid) if heard => Made::Logged(KnownBy::Transaction(xid)),
        _ if touched.is_empty() => Made::Nothing,
        _ => {
            let plain = |(schema, table): &(String, String)| match *schema == source.schema {
                true => table.clone(),
                false => format!("{schema}.{table}"),
            };
            Made::Unheard(touched.iter().map(|(_, t, _)| plain(t)).collect(), touched.iter().map(|(_, _, n)| n).sum())
        }
    })
}

impl Database for PostgresSource {
    fn inspect(&self) -> Result<Vec<Inspected>, String> {
        let mut db = self.connect().map_err(|e| e.to_string())?;
        let mut tables = Vec::new();
        for Relation { name, kind, persistence } in relations::all(&mut db, &self.schema).map_err(|e| e.to_string())? {
            let own = split_name(&name, &self.schema);
            let wanted = self.tables.iter().any(|t| split_name(t, &self.schema) == own);
            let columns = columns(&mut db, &own).map_err(message_of)?;
            let unfit = unfit_kind(kind, persistence).map(|why| Unfit {
                why: why.into(),
                fix: (matches!(kind, 'r' | 'p')).then(|| format!("ALTER TABLE {} SET LOGGED", in_sql(&own))),
            });
            // Reading a view or somebody else's table may cost anything.
            let is_table = matches!(kind, 'r' | 'p');
            let rows = if is_table { count(&mut db, &own) } else { None };
            tables.push(Inspected { wanted, columns, is_table, rows, unfit, name });
        }
        Ok(tables)
    }

    fn standing(&self) -> Result<Vec<Standing>, String> {
        let mut db = self.connect().map_err(|e| e.to_string())?;
        let mut all = Vec::new();
        for name in self.publications_present(&mut db).map_err(|e| e.to_string())? {
            let found = publication(&mut db, &name).map_err(|e| e.to_string())?;
            let how = found.as_ref().map_or(String::new(), |p| p.publishes.clone());
            all.push(Standing { what: format!("publication {name}"), wrong: how.is_empty(), how });
        }
        if all.is_empty() {
            let what = format!("publication {}", self.publication);
            all.push(Standing { what, how: "missing: gossip prepare creates it".into(), wrong: true });
        }
        let what = format!("slot {}", self.slot);
        let (how, wrong) = match slot(&mut db, &self.slot).map_err(|e| e.to_string())? {
            None => ("missing: gossip prepare creates it".to_string(), true),
            Some(slot) if slot.lost => ("given up by the server".into(), true),
            Some(slot) => {
                let read = if slot.active { "is read" } else { "is not read" };
                (format!("{read}, {} of log held", size(slot.held)), !slot.active || slot.held > self.max_wal_bytes)
            }
        };
        all.push(Standing { what, how, wrong });
        Ok(all)
    }

    fn look_at(&self, table: &str) -> Result<Look, String> {
        let mut db = connect(&self.address).map_err(|e| e.to_string())?;
        let own = split_name(table, &self.schema);
        let columns = columns(&mut db, &own).map_err(message_of)?;
        let wanted = [format!("{}.{}", quote(&own.0), quote(&own.1))];
        let described = catalog::describe(&mut db, &self.wanted(&wanted)).map_err(|e| e.to_string())?;
        let readings = described.into_values().next().map(|d| d.columns).unwrap_or_default();
        let names: Vec<String> = columns.iter().map(|c| format!("{}::text", quote(&c.name))).collect();
        // Without a key the row's physical place identifies it, until it is changed.
        let sql = format!("SELECT ctid::text, {} FROM {} LIMIT {CHOOSABLE}", names.join(", "), in_sql(&own));
        let mut look = Look::default();
        for message in db.simple_query(&sql).map_err(message_of)? {
            let SimpleQueryMessage::Row(r) = message else { continue };
            let keys: Vec<String> = columns
                .iter()
                .enumerate()
                .filter(|(_, c)| c.key)
                .map(|(i, c)| format!("{} = {}", name(&c.name), r.get(i + 1).map_or("NULL".into(), literal)))
                .collect();
            let condition = match keys.is_empty() {
                true => format!("ctid = {}", literal(r.get(0).unwrap_or_default())),
                false => keys.join(" AND "),
            };
            let mut row = Map::new();
            for (i, c) in columns.iter().enumerate() {
                let reading = readings.iter().find(|k| k.name == c.name).map(|k| &k.reading);
                let value = match (r.get(i + 1), reading) {
                    (None, _) => Value::Null,
                    (Some(text), _) if text.len() > TYPED => continue,
                    // Numbers and truth values as such; everything else as it is typed.
                    (Some(text), Some(reading)) => match reading.value(text) {
                        v @ (Value::Int(_) | Value::Float(_) | Value::Bool(_)) => v,
                        _ => Value::text(text),
                    },
                    (Some(text), None) => Value::text(text),
                };
                row.insert(c.name.clone(), value.to_json());
            }
            look.rows.push((condition, row));
        }
        Ok(look)
    }

    fn make(&self, sql: &str) -> Made {
        match run(self, sql) {
            Ok(made) => made,
            Err(e) => Made::Failed(e),
        }
    }

    fn runner(&self) -> Result<Runner, String> {
        let mut db = open(self)?;
        Ok(Box::new(move |sql: &str| db.batch_execute(sql).map_err(message_of)))
    }

    fn stop_streaming(&self, table: &str) -> Result<Vec<String>, String> {
        // A plan for the tables that stay takes this one out.
        let stay = self.tables.iter().filter(|t| !self.is_same_table(t, table)).cloned().collect();
        self.with_tables(stay).plan().map(|plan| plan.statements).map_err(|e| e.to_string())
    }

    fn make_demo(&self, schema: &str) -> Result<(), String> {
        demo::make(self, schema)
    }

    fn remove_demo(&self) -> Result<(), String> {
        demo::remove(self)
    }

    fn store(&self) -> Result<Box<dyn Store>, String> {
        demo::open(self)
    }
}
