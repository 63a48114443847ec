//! What a rule shows in the place of a column: a constant, or parts of texts put together.

use super::{Checker, Result};
use crate::mask::Mask;
use crate::query::Expr;
use crate::query::syntax::{Ast, Ident, Node, invalid};
use crate::value::{Type, Value};

const MASK: &str = "a value in quotes, NULL, a column, left(…, n), right(…, n) or these joined by ||";

impl Checker<'_> {
    /// A mask for `column`, of the column's own type.
    pub(super) fn mask(&self, e: Ast, column: usize) -> Result<Mask> {
        let at = e.at;
        let Some(ty) = self.scopes.last().map(|s| s.table.columns[column].ty) else {
            return Err(invalid(at, "no column", MASK));
        };
        let text = matches!(ty, Type::Text | Type::Bpchar | Type::Any);
        match self.part(e, ty)? {
            Mask::Const(v) => Ok(Mask::Const(v)),
            mask if text => Ok(mask),
            _ => {
                Err(invalid(at, format!("a column of type {ty} is not put together from texts"), "a constant or NULL"))
            }
        }
    }

    fn part(&self, e: Ast, ty: Type) -> Result<Mask> {
        let at = e.at;
        match e.node {
            Node::Null => Ok(Mask::Const(Value::Null)),
            Node::Text(s) => {
                let value = Value::from_text(&s, ty);
                value.map(Mask::Const).ok_or_else(|| invalid(at, format!("this text is not a value of type {ty}"), ""))
            }
            Node::Number(digits) => match self.number(&digits, at)?.expr {
                Expr::Const(v) if ty.comparable(v.type_of()) => Ok(Mask::Const(v)),
                _ => Err(invalid(at, format!("a number is not a value of type {ty}"), "")),
            },
            Node::Concat(parts) => {
                let parts = parts.into_iter().map(|part| self.part(part, Type::Text));
                Ok(Mask::Join(parts.collect::<Result<_>>()?))
            }
            Node::Call(call) => self.cut(&call.name, call.args.unwrap_or_default()),
            Node::Name(_) => {
                let column = self.column(e)?;
                match self.scopes.last().map(|s| s.table.columns[column].ty) {
                    Some(Type::Text | Type::Bpchar | Type::Any | Type::Uuid) => Ok(Mask::Column(column)),
                    _ => Err(invalid(at, "this column is not a text", MASK)),
                }
            }
            _ => Err(invalid(at, "this is not a mask", MASK)),
        }
    }

    /// `left(text, n)` or `right(text, n)`.
    fn cut(&self, name: &Ident, args: Vec<Ast>) -> Result<Mask> {
        let is = |word: &str| !name.quoted && name.name.eq_ignore_ascii_case(word);
        if !is("left") && !is("right") {
            return Err(invalid(name.at, format!("the function {} is not known here", name.name), MASK));
        }
        let Ok([text, n]) = <[Ast; 2]>::try_from(args) else {
            return Err(invalid(name.at, "not two arguments", "a text, a comma and a number of characters"));
        };
        let n = characters(&n)?;
        let of = Box::new(self.part(text, Type::Text)?);
        Ok(if is("left") { Mask::Left(of, n) } else { Mask::Right(of, n) })
    }
}

fn characters(e: &Ast) -> Result<i32> {
    let n = if let Node::Number(digits) = &e.node { digits.parse().ok() } else { None };
    n.ok_or_else(|| invalid(e.at, "this is not a number of characters", "a whole number"))
}
