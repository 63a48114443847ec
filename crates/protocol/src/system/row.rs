//! What a table's struct can do, and how one is defined.

use serde_json::{Map, Value as Json};

use super::field::{Cell, ColumnType};

/// A description of a system table.
#[derive(Clone, Copy, Debug)]
pub struct Shape {
    /// Its name, without the schema.
    pub name: &'static str,
    /// How many of the columns, from the first, are the key; none of a stream.
    pub key: usize,
    /// Names and types.
    pub columns: &'static [(&'static str, ColumnType)],
}

impl Shape {
    /// The number of a column; `None` if there is none of this name.
    pub fn column(&self, name: &str) -> Option<usize> {
        self.columns.iter().position(|(column, _)| *column == name)
    }
}

/// A row of a system table.
pub trait SystemRow: Clone {
    /// Its table.
    const SHAPE: Shape;

    /// The values, column by column.
    fn cells(self) -> Vec<Cell>;

    /// The row as the protocol has it; [`SystemRow::read`] is the other way.
    fn to_json(&self) -> Map<String, Json> {
        let named = Self::SHAPE.columns.iter().zip(self.clone().cells());
        named.map(|((name, _), cell)| (name.to_string(), cell.into_json())).collect()
    }

    /// Reads a row as the protocol has it. What is absent is as nothing, so that rows of an older instance are read too,
    /// and what is not known is left out.
    ///
    /// # Errors
    /// The name of a column that holds something else than its type.
    fn read(row: &Map<String, Json>) -> Result<Self, &'static str>;
}

/// Defines the struct of a table's rows.
macro_rules! table {
    ($(#[$about:meta])* $row:ident, $name:literal, key $key:literal, {
        $($(#[$doc:meta])* $field:ident: $ty:ty,)+
    }) => {
        $(#[$about])*
        #[derive(Clone, Debug, Default, PartialEq)]
        pub struct $row {
            $($(#[$doc])* pub $field: $ty,)+
        }

        impl $crate::system::row::SystemRow for $row {
            const SHAPE: $crate::system::row::Shape = $crate::system::row::Shape {
                name: $name,
                key: $key,
                columns: &[$((stringify!($field), <$ty as $crate::system::field::Field>::TYPE),)+],
            };

            fn cells(self) -> Vec<$crate::system::field::Cell> {
                vec![$($crate::system::field::Field::cell(self.$field),)+]
            }

            fn read(row: &serde_json::Map<String, serde_json::Value>) -> Result<Self, &'static str> {
                Ok($row {
                    $($field: match row.get(stringify!($field)) {
                        None | Some(serde_json::Value::Null) => Default::default(),
                        Some(json) => $crate::system::field::Field::read(json).ok_or(stringify!($field))?,
                    },)+
                })
            }
        }
    };
}

pub(super) use table;
