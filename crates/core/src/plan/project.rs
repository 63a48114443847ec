//! The columns of a result.

use std::sync::Arc;

use super::{Admitted, VisibleRow};
use crate::canonical::{Canonical, Encoder};
use crate::query::function::EvalError;
use crate::query::{Cells, Expr};
use crate::schema::{ColumnSet, Table};
use crate::value::{Type, Value};

/// The columns that make up the result, in the order of the query.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub enum Project {
    /// Columns of the operator below, under their own names. A row stays as it is, whole, and is shown in part.
    Columns(Box<[usize]>),
    /// What is computed of them. A row becomes one of these values.
    Items(Box<[Item]>),
}

/// What is selected, as one column of the result.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Item {
    /// Its name in the result.
    pub name: Arc<str>,
    /// Its type.
    pub ty: Type,
    /// Its value, of the row of the operator below.
    pub value: Expr,
    /// Whether it is part of the key of the result's rows.
    pub key: bool,
}

impl Item {
    /// The column that it is, if it is nothing else.
    pub fn column(&self) -> Option<usize> {
        if let Expr::Column(i) = self.value { Some(i) } else { None }
    }
}

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
    /// How many columns the result has.
    pub fn len(&self) -> usize {
        match self {
            Project::Columns(columns) => columns.len(),
            Project::Items(items) => items.len(),
        }
    }

    /// Whether nothing is selected.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// The result's columns; `table` is what the query reads.
    pub fn output<'a>(&'a self, table: &'a Table) -> impl Iterator<Item = OutputColumn<'a>> {
        (0..self.len()).map(|place| match self {
            Project::Columns(columns) => {
                let i = columns[place];
                OutputColumn { name: &table.columns[i].name, ty: table.columns[i].ty, key: table.key.contains(&i) }
            }
            Project::Items(items) => {
                let Item { name, ty, key, .. } = &items[place];
                OutputColumn { name, ty: *ty, key: *key }
            }
        })
    }

    /// The name of the result's column at `place`.
    pub fn name<'a>(&'a self, place: usize, table: &'a Table) -> &'a str {
        match self {
            Project::Columns(columns) => &table.columns[columns[place]].name,
            Project::Items(items) => &items[place].name,
        }
    }

    /// The column below that the result's column at `place` is, if it is nothing else.
    pub fn column(&self, place: usize) -> Option<usize> {
        match self {
            Project::Columns(columns) => columns.get(place).copied(),
            Project::Items(items) => items.get(place).and_then(Item::column),
        }
    }

    /// The columns below that are shown as they are, in the order of the result.
    pub fn plain(&self) -> impl Iterator<Item = usize> {
        (0..self.len()).filter_map(|place| self.column(place))
    }

    /// What is computed.
    pub fn exprs(&self) -> impl Iterator<Item = &Expr> {
        let items: &[Item] = if let Project::Items(items) = self { items } else { &[] };
        items.iter().map(|item| &item.value)
    }

    /// Calls `look` for every column below that something is computed of, with repetition.
    pub fn for_each_computed(&self, look: &mut dyn FnMut(usize)) {
        if let Project::Items(items) = self {
            let computed = items.iter().filter(|item| item.column().is_none());
            computed.for_each(|item| item.value.for_each_column(&mut |i| look(i)));
        }
    }

    /// Whether what the result's column at `place` shows depends on any of these columns.
    pub fn depends_on(&self, place: usize, columns: &ColumnSet) -> bool {
        match self {
            Project::Columns(own) => columns.contains(own[place]),
            Project::Items(items) => {
                let mut found = false;
                items[place].value.for_each_column(&mut |i| found |= columns.contains(i));
                found
            }
        }
    }

    /// The result's row. A column that is shown as it is stays hidden where it is; for what is computed, a hidden column
    /// is NULL.
    ///
    /// # Errors
    /// Something has no value on this row.
    pub fn row(&self, admitted: Admitted<'_>) -> Result<VisibleRow, EvalError> {
        let Project::Items(items) = self else { return Ok(admitted.into_visible()) };
        let mut shown = ColumnSet::default();
        let mut row = Vec::with_capacity(items.len());
        for (place, item) in items.iter().enumerate() {
            row.push(item.value.value(&admitted)?.into_owned());
            if item.column().is_none_or(|i| admitted.columns.contains(i)) {
                shown.insert(place);
            }
        }
        Ok(VisibleRow { row: row.into(), columns: shown })
    }

    /// The value of the result's column at `place` in one of its rows, if it is visible.
    pub fn value<'a>(&self, place: usize, seen: &'a VisibleRow) -> Option<&'a Value> {
        let column = match self {
            Project::Columns(columns) => *columns.get(place)?,
            Project::Items(_) => place,
        };
        seen.row.get(column).filter(|_| seen.columns.contains(column))
    }

    /// The visible values of a row with their places in the result, ascending.
    pub fn shown<'a>(&'a self, seen: &'a VisibleRow) -> impl Iterator<Item = (usize, &'a Value)> {
        (0..self.len()).filter_map(|place| Some((place, self.value(place, seen)?)))
    }

    /// Hides what a change omits of a row of the result: these columns below.
    pub fn hide(&self, seen: &mut VisibleRow, omitted: &ColumnSet) {
        match self {
            Project::Columns(_) => seen.columns.remove_all(omitted),
            Project::Items(_) => {
                let places = (0..self.len()).filter(|p| self.column(*p).is_some_and(|i| omitted.contains(i)));
                seen.columns.remove_all(&places.collect());
            }
        }
    }
}

impl Cells for Admitted<'_> {
    fn cell(&self, i: usize) -> &Value {
        if self.columns.contains(i) { &self.row[i] } else { &crate::value::NULL }
    }
}

impl Canonical for Item {
    fn encode(&self, to: &mut Encoder) {
        to.text(&self.name);
        self.ty.encode(to);
        self.value.encode(to);
        to.tag(self.key.into());
    }
}

impl Canonical for Project {
    fn encode(&self, to: &mut Encoder) {
        match self {
            Project::Columns(columns) => {
                to.tag(0);
                to.list(columns);
            }
            Project::Items(items) => {
                to.tag(1);
                to.list(items);
            }
        }
    }
}
