//! What a rule shows in the place of a column.

use super::{Checker, Result};
use crate::mask::Mask;
use crate::query::Expr;
use crate::query::syntax::{Ast, invalid};
use crate::value::Type;

/// Whether PostgreSQL stores a value of one type in a column of the other by itself.
fn is_stored_as(from: Type, ty: Type) -> bool {
    let is_text = |ty| matches!(ty, Type::Text | Type::Bpchar);
    from == ty || ty == Type::Any || is_text(from) && is_text(ty) || from.is_number() && ty.is_number()
}

impl Checker<'_> {
    /// A mask for `column`: a value of the column's own type. Where it fails on a row, nothing is shown.
    pub(super) fn mask(&mut self, e: Ast, column: usize) -> Result<Mask> {
        let at = e.at;
        let Some(ty) = self.scopes.last().map(|s| s.table.columns[column].ty) else {
            return Err(invalid(at, "no column", "a column of the table"));
        };
        let e = self.computed(e)?;
        if let Some(from) = e.ty.filter(|from| !is_stored_as(*from, ty)) {
            return Err(invalid(at, format!("a value of type {from}"), format!("a value of type {ty}")));
        }
        let expr = if ty == Type::Any { e.expr } else { self.converted(e, ty)?.expr };
        let mut asks = false;
        expr.for_each(&mut |e| asks |= matches!(e, Expr::Member { .. }));
        if asks {
            return Err(invalid(at, "a mask asks no other table", "columns, claims and what is computed of them"));
        }
        Ok(Mask::new(expr.canonicalize()))
    }
}
