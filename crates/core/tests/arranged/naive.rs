//! What a plan's result is, worked out from nothing: every step as it is defined, over all rows, with lists and loops.

use std::borrow::Cow;
use std::cmp::Ordering;
use std::hash::{Hash, Hasher};

use gossip_core::plan::{Admitted, Aggregate, AggregateFunction, Arrange, EffectivePlan, Group, Project, VisibleRow};
use gossip_core::query::function::{Arithmetic, EvalError, Function};
use gossip_core::query::{Expr, Masked};
use gossip_core::schema::{ColumnSet, Key, Row};
use gossip_core::subquery::SubqueryResults;
use gossip_core::value::{Type, Value};
use siphasher::sip::SipHasher13;

type Rows = Vec<(Key, VisibleRow)>;

fn of(e: &Expr, row: &VisibleRow) -> Result<Value, EvalError> {
    Ok(e.value(&Masked { row: &row.row, visible: &row.columns, subquery_results: &() })?.into_owned())
}

fn holds(e: &Expr, row: &VisibleRow) -> Result<bool, EvalError> {
    e.holds(&Masked { row: &row.row, visible: &row.columns, subquery_results: &() })
}

/// The result, in its order if it has one, else in any.
pub fn result(
    plan: &EffectivePlan,
    table: &[Row],
    others: &dyn SubqueryResults,
    rows_of: &dyn Fn(&str) -> Vec<Row>,
) -> Result<Rows, EvalError> {
    let mut rows: Rows = Vec::new();
    for row in table {
        let Some(admitted) = plan.scan.admit(row, others) else { continue };
        let cells = Masked { row: &admitted.row, visible: &admitted.columns, subquery_results: others };
        let is_out = plan.condition_of_own().holds(&cells) == Ok(false);
        let joined = match joined(plan, admitted.into_visible(), others, rows_of) {
            // Whatever is joined to it.
            Err(_) if is_out => continue,
            joined => joined?,
        };
        let Some(row_of_all) = joined else { continue };
        let columns = Cow::Borrowed(&row_of_all.columns);
        if plan.filter.passes(&Admitted { row: Cow::Borrowed(&row_of_all.row), columns }, others)? {
            rows.push((plan.key_of(row), row_of_all));
        }
    }
    if let Some(arrange) = &plan.arrange {
        if let Some(group) = &arrange.group {
            rows = grouped(group, rows)?;
        }
        let sorted = sorted(plan, arrange, rows)?;
        rows = first(arrange, sorted)?;
        if !arrange.first.is_empty() {
            rows = self::sorted(plan, arrange, rows)?;
        }
        rows = rows.into_iter().skip(arrange.offset()).take(arrange.limit().unwrap_or(usize::MAX)).collect();
    }
    rows.into_iter().map(|(key, row)| Ok((key, shown(&plan.project, row)?))).collect()
}

/// The row beside those that are joined to it: each that its `ON` holds for, of all that there are.
fn joined(
    plan: &EffectivePlan,
    mut row: VisibleRow,
    others: &dyn SubqueryResults,
    rows_of: &dyn Fn(&str) -> Vec<Row>,
) -> Result<Option<VisibleRow>, EvalError> {
    let mut first = row.row.len();
    for side in plan.joins.iter().flat_map(|joins| joins.sides()) {
        let table = side.scan().table();
        let beside = |values: &[Value], seen: &ColumnSet| VisibleRow {
            row: row.row.iter().chain(values).cloned().collect(),
            columns: row.columns.iter().chain(seen.iter().map(|i| first + i)).collect(),
        };
        let mut found = Vec::new();
        for other in rows_of(&table.name.name) {
            let mut is_equal = true;
            for (column, e) in side.found_by() {
                is_equal &= of(e, &row)?.sql_cmp(&other[column]) == Some(Ordering::Equal);
            }
            let Some(admitted) = side.scan().admit(&other, others).filter(|_| is_equal) else { continue };
            let with = beside(&admitted.row, &admitted.columns);
            if holds(side.condition(), &with)? {
                found.push(with);
            }
        }
        assert!(found.len() < 2, "two partners");
        let padded = || beside(&vec![Value::Null; table.columns.len()], &side.scan().granted());
        row = match found.pop() {
            Some(with) => with,
            None if side.is_left() => padded(),
            None => return Ok(None),
        };
        first += table.columns.len();
    }
    Ok(Some(row))
}

/// What is selected of a row: a column as it is, hidden where it is, or what is computed of the others, for which a hidden one
/// is NULL.
fn shown(project: &Project, row: VisibleRow) -> Result<VisibleRow, EvalError> {
    let Project::Items(items) = project else { return Ok(row) };
    let values = items.iter().map(|item| of(&item.value, &row)).collect::<Result<Vec<Value>, EvalError>>()?;
    let is_seen = |i: &usize| match items[*i].value {
        Expr::Column(column) => row.columns.contains(column),
        _ => true,
    };
    let columns = (0..items.len()).filter(is_seen).collect();
    Ok(VisibleRow { row: values.into(), columns })
}

/// Equal in a group: NULL to NULL, too.
fn same(a: &[Value], b: &[Value]) -> bool {
    a.iter().zip(b).all(|(a, b)| a.is_null() && b.is_null() || a.sql_cmp(b) == Some(Ordering::Equal))
}

