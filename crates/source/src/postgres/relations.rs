//! What the database holds that is a table, or looks like one.

use super::client::Client;
use super::connect::quote;
use crate::Result;

/// A relation of the database.
#[derive(Clone, Debug)]
pub struct Relation {
    /// Its name, as a configuration names it.
    pub name: String,
    /// Its kind, as in `pg_class.relkind`.
    pub kind: char,
    /// Its persistence, as in `pg_class.relpersistence`.
    pub persistence: char,
}

/// The users' tables of the database, and all that looks like one and cannot stream; what extensions brought is theirs.
///
/// # Errors
/// The connection is lost, or what the server says.
pub fn all(db: &mut Client, default_schema: &str) -> Result<Vec<Relation>> {
    let sql = "SELECT n.nspname, c.relname, c.relkind::text, c.relpersistence::text \
               FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
               WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND NOT c.relispartition AND c.relpersistence <> 't' \
                 AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname NOT LIKE 'pg\\_toast%' \
                 AND NOT EXISTS (SELECT FROM pg_depend d WHERE d.objid = c.oid AND d.classid = 'pg_class'::regclass \
                                 AND d.deptype = 'e') \
               ORDER BY n.nspname <> $1, 1, 2";
    let mut relations = Vec::new();
    for r in db.query(sql, &[&default_schema])? {
        let (schema, table): (String, String) = (r.get(0), r.get(1));
        let plain = |s: &str| !s.is_empty() && !s.contains(['.', '"']);
        let word = |s: &str| if plain(s) { s.to_string() } else { quote(s) };
        let name = match schema == default_schema {
            true => word(&table),
            false => format!("{}.{}", word(&schema), word(&table)),
        };
        let letter = |i: usize| r.get::<_, String>(i).chars().next().unwrap_or('?');
        relations.push(Relation { name, kind: letter(2), persistence: letter(3) });
    }
    Ok(relations)
}

/// The tables among them, as a configuration names them.
///
/// # Errors
/// The connection is lost, or what the server says.
pub fn table_names(db: &mut Client, default_schema: &str) -> Result<Vec<String>> {
    let tables = all(db, default_schema)?.into_iter().filter(|r| matches!(r.kind, 'r' | 'p'));
    Ok(tables.map(|r| r.name).collect())
}
