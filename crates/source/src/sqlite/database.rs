//! An SQLite file as any other program uses it.

use std::sync::Arc;
use std::time::Duration;

use rusqlite::Connection;
use rusqlite::types::ValueRef;
use serde_json::{Map, Value as Json};

use super::schema::{Lookup, count_rows, describe, table_names};
use super::triggers::is_prepared;
use super::{SqliteSource, demo, quote, triggers};
use crate::Database;
use crate::database::{
    CHOOSABLE, Column, Inspected, JOURNAL_MODE, KnownBy, Look, Made, Runner, Standing, Store, TYPED, Unfit,
};
use crate::sql_name::name;

fn columns(db: &Connection, table: &str) -> rusqlite::Result<Vec<Column>> {
    let mut refers = db.prepare("SELECT \"from\", \"table\", coalesce(\"to\", '') FROM pragma_foreign_key_list(?1)")?;
    let refers = refers
        .query_map([table], |r| Ok((r.get::<_, String>(0)?, (r.get::<_, String>(1)?, r.get::<_, String>(2)?))))?
        .collect::<rusqlite::Result<Vec<_>>>()?;
    let mut s = db.prepare("SELECT name, type, \"notnull\", pk FROM pragma_table_xinfo(?1) WHERE hidden <> 1")?;
    let column = |r: &rusqlite::Row<'_>| {
        let name: String = r.get(0)?;
        let refers_to = refers.iter().find(|(from, _)| *from == name).map(|(_, to)| to.clone());
        let key = r.get::<_, i64>(3)? > 0;
        Ok(Column { declared: r.get(1)?, not_null: r.get(2)?, key, refers_to, name })
    };
    s.query_map([table], column)?.collect()
}

/// The views of the file.
fn views(db: &Connection) -> rusqlite::Result<Vec<String>> {
    let mut s = db.prepare("SELECT name FROM sqlite_master WHERE type = 'view' ORDER BY name")?;
    s.query_map([], |r| r.get(0))?.collect()
}

/// A value that can be shown in a field and typed again; bytes and long texts cannot.
fn typed(v: ValueRef<'_>) -> Option<Json> {
    Some(match v {
        ValueRef::Null => Json::Null,
        ValueRef::Integer(i) => i.into(),
        ValueRef::Real(f) => f.into(),
        ValueRef::Text(t) if t.len() <= TYPED => std::str::from_utf8(t).ok()?.into(),
        ValueRef::Text(_) | ValueRef::Blob(_) => return None,
    })
}

impl Database for SqliteSource {
    fn inspect(&self) -> Result<Vec<Inspected>, String> {
        let mut db = self.connect().map_err(|e| e.to_string())?;
        let mut tables = Vec::new();
        let names = table_names(&db).map_err(|e| e.to_string())?;
        let views = views(&db).map_err(|e| e.to_string())?;
        for (name, is_table) in names.into_iter().map(|n| (n, true)).chain(views.into_iter().map(|n| (n, false))) {
            let wanted = self.tables.iter().any(|t| t.eq_ignore_ascii_case(&name));
            // A view of a table that is gone has no columns.
            let columns = if is_table { columns(&db, &name).map_err(|e| e.to_string())? } else { vec![] };
            let unfit = match describe(&db, &name).map_err(|e| e.to_string())? {
                Lookup::Unfit(why, fix) => Some(Unfit { why, fix }),
                Lookup::Table(_) | Lookup::Nothing(_) => None,
            };
            let rows = if is_table { count_rows(&mut db, &name) } else { None };
            tables.push(Inspected { wanted, columns, is_table, rows, unfit, name });
        }
        Ok(tables)
    }

    fn standing(&self) -> Result<Vec<Standing>, String> {
        let db = self.connect().map_err(|e| e.to_string())?;
        let read = || -> rusqlite::Result<Vec<Standing>> {
            let mode: String = db.query_row("PRAGMA journal_mode", [], |r| r.get(0))?;
            let mut all = vec![Standing { what: JOURNAL_MODE.into(), wrong: mode != "wal", how: mode }];
            let log = match is_prepared(&db).unwrap_or(false) {
                true => {
                    let entries: i64 = db.query_row("SELECT count(*) FROM gossip_log", [], |r| r.get(0))?;
                    (format!("{entries} {} kept", if entries == 1 { "entry" } else { "entries" }), false)
                }
                false => ("missing: gossip prepare creates it".into(), true),
            };
            all.push(Standing { what: "change log".into(), how: log.0, wrong: log.1 });
            Ok(all)
        };
        read().map_err(|e| e.to_string())
    }

