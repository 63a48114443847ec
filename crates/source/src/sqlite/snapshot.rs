//! Reading what is wanted of a table together with the position that it shows.

use super::{SqliteSource, quote, to_value};
use crate::page::{Dialect, page};
use crate::{Result, SourceError, row_filter};
use gossip_core::plan::SnapshotRequest;
use gossip_core::position::Position;
use gossip_core::schema::{Column, Row, Table};
use gossip_core::value::{Type, Value};
use rusqlite::Connection;
use rusqlite::types::Value as Stored;

/// Rows that are handed over at a time.
pub const PIECE: usize = 500;

/// Reads the rows that are wanted in one read transaction and hands them to `take` in pieces; `take` says whether to go on.
/// Returns the position that they show, or `None` if `take` had enough. Rows with a NULL in their key have no
/// key that identifies them and are left out.
///
/// # Errors
/// The table has changed, the file is busy, or what SQLite says.
pub fn snapshot(
    source: &SqliteSource,
    wanted: &SnapshotRequest,
    mut take: impl FnMut(Vec<Row>) -> bool,
) -> Result<Option<Position>> {
    let table = &wanted.table;
    let mut db = source.connect()?;
    let read = db.transaction()?;
    let at: i64 = read.query_row("SELECT max(seq) FROM gossip_log", [], |r| r.get(0))?;
    let now = match super::schema::describe(&read, &table.name.name)? {
        super::schema::Lookup::Table(t) => t.table(&source.name),
        _ => return Err(SourceError::Changed(table.name.to_string())),
    };
    if *now != **table {
        return Err(SourceError::Changed(table.name.to_string()));
    }
    let whole = SnapshotRequest { page: None, ..wanted.clone() };
    let done = match rows(&read, wanted, &mut take)? {
        Rows::Unordered => rows(&read, &whole, &mut take)?,
        done => done,
    };
    Ok((done != Rows::Refused).then(|| Position::at(at.max(0) as u64)))
}

/// How reading rows ended.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Rows {
    All,
    /// Whoever takes them had enough.
    Refused,
    /// There are values of other types than their columns', whose order is another one here: a page of them is none.
    Unordered,
}

/// A value's place in a statement.
struct Numbered(Vec<Stored>);

impl Dialect for Numbered {
    fn name(&self, column: &Column) -> String {
        quote(&column.name)
    }

    fn compared(&self, value: &Value, column: &Column) -> Option<String> {
        match (value, column.ty) {
            (Value::Int(i), ty) if ty.is_integer() => Some(i.to_string()),
            (Value::Float(x), Type::Float8) if x.is_finite() => Some(format!("{x:e}")),
            (Value::Text(s), Type::Text) if !s.contains('\0') => Some(format!("'{}'", s.replace('\'', "''"))),
            _ => None,
        }
    }

    fn begins(&self, _: &Column, _: &str) -> Option<String> {
        // Here LIKE takes capitals for equal to small letters.
        None
    }

    fn column(&self, column: &Column) -> Option<String> {
        // Moments may be written in several ways, and are in the order of their texts.
        if column.ty == gossip_core::value::Type::Timestamptz {
            return None;
        }
        Some(format!("{} COLLATE BINARY", quote(&column.name)))
    }

    fn value(&mut self, value: &Value, _: &Column) -> Option<String> {
        self.0.push(match value {
            Value::Int(i) => Stored::Integer(*i),
            Value::Float(x) => Stored::Real(*x),
            Value::Text(s) => Stored::Text(s.to_string()),
            Value::Bytes(bytes) => Stored::Blob(bytes.to_vec()),
            _ => return None,
        });
        Some(format!("?{}", self.0.len()))
    }
}

fn rows(db: &Connection, wanted: &SnapshotRequest, take: &mut impl FnMut(Vec<Row>) -> bool) -> Result<Rows> {
    let table: &Table = &wanted.table;
    let name = |i: usize| if wanted.columns.contains(i) { quote(&table.columns[i].name) } else { "NULL".into() };
    let names: Vec<String> = (0..table.columns.len()).map(name).collect();
    let mut numbered = Numbered(Vec::new());
    let page = page(wanted, &mut numbered);
    let of_order = |i: usize| wanted.page.as_ref().is_some_and(|p| p.order.iter().any(|term| term.column == i));
    let selection = row_filter::selection(wanted, page.as_ref(), &numbered);
    let values = if page.is_some() { numbered.0 } else { Vec::new() };
    let mut s = db.prepare(&format!("SELECT {} FROM {}{selection}", names.join(", "), quote(&table.name.name)))?;
    let mut rows = s.query(rusqlite::params_from_iter(values))?;
    let mut piece = Vec::with_capacity(PIECE);
    while let Some(r) = rows.next()? {
        let mut row: Vec<Value> = Vec::with_capacity(table.columns.len());
        for (i, column) in table.columns.iter().enumerate() {
            let (value, fits) = to_value(r.get_ref(i)?, column.ty);
            if !fits && of_order(i) {
                return Ok(Rows::Unordered);
            }
            row.push(value);
        }
        if table.key.iter().any(|&i| row[i].is_null()) {
            continue;
        }
        piece.push(row.into());
        if piece.len() == PIECE && !take(std::mem::take(&mut piece)) {
            return Ok(Rows::Refused);
        }
    }
    Ok(if piece.is_empty() || take(piece) { Rows::All } else { Rows::Refused })
}
