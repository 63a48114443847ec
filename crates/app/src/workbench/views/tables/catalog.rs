//! The tables as instances describe them.

use std::sync::Arc;

use gossip_core::schema::{Catalog, Column, Table, TableName};
use gossip_core::value::Type;

use crate::workbench::state::State;

/// The tables as instances describe them, to check rules against.
pub fn catalog(s: &State) -> Catalog {
    let mut catalog = Catalog::default();
    for (name, known) in &s.tables.known {
        let column = |(name, ty): (String, String)| Column { name: name.as_str().into(), ty: Type::named(&ty) };
        let columns: Vec<Column> = known.columns().into_iter().map(column).collect();
        let place = |name: &str| columns.iter().position(|c| &*c.name == name);
        let key = known.row.key.split(", ").filter_map(place).collect();
        catalog.put(Arc::new(Table {
            name: TableName::parse(name),
            source: known.row.source.as_str().into(),
            columns,
            key,
            old_values: known.row.old_values,
            incarnation: 0,
        }));
    }
    catalog
}
