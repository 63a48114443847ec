//! What a rule shows in the place of a column: a constant, or parts of texts put together.

use super::keyword::Keyword;
use super::lexer::{Token, invalid};
use super::{Parser, Result};
use crate::mask::Mask;
use crate::value::{Type, Value};

const MASK: &str = "a value in quotes, NULL, a column, left(…, n), right(…, n) or these joined by ||";

impl Parser<'_> {
    /// A mask for `column`, of the column's own type.
    pub(super) fn mask(&mut self, column: usize) -> Result<Mask> {
        let at = self.at();
        let Some(ty) = self.scopes.last().map(|s| s.table.columns[column].ty) else {
            return Err(self.unexpected(MASK));
        };
        let text = matches!(ty, Type::Text | Type::Bpchar | Type::Any);
        match self.parts(ty, 0)? {
            Mask::Const(v) => Ok(Mask::Const(v)),
            mask if text => Ok(mask),
            _ => {
                Err(invalid(at, format!("a column of type {ty} is not put together from texts"), "a constant or NULL"))
            }
        }
    }

    fn parts(&mut self, ty: Type, depth: usize) -> Result<Mask> {
        let mut parts = vec![self.part(ty, depth)?];
        while self.take(&Token::Concat) {
            parts.push(self.part(Type::Text, depth)?);
        }
        Ok(if parts.len() == 1 { parts.remove(0) } else { Mask::Join(parts) })
    }

    fn part(&mut self, ty: Type, depth: usize) -> Result<Mask> {
        let at = self.at();
        match self.peek().clone() {
            Token::Text(s) => {
                self.next += 1;
                let value = Value::from_text(&s, ty);
                value.map(Mask::Const).ok_or_else(|| invalid(at, format!("this text is not a value of type {ty}"), ""))
            }
            Token::Number(..) | Token::Minus => {
                let number = self.operand(0)?;
                match number.expr {
                    crate::query::Expr::Const(v) if ty.comparable(v.type_of()) => Ok(Mask::Const(v)),
                    _ => Err(invalid(at, format!("a number is not a value of type {ty}"), "")),
                }
            }
            Token::Word(w) if !w.quoted => match self.keyword() {
                Keyword::Null => {
                    self.next += 1;
                    Ok(Mask::Const(Value::Null))
                }
                k @ (Keyword::Left | Keyword::Right) => {
                    self.next += 1;
                    self.need(&Token::LParen, "( and a text")?;
                    let of = Box::new(self.deeper(depth, |p, depth| p.parts(Type::Text, depth))?);
                    self.need(&Token::Comma, "a comma and a number of characters")?;
                    let negative = self.take(&Token::Minus);
                    let Token::Number(digits) = self.peek().clone() else {
                        return Err(self.unexpected("a number of characters"));
                    };
                    let Ok(n) = digits.parse::<i32>() else { return Err(self.unexpected("a number of characters")) };
                    self.next += 1;
                    self.need(&Token::RParen, ")")?;
                    let n = if negative { -n } else { n };
                    Ok(if k == Keyword::Left { Mask::Left(of, n) } else { Mask::Right(of, n) })
                }
                _ => self.masked_column(),
            },
            Token::Word(_) => self.masked_column(),
            _ => Err(self.unexpected(MASK)),
        }
    }

    fn masked_column(&mut self) -> Result<Mask> {
        let at = self.at();
        let column = self.column(MASK)?;
        match self.scopes.last().map(|s| s.table.columns[column].ty) {
            Some(Type::Text | Type::Bpchar | Type::Any | Type::Uuid) => Ok(Mask::Column(column)),
            _ => Err(invalid(at, "this column is not a text", MASK)),
        }
    }
}
