//! Conditions: what they are made of, how they are filled in and what they say about a row.
//!
//! Evaluation follows SQL's three-valued logic and cannot fail: whatever could go wrong in a condition is refused when
//! it is parsed or when its parameters are filled in.

use std::cmp::Ordering;
use std::fmt;
use std::sync::Arc;

use serde_json::{Map, Value as Json};

use super::like::LikePattern;
use super::values::ValueList;
use crate::look_up::{LookUp, Sets};
use crate::schema::{ColumnSet, Table};
use crate::value::{NULL, Type, Value};

/// A comparison operator.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum CmpOp {
    /// `=`
    Eq,
    /// `<>`
    Ne,
    /// `<`
    Lt,
    /// `<=`
    Le,
    /// `>`
    Gt,
    /// `>=`
    Ge,
}

impl CmpOp {
    fn holds(self, ordering: Ordering) -> bool {
        match self {
            CmpOp::Eq => ordering.is_eq(),
            CmpOp::Ne => ordering.is_ne(),
            CmpOp::Lt => ordering.is_lt(),
            CmpOp::Le => ordering.is_le(),
            CmpOp::Gt => ordering.is_gt(),
            CmpOp::Ge => ordering.is_ge(),
        }
    }

    fn sign(self) -> &'static str {
        match self {
            CmpOp::Eq => "=",
            CmpOp::Ne => "<>",
            CmpOp::Lt => "<",
            CmpOp::Le => "<=",
            CmpOp::Gt => ">",
            CmpOp::Ge => ">=",
        }
    }
}

/// Where a value comes from that is not known when the text is parsed. Parameters and claims are nodes of their own
/// and never text, so that neither can pass for the other.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Blank {
    /// `:name`, given by the client.
    Param,
    /// `claim.name`, from the client's token.
    Claim,
}

/// An expression over the columns of one table. Small, because every feed has several of them, and with a
/// million feeds those that a change touches are not in the cache.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Expr {
    /// A known value.
    Const(Value),
    /// Column of the table, by index.
    Column(usize),
    /// A value to be filled in before evaluation.
    Blank(Blank, Arc<str>, Type),
    /// A comparison.
    Cmp(CmpOp, Box<Expr>, Box<Expr>),
    /// All of them; true if empty.
    And(Vec<Expr>),
    /// Any of them; false if empty.
    Or(Vec<Expr>),
    /// The opposite.
    Not(Box<Expr>),
    /// `IS NULL`.
    IsNull(Box<Expr>),
    /// `IN` a list.
    In(Box<Expr>, Vec<Expr>),
    /// `IN` a longer list of constants.
    InValues(Box<Expr>, Arc<ValueList>),
    /// `= ANY` a list that is one value of the client's, to be filled in before evaluation.
    AnyOf(Box<Expr>, Blank, Arc<str>, Type),
    /// Whether the values are among those that another table holds.
    Member {
        /// One value per column of the look-up.
        of: Vec<Expr>,
        /// What the other table is asked for.
        look_up: Arc<LookUp>,
        /// Whether it was written as `EXISTS`, which is never unknown.
        exists: bool,
    },
    /// A column of the row around a sub-select; only on the way to a [`LookUp`].
    Outer(usize),
    /// The text of a number or truth value.
    TextOf(Box<Expr>),
    /// `LIKE` a fixed pattern.
    Like(Box<Expr>, Arc<LikePattern>),
    /// `LIKE` a pattern that is a parameter or claim, with the escape character.
    LikeBlank(Box<Expr>, Box<Expr>, Option<char>),
}

const _: () = assert!(size_of::<Expr>() <= 40);

/// Why a blank could not be filled in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct BlankError {
    /// What kind of blank.
    pub blank: Blank,
    /// Its name.
    pub name: String,
    /// What is wrong: absent, or not of the expected type.
    pub problem: String,
}

/// The columns of a row as an expression sees them.
pub trait Cells {
    /// The value of column `i`; `NULL` if it is hidden.
    fn cell(&self, i: usize) -> &Value;

    /// What another table holds is asked for, where that is known.
    fn sets(&self) -> &dyn Sets {
        &()
    }
}

impl Cells for [Value] {
    fn cell(&self, i: usize) -> &Value {
        &self[i]
    }
}

