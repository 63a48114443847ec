//! Conditions as SQL.

use std::fmt;

use super::evaluate::Cells;
use super::{CmpOp, Computed, Expr, Placeholder, Subquery};
use crate::query::function::{Function, interval};
use crate::schema::Table;
use crate::value::Value;

/// Most values shown of a long list.
const SHOWN: usize = 50;

impl CmpOp {
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

impl Expr {
    /// The condition as SQL over `table`'s columns. With `cells`, columns and `NOW()` stand as the values they have there,
    /// which is how explanations show what was compared.
    pub fn show<'a>(&'a self, table: &'a Table, cells: Option<&'a dyn Cells>) -> Shown<'a> {
        Shown { expr: self, columns: Columns::Of(table), cells, level: 0 }
    }

    /// The expression as SQL over the columns of another operator's rows, which have these texts.
    pub fn show_named<'a>(&'a self, columns: &'a [String]) -> Shown<'a> {
        Shown { expr: self, columns: Columns::Texts(columns), cells: None, level: 0 }
    }
}

/// What columns stand as.
#[derive(Clone, Copy)]
enum Columns<'a> {
    Of(&'a Table),
    Texts(&'a [String]),
}

/// Displays an expression; see [`Expr::show`].
pub struct Shown<'a> {
    expr: &'a Expr,
    columns: Columns<'a>,
    cells: Option<&'a dyn Cells>,
    /// Precedence of the surrounding expression: 0 none, 1 OR, 2 AND, 3 NOT and comparisons.
    level: u8,
}

