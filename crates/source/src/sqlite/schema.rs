//! What tables a database has, and whether they can be followed.

use std::sync::Arc;
use std::time::{Duration, Instant};

use rusqlite::{Connection, OptionalExtension, params};

use super::quote;
use super::tokens::{Token, tokens};
use crate::Result;
use gossip_core::canonical::{Canonical as _, Encoder};
use gossip_core::schema::{Column, Table, TableName};
use gossip_core::value::Type;

/// A unique index, of which every conflict may make `REPLACE` delete a row.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct UniqueIndex {
    /// Its parts: a column's name or an expression, each with its collation.
    pub parts: Vec<(IndexPart, String)>,
}

/// One part of a unique index.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum IndexPart {
    /// A column, by name.
    Column(String),
    /// The text of an expression.
    Expression(String),
}

/// A table of the database, as far as following it needs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Described {
    /// Its name as it stands in the schema.
    pub name: String,
    /// Columns, generated ones included, hidden ones not.
    pub columns: Vec<(String, Type)>,
    /// Indices of the key columns.
    pub key: Vec<usize>,
    /// Whether the key is the rowid under another name, and so may be given by the database.
    pub given_key: bool,
    /// All unique indexes, that of the key included.
    pub unique: Vec<UniqueIndex>,
}

impl Described {
    /// The table as the engine knows it.
    pub fn table(&self, source: &Arc<str>) -> Arc<Table> {
        let column = |(name, ty): &(String, Type)| Column { name: name.as_str().into(), ty: *ty };
        Arc::new(Table {
            name: TableName::plain(&self.name),
            source: source.clone(),
            columns: self.columns.iter().map(column).collect(),
            key: self.key.clone(),
            old_values: true,
            incarnation: 0,
        })
    }

    /// Differs when anything that triggers depend on does. It is kept in the database, so it is in the one form that all
    /// releases share.
    pub fn signature(&self) -> String {
        let mut identity = Encoder::new("sqlite table");
        identity.text(&self.name);
        identity.number(self.columns.len() as u64);
        for (name, ty) in &self.columns {
            identity.text(name);
            ty.encode(&mut identity);
        }
        identity.list(&self.key);
        identity.tag(u8::from(self.given_key));
        identity.number(self.unique.len() as u64);
        for index in &self.unique {
            identity.number(index.parts.len() as u64);
            for (part, collation) in &index.parts {
                let (tag, text) = match part {
                    IndexPart::Column(name) => (0, name),
                    IndexPart::Expression(text) => (1, text),
                };
                identity.tag(tag);
                identity.text(text);
                identity.text(collation);
            }
        }
        identity.hex_digest()
    }

    /// The names of the key columns.
    pub fn key_names(&self) -> impl Iterator<Item = &str> {
        self.key.iter().map(|&i| self.columns[i].0.as_str())
    }
}

/// What a name in the configuration turned out to be.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Lookup {
    /// A table that can be followed.
    Table(Described),
    /// Nothing of that name; the most similar table, if any is.
    Nothing(Option<String>),
    /// Something that cannot be followed, with the reason and what mends it.
    Unfit(String, Option<String>),
}

/// The types of SQLite's declared types, by its own rules of affinity, with booleans and moments distinguished.
pub fn declared_type(declared: &str) -> Type {
    let d = declared.to_ascii_uppercase();
    let has = |s: &str| d.contains(s);
    match () {
        () if has("INT") => Type::Int8,
        () if has("CHAR") || has("CLOB") || has("TEXT") => Type::Text,
        () if has("BLOB") => Type::Bytea,
        () if has("REAL") || has("FLOA") || has("DOUB") => Type::Float8,
        () if has("BOOL") => Type::Bool,
        // Nobody declares dates so by habit: whoever does says how they are written.
        () if matches!(d.as_str(), "TIMESTAMPTZ" | "TIMESTAMP WITH TIME ZONE") => Type::Timestamptz,
        () => Type::Any,
    }
}

/// All user tables, by name; not those of SQLite or Gossip.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn table_names(db: &Connection) -> Result<Vec<String>> {
    let sql = "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' \
               AND name NOT IN ('gossip_log', 'gossip_layout', 'gossip_meta') ORDER BY name";
    let mut s = db.prepare(sql)?;
    let names = s.query_map([], |r| r.get(0))?.collect::<std::result::Result<_, _>>()?;
    Ok(names)
}