/// A row of which only some columns may be seen; the others behave as `NULL`.
pub struct Masked<'a> {
    /// The whole row, masks applied.
    pub row: &'a [Value],
    /// The columns that may be seen.
    pub visible: &'a ColumnSet,
}

impl Cells for Masked<'_> {
    fn cell(&self, i: usize) -> &Value {
        if self.visible.contains(i) { &self.row[i] } else { &NULL }
    }
}

/// A whole row, in front of what other tables hold.
pub struct Beside<'a> {
    /// The row.
    pub row: &'a [Value],
    /// What other tables hold.
    pub sets: &'a dyn Sets,
}

impl Cells for Beside<'_> {
    fn cell(&self, i: usize) -> &Value {
        &self.row[i]
    }

    fn sets(&self) -> &dyn Sets {
        self.sets
    }
}

impl Expr {
    /// Always true.
    pub fn always() -> Expr {
        Expr::Const(Value::Bool(true))
    }

    /// Whether this is the constant truth value `b`.
    pub fn is_const(&self, b: bool) -> bool {
        *self == Expr::Const(Value::Bool(b))
    }

    /// What the condition says of a row: `None` is SQL's unknown.
    pub fn truth<C: Cells + ?Sized>(&self, row: &C) -> Option<bool> {
        match self {
            Expr::Cmp(op, a, b) => match (a.leaf(row), b.leaf(row)) {
                (Some(a), Some(b)) => a.sql_cmp(b).map(|o| op.holds(o)),
                _ => a.scalar(row).sql_cmp(&b.scalar(row)).map(|o| op.holds(o)),
            },
            Expr::And(all) => {
                let mut result = Some(true);
                for e in all {
                    match e.truth(row) {
                        Some(false) => return Some(false),
                        None => result = None,
                        Some(true) => {}
                    }
                }
                result
            }
            Expr::Or(any) => {
                let mut result = Some(false);
                for e in any {
                    match e.truth(row) {
                        Some(true) => return Some(true),
                        None => result = None,
                        Some(false) => {}
                    }
                }
                result
            }
            Expr::Not(e) => e.truth(row).map(|b| !b),
            Expr::IsNull(e) => Some(e.scalar(row).is_null()),
            Expr::In(e, list) => {
                let value = e.scalar(row);
                let mut result = Some(false);
                for candidate in list {
                    match value.sql_cmp(&candidate.scalar(row)) {
                        Some(Ordering::Equal) => return Some(true),
                        None => result = None,
                        Some(_) => {}
                    }
                }
                result
            }
            Expr::InValues(e, list) => match e.leaf(row) {
                Some(value) => list.has(value),
                None => list.has(&e.scalar(row)),
            },
            Expr::Like(e, pattern) => match e.scalar(row) {
                Value::Text(s) => Some(pattern.matches(&s)),
                _ => None,
            },
            Expr::Member { of, look_up, exists } => {
                let found = row.sets().set(look_up)?;
                let of: Vec<Value> = of.iter().map(|e| e.scalar(row)).collect();
                if *exists { Some(found.has(&of) == Some(true)) } else { found.has(&of) }
            }
            // What is not filled in says nothing.
            Expr::LikeBlank(..) | Expr::Blank(..) | Expr::AnyOf(..) | Expr::Outer(_) | Expr::TextOf(_) => None,
            Expr::Const(v) => as_truth(v),
            Expr::Column(i) => as_truth(row.cell(*i)),
        }
    }

    fn leaf<'a, C: Cells + ?Sized>(&'a self, row: &'a C) -> Option<&'a Value> {
        match self {
            Expr::Const(v) => Some(v),
            Expr::Column(i) => Some(row.cell(*i)),
            _ => None,
        }
    }

    fn scalar<C: Cells + ?Sized>(&self, row: &C) -> Value {
        match (self.leaf(row), self) {
            (Some(v), _) => v.clone(),
            (None, Expr::TextOf(e)) => match e.scalar(row) {
                v @ (Value::Int(_) | Value::Bool(_)) => Value::from(v.to_string()),
                v @ Value::Text(_) => v,
                _ => Value::Null,
            },
            (None, _) => self.truth(row).map_or(Value::Null, Value::Bool),
        }
    }

