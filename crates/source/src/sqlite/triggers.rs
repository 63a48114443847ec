//! The SQL that follows tables, and its removal.
//!
//! Before a row is changed or deleted, a trigger copies it as it is into `gossip_log`; before one is inserted, the key
//! is noted, and so are the rows that `REPLACE` would delete because they conflict over some unique index. So the first
//! entry about a key in any stretch of the log has the row as it was at its beginning. Only a key that the database
//! gives itself cannot be noted before: in tables where it may, every insert is noted after it as well, since the note
//! that stands last may be of an insert that was ignored, and of a stretch that was read. [`reader`](super::reader)
//! knows what that means.
//!
//! The triggers must never make an application's migration fail, and `ALTER TABLE … DROP COLUMN` refuses if a trigger
//! names the column. So no column is named in a way that needs it to exist:
//!
//! - the old row is read by `FROM t NATURAL LEFT JOIN (SELECT NULL AS a, NULL AS b WHERE 0)`, in which a bare `a` is
//!   the table's column if it has one and else NULL;
//! - `(SELECT (SELECT NEW.a) FROM (SELECT NULL AS a) AS NEW)` is the trigger's `NEW.a` if the table has the column, for
//!   the inner name is looked for among the trigger's own rows first, and else NULL.
//!
//! `RENAME` rewrites what it finds in the triggers; after any such change the reader reinstalls them.

use rusqlite::{Connection, OptionalExtension, params};

use super::schema::{Described, IndexPart, Lookup, describe};
use super::tokens::{Token, tokens};
use super::{SqliteSource, quote};
use crate::{Finding, Plan, Result, SourceError};

/// Every entry has a random tag, so that it can be told from another one with the same number in a log that was put back to
/// an earlier state and went on from there.
const LOG: &str = "CREATE TABLE gossip_log (seq INTEGER PRIMARY KEY, layout INTEGER NOT NULL, op TEXT NOT NULL, \
                   tag INTEGER NOT NULL DEFAULT (random())";

/// Columns of the log before those of the row.
pub const BEFORE_ROW: usize = 4;
const LAYOUT: &str = "CREATE TABLE gossip_layout (id INTEGER PRIMARY KEY, tbl TEXT NOT NULL, signature TEXT NOT NULL)";
const META: &str = "CREATE TABLE gossip_meta (name TEXT PRIMARY KEY, value) WITHOUT ROWID";

const KINDS: [&str; 4] = ["before_insert", "after_insert", "before_update", "before_delete"];

/// The name of one of a table's triggers.
fn trigger_name(table: &str, kind: &str) -> String {
    format!("gossip_{table}_{kind}")
}

/// The four triggers of a table, as statements.
pub fn triggers(t: &Described, layout: i64) -> Vec<String> {
    let table = quote(&t.name);
    let names: Vec<String> = t.columns.iter().map(|(n, _)| quote(n)).collect();
    let places: Vec<String> = (0..names.len()).map(|i| format!("c{i}")).collect();
    let nothing: Vec<String> = names.iter().map(|n| format!("NULL AS {n}")).collect();
    let fallback = format!("(SELECT {} WHERE 0)", nothing.join(", "));
    let old_row = |op: &str, condition: &str| {
        format!(
            "INSERT INTO gossip_log (layout, op, {}) SELECT {layout}, {op}, {} FROM {table} NATURAL LEFT JOIN {fallback} \
             WHERE {condition};",
            places.join(", "),
            names.join(", "),
        )
    };
    let row = |which: &str, column: &str| {
        let c = quote(column);
        format!("(SELECT (SELECT {which}.{c}) FROM (SELECT NULL AS {c}) AS {which})")
    };
    let key: Vec<&str> = t.key_names().collect();
    let is_old: Vec<String> = key.iter().map(|k| format!("{} IS {}", quote(k), row("OLD", k))).collect();
    let is_old = is_old.join(" AND ");
    let moved: Vec<String> =
        key.iter().map(|k| format!("{} IS NOT {} COLLATE BINARY", row("OLD", k), row("NEW", k))).collect();
    let moved = moved.join(" OR ");
    let key_places: Vec<&str> = t.key.iter().map(|&i| places[i].as_str()).collect();
    let new_key: Vec<String> = key.iter().map(|k| row("NEW", k)).collect();
    let note_key = |op: &str, condition: &str| {
        format!(
            "INSERT INTO gossip_log (layout, op, {}) SELECT {layout}, '{op}', {} WHERE {condition};",
            key_places.join(", "),
            new_key.join(", "),
        )
    };
    let conflicts: Vec<(String, String)> = t.unique.iter().map(|u| conflict(t, u, &row)).collect();

    let mut before_insert: Vec<String> = conflicts.iter().map(|(c, _)| old_row("'c'", c)).collect();
    // The database's own choice of a key is not known yet and shows as -1 or NULL.
    let known: Vec<String> = new_key.iter().map(|k| format!("coalesce({k}, -1) IS NOT -1")).collect();
    before_insert.push(note_key("a", &if t.given_key { known.join(" AND ") } else { "1".into() }));

    // Elsewhere the note before the insert is enough, if it is of the key that the row got.
    let same_key: Vec<String> =
        key_places.iter().zip(&new_key).map(|(place, new)| format!("{place} IS {new}")).collect();
    let unnoted = format!(
        "NOT EXISTS (SELECT 1 FROM gossip_log WHERE seq = (SELECT max(seq) FROM gossip_log) AND layout = {layout} \
         AND op = 'a' AND {})",
        same_key.join(" AND "),
    );

    let mut before_update = vec![old_row(&format!("CASE WHEN {moved} THEN 'm' ELSE 'u' END"), &is_old)];
    before_update.extend(conflicts.iter().map(|(c, differs)| old_row("'c'", &format!("({differs}) AND {c}"))));
    before_update.push(note_key("a", &moved));

    let bodies = [
        ("BEFORE INSERT", before_insert),
        ("AFTER INSERT", vec![note_key("i", if t.given_key { "1" } else { &unnoted })]),
        ("BEFORE UPDATE", before_update),
        ("BEFORE DELETE", vec![old_row("'d'", &is_old)]),
    ];
    let create = |(kind, (event, body)): (&&str, &(&str, Vec<String>))| {
        let name = quote(&trigger_name(&t.name, kind));
        format!("CREATE TRIGGER {name} {event} ON {table} BEGIN\n  {}\nEND", body.join("\n  "))
    };
    KINDS.iter().zip(&bodies).map(create).collect()
}

