//! From the stream's rows to the core's: which table a relation is, and what a message says of which keys.

use std::sync::Arc;

use gossip_core::position::{Old, RowChange};
use gossip_core::schema::{ColumnSet, Key, Row, Table};
use gossip_core::value::Value;

use super::catalog::Described;
use super::pgoutput::{Cell, Cells, OldRow, Relation};
use super::types::Reading;
use crate::{Result, SourceError};

/// A relation of the stream as a table of ours.
#[derive(Debug)]
pub struct Mapped {
    /// The table; of a partition, the partitioned one.
    pub table: Arc<Table>,
    /// The table's identity.
    description: u64,
    /// For each column of the relation the column of the table.
    places: Vec<Option<(usize, Reading)>>,
}

/// One row message, whichever table it is about.
#[derive(Clone, Debug)]
pub enum RowMessage {
    /// A row came.
    Insert(Cells),
    /// A row changed.
    Update(Option<OldRow>, Cells),
    /// A row went.
    Delete(OldRow),
}

impl Mapped {
    /// Maps a relation by the names of its columns. `None` if it is not as the table is described now: its rows are of
    /// the past.
    pub fn new(relation: &Relation, described: &Described, table: Arc<Table>) -> Option<Mapped> {
        let leaf = described.leaves.iter().find(|l| l.oid == relation.id)?;
        if leaf.name.0 != relation.schema || leaf.name.1 != relation.name {
            return None;
        }
        // Of a row as it was the stream tells what the identity had when the row was written.
        let identifies = |k: &usize| {
            let name = &described.columns[*k].name;
            relation.identity == b'f' || relation.columns.iter().any(|c| c.identity && c.name == *name)
        };
        if (table.old_values && relation.identity != b'f') || !table.key.iter().all(identifies) {
            return None;
        }
        let mut covered = ColumnSet::default();
        let mut places = Vec::with_capacity(relation.columns.len());
        for column in &relation.columns {
            let place = described.columns.iter().position(|c| c.name == column.name);
            let place = place.filter(|&i| described.columns[i].ty == column.ty);
            if place.is_none() && !described.generated.contains(&column.name) {
                return None;
            }
            if let Some(i) = place {
                covered.insert(i);
            }
            places.push(place.map(|i| (i, described.columns[i].reading.clone())));
        }
        let description = table.identity();
        covered.covers(&table.all_columns()).then_some(Mapped { table, description, places })
    }

    /// A row of the table. Omitted values are taken from `before`, else their columns are in the returned set.
    fn row(&self, cells: &Cells, before: Option<&Row>) -> Result<(Row, ColumnSet)> {
        let mut row = vec![Value::Null; self.table.columns.len()];
        let mut omitted_columns = ColumnSet::default();
        if cells.len() != self.places.len() {
            return Err(SourceError::Protocol("a row with another number of columns than its table".into()));
        }
        for (cell, place) in cells.iter().zip(&self.places) {
            let Some((i, reading)) = place else { continue };
            match (cell, before) {
                (Cell::Null, _) => {}
                (Cell::Text(bytes), _) => row[*i] = value(reading, bytes)?,
                (Cell::Unchanged, Some(before)) => row[*i] = before[*i].clone(),
                (Cell::Unchanged, None) => omitted_columns.insert(*i),
            }
        }
        Ok((row.into(), omitted_columns))
    }

    /// The key that a row of the stream has, from its whole row or its identity.
    fn key(&self, cells: &Cells) -> Result<Key> {
        let of = |k: &usize| {
            let found = self.places.iter().zip(cells).find(|(p, _)| p.as_ref().is_some_and(|(i, _)| i == k));
            match found {
                Some((Some((_, reading)), Cell::Text(bytes))) => value(reading, bytes),
                _ => Ok(Value::Null),
            }
        };
        self.table.key.iter().map(of).collect()
    }

    /// Calls `found` with what a message does to each key that it is about: one, or two if an update changes the key.
    ///
    /// # Errors
    /// The message does not fit the table's description.
    pub fn changes(&self, message: &RowMessage, mut found: impl FnMut(RowChange)) -> Result<()> {
        let change = |key, old, new: Option<(Row, ColumnSet)>| {
            let (new, omitted_columns) =
                new.map_or((None, ColumnSet::default()), |(row, omitted_columns)| (Some(row), omitted_columns));
            RowChange { table: self.table.name.clone(), description: self.description, key, old, new, omitted_columns }
        };
        let keyed = !self.table.key.is_empty();
        match message {
            RowMessage::Insert(new) => {
                let row = self.row(new, None)?;
                found(change(self.table.key_of(&row.0), Old::Known(None), Some(row)));
            }
            // Without a key there are only additions.
            _ if !keyed => {}
            RowMessage::Delete(OldRow::Full(old)) => {
                let row = self.row(old, None)?.0;
                found(change(self.table.key_of(&row), Old::Known(Some(row)), None));
            }
            RowMessage::Delete(OldRow::Key(old)) => found(change(self.key(old)?, Old::Unknown, None)),
            RowMessage::Update(Some(OldRow::Full(old)), new) => {
                let old = self.row(old, None)?.0;
                let new = self.row(new, Some(&old))?;
                let (before, after) = (self.table.key_of(&old), self.table.key_of(&new.0));
                if before == after {
                    found(change(before, Old::Known(Some(old)), Some(new)));
                } else {
                    found(change(before, Old::Known(Some(old)), None));
                    found(change(after, Old::Known(None), Some(new)));
                }
            }
            RowMessage::Update(old, new) => {
                let new = self.row(new, None)?;
                let after = self.table.key_of(&new.0);
                let before = match old {
                    Some(OldRow::Key(old)) => self.key(old)?,
                    _ => after.clone(),
                };
                if before == after {
                    found(change(after, Old::Unknown, Some(new)));
                } else {
                    found(change(before, Old::Unknown, None));
                    found(change(after, Old::Known(None), Some(new)));
                }
            }
        }
        Ok(())
    }
}

fn value(reading: &Reading, bytes: &[u8]) -> Result<Value> {
    match std::str::from_utf8(bytes) {
        Ok(text) => Ok(reading.value(text)),
        Err(_) => Err(SourceError::Protocol("a text that is not UTF-8".into())),
    }
}