    /// Fills in blanks of one kind from a JSON object. Claims may be nested: `claim.org.id` follows the path.
    ///
    /// # Errors
    /// A value that is absent or does not fit, or more of them than [`MAX_LIST`] in all lists together.
    pub fn fill(&self, blank: Blank, facts: &Map<String, Json>) -> Result<Expr, BlankError> {
        Filling { blank, facts, left: MAX_LIST }.fill(self)
    }

    /// The same condition in one agreed form, so that conditions that differ only in order or in constants worked out
    /// by hand are equal. Keeps the truth value on every row.
    pub fn normal(self) -> Expr {
        match self {
            Expr::And(es) => join(es, true),
            Expr::Or(es) => join(es, false),
            Expr::Not(e) => match e.normal() {
                Expr::Not(inner) if inner.is_condition() => *inner,
                Expr::Const(v) => as_truth(&v).map_or(Expr::Const(Value::Null), |b| Expr::Const(Value::Bool(!b))),
                e => Expr::Not(Box::new(e)),
            },
            Expr::Cmp(op, a, b) => {
                let (a, b) = (a.normal(), b.normal());
                // `1 = x` is `x = 1`, `1 < x` is `x > 1`.
                let (op, a, b) = match (&a, op) {
                    (Expr::Const(_), CmpOp::Lt) => (CmpOp::Gt, b, a),
                    (Expr::Const(_), CmpOp::Le) => (CmpOp::Ge, b, a),
                    (Expr::Const(_), CmpOp::Gt) => (CmpOp::Lt, b, a),
                    (Expr::Const(_), CmpOp::Ge) => (CmpOp::Le, b, a),
                    (Expr::Const(_), CmpOp::Eq | CmpOp::Ne) => (op, b, a),
                    _ => (op, a, b),
                };
                fold(Expr::Cmp(op, Box::new(a), Box::new(b)))
            }
            // Nothing is among nothing, not even NULL.
            Expr::In(_, es) if es.is_empty() => Expr::Const(Value::Bool(false)),
            Expr::In(e, es) => {
                let mut es: Vec<_> = es.into_iter().map(Expr::normal).collect();
                es.sort();
                es.dedup();
                let e = Box::new(e.normal());
                if es.len() < SORTED_FROM || !es.iter().all(|e| matches!(e, Expr::Const(_))) {
                    return fold(Expr::In(e, es));
                }
                let values = es.into_iter().filter_map(|e| if let Expr::Const(v) = e { Some(v) } else { None });
                fold(Expr::InValues(e, Arc::new(ValueList::new(values.collect()))))
            }
            Expr::InValues(e, list) => fold(Expr::InValues(Box::new(e.normal()), list)),
            Expr::IsNull(e) => fold(Expr::IsNull(Box::new(e.normal()))),
            Expr::Like(e, p) => fold(Expr::Like(Box::new(e.normal()), p)),
            Expr::AnyOf(e, kind, name, ty) => Expr::AnyOf(Box::new(e.normal()), kind, name, ty),
            // Nothing is among nothing.
            Expr::Member { look_up, .. } if look_up.is_empty() => Expr::Const(Value::Bool(false)),
            Expr::Member { of, look_up, exists } => {
                Expr::Member { of: of.into_iter().map(Expr::normal).collect(), look_up, exists }
            }
            Expr::TextOf(e) => match e.normal() {
                Expr::Const(v @ (Value::Int(_) | Value::Bool(_))) => Expr::Const(Value::from(v.to_string())),
                e => Expr::TextOf(Box::new(e)),
            },
            leaf => leaf,
        }
    }

    fn is_condition(&self) -> bool {
        !matches!(self, Expr::Const(_) | Expr::Column(_) | Expr::Blank(..) | Expr::Outer(_) | Expr::TextOf(_))
    }

