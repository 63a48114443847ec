//! What a database hands out of a page, worked out over all rows.

use std::cmp::Ordering;

use gossip_core::plan::Page;
use gossip_core::schema::Row;
use gossip_core::value::Value;

fn compare(page: &Page, a: &[Value], b: &[Value]) -> Ordering {
    let by_term = page.order.iter().zip(a.iter().zip(b)).map(|(term, (a, b))| match (a, b) {
        (Value::Null, Value::Null) => Ordering::Equal,
        (Value::Null, _) if term.nulls_first => Ordering::Less,
        (_, Value::Null) if term.nulls_first => Ordering::Greater,
        (Value::Null, _) => Ordering::Greater,
        (_, Value::Null) => Ordering::Less,
        _ if term.descending => b.sql_cmp(a).unwrap(),
        _ => a.sql_cmp(b).unwrap(),
    });
    by_term.into_iter().find(|order| order.is_ne()).unwrap_or(Ordering::Equal)
}

/// The rows of a page, in its order.
pub fn page(page: &Page, mut rows: Vec<Row>) -> Vec<Row> {
    let values = |row: &Row| page.order.iter().map(|term| row[term.column].clone()).collect::<Vec<_>>();
    rows.retain(|row| page.after.as_ref().is_none_or(|after| compare(page, &values(row), after).is_gt()));
    rows.retain(|row| page.until.as_ref().is_none_or(|until| compare(page, &values(row), until).is_le()));
    rows.sort_by(|a, b| compare(page, &values(a), &values(b)));
    rows.truncate(page.limit.unwrap_or(usize::MAX));
    rows
}
