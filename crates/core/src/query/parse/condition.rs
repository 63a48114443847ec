//! Conditions, from `OR` down to single values.

use std::sync::Arc;

use super::keyword::Keyword;
use super::lexer::{Location, Token, invalid};
use super::types::ordered;
use super::{MAX_BRACKETS, OPERAND, Parser, Result, SUPPORTED, Size, Typed};
use crate::query::expr::{CmpOp, Expr, Placeholder};
use crate::query::like::LikePattern;
use crate::value::{Type, Value};

impl Parser<'_> {
    /// `OR` and everything that binds more tightly.
    pub(super) fn expression(&mut self, depth: usize) -> Result<Typed> {
        let first = self.conjunction(depth)?;
        if self.keyword() != Keyword::Or {
            return Ok(first);
        }
        let (at, mut size) = (first.at, first.size);
        let mut any = vec![self.condition(first)?];
        while self.take_keyword(Keyword::Or) {
            let next = self.conjunction(depth)?;
            size = size.beside(next.size);
            any.push(self.condition(next)?);
        }
        self.node(Expr::Or(any), Some(Type::Bool), at, size)
    }

    pub(super) fn conjunction(&mut self, depth: usize) -> Result<Typed> {
        let first = self.negation(depth)?;
        if self.keyword() != Keyword::And {
            return Ok(first);
        }
        let (at, mut size) = (first.at, first.size);
        let mut all = vec![self.condition(first)?];
        while self.take_keyword(Keyword::And) {
            let next = self.negation(depth)?;
            size = size.beside(next.size);
            all.push(self.condition(next)?);
        }
        self.node(Expr::And(all), Some(Type::Bool), at, size)
    }

    pub(super) fn negation(&mut self, depth: usize) -> Result<Typed> {
        let at = self.at();
        if !self.take_keyword(Keyword::Not) {
            return self.is_null(depth);
        }
        let inner = self.deeper(depth, Self::negation)?;
        self.not(inner, at)
    }

    fn not(&self, inner: Typed, at: Location) -> Result<Typed> {
        let size = inner.size;
        let condition = self.condition(inner)?;
        self.node(Expr::Not(Box::new(condition)), Some(Type::Bool), at, size)
    }

    /// A condition, or its opposite.
    fn maybe_not(&self, not: bool, condition: Typed) -> Result<Typed> {
        let at = condition.at;
        if not { self.not(condition, at) } else { Ok(condition) }
    }

    pub(super) fn deeper<T>(&mut self, depth: usize, f: impl FnOnce(&mut Self, usize) -> Result<T>) -> Result<T> {
        if depth >= MAX_BRACKETS {
            return Err(invalid(self.at(), "nested too deeply", format!("at most {MAX_BRACKETS} levels")));
        }
        f(self, depth + 1)
    }

    pub(super) fn is_null(&mut self, depth: usize) -> Result<Typed> {
        let mut left = self.comparison(depth)?;
        while self.take_keyword(Keyword::Is) {
            let not = self.take_keyword(Keyword::Not);
            self.need_keyword(Keyword::Null, if not { "NULL" } else { "NULL or NOT NULL" })?;
            let operand = match left.expr {
                Expr::Placeholder(kind, name, _) => Expr::Placeholder(kind, name, left.ty.unwrap_or(Type::Text)),
                e => e,
            };
            let test = self.node(Expr::IsNull(Box::new(operand)), Some(Type::Bool), left.at, left.size)?;
            left = self.maybe_not(not, test)?;
        }
        Ok(left)
    }

    pub(super) fn comparison(&mut self, depth: usize) -> Result<Typed> {
        let left = self.predicate(depth)?;
        let op = match self.peek() {
            Token::Eq => CmpOp::Eq,
            Token::Ne => CmpOp::Ne,
            Token::Lt => CmpOp::Lt,
            Token::Le => CmpOp::Le,
            Token::Gt => CmpOp::Gt,
            Token::Ge => CmpOp::Ge,
            _ => return Ok(left),
        };
        self.next += 1;
        let at = left.at;
        if matches!(self.keyword(), Keyword::Any | Keyword::Some) {
            return self.any_of(left, op);
        }
        let right = self.predicate(depth)?;
        if !matches!(op, CmpOp::Eq | CmpOp::Ne) {
            ordered(&left)?;
            ordered(&right)?;
        }
        let size = left.size.beside(right.size);
        let (a, b) = self.pair(left, right)?;
        self.node(Expr::Cmp(op, Box::new(a), Box::new(b)), Some(Type::Bool), at, size)
    }

    /// `= ANY (list)`, where the list is one value of the client's.
    fn any_of(&mut self, left: Typed, op: CmpOp) -> Result<Typed> {
        if op != CmpOp::Eq {
            return Err(self.unexpected("a value; only = goes with ANY"));
        }
        self.next += 1;
        self.need(&Token::LParen, "( and a list")?;
        let list = self.operand(0)?;
        let Expr::Placeholder(kind, name, _) = list.expr else {
            let expected = if self.catalog.is_some() { "claim.name" } else { ":parameter" };
            return Err(invalid(list.at, "this is not a list", expected));
        };
        self.need(&Token::RParen, ")")?;
        let ty = left.ty.unwrap_or(Type::Text);
        let value = self.of_type(left.expr, left.ty, ty, left.at)?;
        self.node(Expr::AnyOf(Box::new(value), kind, name, ty), Some(Type::Bool), left.at, left.size)
    }

    pub(super) fn predicate(&mut self, depth: usize) -> Result<Typed> {
        let left = self.operand(depth)?;
        let before_not = self.next;
        let not = self.take_keyword(Keyword::Not);
        let at = left.at;
        let condition = if self.take_keyword(Keyword::In) {
            self.in_list(left, depth)?
        } else if self.take_keyword(Keyword::Between) {
            ordered(&left)?;
            let low = self.operand(depth)?;
            self.need_keyword(Keyword::And, "AND and the upper bound")?;
            let high = self.operand(depth)?;
            // The value stands in both comparisons: it is counted before it is copied.
            let size = left.size.beside(left.size).beside(low.size).beside(high.size);
            self.node(Expr::always(), None, at, Size { nodes: size.nodes + 2, depth: size.depth + 1 })?;
            let copy = Typed { expr: left.expr.clone(), ..left };
            let (a, low) = self.pair(left, low)?;
            let (b, high) = self.pair(copy, high)?;
            let both = vec![
                Expr::Cmp(CmpOp::Ge, Box::new(a), Box::new(low)),
                Expr::Cmp(CmpOp::Le, Box::new(b), Box::new(high)),
            ];
            let size = Size { nodes: size.nodes + 2, depth: size.depth + 1 };
            self.node(Expr::And(both), Some(Type::Bool), at, size)?
        } else if self.take_keyword(Keyword::Like) {
            self.like(left, depth)?
        } else if not {
            self.next = before_not + 1;
            return Err(self.unexpected("IN, BETWEEN or LIKE"));
        } else {
            return Ok(left);
        };
        self.maybe_not(not, condition)
    }

    pub(super) fn in_list(&mut self, left: Typed, depth: usize) -> Result<Typed> {
        self.need(&Token::LParen, "( and a list of values")?;
        if self.keyword() == Keyword::Select {
            return self.in_subquery(left);
        }
        let mut items = Vec::new();
        loop {
            items.push(self.operand(depth)?);
            if self.take(&Token::RParen) {
                break;
            }
            self.need(&Token::Comma, "a comma or )")?;
        }
        // One type for all: what has none of its own takes that of the first that has.
        let ty = left.ty.or_else(|| items.iter().find_map(|i| i.ty)).unwrap_or(Type::Text);
        let (at, mut size) = (left.at, left.size);
        let value = self.of_type(left.expr, left.ty, ty, at)?;
        let mut list = Vec::with_capacity(items.len());
        for item in items {
            size = size.beside(item.size);
            // Only the type of the value decides about what stands beside it.
            let like_it = self.node(Expr::Const(Value::Null), Some(ty), at, Size::default())?;
            list.push(self.pair(like_it, item)?.1);
        }
        self.node(Expr::In(Box::new(value), list), Some(Type::Bool), at, size)
    }

    pub(super) fn like(&mut self, left: Typed, depth: usize) -> Result<Typed> {
        let (value_at, size) = (left.at, left.size);
        let value = self.of_type(left.expr, left.ty, Type::Text, left.at)?;
        let pattern = self.operand(depth)?;
        let at = pattern.at;
        let pattern = self.of_type(pattern.expr, pattern.ty, Type::Text, at)?;
        let mut escape = Some('\\');
        if self.take_keyword(Keyword::Escape) {
            let Token::Text(s) = self.peek() else {
                return Err(self.unexpected("a character in quotes"));
            };
            let mut chars = s.chars();
            escape = chars.next();
            if chars.next().is_some() {
                return Err(self.unexpected("one character or none"));
            }
            self.next += 1;
        }
        let like = match pattern {
            Expr::Const(Value::Text(text)) => match LikePattern::new(&text, escape) {
                Ok(p) => Expr::Like(Box::new(value), Arc::new(p)),
                Err(problem) => return Err(invalid(at, format!("the pattern {problem}"), "")),
            },
            Expr::Const(_) => Expr::Const(Value::Null),
            Expr::Placeholder(..) => Expr::LikePlaceholder(Box::new(value), Box::new(pattern), escape),
            _ => return Err(invalid(at, "a pattern that is not fixed", "a text or a parameter")),
        };
        self.node(like, Some(Type::Bool), value_at, size)
    }

    /// One value, with the casts that follow it.
    pub(super) fn operand(&mut self, depth: usize) -> Result<Typed> {
        let mut value = self.single(depth)?;
        while self.take(&Token::DoubleColon) {
            value = self.cast(value)?;
        }
        Ok(value)
    }

    fn single(&mut self, depth: usize) -> Result<Typed> {
        let at = self.at();
        match self.peek().clone() {
            Token::LParen => {
                self.next += 1;
                if self.keyword() == Keyword::Select {
                    let elsewhere =
                        if self.catalog.is_some() { "stands after IN or EXISTS" } else { "is not supported here" };
                    return Err(self.unexpected(format!("a condition; SELECT {elsewhere}")));
                }
                let inner = self.deeper(depth, Self::expression)?;
                self.need(&Token::RParen, ")")?;
                Ok(Typed { at, ..inner })
            }
            Token::Number(digits) => {
                self.next += 1;
                self.number(&digits, at)
            }
            sign @ (Token::Minus | Token::Plus) => {
                self.next += 1;
                let Token::Number(digits) = self.peek().clone() else { return Err(self.unexpected("a number")) };
                self.next += 1;
                self.number(&format!("{}{digits}", if sign == Token::Minus { "-" } else { "" }), at)
            }
            Token::Text(s) => {
                self.next += 1;
                self.leaf(Expr::Const(Value::from(s)), None, at)
            }
            Token::Colon => {
                self.next += 1;
                let Token::Word(w) = self.peek().clone() else {
                    return Err(self.unexpected("the name of a parameter"));
                };
                if self.catalog.is_some() {
                    return Err(invalid(at, "a rule has no parameters", "claim.name"));
                }
                self.bounded(&w.value)?;
                self.next += 1;
                self.params.insert(w.value.clone());
                self.leaf(Expr::Placeholder(Placeholder::Param, w.value.into(), Type::Any), None, at)
            }
            Token::Word(w) => {
                match self.keyword() {
                    Keyword::True | Keyword::False => {
                        let b = self.keyword() == Keyword::True;
                        self.next += 1;
                        return self.leaf(Expr::Const(Value::Bool(b)), Some(Type::Bool), at);
                    }
                    Keyword::Null => {
                        self.next += 1;
                        return self.leaf(Expr::Const(Value::Null), None, at);
                    }
                    Keyword::Exists => return self.exists(),
                    Keyword::Cast => {
                        self.next += 1;
                        self.need(&Token::LParen, "( and a value")?;
                        let value = self.deeper(depth, Self::operand)?;
                        self.need_keyword(Keyword::As, "AS and a type")?;
                        let cast = self.cast(value)?;
                        self.need(&Token::RParen, ")")?;
                        return Ok(Typed { at, ..cast });
                    }
                    _ => {}
                }
                let is_claim = self.claims
                    && w.value.eq_ignore_ascii_case("claim")
                    && matches!(self.tokens.get(self.next + 1).map(|t| &t.token), Some(Token::Period));
                if is_claim {
                    return self.claim();
                }
                let column = self.column_or_outer(OPERAND)?;
                if *self.peek() == Token::LParen {
                    return Err(self.unexpected(format!("{SUPPORTED}; functions are not supported")));
                }
                Ok(column)
            }
            _ => Err(self.unexpected(OPERAND)),
        }
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

    pub(super) fn claim(&mut self) -> Result<Typed> {
        let at = self.at();
        self.next += 1;
        let mut path = String::new();
        while self.take(&Token::Period) {
            let Token::Word(w) = self.peek() else { return Err(self.unexpected("the name of a claim")) };
            if !path.is_empty() {
                path.push('.');
            }
            path.push_str(&w.value);
            self.next += 1;
        }
        self.bounded(&path)?;
        self.leaf(Expr::Placeholder(Placeholder::Claim, path.into(), Type::Any), None, at)
    }

    pub(super) fn leaf(&self, expr: Expr, ty: Option<Type>, at: Location) -> Result<Typed> {
        self.node(expr, ty, at, Size::default())
    }
}
