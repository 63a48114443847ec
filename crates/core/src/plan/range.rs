//! A range of values of one column, as a condition needs it.

use std::sync::Arc;

use crate::bounds::{Bounds, Coarse};
use crate::query::CmpOp;
use crate::value::Value;

/// An end of a range: a value, and its place among others.
#[derive(Clone, Debug, PartialEq)]
struct End {
    value: Value,
    at: Coarse,
}

impl End {
    fn of(value: Value) -> Option<End> {
        Some(End { at: Coarse::of(&value)?, value })
    }
}

/// What lies between two values, both included; without an end it is open there.
#[derive(Clone, Debug, Default, PartialEq)]
pub(super) struct Range {
    low: Option<End>,
    high: Option<End>,
    /// With what its texts begin.
    prefix: Option<Arc<str>>,
}

impl Range {
    /// What a comparison with a value needs; `None` if that is no range.
    pub(super) fn compared(op: CmpOp, v: &Value) -> Option<Range> {
        let end = || End::of(v.clone());
        match op {
            CmpOp::Lt | CmpOp::Le => Some(Range { high: Some(end()?), ..Range::default() }),
            CmpOp::Gt | CmpOp::Ge => Some(Range { low: Some(end()?), ..Range::default() }),
            CmpOp::Eq | CmpOp::Ne => None,
        }
    }

    /// The texts that begin with a prefix, and few others; `None` for all texts.
    pub(super) fn beginning(prefix: &str) -> Option<Range> {
        if prefix.is_empty() {
            return None;
        }
        // The first text that is above all of them: with the next character in place of the last one that has one.
        let mut above: Vec<char> = prefix.chars().collect();
        let mut high = None;
        while let Some(last) = above.pop() {
            let next = ((u32::from(last) + 1)..=u32::from(char::MAX)).find_map(char::from_u32);
            if let Some(next) = next {
                above.push(next);
                high = End::of(above.iter().collect::<String>().into());
                break;
            }
        }
        Some(Range { low: End::of(prefix.into()), high, prefix: Some(prefix.into()) })
    }

    /// What lies in both.
    pub(super) fn within(self, other: Range) -> Range {
        let narrower = |a: Option<End>, b: Option<End>, is_a: fn(&Coarse, &Coarse) -> bool| match (a, b) {
            (Some(a), Some(b)) => Some(if is_a(&a.at, &b.at) { a } else { b }),
            (a, b) => a.or(b),
        };
        Range {
            low: narrower(self.low, other.low, |a, b| a >= b),
            high: narrower(self.high, other.high, |a, b| a <= b),
            prefix: self.prefix.or(other.prefix),
        }
    }

    /// Whether it ends on both sides.
    pub(super) fn is_closed(&self) -> bool {
        self.low.is_some() && self.high.is_some()
    }

    /// Its values' places.
    pub(super) fn bounds(&self) -> Bounds {
        let at = |end: &Option<End>| end.as_ref().map(|end| end.at.clone());
        Bounds { low: at(&self.low), high: at(&self.high) }
    }

    /// Its ends.
    pub(super) fn ends(&self) -> [Option<&Value>; 2] {
        [&self.low, &self.high].map(|end| end.as_ref().map(|end| &end.value))
    }

    /// With what its texts begin.
    pub(super) fn prefix(&self) -> Option<&Arc<str>> {
        self.prefix.as_ref()
    }
}
