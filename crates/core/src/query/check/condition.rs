//! What an expression means.

use std::sync::Arc;

use super::document::{element_is_compared, in_quotes};
use super::types::ordered;
use super::{Checker, Others, Result, Size, Typed, moment};
use crate::query::expr::{CmpOp, Computed, Expr, Placeholder};
use crate::query::function::Function;
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
            Node::Like { value, pattern, escape, ignores_case } => self.like(*value, *pattern, escape, ignores_case),
            Node::Distinct(left, right) => self.distinct(*left, *right),
            Node::IsTruth(value, wanted) => self.is_truth(*value, wanted),
            Node::Arithmetic(op, left, right) => self.arithmetic(op, *left, *right),
            Node::Negate(value) => self.negated(*value, at),
            Node::Case { operand, arms, otherwise } => self.case(operand.map(|e| *e), arms, otherwise.map(|e| *e), at),
            Node::Cast(value, ty) => {
                let value = self.expression(*value)?;
                self.cast(Typed { at, ..value }, &ty)
            }
            Node::Concat(parts) => self.concatenated(parts),
            Node::Infix(infix, left, right) => self.infix(infix, *left, *right),
            Node::Call(call) => self.called(*call),
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
        if let Some(offset) = moment::offset(&right)? {
            let left = self.expression(left)?;
            return self.compared_with_now(op, left, offset, right.at);
        }
        if let Some(offset) = moment::offset(&left)? {
            let right = self.expression(right)?;
            return self.compared_with_now(op.flipped(), right, offset, at);
        }
        let (left, right) = (self.expression(left)?, self.expression(right)?);
        if !matches!(op, CmpOp::Eq | CmpOp::Ne) {
            ordered(&left)?;
            ordered(&right)?;
        }
        let (a, b, size) = self.pair(left, right)?;
        self.node(Expr::Cmp(op, Box::new(a), Box::new(b)), Some(Type::Bool), at, size)
    }

    /// `= ANY (list)`, where the list is one value of the client's.
    fn any_of(&mut self, value: Ast, list: Ast) -> Result<Typed> {
        let (value, list) = (self.expression(value)?, self.expression(list)?);
        if let Some(Type::Array(_)) = list.ty {
            return self.element_of(value, list);
        }
        if let (Expr::Const(Value::Text(text)), None) = (&list.expr, list.ty) {
            let ty = value.ty.unwrap_or(Type::Text);
            element_is_compared(ty, list.at)?;
            let elements = in_quotes(text, ty, list.at)?;
            let of = self.of_type(value.expr, value.ty, ty, value.at)?;
            let size = Size { nodes: value.size.nodes + elements.len(), ..value.size };
            let elements = elements.into_iter().map(Expr::Const).collect();
            return self.node(Expr::In(Box::new(of), elements), Some(Type::Bool), value.at, size);
        }
        let Expr::Placeholder(kind, name, _) = list.expr else {
            let expected = if matches!(self.others, Others::OfRule(_)) { "claim.name" } else { ":parameter" };
            return Err(invalid(list.at, "this is not a list", format!("{expected}, an array or '{{1,2}}'")));
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
        if moment::offset(&low)?.is_some() || moment::offset(&high)?.is_some() {
            return self.between_moments(value, low, high);
        }
        let (value, low, high) = (self.expression(value)?, self.expression(low)?, self.expression(high)?);
        let at = value.at;
        ordered(&value)?;
        // The value stands in both comparisons: it is counted before it is copied.
        self.node(Expr::always(), None, at, value.size.beside(value.size).beside(low.size).beside(high.size))?;
        let copy = Typed { expr: value.expr.clone(), ..value };
        let (a, low, lower) = self.pair(value, low)?;
        let (b, high, upper) = self.pair(copy, high)?;
        let parts = lower.beside(upper);
        let size = Size { nodes: parts.nodes + 2, depth: parts.depth + 1 };
        let both =
            vec![Expr::Cmp(CmpOp::Ge, Box::new(a), Box::new(low)), Expr::Cmp(CmpOp::Le, Box::new(b), Box::new(high))];
        self.node(Expr::And(both), Some(Type::Bool), at, size)
    }

    fn among(&mut self, value: Ast, list: Vec<Ast>) -> Result<Typed> {
        let value = self.expression(value)?;
        let items = list.into_iter().map(|e| self.expression(e)).collect::<Result<Vec<Typed>>>()?;
        // One type for all: untyped expressions take that of the first typed one.
        let ty = value.ty.or_else(|| items.iter().find_map(|i| i.ty)).unwrap_or(Type::Text);
        let (at, mut size) = (value.at, value.size);
        let of = self.of_type(value.expr, value.ty, ty, at)?;
        let mut list = Vec::with_capacity(items.len());
        for item in items {
            // Only the type of the value decides about what stands beside it.
            let like_it = self.node(Expr::Const(Value::Null), Some(ty), at, Size::default())?;
            let (_, item, item_size) = self.pair(like_it, item)?;
            size = size.beside(item_size);
            list.push(item);
        }
        self.node(Expr::In(Box::new(of), list), Some(Type::Bool), at, size)
    }

    fn like(&mut self, value: Ast, pattern: Ast, escape: Option<char>, ignores_case: bool) -> Result<Typed> {
        let (value, pattern) = (self.expression(value)?, self.expression(pattern)?);
        let (value_at, mut size, at) = (value.at, value.size, pattern.at);
        let mut value = self.of_type(value.expr, value.ty, Type::Text, value_at)?;
        if ignores_case {
            let lower = Expr::Computed(Box::new(Computed::Function(Function::Lower, [value].into())));
            let lower = self.node(lower, Some(Type::Text), value_at, size)?;
            (value, size) = (lower.expr, lower.size);
        }
        let like = match self.of_type(pattern.expr, pattern.ty, Type::Text, at)? {
            Expr::Const(Value::Text(text)) => match LikePattern::with_case(&text, escape, ignores_case) {
                Ok(p) => Expr::Like(Box::new(value), Arc::new(p)),
                Err(problem) => return Err(invalid(at, format!("the pattern {problem}"), "")),
            },
            Expr::Const(_) => Expr::Const(Value::Null),
            pattern @ Expr::Placeholder(..) => {
                Expr::LikePlaceholder { of: Box::new(value), pattern: Box::new(pattern), escape, ignores_case }
            }
            _ => return Err(invalid(at, "a pattern that is not fixed", "a text or a parameter")),
        };
        self.node(like, Some(Type::Bool), value_at, size)
    }

    fn param(&mut self, name: String, at: Location) -> Result<Typed> {
        if matches!(self.others, Others::OfRule(_)) {
            return Err(invalid(at, "a rule has no parameters", "claim.name"));
        }
        let blank = Expr::Placeholder(Placeholder::Param, name.as_str().into(), Type::Any);
        self.params.insert(name);
        self.leaf(blank, None, at)
    }

    pub(super) fn number(&self, digits: &str, at: Location) -> Result<Typed> {
        match Value::parse_number(digits) {
            Some(v) => {
                let ty = match &v {
                    Value::Int(i) if Type::Int4.holds(*i) => Type::Int4,
                    v => v.type_of(),
                };
                self.leaf(Expr::Const(v), Some(ty), at)
            }
            None => Err(invalid(at, format!("{digits} is not a number that can be compared"), "")),
        }
    }
}