    fn look_at(&self, table: &str) -> Result<Look, String> {
        let db = self.connect().map_err(|e| e.to_string())?;
        let read = || -> rusqlite::Result<Look> {
            let columns = columns(&db, table)?;
            let keys: Vec<&str> = columns.iter().filter(|c| c.key).map(|c| c.name.as_str()).collect();
            // Without a key SQLite's own row number picks a row out.
            let picks: Vec<String> =
                if keys.is_empty() { vec!["rowid".into()] } else { keys.iter().map(|k| quote(k)).collect() };
            let literals: Vec<String> = picks.iter().map(|p| format!("quote({p})")).collect();
            let names: Vec<String> = columns.iter().map(|c| quote(&c.name)).collect();
            let all =
                format!("SELECT {}, {} FROM {} LIMIT {CHOOSABLE}", literals.join(", "), names.join(", "), quote(table));
            let mut s = db.prepare(&all)?;
            let mut rows = s.query([])?;
            let mut look = Look::default();
            while let Some(r) = rows.next()? {
                let shown = |i: usize| if keys.is_empty() { "rowid".to_string() } else { name(keys[i]) };
                let condition = (0..picks.len()).map(|i| Ok(format!("{} = {}", shown(i), r.get::<_, String>(i)?)));
                let condition = condition.collect::<rusqlite::Result<Vec<_>>>()?.join(" AND ");
                let mut row = Map::new();
                for (i, c) in columns.iter().enumerate() {
                    typed(r.get_ref(picks.len() + i)?).map(|value| row.insert(c.name.clone(), value));
                }
                look.rows.push((condition, row));
            }
            Ok(look)
        };
        read().map_err(|e| e.to_string())
    }

    fn make(&self, sql: &str) -> Made {
        let touched: Arc<parking_lot::Mutex<std::collections::BTreeMap<String, u64>>> = Arc::default();
        let run = || -> Result<(i64, i64), String> {
            let mut db = self.connect().map_err(|e| e.to_string())?;
            db.busy_timeout(Duration::from_secs(5)).map_err(|e| e.to_string())?;
            let noted = touched.clone();
            let hook = move |_: rusqlite::hooks::Action, _: &str, table: &str, _: i64| {
                if !table.starts_with("gossip_") {
                    *noted.lock().entry(table.to_string()).or_default() += 1;
                }
            };
            db.update_hook(Some(hook)).map_err(|e| e.to_string())?;
            let last = |db: &rusqlite::Connection| {
                db.query_row("SELECT max(seq) FROM gossip_log", [], |r| r.get::<_, i64>(0)).map_err(|e| e.to_string())
            };
            db.execute_batch("BEGIN IMMEDIATE").map_err(|e| e.to_string())?;
            let before = last(&db)?;
            db.execute_batch(sql).map_err(|e| e.to_string())?;
            let after = last(&db)?;
            // A COMMIT in the SQL itself has ended the transaction.
            if !db.is_autocommit() {
                db.execute_batch("COMMIT").map_err(|e| e.to_string())?;
            }
            Ok((before, after))
        };
        match run() {
            Err(e) => Made::Failed(e),
            Ok((before, after)) if after > before => Made::Logged(KnownBy::Log(after.max(0) as u64)),
            Ok(_) => {
                let touched = touched.lock();
                if touched.is_empty() {
                    return Made::Nothing;
                }
                Made::Unheard(touched.keys().cloned().collect(), touched.values().sum())
            }
        }
    }

    fn runner(&self) -> Result<Runner, String> {
        let db = self.connect().map_err(|e| e.to_string())?;
        db.busy_timeout(Duration::from_secs(5)).map_err(|e| e.to_string())?;
        Ok(Box::new(move |sql: &str| db.execute_batch(sql).map_err(|e| e.to_string())))
    }

    fn stop_streaming(&self, table: &str) -> Result<Vec<String>, String> {
        let db = self.connect().map_err(|e| e.to_string())?;
        triggers::stop_following(&db, table).map_err(|e| e.to_string())
    }

    fn make_demo(&self, schema: &str) -> Result<(), String> {
        self.store()?.run(schema)
    }

    fn remove_demo(&self) -> Result<(), String> {
        Ok(())
    }

    fn store(&self) -> Result<Box<dyn Store>, String> {
        demo::open(self)
    }
}
