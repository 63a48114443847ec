//! A list of constants with membership tests in logarithmic time.

use std::cmp::Ordering;
use std::hash::{Hash, Hasher};

use crate::value::Value;

/// The distinct constants of an `IN` list.
#[derive(Clone, Debug)]
pub struct ValueList {
    /// `NULL` first if present, then by probe and identity; each once.
    values: Box<[Value]>,
    /// The probes of those that are not `NULL`, in the same order: equal if SQL's `=` holds.
    probes: Box<[Value]>,
    /// One value of each kind: if a value cannot be compared with one of these, the result is unknown.
    kinds: Box<[Value]>,
}

impl ValueList {
    /// Sorts the values and removes duplicates.
    pub fn new(values: Vec<Value>) -> ValueList {
        let mut keyed: Vec<(Option<Value>, Value)> = values.into_iter().map(|v| (v.probe(), v)).collect();
        keyed.sort_unstable();
        keyed.dedup();
        let mut kinds: Vec<Value> = Vec::new();
        for (_, v) in keyed.iter().filter(|(_, v)| !v.is_null()) {
            if !kinds.iter().any(|k| k.type_of() == v.type_of()) {
                kinds.push(v.clone());
            }
        }
        let probes = keyed.iter().filter_map(|(p, _)| p.clone()).collect();
        ValueList { values: keyed.into_iter().map(|(_, v)| v).collect(), probes, kinds: kinds.into() }
    }

    /// All values, `NULL` first.
    pub fn as_slice(&self) -> &[Value] {
        &self.values
    }

    /// SQL's `IN`: `None` is unknown.
    pub fn has(&self, value: &Value) -> Option<bool> {
        let Some(probe) = value.probe() else { return if self.values.is_empty() { Some(false) } else { None } };
        let nulls = self.values.len() - self.probes.len();
        let first = self.probes.partition_point(|p| *p < probe);
        let alike = self.probes[first..].iter().take_while(|p| **p == probe).count();
        let alike = &self.values[nulls + first..nulls + first + alike];
        if alike.iter().any(|v| v.sql_cmp(value) == Some(Ordering::Equal)) {
            return Some(true);
        }
        let known = nulls == 0 && self.kinds.iter().all(|k| k.sql_cmp(value).is_some());
        known.then_some(false)
    }
}

// The values define the list; the rest is derived from them.

impl PartialEq for ValueList {
    fn eq(&self, other: &Self) -> bool {
        self.values == other.values
    }
}

impl Eq for ValueList {}

impl Hash for ValueList {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.values.hash(state);
    }
}

impl PartialOrd for ValueList {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for ValueList {
    fn cmp(&self, other: &Self) -> Ordering {
        self.values.cmp(&other.values)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::query::Expr;

    fn value() -> impl Strategy<Value = Value> {
        prop_oneof![
            1 => Just(Value::Null),
            4 => (0..6_i64).prop_map(Value::Int),
            4 => (0..6_i32).prop_map(|i| Value::Float(f64::from(i) / 2.0)),
            4 => "[0-5](\\.[05]0?)?".prop_map(|s| Value::decimal(&s).unwrap_or(Value::Null)),
            1 => "[ab]".prop_map(Value::from),
            1 => Just(Value::Int((1 << 53) + 1)),
            1 => Just(Value::Int(1 << 53)),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4_000, failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn a_list_says_what_one_comparison_after_the_other_says(list in proptest::collection::vec(value(), 0..8), v in value()) {
            let each = list.iter().cloned().map(Expr::Const).collect();
            let slowly = Expr::In(Box::new(Expr::Const(v.clone())), each).truth::<[Value]>(&[]).unwrap();
            prop_assert_eq!(ValueList::new(list).has(&v), slowly);
        }
    }
}