/// The condition that a row conflicts with NEW over a unique index, and the one that an update changes what is indexed.
fn conflict(t: &Described, u: &super::schema::UniqueIndex, row: &dyn Fn(&str, &str) -> String) -> (String, String) {
    let mut conflicts = Vec::new();
    let mut differs = Vec::new();
    for (part, collation) in &u.parts {
        let (own, new, old) = match part {
            IndexPart::Column(c) => (quote(c), row("NEW", c), row("OLD", c)),
            IndexPart::Expression(e) => (format!("({e})"), of_row(e, t, "NEW", row), of_row(e, t, "OLD", row)),
        };
        conflicts.push(format!("{own} = {new} COLLATE {}", quote(collation)));
        differs.push(format!("{new} IS NOT {old} COLLATE BINARY"));
    }
    (conflicts.join(" AND "), differs.join(" OR "))
}

/// The expression of an index, with the columns taken from the trigger's NEW or OLD row.
fn of_row(e: &str, t: &Described, which: &str, row: &dyn Fn(&str, &str) -> String) -> String {
    let tokens = tokens(e);
    let mut of_row = String::from("(");
    for (i, (token, text)) in tokens.iter().enumerate() {
        let next = tokens[i + 1..].iter().map(|(t, _)| t).find(|t| **t != Token::Blank);
        let column = match token {
            Token::Word(w) if next != Some(&Token::LParen) => {
                t.columns.iter().find(|(name, _)| name.eq_ignore_ascii_case(w))
            }
            _ => None,
        };
        match column {
            Some((name, _)) => of_row.push_str(&row(which, name)),
            None => of_row.push_str(text),
        }
    }
    of_row.push(')');
    of_row
}

/// The layout under which a table is followed at present.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn layout_of(db: &Connection, table: &str) -> Result<Option<(i64, String)>> {
    let sql = "SELECT id, signature FROM gossip_layout WHERE tbl = ?1 COLLATE NOCASE ORDER BY id DESC LIMIT 1";
    Ok(db.query_row(sql, [table], |r| Ok((r.get(0)?, r.get(1)?))).optional()?)
}

/// Whether this database was prepared at all, in the form of this release.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn is_prepared(db: &Connection) -> Result<bool> {
    let sql = "SELECT (SELECT count(*) FROM sqlite_master WHERE name IN ('gossip_log', 'gossip_layout', 'gossip_meta')) \
               + (SELECT count(*) FROM pragma_table_info('gossip_log') WHERE name = 'tag')";
    Ok(db.query_row(sql, [], |r| r.get::<_, i64>(0))? == 4)
}