impl<'a> Shown<'a> {
    /// The same with columns and `NOW()` as the values that they have there.
    #[must_use]
    pub fn with(self, cells: &'a dyn Cells) -> Shown<'a> {
        Shown { cells: Some(cells), ..self }
    }
}

impl Shown<'_> {
    fn inner<'b>(&'b self, expr: &'b Expr, level: u8) -> Shown<'b> {
        Shown { expr, columns: self.columns, cells: self.cells, level }
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

impl Shown<'_> {
    fn computed(&self, f: &mut fmt::Formatter<'_>, computed: &Computed) -> fmt::Result {
        let operand = |e| self.inner(e, 3);
        match computed {
            Computed::Function(function, of) => self.function(f, *function, of),
            Computed::Coalesce(of) => self.arguments(f, "coalesce", of),
            Computed::Extreme { greatest, of } => self.arguments(f, if *greatest { "greatest" } else { "least" }, of),
            Computed::Case { arms, otherwise } => {
                f.write_str("CASE")?;
                for (condition, value) in arms {
                    write!(f, " WHEN {} THEN {}", self.inner(condition, 0), self.inner(value, 0))?;
                }
                write!(f, " ELSE {} END", self.inner(otherwise, 0))
            }
            Computed::Distinct(a, b) => write!(f, "{} IS DISTINCT FROM {}", operand(a), operand(b)),
            Computed::Now(offset) if let Some(cells) = self.cells => {
                write!(f, "{}", Value::Timestamptz(cells.now().saturating_add(*offset)))
            }
            Computed::Now(0) => f.write_str("now()"),
            Computed::Now(offset) => {
                let sign = if *offset < 0 { '-' } else { '+' };
                write!(f, "now() {sign} interval '{}'", interval::text(offset.unsigned_abs()))
            }
        }
    }

    /// A function as it is called, or as the operator that it is.
    fn function(&self, f: &mut fmt::Formatter<'_>, function: Function, of: &[Expr]) -> fmt::Result {
        let operand = |e| self.inner(e, 3);
        match (function, of) {
            (Function::Concat, of) => {
                f.write_str("(")?;
                for (i, e) in of.iter().enumerate() {
                    write!(f, "{}{}", if i > 0 { " || " } else { "" }, operand(e))?;
                }
                f.write_str(")")
            }
            (Function::ElementOf(_), [a, b]) => write!(f, "{} = ANY ({})", operand(a), self.inner(b, 0)),
            (_, [a, b]) if function.sign().is_some() => {
                write!(f, "({} {} {})", operand(a), function.sign().unwrap_or_default(), operand(b))
            }
            (Function::Negate(_), [a]) => write!(f, "(- {})", operand(a)),
            (Function::Extract(field), [a]) => write!(f, "EXTRACT({} FROM {})", field.word(), self.inner(a, 0)),
            (Function::Truncate(unit, _), [a]) => write!(f, "date_trunc('{}', {})", unit.word(), self.inner(a, 0)),
            (Function::Shift(_, interval), [a]) => write!(f, "({} + interval '{interval}')", operand(a)),
            (Function::Cast(_, ty), [e]) => match e {
                Expr::Column(_) | Expr::Placeholder(..) | Expr::Computed(_) if self.cells.is_none() => {
                    write!(f, "{}::{ty}", operand(e))
                }
                e => write!(f, "CAST({} AS {ty})", self.inner(e, 0)),
            },
            (function, of) => self.arguments(f, function.name(), of),
        }
    }

    fn arguments(&self, f: &mut fmt::Formatter<'_>, name: &str, of: &[Expr]) -> fmt::Result {
        write!(f, "{name}(")?;
        for (i, e) in of.iter().enumerate() {
            write!(f, "{}{}", if i > 0 { ", " } else { "" }, self.inner(e, 0))?;
        }
        f.write_str(")")
    }
}

impl fmt::Display for Shown<'_> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.expr {
            Expr::Const(v) => write!(f, "{v}"),
            Expr::Column(i) => match self.cells {
                Some(cells) => write!(f, "{}", cells.cell(*i)),
                None => match self.columns {
                    Columns::Of(table) => write_name(f, &table.columns[*i].name),
                    Columns::Texts(texts) => f.write_str(texts.get(*i).map_or("", String::as_str)),
                },
            },
            Expr::Placeholder(Placeholder::Param, name, _) => write!(f, ":{name}"),
            Expr::Placeholder(Placeholder::Claim, name, _) => write!(f, "claim.{name}"),
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
            Expr::Computed(computed) => self.computed(f, computed),
            Expr::AnyOf(e, kind, name, _) => {
                let sign = if *kind == Placeholder::Claim { "claim." } else { ":" };
                write!(f, "{} = ANY({sign}{name})", self.inner(e, 3))
            }
            Expr::Member { of, subquery, exists } => {
                let compared = of.iter().map(|e| self.inner(e, 0).to_string()).collect::<Vec<_>>().join(", ");
                match (of.len(), exists) {
                    (1, false) => write!(f, "{compared} IN ({subquery})"),
                    // EXISTS with a comparison to the outer row is shown as IN.
                    (0, _) => write!(f, "EXISTS ({subquery})"),
                    _ => write!(f, "({compared}) IN ({subquery})"),
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
            Expr::LikePlaceholder { of, pattern, .. } => {
                write!(f, "{} LIKE {}", self.inner(of, 3), self.inner(pattern, 3))
            }
        }
    }
}

impl fmt::Display for Subquery {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("SELECT ")?;
        if self.columns.is_empty() {
            f.write_str("1")?;
        }
        for (i, c) in self.columns.iter().enumerate() {
            f.write_str(if i > 0 { ", " } else { "" })?;
            write_name(f, &self.table.columns[*c].name)?;
        }
        write!(f, " FROM {}", self.table.name)?;
        let admitted = self.grants().map(|all| Expr::Or(all.iter().map(|g| g.condition.clone()).collect()));
        let all: Vec<Expr> = admitted.into_iter().chain([self.condition().clone()]).collect();
        let condition = Expr::And(all).canonicalize();
        if condition.is_const(true) { Ok(()) } else { write!(f, " WHERE {}", condition.show(&self.table, None)) }
    }
}

/// Writes a name as SQL needs it: bare if it is plain, else in double quotes.
pub fn write_name(f: &mut impl fmt::Write, name: &str) -> fmt::Result {
    let plain = name.starts_with(|c: char| c.is_ascii_lowercase() || c == '_')
        && name.chars().all(|c| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '_');
    if plain { f.write_str(name) } else { write!(f, "\"{}\"", name.replace('"', "\"\"")) }
}