    /// Calls `f` on this expression and on all that it is made of. What a look-up asks of its own table is apart.
    pub fn for_each<'a>(&'a self, f: &mut impl FnMut(&'a Expr)) {
        f(self);
        match self {
            Expr::Const(_) | Expr::Column(_) | Expr::Outer(_) | Expr::Blank(..) => {}
            Expr::Cmp(_, a, b) | Expr::LikeBlank(a, b, _) => {
                a.for_each(f);
                b.for_each(f);
            }
            Expr::And(es) | Expr::Or(es) | Expr::Member { of: es, .. } => es.iter().for_each(|e| e.for_each(f)),
            Expr::Not(e) | Expr::IsNull(e) | Expr::TextOf(e) => e.for_each(f),
            Expr::Like(e, _) | Expr::AnyOf(e, ..) | Expr::InValues(e, _) => e.for_each(f),
            Expr::In(e, es) => {
                e.for_each(f);
                es.iter().for_each(|e| e.for_each(f));
            }
        }
    }

    /// Calls `f` on every column that is named, with repetition.
    pub fn for_each_column(&self, f: &mut impl FnMut(usize)) {
        self.for_each(&mut |e| {
            if let Expr::Column(i) = e {
                f(*i);
            }
        });
    }

    /// Calls `f` on every column that is compared by order, with repetition.
    pub fn for_each_ordered_column(&self, f: &mut impl FnMut(usize)) {
        match self {
            Expr::Cmp(CmpOp::Lt | CmpOp::Le | CmpOp::Gt | CmpOp::Ge, a, b) => {
                a.for_each_column(f);
                b.for_each_column(f);
            }
            Expr::And(es) | Expr::Or(es) => es.iter().for_each(|e| e.for_each_ordered_column(f)),
            Expr::Not(e) | Expr::IsNull(e) => e.for_each_ordered_column(f),
            _ => {}
        }
    }

    /// Calls `f` on every claim that is named, also in look-ups.
    pub fn for_each_claim(&self, f: &mut dyn FnMut(&str)) {
        let mut look_ups = Vec::new();
        self.for_each(&mut |e| match e {
            Expr::Blank(Blank::Claim, name, _) | Expr::AnyOf(_, Blank::Claim, name, _) => f(name),
            Expr::Member { look_up, .. } => look_ups.push(look_up),
            _ => {}
        });
        look_ups.into_iter().for_each(|l| l.condition.for_each_claim(f));
    }

    /// The condition as SQL over `table`'s columns. With `cells`, columns stand as the values they have there, which
    /// is how explanations show what was compared.
    pub fn show<'a>(&'a self, table: &'a Table, cells: Option<&'a dyn Cells>) -> Shown<'a> {
        Shown { expr: self, table, cells, level: 0 }
    }
}

fn as_truth(v: &Value) -> Option<bool> {
    match v {
        Value::Bool(b) => Some(*b),
        _ => None,
    }
}

/// Values in all lists of a client's for one query, at most.
pub const MAX_LIST: usize = 10_000;

/// Constants in a list from which on they are sorted instead of compared one after the other.
const SORTED_FROM: usize = 9;

/// Values of a longer list that are shown.
const SHOWN: usize = 50;

fn fact<'a>(blank: Blank, name: &str, facts: &'a Map<String, Json>) -> Result<&'a Json, BlankError> {
    let found = match blank {
        Blank::Param => facts.get(name),
        Blank::Claim => {
            let mut parts = name.split('.');
            parts.next().and_then(|p| facts.get(p)).and_then(|first| parts.try_fold(first, |at, p| at.get(p)))
        }
    };
    let fail = |problem: &str| Err(BlankError { blank, name: name.to_string(), problem: problem.into() });
    match found {
        None => fail("is missing"),
        // A claim that is null says nothing about its bearer.
        Some(Json::Null) if blank == Blank::Claim => fail("is null"),
        Some(json) => Ok(json),
    }
}

fn value_of(blank: Blank, name: &str, ty: Type, facts: &Map<String, Json>) -> Result<Value, BlankError> {
    let fail = |problem| BlankError { blank, name: name.to_string(), problem };
    Value::from_json(fact(blank, name, facts)?, ty).map_err(fail)
}

/// Filling in blanks: of which kind, from what, and how many more values lists may bring.
struct Filling<'a> {
    blank: Blank,
    facts: &'a Map<String, Json>,
    left: usize,
}

