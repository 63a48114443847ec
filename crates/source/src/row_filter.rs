//! The part of a table that a snapshot is wanted of, as SQL.
//!
//! It may be left out, and is wherever a type's own notion of being equal could miss a row: the caller filters every
//! row again.

use std::fmt::Write as _;

use gossip_core::plan::{RowFilter, SnapshotRequest};
use gossip_core::schema::Table;
use gossip_core::value::{Type, Value};

use crate::page::PageSql;

/// The end of a `SELECT`: ` WHERE …` with the rows that are wanted, and of a page its order and its length. Nothing for all rows.
pub fn selection(request: &SnapshotRequest, page: Option<&PageSql>, quote: impl Fn(&str) -> String) -> String {
    let any = request.filter.as_ref().and_then(|filter| any(&request.table, filter, quote));
    let of_page = page.map(|p| p.condition.clone()).filter(|c| !c.is_empty());
    let all: Vec<String> = any.map(|any| format!("({any})")).into_iter().chain(of_page).collect();
    let condition = if all.is_empty() { String::new() } else { format!(" WHERE {}", all.join(" AND ")) };
    format!("{condition}{}", page.map_or("", |p| &p.tail))
}

fn any(table: &Table, filter: &RowFilter, quote: impl Fn(&str) -> String) -> Option<String> {
    let mut sql = String::new();
    for (column, values) in filter.iter() {
        let column = table.columns.get(*column)?;
        let values = values.iter().filter(|v| !v.is_null()).map(|v| literal(v, column.ty));
        let values = values.collect::<Option<Vec<_>>>()?;
        if values.is_empty() {
            continue;
        }
        let or = if sql.is_empty() { "" } else { " OR " };
        write!(sql, "{or}{} IN ({})", quote(&column.name), values.join(", ")).ok()?;
    }
    Some(if sql.is_empty() { "1 = 0".into() } else { sql })
}

fn literal(value: &Value, ty: Type) -> Option<String> {
    match (value, ty) {
        (Value::Int(i), ty) if ty.is_integer() => Some(i.to_string()),
        // A backslash is itself in standard strings, but not on every server's settings; such a value is rare.
        (Value::Text(s), Type::Text | Type::Uuid) if !s.contains(['\\', '\0']) => {
            Some(format!("'{}'", s.replace('\'', "''")))
        }
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use gossip_core::schema::{Column, TableName};

    #[test]
    fn what_is_wanted_is_asked_for_and_in_doubt_everything() {
        let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
        let columns = [("id", Type::Int8), ("it's", Type::Text), ("x", Type::Float8)].map(column).to_vec();
        let name = TableName::plain("t");
        let table = Table { name, source: "s".into(), columns, key: vec![0], old_values: true, incarnation: 0 };
        let whole = SnapshotRequest::whole(&table.into());
        let sql = |filter: Vec<(usize, Vec<Value>)>| {
            selection(&SnapshotRequest { filter: Some(RowFilter::new(filter)), ..whole.clone() }, None, |n| {
                format!("\"{n}\"")
            })
        };
        assert_eq!(selection(&whole, None, str::to_string), "");
        assert_eq!(
            sql(vec![(0, vec![Value::Int(-1), Value::Null]), (1, vec!["a'b".into()])]),
            r#" WHERE ("id" IN (-1) OR "it's" IN ('a''b'))"#
        );
        assert_eq!(sql(vec![(0, vec![Value::Null])]), " WHERE (1 = 0)", "nothing equals NULL");
        assert_eq!(sql(vec![(0, vec![Value::Int(1)]), (2, vec![Value::Float(1.0)])]), "");
        assert_eq!(sql(vec![(1, vec!["a\\b".into()])]), "");
    }
}
