//! Reading what is wanted of a table together with the position that it shows.

use super::{SqliteSource, quote, to_value};
use crate::{Result, SourceError, row_filter};
use gossip_core::plan::SnapshotRequest;
use gossip_core::position::Position;
use gossip_core::schema::Row;
use gossip_core::value::Value;

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
    let name = |i: usize| if wanted.columns.contains(i) { quote(&table.columns[i].name) } else { "NULL".into() };
    let names: Vec<String> = (0..table.columns.len()).map(name).collect();
    let filter = row_filter::condition(wanted, quote);
    let mut s = read.prepare(&format!("SELECT {} FROM {}{filter}", names.join(", "), quote(&table.name.name)))?;
    let mut rows = s.query([])?;
    let mut piece = Vec::with_capacity(PIECE);
    while let Some(r) = rows.next()? {
        let mut row: Vec<Value> = Vec::with_capacity(table.columns.len());
        for (i, column) in table.columns.iter().enumerate() {
            row.push(to_value(r.get_ref(i)?, column.ty).0);
        }
        if table.key.iter().any(|&i| row[i].is_null()) {
            continue;
        }
        piece.push(row.into());
        if piece.len() == PIECE && !take(std::mem::take(&mut piece)) {
            return Ok(None);
        }
    }
    Ok((piece.is_empty() || take(piece)).then(|| Position::at(at.max(0) as u64)))
}
