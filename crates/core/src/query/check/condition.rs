//! What an expression means.

use std::sync::Arc;

use super::types::ordered;
use super::{Checker, Result, SUPPORTED, Size, Typed};
use crate::query::expr::{CmpOp, Expr, Placeholder};
use crate::query::like::LikePattern;
use crate::query::syntax::{Ast, Location, Node, invalid};
use crate::value::{Type, Value};

impl Checker<'_> {
    /// Any expression.
    pub(super) fn expression(&mut self, e: Ast) -> Result<Typed> {
        let at = e.at;
        match e.node {
            Node::Null => self.leaf(Expr::Const(Value::Null), None, at),
            Node::Bool(b) => self.leaf(Expr::Const(Value::Bool(b)), Some(Type::Bool), at),
            Node::Number(digits) => self.number(&digits, at),
            Node::Text(s) => self.leaf(Expr::Const(Value::from(s)), None, at),
            Node::Param(name) => self.param(name, at),
            Node::Name(parts) => self.name(&parts, at),
            Node::Not(inner) => {
                let inner = self.expression(*inner)?;
                let size = inner.size;
                let condition = self.condition(inner)?;
                self.node(Expr::Not(Box::new(condition)), Some(Type::Bool), at, size)
            }
            Node::And(all) => {
                let (all, size) = self.conditions(all)?;
                self.node(Expr::And(all), Some(Type::Bool), at, size)
            }
            Node::Or(any) => {
                let (any, size) = self.conditions(any)?;
                self.node(Expr::Or(any), Some(Type::Bool), at, size)
            }
            Node::Compare(op, left, right) => self.comparison(op, *left, *right),
            Node::AnyOf(value, list) => self.any_of(*value, *list),
            Node::IsNull(value) => self.is_null(*value),
            Node::In(value, list) => self.among(*value, list),
            Node::InSelect(value, select) => self.in_subquery(*value, *select),
            Node::Exists(select) => self.exists(*select, at),
            Node::Between { value, low, high } => self.between(*value, *low, *high),
            Node::Like { value, pattern, escape } => self.like(*value, *pattern, escape),
            Node::Cast(value, ty) => {
                let value = self.expression(*value)?;
                self.cast(Typed { at, ..value }, &ty)
            }
            Node::Concat(_) => Err(invalid(at, "|| is not supported here", SUPPORTED)),
            Node::Call(name, _) => Err(invalid(name.at, "functions are not supported here", SUPPORTED)),
        }
    }

    fn conditions(&mut self, all: Vec<Ast>) -> Result<(Vec<Expr>, Size)> {
        let (mut conditions, mut size) = (Vec::with_capacity(all.len()), Size::default());
        for e in all {
            let e = self.expression(e)?;
            size = size.beside(e.size);
            conditions.push(self.condition(e)?);
        }
        Ok((conditions, size))
    }

    fn comparison(&mut self, op: CmpOp, left: Ast, right: Ast) -> Result<Typed> {
        let at = left.at;
        let (left, right) = (self.expression(left)?, self.expression(right)?);
        if !matches!(op, CmpOp::Eq | CmpOp::Ne) {
            ordered(&left)?;
            ordered(&right)?;
        }
        let size = left.size.beside(right.size);
        let (a, b) = self.pair(left, right)?;
        self.node(Expr::Cmp(op, Box::new(a), Box::new(b)), Some(Type::Bool), at, size)
    }

    /// `= ANY (list)`, where the list is one value of the client's.
    fn any_of(&mut self, value: Ast, list: Ast) -> Result<Typed> {
        let (value, list) = (self.expression(value)?, self.expression(list)?);
        let Expr::Placeholder(kind, name, _) = list.expr else {
            let expected = if self.catalog.is_some() { "claim.name" } else { ":parameter" };
            return Err(invalid(list.at, "this is not a list", expected));
        };
        let ty = value.ty.unwrap_or(Type::Text);
        let of = self.of_type(value.expr, value.ty, ty, value.at)?;
        self.node(Expr::AnyOf(Box::new(of), kind, name, ty), Some(Type::Bool), value.at, value.size)
    }

    fn is_null(&mut self, value: Ast) -> Result<Typed> {
        let value = self.expression(value)?;
        let of = match value.expr {
            Expr::Placeholder(kind, name, _) => Expr::Placeholder(kind, name, value.ty.unwrap_or(Type::Text)),
            e => e,
        };
        self.node(Expr::IsNull(Box::new(of)), Some(Type::Bool), value.at, value.size)
    }

    fn between(&mut self, value: Ast, low: Ast, high: Ast) -> Result<Typed> {
        let (value, low, high) = (self.expression(value)?, self.expression(low)?, self.expression(high)?);
        let at = value.at;
        ordered(&value)?;
        // The value stands in both comparisons: it is counted before it is copied.
        let parts = value.size.beside(value.size).beside(low.size).beside(high.size);
        let size = Size { nodes: parts.nodes + 2, depth: parts.depth + 1 };
        self.node(Expr::always(), None, at, size)?;
        let copy = Typed { expr: value.expr.clone(), ..value };
        let (a, low) = self.pair(value, low)?;
        let (b, high) = self.pair(copy, high)?;
        let both =
            vec![Expr::Cmp(CmpOp::Ge, Box::new(a), Box::new(low)), Expr::Cmp(CmpOp::Le, Box::new(b), Box::new(high))];
        self.node(Expr::And(both), Some(Type::Bool), at, size)
    }

    fn among(&mut self, value: Ast, list: Vec<Ast>) -> Result<Typed> {
        let value = self.expression(value)?;
        let items = list.into_iter().map(|e| self.expression(e)).collect::<Result<Vec<Typed>>>()?;
        // One type for all: what has none of its own takes that of the first that has.
        let ty = value.ty.or_else(|| items.iter().find_map(|i| i.ty)).unwrap_or(Type::Text);
        let (at, mut size) = (value.at, value.size);
        let of = self.of_type(value.expr, value.ty, ty, at)?;
        let mut list = Vec::with_capacity(items.len());
        for item in items {
            size = size.beside(item.size);
            // Only the type of the value decides about what stands beside it.
            let like_it = self.node(Expr::Const(Value::Null), Some(ty), at, Size::default())?;
            list.push(self.pair(like_it, item)?.1);
        }
        self.node(Expr::In(Box::new(of), list), Some(Type::Bool), at, size)
    }

    fn like(&mut self, value: Ast, pattern: Ast, escape: Option<char>) -> Result<Typed> {
        let (value, pattern) = (self.expression(value)?, self.expression(pattern)?);
        let (value_at, size, at) = (value.at, value.size, pattern.at);
        let value = self.of_type(value.expr, value.ty, Type::Text, value_at)?;
        let like = match self.of_type(pattern.expr, pattern.ty, Type::Text, at)? {
            Expr::Const(Value::Text(text)) => match LikePattern::new(&text, escape) {
                Ok(p) => Expr::Like(Box::new(value), Arc::new(p)),
                Err(problem) => return Err(invalid(at, format!("the pattern {problem}"), "")),
            },
            Expr::Const(_) => Expr::Const(Value::Null),
            pattern @ Expr::Placeholder(..) => Expr::LikePlaceholder(Box::new(value), Box::new(pattern), escape),
            _ => return Err(invalid(at, "a pattern that is not fixed", "a text or a parameter")),
        };
        self.node(like, Some(Type::Bool), value_at, size)
    }

    fn param(&mut self, name: String, at: Location) -> Result<Typed> {
        if self.catalog.is_some() {
            return Err(invalid(at, "a rule has no parameters", "claim.name"));
        }
        let blank = Expr::Placeholder(Placeholder::Param, name.as_str().into(), Type::Any);
        self.params.insert(name);
        self.leaf(blank, None, at)
    }

    pub(super) fn number(&self, digits: &str, at: Location) -> Result<Typed> {
        match Value::parse_number(digits) {
            Some(v) => {
                let ty = v.type_of();
                self.leaf(Expr::Const(v), Some(ty), at)
            }
            None => Err(invalid(at, format!("{digits} is not a number that can be compared"), "")),
        }
    }
}
