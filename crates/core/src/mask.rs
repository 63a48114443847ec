//! Masks: what a rule shows instead of a column's value: a constant, or part of a text.
//!
//! A masked column has the mask's value wherever the client's query names it, also in conditions, so that a query
//! cannot probe the hidden value.

use crate::canonical::{Canonical, Encoder};
use crate::schema::ColumnSet;
use crate::value::Value;

/// An expression over the texts of a row, with PostgreSQL's meaning: `NULL` in any part makes the whole `NULL`.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Mask {
    /// A constant.
    Const(Value),
    /// The text of a column.
    Column(usize),
    /// The first characters; all but the last `-n` if negative.
    Left(Box<Mask>, i32),
    /// The last characters; all but the first `-n` if negative.
    Right(Box<Mask>, i32),
    /// Concatenation.
    Join(Vec<Mask>),
}

impl Mask {
    /// The value for a row.
    pub fn value(&self, row: &[Value]) -> Value {
        match self {
            Mask::Const(v) => v.clone(),
            _ => self.text(row).map_or(Value::Null, Value::from),
        }
    }

    fn text(&self, row: &[Value]) -> Option<String> {
        let text_of = |v: &Value| if let Value::Text(s) = v { Some(s.to_string()) } else { None };
        match self {
            Mask::Const(v) => text_of(v),
            Mask::Column(i) => text_of(&row[*i]),
            Mask::Join(parts) => parts.iter().map(|p| p.text(row)).collect(),
            Mask::Left(of, n) => of.text(row).map(|s| s.chars().take(count(&s, *n)).collect()),
            Mask::Right(of, n) => of.text(row).map(|s| {
                let all = s.chars().count();
                s.chars().skip(all - count(&s, *n)).collect()
            }),
        }
    }

    /// Adds the columns that it reads.
    pub fn reads(&self, columns: &mut ColumnSet) {
        match self {
            Mask::Const(_) => {}
            Mask::Column(i) => columns.insert(*i),
            Mask::Left(of, _) | Mask::Right(of, _) => of.reads(columns),
            Mask::Join(parts) => parts.iter().for_each(|p| p.reads(columns)),
        }
    }
}

/// The number of characters that `n` selects of a text.
fn count(text: &str, n: i32) -> usize {
    let all = text.chars().count();
    let wanted = usize::try_from(n.unsigned_abs()).unwrap_or(usize::MAX);
    if n < 0 { all.saturating_sub(wanted) } else { wanted.min(all) }
}

impl Canonical for Mask {
    fn encode(&self, to: &mut Encoder) {
        let side = |tag, of: &Mask, n: i32, to: &mut Encoder| {
            to.tag(tag);
            to.number(i64::from(n).cast_unsigned());
            of.encode(to);
        };
        match self {
            Mask::Const(v) => {
                to.tag(0);
                v.encode(to);
            }
            Mask::Column(i) => {
                to.tag(1);
                i.encode(to);
            }
            Mask::Left(of, n) => side(2, of, *n, to),
            Mask::Right(of, n) => side(3, of, *n, to),
            Mask::Join(parts) => {
                to.tag(4);
                to.list(parts);
            }
        }
    }
}
