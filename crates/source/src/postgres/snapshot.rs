//! Reading what is wanted of a table at one moment, with what it shows.
//!
//! All in one transaction that sees the state of one moment and that only reads. The table is locked against being
//! altered before that moment is fixed: a table that was rewritten afterwards would look empty. What the snapshot shows
//! is identified by the transactions visible to it, and a log position that all of them precede.

use std::sync::Arc;

use gossip_core::plan::SnapshotRequest;
use gossip_core::position::{Position, SnapshotPoint};
use gossip_core::schema::{Row, Table};
use gossip_core::value::Value;
use tokio_postgres::SimpleQueryMessage;

use super::catalog::{self, CatalogColumn, Described};
use super::connect::quote;
use super::literal::Literals;
use super::pool::Connection;
use super::visibility::visibility;
use super::{PostgresSource, pgoutput::Lsn};
use crate::page::page;
use crate::{Result, SourceError, row_filter};

/// Rows that are fetched and handed over at a time.
pub const PIECE: usize = 1_000;

/// The name as configurations have it, of a table that queries know by another.
fn wanted(table: &Table) -> String {
    match table.name.schema.is_empty() {
        true => quote(&table.name.name),
        false => format!("{}.{}", quote(&table.name.schema), quote(&table.name.name)),
    }
}

/// The first row of an answer; what is not there is empty.
fn first_row<const N: usize>(answer: &[SimpleQueryMessage]) -> [&str; N] {
    let row = answer.iter().find_map(|m| if let SimpleQueryMessage::Row(r) = m { Some(r) } else { None });
    std::array::from_fn(|i| row.and_then(|r| r.get(i)).unwrap_or(""))
}

/// Declares the cursor that reads what is wanted.
fn cursor(request: &SnapshotRequest, described: &Described, from: &str, encoding: &str) -> String {
    let name = |(i, c): (usize, &CatalogColumn)| match request.columns.contains(i) {
        true => quote(&c.name),
        false => "NULL".into(),
    };
    let names: Vec<String> = described.columns.iter().enumerate().map(name).collect();
    let those = |is: fn(&CatalogColumn) -> bool| described.columns.iter().filter(|c| is(c)).map(|c| &*c.name).collect();
    let (plain_texts, by_bytes) = (those(|c| c.has_plain_text), those(|c| !c.other_order));
    let mut literals = Literals { unicode: encoding == "UTF8", plain_texts, by_bytes };
    let page = page(request, &mut literals);
    let rows = row_filter::selection(request, page.as_ref(), &literals);
    format!("DECLARE gossip_rows NO SCROLL CURSOR FOR SELECT {} FROM {from}{rows}", names.join(", "))
}

impl PostgresSource {
    /// See [`Source::snapshot`](crate::Source::snapshot).
    ///
    /// # Errors
    /// The table has changed, is locked for too long, or the connection is lost.
    pub fn snapshot(
        &self,
        wanted: &SnapshotRequest,
        take: &mut dyn FnMut(Vec<Row>) -> bool,
    ) -> Result<Option<SnapshotPoint>> {
        let mut connection = self.pool.take()?;
        let shows = self.snapshot_with(&mut connection, wanted, take)?;
        // One that failed or was given up in the middle of a transaction is not used again.
        if shows.is_some() {
            self.pool.keep(connection);
        }
        Ok(shows)
    }

    /// What the catalog has of a table, read again only where it has changed.
    fn described(&self, connection: &mut Connection, name: &str) -> Result<Option<Arc<Described>>> {
        let Connection { client, signature } = connection;
        let names = [name.to_string()];
        let signature = catalog::signature(client, signature, &self.wanted(&names))?;
        let known = self.pool.described.lock().get(name).filter(|(of, _)| *of == signature).map(|(_, d)| d.clone());
        if known.is_some() {
            return Ok(known);
        }
        let described = catalog::describe(client, &self.wanted(&names))?.into_values().next().map(Arc::new);
        let mut all = self.pool.described.lock();
        match &described {
            Some(d) => drop(all.insert(name.into(), (signature, d.clone()))),
            None => drop(all.remove(name)),
        }
        Ok(described)
    }

    fn snapshot_with(
        &self,
        connection: &mut Connection,
        request: &SnapshotRequest,
        take: &mut dyn FnMut(Vec<Row>) -> bool,
    ) -> Result<Option<SnapshotPoint>> {
        let table = &request.table;
        let changed = || SourceError::Changed(table.name.to_string());
        let name = wanted(table);
        let known = self.pool.described.lock().get(&name).map(|(_, d)| d.clone());
        let described = match known {
            Some(described) => described,
            None => self.described(connection, &name)?.ok_or_else(changed)?,
        };
        let own = if described.kind == 'p' { "" } else { "ONLY " };
        let from = format!("{own}{}", described.sql_name);
        let begin = connection.client.simple_query(&format!(
            "BEGIN ISOLATION LEVEL REPEATABLE READ READ ONLY; SET LOCAL row_security = off; \
             LOCK TABLE {from} IN ACCESS SHARE MODE; \
             SELECT pg_current_snapshot(), pg_is_in_recovery(), getdatabaseencoding()"
        ))?;
        let [text, standby, encoding] = first_row(&begin);
        if standby == "t" {
            return Err(SourceError::NotReady(format!(
                "{} is a standby; the url must lead to the primary",
                self.place()
            )));
        }
        let visibility = visibility(text)?;
        // Described under the lock: from here on it stays as it is.
        let locked = self.described(connection, &name)?.filter(|d| *d.table(&self.name) == **table);
        let described = locked.filter(|d| d.oid == described.oid).ok_or_else(changed)?;
        let client = &mut connection.client;
        let fetch = format!("FETCH {PIECE} FROM gossip_rows");
        let mut next = format!("{}; {fetch}", cursor(request, &described, &from, encoding));
        loop {
            let rows = client.simple_query(&next)?;
            next.clone_from(&fetch);
            let mut piece: Vec<Row> = Vec::with_capacity(rows.len());
            for message in &rows {
                let SimpleQueryMessage::Row(r) = message else { continue };
                let cell = |(i, c): (usize, &CatalogColumn)| r.get(i).map_or(Value::Null, |text| c.reading.value(text));
                piece.push(described.columns.iter().enumerate().map(cell).collect());
            }
            let last = piece.len() < PIECE;
            if !piece.is_empty() && !take(piece) {
                return Ok(None);
            }
            if last {
                break;
            }
        }
        let end = client.simple_query("COMMIT; SELECT (pg_current_wal_insert_lsn() - '0/0')::int8")?;
        let [after] = first_row(&end);
        let after: Lsn =
            after.parse().map_err(|_| SourceError::Protocol(format!("a place in the log that is none: {after}")))?;
        // On a quiet server nothing would be sent that lies beyond this place; so something is written. Where we may
        // not, the reader's next sign of life tells.
        let _ = client.simple_query("SELECT pg_logical_emit_message(true, 'gossip', '')");
        Ok(Some(SnapshotPoint::Visible(Arc::new(visibility), Position::at(after))))
    }
}
