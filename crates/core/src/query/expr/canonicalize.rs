//! The canonical form of conditions that differ only in order or in constant parts.

use std::sync::Arc;

use super::evaluate::as_truth;
use super::{Computed, Expr};
use crate::query::values::ValueList;
use crate::value::Value;

/// Lists with this many constants are sorted instead of compared one by one.
const SORTED_FROM: usize = 9;

impl Expr {
    /// The condition in canonical form, so that conditions that differ only in order or in constant parts
    /// are equal. Keeps the truth value on every row.
    pub fn canonicalize(self) -> Expr {
        match self {
            Expr::And(es) => join(es, true),
            Expr::Or(es) => join(es, false),
            Expr::Not(e) => match e.canonicalize() {
                Expr::Not(inner) if inner.is_condition() => *inner,
                Expr::Const(v) => as_truth(&v).map_or(Expr::Const(Value::Null), |b| Expr::Const(Value::Bool(!b))),
                e => Expr::Not(Box::new(e)),
            },
            Expr::Cmp(op, a, b) => {
                let (a, b) = (a.canonicalize(), b.canonicalize());
                // `1 = x` is `x = 1`, `1 < x` is `x > 1`.
                // What is compared with NOW() stands on the left already.
                let is_now = |e: &Expr| matches!(e, Expr::Computed(c) if matches!(**c, Computed::Now(_)));
                let (op, a, b) = match &a {
                    Expr::Const(_) if !is_now(&b) => (op.flipped(), b, a),
                    _ => (op, a, b),
                };
                fold(Expr::Cmp(op, Box::new(a), Box::new(b)))
            }
            // IN an empty list is false, even for NULL.
            Expr::In(_, es) if es.is_empty() => Expr::Const(Value::Bool(false)),
            Expr::In(e, es) => {
                let mut es: Vec<_> = es.into_iter().map(Expr::canonicalize).collect();
                es.sort();
                es.dedup();
                let e = Box::new(e.canonicalize());
                if es.len() < SORTED_FROM || !es.iter().all(|e| matches!(e, Expr::Const(_))) {
                    return fold(Expr::In(e, es));
                }
                let values = es.into_iter().filter_map(|e| if let Expr::Const(v) = e { Some(v) } else { None });
                fold(Expr::InValues(e, Arc::new(ValueList::new(values.collect()))))
            }
            Expr::InValues(e, list) => fold(Expr::InValues(Box::new(e.canonicalize()), list)),
            Expr::IsNull(e) => fold(Expr::IsNull(Box::new(e.canonicalize()))),
            Expr::Like(e, p) => fold(Expr::Like(Box::new(e.canonicalize()), p)),
            Expr::AnyOf(e, kind, name, ty) => Expr::AnyOf(Box::new(e.canonicalize()), kind, name, ty),
            // IN an empty result is false.
            Expr::Member { subquery, .. } if subquery.is_empty() => Expr::Const(Value::Bool(false)),
            Expr::Member { of, subquery, exists } => {
                Expr::Member { of: of.into_iter().map(Expr::canonicalize).collect(), subquery, exists }
            }
            Expr::LikePlaceholder { of, pattern, escape, ignores_case } => {
                Expr::LikePlaceholder { of: Box::new(of.canonicalize()), pattern, escape, ignores_case }
            }
            Expr::Computed(computed) => fold(Expr::Computed(Box::new(canonical_computed(*computed)))),
            leaf => leaf,
        }
    }

    fn is_condition(&self) -> bool {
        !matches!(self, Expr::Const(_) | Expr::Column(_) | Expr::Placeholder(..) | Expr::Outer(_) | Expr::Computed(_))
    }
}

fn canonical_computed(computed: Computed) -> Computed {
    let canonical: Result<Computed, std::convert::Infallible> = computed.try_map(|e| Ok(e.clone().canonicalize()));
    match canonical {
        Ok(computed) => computed,
    }
}

/// Flattens, sorts and simplifies a conjunction (`all`) or disjunction.
fn join(es: Vec<Expr>, all: bool) -> Expr {
    let mut flat = Vec::with_capacity(es.len());
    let mut pending: Vec<Expr> = es.into_iter().rev().collect();
    while let Some(e) = pending.pop() {
        match (e, all) {
            (Expr::And(inner), true) | (Expr::Or(inner), false) => pending.extend(inner.into_iter().rev()),
            (e, _) => match e.canonicalize() {
                e if e.is_const(all) => {}
                e if e.is_const(!all) => return Expr::Const(Value::Bool(!all)),
                Expr::And(inner) if all => flat.extend(inner),
                Expr::Or(inner) if !all => flat.extend(inner),
                e => flat.push(e),
            },
        }
    }
    flat.sort();
    flat.dedup();
    flat.shrink_to_fit();
    match flat.len() {
        0 => Expr::Const(Value::Bool(all)),
        1 if flat[0].is_condition() => flat.remove(0),
        _ if all => Expr::And(flat),
        _ => Expr::Or(flat),
    }
}

/// Evaluates a node whose operands are all constants.
fn fold(e: Expr) -> Expr {
    let mut open = false;
    let mut check = |e: &Expr| open |= !matches!(e, Expr::Const(_));
    match &e {
        Expr::Cmp(_, a, b) => {
            check(a);
            check(b);
        }
        Expr::In(a, es) => {
            check(a);
            es.iter().for_each(check);
        }
        Expr::IsNull(a) | Expr::Like(a, _) | Expr::InValues(a, _) => check(a),
        // It is another value every second.
        Expr::Computed(computed) if matches!(**computed, Computed::Now(_)) => open = true,
        Expr::Computed(computed) => computed.parts().for_each(check),
        _ => open = true,
    }
    if open {
        return e;
    }
    // An error counts only where it decides: the expression stays.
    match e.value::<[Value]>(&[]).map(std::borrow::Cow::into_owned) {
        Ok(value) => Expr::Const(value),
        Err(_) => e,
    }
}