/// Whether a table's triggers are in place, as they would be made now, and the newest ones on it.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn is_followed(db: &Connection, t: &Described) -> Result<bool> {
    let Some((layout, signature)) = layout_of(db, &t.name)? else { return Ok(false) };
    if signature != t.signature() {
        return Ok(false);
    }
    let wanted = triggers(t, layout);
    let sql = "SELECT sql FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE \
               ORDER BY rowid DESC LIMIT ?2";
    let mut s = db.prepare(sql)?;
    let mut found: Vec<String> =
        s.query_map(params![t.name, wanted.len() as i64], |r| r.get(0))?.collect::<std::result::Result<_, _>>()?;
    found.reverse();
    Ok(found == wanted)
}

/// Statements that take away every trigger of ours on `table`, whatever it is called now.
fn drop_triggers(db: &Connection, table: &str) -> Result<Vec<String>> {
    let sql = "SELECT name FROM sqlite_master WHERE type = 'trigger' AND tbl_name = ?1 COLLATE NOCASE \
               AND name LIKE 'gossip\\_%' ESCAPE '\\' AND sql LIKE '%INSERT INTO gossip_log%'";
    let mut s = db.prepare(sql)?;
    let names = s.query_map([table], |r| r.get::<_, String>(0))?.collect::<std::result::Result<Vec<_>, _>>()?;
    Ok(names.iter().map(|n| format!("DROP TRIGGER IF EXISTS {}", quote(n))).collect())
}

/// Works out what has to be done so that all tables of the source are followed. Nothing, if they are.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn plan(db: &Connection, source: &SqliteSource) -> Result<Plan> {
    let mut plan = Plan::default();
    let mut next_layout = 1;
    let prepared = is_prepared(db)?;
    let mut described = Vec::new();
    for wanted in &source.tables {
        match describe(db, wanted)? {
            Lookup::Table(t) => described.push(t),
            Lookup::Nothing(similar) => {
                let hint = similar.map_or(String::new(), |s| format!("; did you mean {s}?"));
                return Err(SourceError::NotReady(format!("there is no table {wanted} in the database{hint}")));
            }
            Lookup::Unfit(why, fix) => {
                let fix = fix.map_or(String::new(), |m| format!("; fix: {m}"));
                return Err(SourceError::NotReady(format!("table {wanted} {why}{fix}")));
            }
        }
    }
    let width = described.iter().map(|t| t.columns.len()).max().unwrap_or(0);
    if prepared {
        let have: i64 =
            db.query_row("SELECT count(*) FROM pragma_table_info('gossip_log')", [], |r| r.get::<_, i64>(0))?;
        let extra = (have - BEFORE_ROW as i64).max(0) as usize..width;
        plan.statements.extend(extra.map(|i| format!("ALTER TABLE gossip_log ADD COLUMN c{i}")));
        next_layout += db.query_row("SELECT coalesce(max(id), 0) FROM gossip_layout", [], |r| r.get::<_, i64>(0))?;
    } else {
        // What an earlier release has left has another form.
        plan.statements.extend(removal(db)?);
        let places: String = (0..width).map(|i| format!(", c{i}")).collect();
        plan.statements.extend([format!("{LOG}{places})"), LAYOUT.into(), META.into()]);
        plan.statements.push("INSERT INTO gossip_log (layout, op) VALUES (0, 'start')".into());
        plan.statements.push("INSERT INTO gossip_meta VALUES ('database', lower(hex(randomblob(16))))".into());
    }
    for t in described {
        if prepared && is_followed(db, &t)? {
            continue;
        }
        plan.statements.extend(drop_triggers(db, &t.name)?);
        let signature = t.signature().replace('\'', "''");
        let name = t.name.replace('\'', "''");
        plan.statements.push(format!("INSERT INTO gossip_layout VALUES ({next_layout}, '{name}', '{signature}')"));
        plan.statements.extend(triggers(&t, next_layout));
        plan.statements.push(format!("INSERT INTO gossip_log (layout, op) VALUES ({next_layout}, 'r')"));
        plan.effects.push(format!(
            "{}: every row that is inserted, updated or deleted also writes one row to gossip_log{}; {} unique index{} \
             looked up before an insert",
            t.name,
            if t.given_key { " (two, if an insert names its key)" } else { "" },
            t.unique.len(),
            if t.unique.len() == 1 { " is" } else { "es are" },
        ));
        next_layout += 1;
    }
    if !plan.statements.is_empty() && !prepared {
        plan.effects.push("gossip_log is kept short by the reading instance, 500 rows at a time".into());
    }
    Ok(plan)
}

/// Carries out a plan, all of it or nothing.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn carry_out(db: &mut Connection, statements: &[String]) -> Result<()> {
    let write = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
    for sql in statements {
        write.execute_batch(sql)?;
    }
    Ok(write.commit()?)
}

