//! By which columns a database finds the rows of a condition, whoever asks and with whichever parameters: so that it can be said
//! which index is missing before anybody has subscribed.

use super::access::{self, By, Need};
use super::row_filter;
use crate::query::Expr;
use crate::schema::Table;
use crate::value::{Type, Value};

/// How rows are found by a column.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum LookUp {
    /// By values that it is equal to, or by `NULL`.
    Equal,
    /// By the order of its values; of texts, of their bytes.
    Ordered,
    /// By the beginning of a text.
    Begins,
}

/// The columns by which the rows of a condition are found, all of which are needed; `None` if all rows are read.
pub fn look_ups(condition: &Expr, table: &Table) -> Option<Vec<(usize, LookUp)>> {
    let needs = access::needed(&sampled(condition, table), table, &(), By::Database)?;
    row_filter::of_needs(table, needs.clone())?;
    let look_up = |(column, need): (usize, Need)| match need {
        Need::Value(_) | Need::Element(..) | Need::Null => (column, LookUp::Equal),
        Need::Within(range) if range.prefix().is_some() => (column, LookUp::Begins),
        Need::Within(_) => (column, LookUp::Ordered),
    };
    let mut found: Vec<(usize, LookUp)> = needs.into_iter().map(look_up).collect();
    found.sort_unstable();
    found.dedup();
    Some(found)
}

/// The condition with some value wherever one is not known yet.
fn sampled(e: &Expr, table: &Table) -> Expr {
    let one = |of: &Expr, ty: Type| Some(Expr::In(Box::new(of.clone()), vec![Expr::Const(sample(ty)?)]));
    let sampled = match e {
        Expr::Placeholder(_, _, ty) => sample(*ty).map(Expr::Const),
        Expr::AnyOf(of, _, _, ty) => one(of, *ty),
        Expr::Member { of, .. } => match of.first() {
            Some(Expr::Column(c)) => table.columns.get(*c).and_then(|column| one(&of[0], column.ty)),
            _ => None,
        },
        other => {
            return other
                .try_map(|e| Ok::<_, std::convert::Infallible>(sampled(e, table)))
                .unwrap_or_else(|e| match e {});
        }
    };
    sampled.unwrap_or_else(|| e.clone())
}

fn sample(ty: Type) -> Option<Value> {
    Some(match ty {
        Type::Int2 | Type::Int4 | Type::Int8 | Type::Numeric => Value::Int(0),
        Type::Float4 | Type::Float8 => Value::Float(0.0),
        Type::Text | Type::Uuid => Value::from("a"),
        Type::Date => Value::Date(0),
        Type::Timestamp => Value::Timestamp(0),
        Type::Timestamptz => Value::Timestamptz(0),
        _ => return None,
    })
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use super::*;
    use crate::query::parse_condition;
    use crate::schema::{Catalog, Column, TableName};

    #[test]
    fn a_condition_is_looked_up_by_its_columns_whoever_asks() {
        let column = |(name, ty): (&str, Type)| Column { name: name.into(), ty };
        let columns = [("id", Type::Int8), ("who", Type::Text), ("at", Type::Timestamptz), ("ok", Type::Bool)];
        let table: Arc<Table> = Table {
            name: TableName::plain("t"),
            source: "s".into(),
            columns: columns.map(column).to_vec(),
            key: vec![0],
            old_values: true,
            incarnation: 0,
        }
        .into();
        let mut catalog = Catalog::default();
        catalog.put(table.clone());
        let by = |text: &str| look_ups(&parse_condition(text, &table, &catalog).unwrap(), &table);
        assert_eq!(by("who = claim.sub"), Some(vec![(1, LookUp::Equal)]));
        assert_eq!(by("ok AND who = ANY(claim.names)"), Some(vec![(1, LookUp::Equal)]));
        assert_eq!(by("who LIKE 'a%' OR id IS NULL"), Some(vec![(0, LookUp::Equal), (1, LookUp::Begins)]));
        assert_eq!(by("id > claim.from AND ok"), Some(vec![(0, LookUp::Ordered)]));
        assert_eq!(by("id IN (SELECT id FROM t WHERE who = claim.sub)"), Some(vec![(0, LookUp::Equal)]));
        assert_eq!(by("ok"), None);
        assert_eq!(by("who = claim.sub OR ok"), None);
        assert_eq!(by("lower(who) = claim.sub"), None);
    }
}
