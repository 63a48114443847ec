//! Expressions, from `OR` down to single values.

use super::ast::{Ast, Call, Infix, Node, TypeName};
use super::keyword::Keyword;
use super::lexer::{Location, Token};
use super::{OPERAND, Parser, Result};
use crate::query::CmpOp;
use crate::query::function::Arithmetic;

impl Parser<'_> {
    /// `OR` and everything that binds more tightly.
    pub(super) fn expression(&mut self, depth: usize) -> Result<Ast> {
        self.chain(depth, Keyword::Or, Self::conjunction, Node::Or)
    }

    fn conjunction(&mut self, depth: usize) -> Result<Ast> {
        self.chain(depth, Keyword::And, Self::negation, Node::And)
    }

    /// One part, or several with a word between them.
    fn chain(
        &mut self,
        depth: usize,
        word: Keyword,
        part: impl Fn(&mut Self, usize) -> Result<Ast>,
        join: impl FnOnce(Vec<Ast>) -> Node,
    ) -> Result<Ast> {
        let first = part(self, depth)?;
        if self.keyword() != word {
            return Ok(first);
        }
        let at = first.at;
        let mut all = vec![first];
        while self.take_keyword(word) {
            all.push(part(self, depth)?);
        }
        Ast::new(at, join(all))
    }

    fn negation(&mut self, depth: usize) -> Result<Ast> {
        let at = self.at();
        if !self.take_keyword(Keyword::Not) {
            return self.is_null(depth);
        }
        let inner = self.deeper(depth, Self::negation)?;
        Ast::new(at, Node::Not(Box::new(inner)))
    }

    /// An expression, or its opposite.
    fn maybe_not(not: bool, e: Ast) -> Result<Ast> {
        if not { Ast::new(e.at, Node::Not(Box::new(e))) } else { Ok(e) }
    }

    fn is_null(&mut self, depth: usize) -> Result<Ast> {
        let mut left = self.comparison(depth)?;
        while self.take_keyword(Keyword::Is) {
            let not = self.take_keyword(Keyword::Not);
            let at = left.at;
            let truth = match self.keyword() {
                Keyword::Null => Node::IsNull(Box::new(left)),
                Keyword::True => Node::IsTruth(Box::new(left), Some(true)),
                Keyword::False => Node::IsTruth(Box::new(left), Some(false)),
                Keyword::Unknown => Node::IsTruth(Box::new(left), None),
                Keyword::Distinct => {
                    self.next += 1;
                    self.need_keyword(Keyword::From, "FROM")?;
                    let right = self.predicate(depth)?;
                    left = Self::maybe_not(not, Ast::new(at, Node::Distinct(Box::new(left), Box::new(right)))?)?;
                    continue;
                }
                _ if not => return Err(self.unexpected("NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM")),
                _ => return Err(self.unexpected("NULL, NOT NULL, TRUE, FALSE, UNKNOWN or DISTINCT FROM")),
            };
            self.next += 1;
            left = Self::maybe_not(not, Ast::new(at, truth)?)?;
        }
        Ok(left)
    }

    fn comparison(&mut self, depth: usize) -> Result<Ast> {
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
        let (at, left) = (left.at, Box::new(left));
        if !matches!(self.keyword(), Keyword::Any | Keyword::Some) {
            let right = Box::new(self.predicate(depth)?);
            return Ast::new(at, Node::Compare(op, left, right));
        }
        if op != CmpOp::Eq {
            return Err(self.unexpected("a value; only = goes with ANY"));
        }
        self.next += 1;
        self.need(&Token::LParen, "( and a list")?;
        let list = self.deeper(depth, Self::operand)?;
        self.need(&Token::RParen, ")")?;
        Ast::new(at, Node::AnyOf(left, Box::new(list)))
    }

    fn predicate(&mut self, depth: usize) -> Result<Ast> {
        let left = self.operand(depth)?;
        let before_not = self.next;
        let not = self.take_keyword(Keyword::Not);
        let at = left.at;
        let node = if self.take_keyword(Keyword::In) {
            self.among(left, depth)?
        } else if self.take_keyword(Keyword::Between) {
            let low = Box::new(self.operand(depth)?);
            self.need_keyword(Keyword::And, "AND and the upper bound")?;
            Node::Between { value: Box::new(left), low, high: Box::new(self.operand(depth)?) }
        } else if matches!(self.keyword(), Keyword::Like | Keyword::Ilike) {
            let ignores_case = self.keyword() == Keyword::Ilike;
            self.next += 1;
            self.like(left, ignores_case, depth)?
        } else if not {
            self.next = before_not + 1;
            return Err(self.unexpected("IN, BETWEEN, LIKE or ILIKE"));
        } else {
            return Ok(left);
        };
        Self::maybe_not(not, Ast::new(at, node)?)
    }

    /// After `value IN`.
    fn among(&mut self, value: Ast, depth: usize) -> Result<Node> {
        self.need(&Token::LParen, "( and a list of values")?;
        let value = Box::new(value);
        if self.keyword() == Keyword::Select {
            let select = Box::new(self.deeper(depth, Self::select_at)?);
            self.need(&Token::RParen, "AND, OR or )")?;
            return Ok(Node::InSelect(value, select));
        }
        Ok(Node::In(value, self.list(depth)?))
    }

    /// Values with commas between them, and the closing bracket.
    pub(super) fn list(&mut self, depth: usize) -> Result<Vec<Ast>> {
        let mut items = Vec::new();
        loop {
            items.push(self.expression(depth)?);
            if self.take(&Token::RParen) {
                return Ok(items);
            }
            self.need(&Token::Comma, "a comma or )")?;
        }
    }

    /// After `value LIKE` or `value ILIKE`.
    fn like(&mut self, value: Ast, ignores_case: bool, depth: usize) -> Result<Node> {
        let pattern = Box::new(self.operand(depth)?);
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
        Ok(Node::Like { value: Box::new(value), pattern, escape, ignores_case })
    }

    /// Sums joined by `||` and the operators of json and arrays, which bind alike, from left to right.
    pub(super) fn operand(&mut self, depth: usize) -> Result<Ast> {
        let mut left = self.sum(depth)?;
        loop {
            let at = left.at;
            let infix = match self.peek() {
                Token::Concat => {
                    let mut parts = vec![left];
                    while self.take(&Token::Concat) {
                        parts.push(self.sum(depth)?);
                    }
                    left = Ast::new(at, Node::Concat(parts))?;
                    continue;
                }
                Token::Arrow => Infix::Part { as_text: false },
                Token::ArrowText => Infix::Part { as_text: true },
                Token::Path => Infix::Path { as_text: false },
                Token::PathText => Infix::Path { as_text: true },
                Token::Contains => Infix::Contains,
                Token::Overlaps => Infix::Overlaps,
                _ => return Ok(left),
            };
            self.next += 1;
            let right = self.sum(depth)?;
            left = Ast::new(at, Node::Infix(infix, Box::new(left), Box::new(right)))?;
        }
    }

    fn sum(&mut self, depth: usize) -> Result<Ast> {
        let sign = |token: &Token| match token {
            Token::Plus => Some(Arithmetic::Add),
            Token::Minus => Some(Arithmetic::Subtract),
            _ => None,
        };
        self.operations(depth, sign, Self::product)
    }

    fn product(&mut self, depth: usize) -> Result<Ast> {
        let sign = |token: &Token| match token {
            Token::Star => Some(Arithmetic::Multiply),
            Token::Slash => Some(Arithmetic::Divide),
            Token::Percent => Some(Arithmetic::Modulo),
            _ => None,
        };
        self.operations(depth, sign, Self::signed)
    }

    /// Operands with operators between them, from left to right.
    fn operations(
        &mut self,
        depth: usize,
        sign: impl Fn(&Token) -> Option<Arithmetic>,
        part: impl Fn(&mut Self, usize) -> Result<Ast>,
    ) -> Result<Ast> {
        let mut left = part(self, depth)?;
        while let Some(op) = sign(self.peek()) {
            self.next += 1;
            let right = part(self, depth)?;
            left = Ast::new(left.at, Node::Arithmetic(op, Box::new(left), Box::new(right)))?;
        }
        Ok(left)
    }

    /// A value with a sign, which binds more tightly than `*` and less than a cast.
    fn signed(&mut self, depth: usize) -> Result<Ast> {
        let at = self.at();
        if self.take(&Token::Plus) {
            return Ok(self.deeper(depth, Self::signed)?.placed(at));
        }
        if !self.take(&Token::Minus) {
            return self.value(depth);
        }
        match self.deeper(depth, Self::signed)? {
            // The smallest integer has no opposite that fits.
            Ast { node: Node::Number(digits), .. } if !digits.starts_with('-') => {
                Ast::new(at, Node::Number(format!("-{digits}")))
            }
            value => Ast::new(at, Node::Negate(Box::new(value))),
        }
    }

    /// One value, with the casts that follow it.
    fn value(&mut self, depth: usize) -> Result<Ast> {
        let mut value = self.single(depth)?;
        while self.take(&Token::DoubleColon) {
            let ty = self.type_name()?;
            value = Ast::new(value.at, Node::Cast(Box::new(value), ty))?;
        }
        Ok(value)
    }

    fn type_name(&mut self) -> Result<TypeName> {
        let first = self.name("the name of a type")?;
        let (mut name, at) = (first.name.to_ascii_lowercase(), first.at);
        if name == "double" {
            let precision = self.name("PRECISION")?.name.to_ascii_lowercase();
            name = format!("{name} {precision}");
        }
        Ok(TypeName { name, at })
    }

    fn single(&mut self, depth: usize) -> Result<Ast> {
        let at = self.at();
        match self.peek().clone() {
            Token::LParen => {
                self.next += 1;
                if self.keyword() == Keyword::Select {
                    return Err(self.unexpected("a condition; SELECT stands after IN or EXISTS"));
                }
                let inner = self.deeper(depth, Self::expression)?;
                self.need(&Token::RParen, ")")?;
                Ok(inner.placed(at))
            }
            Token::Number(digits) => self.leaf(Node::Number(digits)),
            Token::Text(s) => self.leaf(Node::Text(s)),
            Token::Colon => {
                self.next += 1;
                let name = self.word("the name of a parameter")?.name;
                Ast::new(at, Node::Param(name))
            }
            Token::Word(_) => self.worded(depth),
            _ => Err(self.unexpected(OPERAND)),
        }
    }

    fn leaf(&mut self, node: Node) -> Result<Ast> {
        let at = self.at();
        self.next += 1;
        Ast::new(at, node)
    }

    /// What begins with a word: a constant, a function, a name.
    fn worded(&mut self, depth: usize) -> Result<Ast> {
        let at = self.at();
        match self.keyword() {
            Keyword::True => self.leaf(Node::Bool(true)),
            Keyword::False => self.leaf(Node::Bool(false)),
            Keyword::Null => self.leaf(Node::Null),
            Keyword::Exists => {
                self.next += 1;
                self.need(&Token::LParen, "( and SELECT")?;
                let select = self.deeper(depth, Self::select_at)?;
                self.need(&Token::RParen, "AND, OR or )")?;
                Ast::new(at, Node::Exists(Box::new(select)))
            }
            Keyword::Cast => {
                self.next += 1;
                self.need(&Token::LParen, "( and a value")?;
                let value = self.deeper(depth, Self::expression)?;
                self.need_keyword(Keyword::As, "AS and a type")?;
                let ty = self.type_name()?;
                self.need(&Token::RParen, ")")?;
                Ast::new(at, Node::Cast(Box::new(value), ty))
            }
            Keyword::Case => {
                self.next += 1;
                self.deeper(depth, |parser, depth| parser.case(depth, at))
            }
            _ if *self.peek_at(1) == Token::LParen && self.names_function() => self.call(depth, at),
            _ if matches!(self.peek_at(1), Token::Text(_)) && !self.keyword().is_reserved() => self.typed_text(at),
            _ => self.dotted(at),
        }
    }

    /// Whether a word before a bracket is a function's name.
    fn names_function(&self) -> bool {
        matches!(self.keyword(), Keyword::Left | Keyword::Right) || !self.keyword().is_reserved()
    }

    fn call(&mut self, depth: usize, at: Location) -> Result<Ast> {
        let mut name = self.word(OPERAND)?;
        self.next += 1;
        let before = self.at();
        let distinct = self.take_keyword(Keyword::Distinct).then_some(before);
        if *self.peek() == Token::Star && *self.peek_at(1) == Token::RParen {
            self.next += 2;
            return self.filtered(Call { name, args: None, distinct, filter: None }, depth, at);
        }
        if self.take(&Token::RParen) {
            return self.filtered(Call { name, args: Some(Vec::new()), distinct, filter: None }, depth, at);
        }
        let args = match name.name.to_ascii_lowercase().as_str() {
            "extract" => self.deeper(depth, Self::extracted)?,
            "substring" => self.deeper(depth, Self::substring)?,
            "trim" => {
                name.name = match self.keyword() {
                    Keyword::Leading => "ltrim",
                    Keyword::Trailing => "rtrim",
                    _ => "btrim",
                }
                .into();
                self.next +=
                    usize::from(matches!(self.keyword(), Keyword::Both | Keyword::Leading | Keyword::Trailing));
                self.deeper(depth, Self::trimmed)?
            }
            _ => self.deeper(depth, Self::list)?,
        };
        self.filtered(Call { name, args: Some(args), distinct, filter: None }, depth, at)
    }

    /// A function, with the `FILTER` that may follow it.
    fn filtered(&mut self, mut call: Call, depth: usize, at: Location) -> Result<Ast> {
        if self.keyword() == Keyword::Filter && *self.peek_at(1) == Token::LParen {
            self.next += 2;
            self.need_keyword(Keyword::Where, "WHERE")?;
            call.filter = Some(self.deeper(depth, Self::expression)?);
            self.need(&Token::RParen, ")")?;
        }
        Ast::new(at, Node::Call(Box::new(call)))
    }

    /// `field FROM value)`: the field as a text.
    fn extracted(&mut self, depth: usize) -> Result<Vec<Ast>> {
        let at = self.at();
        let field = match self.peek().clone() {
            Token::Text(s) => {
                self.next += 1;
                s
            }
            _ => self.word("year, month, day or another field")?.name,
        };
        self.need_keyword(Keyword::From, "FROM and a date or timestamp")?;
        let mut args = vec![Ast::new(at, Node::Text(field))?];
        args.extend(self.list(depth)?);
        Ok(args)
    }

    /// `text FROM start FOR length)`, or arguments with commas.
    fn substring(&mut self, depth: usize) -> Result<Vec<Ast>> {
        let mut args = vec![self.expression(depth)?];
        if self.take_keyword(Keyword::From) {
            args.push(self.expression(depth)?);
            if self.take_keyword(Keyword::For) {
                args.push(self.expression(depth)?);
            }
        } else if self.take_keyword(Keyword::For) {
            args.push(Ast::new(self.at(), Node::Number("1".into()))?);
            args.push(self.expression(depth)?);
        } else if self.take(&Token::Comma) {
            args.extend(self.list(depth)?);
            return Ok(args);
        }
        self.need(&Token::RParen, "FROM, FOR, a comma or )")?;
        Ok(args)
    }

    /// `characters FROM text)`, `FROM text)`, or arguments with commas.
    fn trimmed(&mut self, depth: usize) -> Result<Vec<Ast>> {
        if self.take_keyword(Keyword::From) {
            return self.list(depth);
        }
        let first = self.expression(depth)?;
        if self.take_keyword(Keyword::From) {
            let mut args = self.list(depth)?;
            args.push(first);
            return Ok(args);
        }
        let mut args = vec![first];
        if self.take(&Token::Comma) {
            args.extend(self.list(depth)?);
            return Ok(args);
        }
        self.need(&Token::RParen, "FROM, a comma or )")?;
        Ok(args)
    }

    /// After `CASE`.
    fn case(&mut self, depth: usize, at: Location) -> Result<Ast> {
        let operand = match self.keyword() {
            Keyword::When => None,
            _ => Some(Box::new(self.expression(depth)?)),
        };
        let mut arms = Vec::new();
        while self.take_keyword(Keyword::When) {
            let when = self.expression(depth)?;
            self.need_keyword(Keyword::Then, "THEN")?;
            arms.push((when, self.expression(depth)?));
        }
        if arms.is_empty() {
            return Err(self.unexpected("WHEN"));
        }
        let otherwise = if self.take_keyword(Keyword::Else) { Some(Box::new(self.expression(depth)?)) } else { None };
        self.need_keyword(Keyword::End, "WHEN, ELSE or END")?;
        Ast::new(at, Node::Case { operand, arms, otherwise })
    }

    /// `date '2026-11-29'`: a text of a type.
    fn typed_text(&mut self, at: Location) -> Result<Ast> {
        let ty = self.type_name()?;
        let text = self.single(0)?;
        Ast::new(at, Node::Cast(Box::new(text), ty))
    }

    /// A name, with those before it.
    fn dotted(&mut self, at: Location) -> Result<Ast> {
        let mut parts = vec![self.name(OPERAND)?];
        while self.take(&Token::Period) {
            // A claim may have any name: `claim.group`.
            parts.push(self.word("a name")?);
        }
        Ast::new(at, Node::Name(parts))
    }
}