impl Filling<'_> {
    fn boxed(&mut self, e: &Expr) -> Result<Box<Expr>, BlankError> {
        self.fill(e).map(Box::new)
    }

    fn many(&mut self, es: &[Expr]) -> Result<Vec<Expr>, BlankError> {
        es.iter().map(|e| self.fill(e)).collect()
    }

    fn fill(&mut self, e: &Expr) -> Result<Expr, BlankError> {
        let blank = self.blank;
        Ok(match e {
            Expr::Blank(kind, name, ty) if *kind == blank => Expr::Const(value_of(blank, name, *ty, self.facts)?),
            Expr::LikeBlank(e, pattern, escape) => {
                let (e, pattern) = (self.boxed(e)?, self.boxed(pattern)?);
                match &*pattern {
                    Expr::Const(Value::Text(text)) => match LikePattern::new(text, *escape) {
                        Ok(p) => Expr::Like(e, Arc::new(p)),
                        Err(problem) => return Err(BlankError { blank, name: "pattern".into(), problem }),
                    },
                    Expr::Const(_) => Expr::Const(Value::Null),
                    _ => Expr::LikeBlank(e, pattern, *escape),
                }
            }
            Expr::AnyOf(e, kind, name, ty) if *kind == blank => {
                let e = self.boxed(e)?;
                Expr::In(e, self.list_of(name, *ty)?.into_iter().map(Expr::Const).collect()).normal()
            }
            Expr::AnyOf(e, kind, name, ty) => Expr::AnyOf(self.boxed(e)?, *kind, name.clone(), *ty),
            Expr::Member { of, look_up, exists } => {
                let condition = self.fill(&look_up.condition)?;
                let look_up = LookUp::new(look_up.table.clone(), look_up.columns.clone(), condition);
                Expr::Member { of: self.many(of)?, look_up: Arc::new(look_up), exists: *exists }
            }
            Expr::Const(_) | Expr::Column(_) | Expr::Outer(_) | Expr::Blank(..) => e.clone(),
            Expr::TextOf(e) => Expr::TextOf(self.boxed(e)?),
            Expr::Cmp(op, a, b) => Expr::Cmp(*op, self.boxed(a)?, self.boxed(b)?),
            Expr::And(es) => Expr::And(self.many(es)?),
            Expr::Or(es) => Expr::Or(self.many(es)?),
            Expr::Not(e) => Expr::Not(self.boxed(e)?),
            Expr::IsNull(e) => Expr::IsNull(self.boxed(e)?),
            Expr::In(e, es) => Expr::In(self.boxed(e)?, self.many(es)?),
            Expr::InValues(e, list) => Expr::InValues(self.boxed(e)?, list.clone()),
            Expr::Like(e, p) => Expr::Like(self.boxed(e)?, p.clone()),
        })
    }

    fn list_of(&mut self, name: &str, ty: Type) -> Result<Vec<Value>, BlankError> {
        let fail = |problem: String| BlankError { blank: self.blank, name: name.to_string(), problem };
        let Json::Array(list) = fact(self.blank, name, self.facts)? else {
            return Err(fail("is not a list".into()));
        };
        self.left = self
            .left
            .checked_sub(list.len())
            .ok_or_else(|| fail(format!("makes more than {MAX_LIST} values in the lists of one query")))?;
        list.iter().map(|v| Value::from_json(v, ty).map_err(fail)).collect()
    }
}