fn grouped(group: &Group, rows: Rows) -> Result<Rows, EvalError> {
    let mut groups: Vec<(Vec<Vec<Value>>, Vec<VisibleRow>)> = Vec::new();
    if group.keys.is_empty() {
        groups.push((vec![vec![]], vec![]));
    }
    for (_, row) in rows {
        let key = group.keys.iter().map(|e| of(e, &row)).collect::<Result<Vec<_>, _>>()?;
        match groups.iter_mut().find(|(keys, _)| same(&keys[0], &key)) {
            Some((keys, rows)) => {
                keys.push(key);
                rows.push(row);
            }
            None => groups.push((vec![key], vec![row])),
        }
    }
    let mut found = Vec::new();
    for (keys, rows) in groups {
        let key = keys.into_iter().min().unwrap();
        let mut row = key.clone();
        for a in &group.aggregates {
            row.push(aggregated(a, &rows)?);
        }
        let row = VisibleRow { columns: (0..row.len()).collect(), row: row.into() };
        if holds(&group.having, &row)? {
            found.push((Key::from(key), row));
        }
    }
    Ok(found)
}

fn aggregated(a: &Aggregate, rows: &[VisibleRow]) -> Result<Value, EvalError> {
    let mut values = Vec::new();
    for row in rows {
        if holds(&a.filter, row)? {
            values.push(a.of.as_ref().map_or(Ok(Value::Bool(true)), |e| of(e, row))?);
        }
    }
    values.retain(|v| !v.is_null());
    if a.distinct {
        let all = std::mem::take(&mut values);
        for v in all {
            if !values.iter().any(|w| same(std::slice::from_ref(w), std::slice::from_ref(&v))) {
                values.push(v);
            }
        }
    }
    let better = |wanted: Ordering| {
        let choose = |a: Value, b: Value| match b.sql_cmp(&a) {
            Some(Ordering::Equal) if wanted.is_lt() => a.min(b),
            Some(Ordering::Equal) => a.max(b),
            order if order == Some(wanted) => b,
            _ => a,
        };
        values.clone().into_iter().reduce(choose).unwrap_or(Value::Null)
    };
    let truths = || values.iter().map(|v| *v == Value::Bool(true));
    Ok(match a.function {
        AggregateFunction::Count => Value::Int(values.len() as i64),
        AggregateFunction::Min => better(Ordering::Less),
        AggregateFunction::Max => better(Ordering::Greater),
        _ if values.is_empty() => Value::Null,
        AggregateFunction::And => Value::Bool(truths().all(|b| b)),
        AggregateFunction::Or => Value::Bool(truths().any(|b| b)),
        AggregateFunction::Sum => summed(&values, a.ty())?,
        AggregateFunction::Avg => {
            let count = Value::Int(values.len() as i64);
            // PostgreSQL begins with a zero here, and so loses the sign of those that follow.
            values.push(Value::Int(0));
            Function::Arithmetic(Arithmetic::Divide, a.ty()).value(&[summed(&values, a.ty())?, count])?
        }
    })
}

fn summed(values: &[Value], ty: Type) -> Result<Value, EvalError> {
    let (first, rest) = values.split_first().unwrap();
    // A number of its type.
    let mut sum = Function::Arithmetic(Arithmetic::Multiply, ty).value(&[first.clone(), Value::Int(1)])?;
    for v in rest {
        sum = Function::Arithmetic(Arithmetic::Add, ty).value(&[sum, v.clone()])?;
    }
    Ok(sum)
}

fn sorted(plan: &EffectivePlan, arrange: &Arrange, rows: Rows) -> Result<Rows, EvalError> {
    let mut placed = Vec::new();
    for (key, row) in rows {
        let values = arrange.order.iter().map(|term| of(&term.value, &row)).collect::<Result<Vec<_>, _>>()?;
        let mut hasher = SipHasher13::new_with_keys(0, 0);
        key.hash(&mut hasher);
        // The order of keys that are hidden is hidden too.
        let tie = if plan.open_key() { 0 } else { hasher.finish() };
        placed.push((values, tie, key, row));
    }
    placed.sort_by(|(a, a_tie, a_key, _), (b, b_tie, b_key, _)| {
        for (term, (a, b)) in arrange.order.iter().zip(a.iter().zip(b)) {
            let order = match (a, b) {
                (Value::Null, Value::Null) => Ordering::Equal,
                (Value::Null, _) if term.nulls_first => Ordering::Less,
                (Value::Null, _) => Ordering::Greater,
                (_, Value::Null) if term.nulls_first => Ordering::Greater,
                (_, Value::Null) => Ordering::Less,
                _ => {
                    let order = a.sql_cmp(b).unwrap();
                    if term.descending { order.reverse() } else { order }
                }
            };
            if order.is_ne() {
                return order;
            }
        }
        (a_tie, a_key).cmp(&(b_tie, b_key))
    });
    Ok(placed.into_iter().map(|(_, _, key, row)| (key, row)).collect())
}

/// The first of those that have the same values, under these.
fn first(arrange: &Arrange, rows: Rows) -> Result<Rows, EvalError> {
    if arrange.first.is_empty() {
        return Ok(rows);
    }
    let mut found: Rows = Vec::new();
    for (_, row) in rows {
        let key = arrange.first.iter().map(|e| of(e, &row)).collect::<Result<Key, _>>()?;
        if !found.iter().any(|(other, _)| same(other, &key)) {
            found.push((key, row));
        }
    }
    Ok(found)
}