/// What takes our triggers off a table.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn stop_following(db: &Connection, table: &str) -> Result<Vec<String>> {
    drop_triggers(db, table)
}

/// What takes everything of ours out of the database again.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn removal(db: &Connection) -> Result<Vec<String>> {
    let mut s = db.prepare("SELECT DISTINCT tbl_name FROM sqlite_master WHERE type = 'trigger'")?;
    let tables = s.query_map([], |r| r.get::<_, String>(0))?.collect::<std::result::Result<Vec<_>, _>>()?;
    let mut statements = Vec::new();
    for t in tables {
        statements.extend(drop_triggers(db, &t)?);
    }
    for t in ["gossip_log", "gossip_layout", "gossip_meta"] {
        let sql = "SELECT count(*) FROM sqlite_master WHERE type = 'table' AND name = ?1";
        if db.query_row(sql, params![t], |r| r.get::<_, i64>(0))? > 0 {
            statements.push(format!("DROP TABLE {t}"));
        }
    }
    Ok(statements)
}

/// Repairs the triggers after a migration: reinstalls them where they are gone or outdated, and takes them
/// off tables that are no longer followed under their old name. Returns whether anything was done.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn reinstall(db: &mut Connection, source: &SqliteSource) -> Result<bool> {
    let write = db.transaction_with_behavior(rusqlite::TransactionBehavior::Immediate)?;
    let mut present = source.clone();
    present.tables.clear();
    let mut statements = Vec::new();
    for wanted in &source.tables {
        match describe(&write, wanted)? {
            Lookup::Table(_) => present.tables.push(wanted.clone()),
            Lookup::Nothing(_) | Lookup::Unfit(..) => {
                // Followed before, and now gone: say so once, in the log.
                let gone = layout_of(&write, wanted)?.is_some_and(|(_, signature)| !signature.is_empty());
                if gone {
                    let name = wanted.replace('\'', "''");
                    statements.push(format!("INSERT INTO gossip_layout (tbl, signature) VALUES ('{name}', '')"));
                    statements
                        .push("INSERT INTO gossip_log (layout, op) VALUES (last_insert_rowid(), 'r')".to_string());
                    statements.extend(drop_triggers(&write, wanted)?);
                }
            }
        }
    }
    let mut s = write.prepare(
        "SELECT DISTINCT tbl_name FROM sqlite_master WHERE type = 'trigger' AND sql LIKE '%INSERT INTO gossip_log%'",
    )?;
    let followed = s.query_map([], |r| r.get::<_, String>(0))?.collect::<std::result::Result<Vec<_>, _>>()?;
    drop(s);
    for t in followed.iter().filter(|t| !source.tables.iter().any(|own| own.eq_ignore_ascii_case(t))) {
        statements.extend(drop_triggers(&write, t)?);
    }
    statements.extend(plan(&write, &present)?.statements);
    for sql in &statements {
        write.execute_batch(sql)?;
    }
    write.commit()?;
    Ok(!statements.is_empty())
}

/// Holds the source against the database.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn check(source: &SqliteSource) -> Result<Vec<Finding>> {
    let db = source.connect()?;
    let mut findings = Vec::new();
    let mut find = |blocks, about: &str, text: String, fix: Option<String>| {
        findings.push(Finding { blocks, about: about.into(), text, fix });
    };
    let prepared = is_prepared(&db)?;
    for wanted in &source.tables {
        match describe(&db, wanted)? {
            Lookup::Nothing(similar) => {
                let hint = similar.map_or(String::new(), |s| format!("; did you mean {s}?"));
                find(true, wanted, format!("there is no such table{hint}"), None);
            }
            Lookup::Unfit(why, fix) => find(true, wanted, why, fix),
            Lookup::Table(t) if !prepared || !is_followed(&db, &t)? => {
                find(
                    true,
                    wanted,
                    "is not streaming: its triggers are missing or outdated".into(),
                    Some("gossip prepare".into()),
                );
            }
            Lookup::Table(_) => {}
        }
    }
    if source.tables.is_empty() {
        find(true, &source.name, "no tables are named; add tables = […] to the source".into(), None);
    }
    let mode: String = db.query_row("PRAGMA journal_mode", [], |r| r.get(0))?;
    if mode != "wal" {
        let text = format!(
            "journal mode is {mode}: snapshots make writers wait while they read, and a writer \
                            without a busy timeout fails at times (\"database is locked\")"
        );
        find(false, &source.name, text, Some("PRAGMA journal_mode = WAL".into()));
    }
    if db.is_readonly("main")? {
        find(true, &source.name, "the file is read-only; the change log cannot be written".into(), None);
    }
    Ok(findings)
}
