//! The columns of a result.

use super::VisibleRow;
use crate::canonical::{Canonical, Encoder};
use crate::schema::Table;
use crate::value::{Type, Value};

/// The columns that make up the result, in the order of the query.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Project(Box<[usize]>);

/// A column of a result.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct OutputColumn<'a> {
    /// Its name.
    pub name: &'a str,
    /// The type of its values.
    pub ty: Type,
    /// Whether it is part of the key of the result's rows.
    pub key: bool,
}

impl Project {
    /// Selects these columns of the scan's rows.
    pub fn new(columns: Vec<usize>) -> Project {
        Project(columns.into())
    }

    /// The result's columns.
    pub fn output<'a>(&'a self, table: &'a Table) -> impl Iterator<Item = OutputColumn<'a>> {
        self.0.iter().map(|&i| {
            let column = &table.columns[i];
            OutputColumn { name: &column.name, ty: column.ty, key: table.key.contains(&i) }
        })
    }

    /// The name of the result's column at `place`.
    pub fn name<'a>(&self, place: usize, table: &'a Table) -> &'a str {
        &table.columns[self.0[place]].name
    }

    /// The scan's columns that it needs, in the order of the result.
    pub fn reads(&self) -> impl Iterator<Item = usize> {
        self.0.iter().copied()
    }

    /// The value of the result's column at `place`, if it is visible.
    pub fn value<'a>(&self, place: usize, seen: &'a VisibleRow) -> Option<&'a Value> {
        let column = *self.0.get(place)?;
        seen.columns.contains(column).then(|| &seen.row[column])
    }

    /// The visible values of a row with their places in the result, ascending.
    pub fn shown<'a>(&'a self, seen: &'a VisibleRow) -> impl Iterator<Item = (usize, &'a Value)> {
        (0..self.0.len()).filter_map(|place| Some((place, self.value(place, seen)?)))
    }
}

impl Canonical for Project {
    fn encode(&self, to: &mut Encoder) {
        to.list(&self.0);
    }
}