/// How long the rows of a table are counted.
const COUNTING: Duration = Duration::from_millis(150);

/// Counts a table's rows; `None` if that takes long.
pub fn count_rows(db: &mut Connection, table: &str) -> Option<u64> {
    let begun = Instant::now();
    db.progress_handler(10_000, Some(move || begun.elapsed() > COUNTING)).ok()?;
    let rows = db.query_row(&format!("SELECT count(*) FROM {}", quote(table)), [], |r| r.get::<_, i64>(0));
    db.progress_handler(0, None::<fn() -> bool>).ok()?;
    rows.ok().map(i64::unsigned_abs)
}

/// Describes a table.
///
/// # Errors
/// The file is busy, or what SQLite says.
pub fn describe(db: &Connection, wanted: &str) -> Result<Lookup> {
    let sql = "SELECT name, type, coalesce(sql, '') FROM sqlite_master WHERE name = ?1 COLLATE NOCASE \
               AND type IN ('table', 'view')";
    let row =
        db.query_row(sql, [wanted], |r| Ok((r.get::<_, String>(0)?, r.get::<_, String>(1)?, r.get::<_, String>(2)?)));
    let Some((name, kind, sql)) = row.optional()? else {
        let names = table_names(db)?;
        return Ok(Lookup::Nothing(gossip_protocol::spelling::similar(wanted, names.iter().map(String::as_str))));
    };
    if kind == "view" {
        return Ok(Lookup::Unfit(
            "is a view, and views do not change by themselves: stream the tables it reads".into(),
            None,
        ));
    }
    if sql.trim_start().to_ascii_uppercase().starts_with("CREATE VIRTUAL") {
        return Ok(Lookup::Unfit("is a virtual table; triggers cannot follow it".into(), None));
    }
    let Columns { mut columns, mut key, integer_key, not_null } = columns(db, &name)?;
    let mut unique = Vec::new();
    let mut has_key_index = false;
    let mut s = db.prepare("SELECT name, origin FROM pragma_index_list(?1) WHERE \"unique\" ORDER BY seq")?;
    let indexes: Vec<(String, String)> =
        s.query_map([&name], |r| Ok((r.get(0)?, r.get(1)?)))?.collect::<std::result::Result<_, _>>()?;
    for (index, origin) in indexes {
        has_key_index |= origin == "pk";
        match parts(db, &index)? {
            Some(parts) => unique.push(UniqueIndex { parts }),
            None => {
                let text = format!("has the unique index {index} on an expression that cannot be read");
                return Ok(Lookup::Unfit(text, Some(format!("DROP INDEX {}", quote(&index)))));
            }
        }
    }
    // A single INTEGER PRIMARY KEY without its own index is the rowid.
    let given_key = key.len() == 1 && integer_key && !has_key_index;
    if given_key {
        let part = (IndexPart::Column(columns[key[0]].0.clone()), "BINARY".to_string());
        unique.insert(0, UniqueIndex { parts: vec![part] });
    }
    if key.is_empty() {
        // Without a primary key a unique index over columns that cannot be NULL serves as well.
        let whole = |u: &UniqueIndex| {
            let names = u.parts.iter().map(|(p, _)| match p {
                IndexPart::Column(c) if not_null.contains(c) => columns.iter().position(|(n, _)| n == c),
                _ => None,
            });
            names.collect::<Option<Vec<usize>>>()
        };
        key = unique.iter().find_map(whole).unwrap_or_default();
    }
    if key.is_empty() {
        let text =
            "has no primary key and no unique index over columns that are NOT NULL: its rows cannot be told apart";
        let fix = format!("CREATE UNIQUE INDEX … ON {} (…)  -- over NOT NULL columns", quote(&name));
        return Ok(Lookup::Unfit(text.into(), Some(fix)));
    }
    for i in &key {
        // One moment can be written in two ways, which SQLite takes for two keys.
        if let Some((_, ty @ Type::Timestamptz)) = columns.get_mut(*i) {
            *ty = Type::Any;
        }
    }
    Ok(Lookup::Table(Described { name, columns, key, given_key, unique }))
}