/// Flattens, sorts and shortens a conjunction (`all`) or disjunction.
fn join(es: Vec<Expr>, all: bool) -> Expr {
    let mut flat = Vec::with_capacity(es.len());
    let mut pending: Vec<Expr> = es.into_iter().rev().collect();
    while let Some(e) = pending.pop() {
        match (e, all) {
            (Expr::And(inner), true) | (Expr::Or(inner), false) => pending.extend(inner.into_iter().rev()),
            (e, _) => match e.normal() {
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

/// Works out a node whose operands are all constants.
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
        _ => open = true,
    }
    if open { e } else { Expr::Const(e.truth::<[Value]>(&[]).map_or(Value::Null, Value::Bool)) }
}

/// An expression on its way to text; see [`Expr::show`].
pub struct Shown<'a> {
    expr: &'a Expr,
    table: &'a Table,
    cells: Option<&'a dyn Cells>,
    /// How tightly the surrounding binds: 0 nothing, 1 OR, 2 AND, 3 NOT and comparisons.
    level: u8,
}

impl Shown<'_> {
    fn inner<'b>(&'b self, expr: &'b Expr, level: u8) -> Shown<'b> {
        Shown { expr, table: self.table, cells: self.cells, level }
    }

    fn list(&self, f: &mut fmt::Formatter<'_>, es: &[Expr], word: &str, level: u8) -> fmt::Result {
        let brackets = self.level >= level && es.len() > 1;
        if brackets {
            f.write_str("(")?;
        }
        for (i, e) in es.iter().enumerate() {
            if i > 0 {
                write!(f, " {word} ")?;
            }
            write!(f, "{}", self.inner(e, level))?;
        }
        f.write_str(if brackets { ")" } else { "" })
    }
}

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.expr {
            Expr::Const(v) => write!(f, "{v}"),
            Expr::Column(i) => match self.cells {
                Some(cells) => write!(f, "{}", cells.cell(*i)),
                None => write_name(f, &self.table.columns[*i].name),
            },
            Expr::Blank(Blank::Param, name, _) => write!(f, ":{name}"),
            Expr::Blank(Blank::Claim, name, _) => write!(f, "claim.{name}"),
            Expr::Cmp(op, a, b) => write!(f, "{} {} {}", self.inner(a, 3), op.sign(), self.inner(b, 3)),
            Expr::And(es) if es.is_empty() => f.write_str("true"),
            Expr::Or(es) if es.is_empty() => f.write_str("false"),
            Expr::And(es) => self.list(f, es, "AND", 2),
            Expr::Or(es) => self.list(f, es, "OR", 1),
            Expr::Not(e) => match &**e {
                Expr::IsNull(e) => write!(f, "{} IS NOT NULL", self.inner(e, 3)),
                e => write!(f, "NOT ({})", self.inner(e, 0)),
            },
            Expr::IsNull(e) => write!(f, "{} IS NULL", self.inner(e, 3)),
            Expr::Outer(_) => f.write_str("a column of the row around"),
            Expr::TextOf(e) => write!(f, "{}::text", self.inner(e, 3)),
            Expr::AnyOf(e, kind, name, _) => {
                let sign = if *kind == Blank::Claim { "claim." } else { ":" };
                write!(f, "{} = ANY({sign}{name})", self.inner(e, 3))
            }
            Expr::Member { of, look_up, exists } => {
                let compared = of.iter().map(|e| self.inner(e, 0).to_string()).collect::<Vec<_>>().join(", ");
                match (of.len(), exists) {
                    (1, false) => write!(f, "{compared} IN ({look_up})"),
                    // What EXISTS compares with the row around is told in the same way.
                    (0, _) => write!(f, "EXISTS ({look_up})"),
                    _ => write!(f, "({compared}) IN ({look_up})"),
                }
            }
            Expr::In(e, es) => {
                write!(f, "{} IN (", self.inner(e, 3))?;
                for (i, e) in es.iter().enumerate() {
                    write!(f, "{}{}", if i > 0 { ", " } else { "" }, self.inner(e, 0))?;
                }
                f.write_str(")")
            }
            Expr::InValues(e, list) => {
                write!(f, "{} IN (", self.inner(e, 3))?;
                for (i, v) in list.as_slice().iter().take(SHOWN).enumerate() {
                    write!(f, "{}{v}", if i > 0 { ", " } else { "" })?;
                }
                match list.as_slice().len().checked_sub(SHOWN) {
                    Some(more @ 1..) => write!(f, ", … {more} more)"),
                    _ => f.write_str(")"),
                }
            }
            Expr::Like(e, p) => write!(f, "{} LIKE {}", self.inner(e, 3), p),
            Expr::LikeBlank(e, p, _) => write!(f, "{} LIKE {}", self.inner(e, 3), self.inner(p, 3)),
        }
    }
}

/// Writes a name as SQL needs it: bare if it is plain, else in double quotes.
pub fn write_name(f: &mut impl fmt::Write, name: &str) -> fmt::Result {
    let plain = name.starts_with(|c: char| c.is_ascii_lowercase() || c == '_')
        && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
    if plain { f.write_str(name) } else { write!(f, "\"{}\"", name.replace('"', "\"\"")) }
}