/// The columns of a table as SQLite lists them.
struct Columns {
    /// Names and types, without hidden columns.
    columns: Vec<(String, Type)>,
    /// Indices of the primary key's columns, in key order.
    key: Vec<usize>,
    /// Whether the last column of the primary key is declared as `INTEGER`.
    integer_key: bool,
    /// Names of the columns that are `NOT NULL`.
    not_null: Vec<String>,
}

fn columns(db: &Connection, table: &str) -> Result<Columns> {
    let mut found = Columns { columns: vec![], key: vec![], integer_key: false, not_null: vec![] };
    let mut key: Vec<(i64, usize)> = Vec::new();
    let mut s = db.prepare("SELECT name, type, \"notnull\", pk, hidden FROM pragma_table_xinfo(?1)")?;
    let mut rows = s.query([table])?;
    while let Some(r) = rows.next()? {
        let (column, declared): (String, String) = (r.get(0)?, r.get(1)?);
        let (required, pk, hidden): (bool, i64, i64) = (r.get(2)?, r.get(3)?, r.get(4)?);
        if hidden == 1 {
            continue;
        }
        if pk > 0 {
            key.push((pk, found.columns.len()));
            found.integer_key = declared.eq_ignore_ascii_case("INTEGER");
        }
        if required {
            found.not_null.push(column.clone());
        }
        found.columns.push((column, declared_type(&declared)));
    }
    key.sort_unstable();
    found.key = key.into_iter().map(|(_, i)| i).collect();
    Ok(found)
}

/// The parts of a unique index; `None` if an expression in it cannot be found in its text.
fn parts(db: &Connection, index: &str) -> Result<Option<Vec<(IndexPart, String)>>> {
    let mut s = db.prepare("SELECT cid, name, coll FROM pragma_index_xinfo(?1) WHERE key ORDER BY seqno")?;
    let mut rows = s.query([index])?;
    let mut parts = Vec::new();
    let mut expressions = None;
    while let Some(r) = rows.next()? {
        let (cid, column): (i64, Option<String>) = (r.get(0)?, r.get(1)?);
        let collation: Option<String> = r.get(2)?;
        let part = match column {
            Some(c) => IndexPart::Column(c),
            None if cid == -1 => continue,
            None => {
                if expressions.is_none() {
                    let sql: Option<String> = db
                        .query_row("SELECT sql FROM sqlite_master WHERE name = ?1", params![index], |r| r.get(0))
                        .optional()?
                        .flatten();
                    expressions = Some(sql.and_then(|s| index_texts(&s)).unwrap_or_default());
                }
                match expressions.as_ref().and_then(|e| e.get(parts.len())) {
                    Some(text) => IndexPart::Expression(text.clone()),
                    None => return Ok(None),
                }
            }
        };
        parts.push((part, collation.unwrap_or_else(|| "BINARY".into())));
    }
    Ok(Some(parts))
}

/// The texts between the commas of `CREATE UNIQUE INDEX … ON table ( … )`, without a trailing ASC, DESC or COLLATE.
fn index_texts(sql: &str) -> Option<Vec<String>> {
    let tokens = tokens(sql);
    let start = tokens.iter().position(|(t, _)| *t == Token::LParen)?;
    let (mut depth, mut texts, mut current) = (1, Vec::new(), Vec::<&str>::new());
    let mut finish = |current: &mut Vec<&str>| {
        let mut words = std::mem::take(current);
        if words.last().is_some_and(|w| w.eq_ignore_ascii_case("asc") || w.eq_ignore_ascii_case("desc")) {
            words.pop();
        }
        let n = words.len();
        if n > 2 && words[n - 2].eq_ignore_ascii_case("collate") {
            words.truncate(n - 2);
        }
        texts.push(words.join(" "));
    };
    for (token, text) in &tokens[start + 1..] {
        match token {
            Token::LParen => depth += 1,
            Token::RParen => depth -= 1,
            _ => {}
        }
        match token {
            _ if depth == 0 => {
                finish(&mut current);
                return Some(texts);
            }
            Token::Comma if depth == 1 => finish(&mut current),
            Token::Blank => {}
            _ => current.push(text),
        }
    }
    None
}
