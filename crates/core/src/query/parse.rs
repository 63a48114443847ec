//! The parser: words and signs from `sqlparser`'s tokenizer, a grammar of our own.
//!
//! A grammar of our own, because a live query is a small part of SQL and everything outside of it must be refused at
//! its place with what is supported instead; a parser of all SQL would accept, and so invite us to overlook, far more.
//! Binding strength is PostgreSQL's: `OR`, `AND`, `NOT`, `IS`, comparisons, then `IN`, `BETWEEN` and `LIKE`.

use std::collections::BTreeSet;
use std::sync::Arc;

use serde_json::{Map, Value as Json};
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::keywords::Keyword;
use sqlparser::tokenizer::{Location, Token, TokenWithSpan, Tokenizer};

use super::expr::{Blank, CmpOp, Expr};
use super::like::LikePattern;
use super::{LiveQuery, QueryError, Visible, similar};
use crate::schema::{ColumnSet, Table};
use crate::value::{Type, Value};

/// Longest text of a query or condition, in bytes.
pub const MAX_TEXT: usize = 64 * 1024;

/// Deepest nesting of brackets and `NOT`.
const MAX_DEPTH: usize = 48;

type Result<T> = std::result::Result<T, QueryError>;

/// Reads a live query. `params` are checked for names that the text does not use; they are filled in by
/// [`LiveQuery::bind`].
pub fn parse_query(text: &str, visible: &dyn Visible, params: &Map<String, Json>) -> Result<LiveQuery> {
    let mut p = Parser::new(text)?;
    let query = p.query(visible)?;
    if let Some(stray) = params.keys().find(|name| !p.params.contains(name.as_str())) {
        let hint = match similar(stray, p.params.iter().map(String::as_str)) {
            Some(s) => format!("; did you mean :{s}?"),
            None => String::new(),
        };
        return Err(QueryError::Parameter(format!("parameter :{stray} is not used by the query{hint}")));
    }
    Ok(query)
}

/// Reads the row condition of a rule on `table`: all columns and claims may be named, parameters may not.
pub fn parse_condition(text: &str, table: &Arc<Table>) -> Result<Expr> {
    let mut p = Parser::new(text)?;
    p.scope = Some(Scope { table: table.clone(), visible: table.all_columns(), claims: true });
    let e = p.expression(0)?;
    let condition = p.condition(e)?;
    p.end()?;
    Ok(condition.normal())
}

/// What column names mean at the moment.
struct Scope {
    table: Arc<Table>,
    visible: ColumnSet,
    claims: bool,
}

/// An expression with its type, as far as it is known, and where it starts.
struct Typed {
    expr: Expr,
    /// `None`: a quoted text, a blank or NULL, which take the type of what they meet.
    ty: Option<Type>,
    at: Location,
}

struct Parser {
    tokens: Vec<TokenWithSpan>,
    next: usize,
    end: Location,
    scope: Option<Scope>,
    params: BTreeSet<String>,
}

const OPERAND: &str = "a column, a value, :parameter or ( … )";
const SUPPORTED: &str = "comparisons, AND, OR, NOT, IN, BETWEEN, LIKE, IS NULL";

impl Parser {
    fn new(text: &str) -> Result<Parser> {
        if text.len() > MAX_TEXT {
            return Err(invalid(
                Location::new(1, 1),
                format!("the text has {} bytes", text.len()),
                format!("at most {MAX_TEXT}"),
            ));
        }
        let tokens = Tokenizer::new(&PostgreSqlDialect {}, text)
            .tokenize_with_location()
            .map_err(|e| invalid(e.location, e.message, "SQL"))?;
        let lines = text.lines().count().max(1) as u64;
        let last = text.lines().last().map_or(0, |l| l.chars().count()) as u64;
        Ok(Parser {
            tokens: tokens.into_iter().filter(|t| !matches!(t.token, Token::Whitespace(_))).collect(),
            next: 0,
            end: Location::new(lines, last + 1),
            scope: None,
            params: BTreeSet::new(),
        })
    }

    fn peek(&self) -> &Token {
        self.tokens.get(self.next).map_or(&Token::EOF, |t| &t.token)
    }

    fn at(&self) -> Location {
        self.tokens.get(self.next).map_or(self.end, |t| t.span.start)
    }

    fn keyword(&self) -> Keyword {
        match self.peek() {
            Token::Word(w) if w.quote_style.is_none() => w.keyword,
            _ => Keyword::NoKeyword,
        }
    }

    fn take_keyword(&mut self, k: Keyword) -> bool {
        let found = self.keyword() == k;
        self.next += usize::from(found);
        found
    }

    fn take(&mut self, token: &Token) -> bool {
        let found = self.peek() == token;
        self.next += usize::from(found);
        found
    }

    fn need(&mut self, token: &Token, expected: &str) -> Result<()> {
        if self.take(token) { Ok(()) } else { Err(self.unexpected(expected)) }
    }

    fn need_keyword(&mut self, k: Keyword, expected: &str) -> Result<()> {
        if self.take_keyword(k) { Ok(()) } else { Err(self.unexpected(expected)) }
    }

    fn unexpected(&self, expected: impl Into<String>) -> QueryError {
        let message = match self.peek() {
            Token::EOF => "the text ends here".to_string(),
            token => {
                let text = token.to_string();
                let short: String = text.chars().take(40).collect();
                if short.len() < text.len() { format!("unexpected {short}…") } else { format!("unexpected {short}") }
            }
        };
        invalid(self.at(), message, expected)
    }

    fn end(&mut self) -> Result<()> {
        self.take(&Token::SemiColon);
        if *self.peek() == Token::EOF { Ok(()) } else { Err(self.unexpected("the end of the text")) }
    }

    fn query(&mut self, visible: &dyn Visible) -> Result<LiveQuery> {
        self.need_keyword(Keyword::SELECT, "SELECT")?;
        let at_select = self.next;
        // The select list can be understood only with the table: skip to FROM, then come back.
        let mut depth = 0usize;
        loop {
            match self.peek() {
                Token::EOF => return Err(self.unexpected("FROM and a table")),
                Token::LParen => depth += 1,
                Token::RParen => depth = depth.saturating_sub(1),
                _ if depth == 0 && self.keyword() == Keyword::FROM => break,
                _ => {}
            }
            self.next += 1;
        }
        self.next += 1;
        self.scope = Some(self.table(visible)?);
        let at_rest = self.next;
        self.next = at_select;
        let select = self.select_list()?;
        self.next = at_rest;

        let condition = if self.take_keyword(Keyword::WHERE) {
            let e = self.expression(0)?;
            self.condition(e)?
        } else {
            Expr::always()
        };
        self.take(&Token::SemiColon);
        if *self.peek() != Token::EOF {
            return Err(self.unexpected(match self.keyword() {
                Keyword::ORDER | Keyword::LIMIT | Keyword::GROUP | Keyword::HAVING | Keyword::UNION => {
                    "the end of the query: one table with WHERE is supported"
                }
                Keyword::JOIN | Keyword::INNER | Keyword::LEFT | Keyword::CROSS => "WHERE: one table is supported",
                _ => "WHERE, AND, OR or the end of the query",
            }));
        }
        let Some(Scope { table, .. }) = self.scope.take() else { return Err(self.unexpected("a table")) };
        Ok(LiveQuery { table, select, condition })
    }

    fn name(&mut self, expected: &str) -> Result<(String, bool, Location)> {
        let at = self.at();
        let Token::Word(w) = self.peek() else { return Err(self.unexpected(expected)) };
        let found = (w.value.clone(), w.quote_style.is_some(), at);
        if w.quote_style.is_none() && is_reserved(w.keyword) {
            return Err(self.unexpected(expected));
        }
        self.next += 1;
        Ok(found)
    }

    fn table(&mut self, visible: &dyn Visible) -> Result<Scope> {
        let (mut name, mut quoted, at) = self.name("the name of a table")?;
        let mut schema = None;
        if self.take(&Token::Period) {
            schema = Some(name);
            (name, quoted, _) = self.name("the name of a table")?;
        }
        if matches!(self.peek(), Token::Comma) || matches!(self.peek(), Token::Word(_)) && !self.may_follow_table() {
            return Err(self.unexpected("WHERE: one table without another name is supported"));
        }
        match visible.table(schema.as_deref(), &name, quoted) {
            Some((table, visible)) => Ok(Scope { table, visible, claims: false }),
            None => {
                let full = schema.map_or(name.clone(), |s| format!("{s}.{name}"));
                let names = visible.names();
                let similar = similar(&full, names.iter().map(String::as_str));
                Err(QueryError::NotKnown { line: at.line, column: at.column, kind: "table", name: full, similar })
            }
        }
    }

    fn may_follow_table(&self) -> bool {
        is_reserved(self.keyword())
    }

    fn select_list(&mut self) -> Result<Vec<usize>> {
        let mut select = Vec::new();
        loop {
            let at = self.at();
            if self.take(&Token::Mul) {
                let Some(scope) = &self.scope else { return Err(self.unexpected("FROM")) };
                if !select.is_empty() {
                    return Err(invalid(at, "* beside other columns", "either * or names of columns"));
                }
                select = scope.visible.iter().collect();
            } else {
                let column = self.column("* or the name of a column")?;
                if select.contains(&column) {
                    return Err(invalid(at, "this column is named twice", "each column once"));
                }
                select.push(column);
            }
            if self.take_keyword(Keyword::FROM) {
                return Ok(select);
            }
            self.need(&Token::Comma, "a comma or FROM; only columns are supported here")?;
        }
    }

    fn column(&mut self, expected: &str) -> Result<usize> {
        let (mut name, mut quoted, mut at) = self.name(expected)?;
        let mut qualifier = None;
        if self.take(&Token::Period) {
            qualifier = Some(name);
            (name, quoted, at) = self.name("the name of a column")?;
        }
        self.resolve(qualifier.as_deref(), &name, quoted, at)
    }

    fn resolve(&self, qualifier: Option<&str>, name: &str, quoted: bool, at: Location) -> Result<usize> {
        let Some(Scope { table, visible, .. }) = &self.scope else { return Err(self.unexpected("FROM")) };
        let own = qualifier.is_none_or(|q| table.name.name.eq_ignore_ascii_case(q));
        let found = own.then(|| table.column(name, quoted)).flatten().filter(|&i| visible.contains(i));
        found.ok_or_else(|| QueryError::NotKnown {
            line: at.line,
            column: at.column,
            kind: "column",
            name: qualifier.map_or(name.to_string(), |q| format!("{q}.{name}")),
            similar: similar(name, visible.iter().map(|i| &*table.columns[i].name)),
        })
    }

    /// `OR` and everything that binds more tightly.
    fn expression(&mut self, depth: usize) -> Result<Typed> {
        let first = self.conjunction(depth)?;
        if self.keyword() != Keyword::OR {
            return Ok(first);
        }
        let at = first.at;
        let mut any = vec![self.condition(first)?];
        while self.take_keyword(Keyword::OR) {
            let next = self.conjunction(depth)?;
            any.push(self.condition(next)?);
        }
        Ok(Typed { expr: Expr::Or(any), ty: Some(Type::Bool), at })
    }

    fn conjunction(&mut self, depth: usize) -> Result<Typed> {
        let first = self.negation(depth)?;
        if self.keyword() != Keyword::AND {
            return Ok(first);
        }
        let at = first.at;
        let mut all = vec![self.condition(first)?];
        while self.take_keyword(Keyword::AND) {
            let next = self.negation(depth)?;
            all.push(self.condition(next)?);
        }
        Ok(Typed { expr: Expr::And(all), ty: Some(Type::Bool), at })
    }

    fn negation(&mut self, depth: usize) -> Result<Typed> {
        let at = self.at();
        if !self.take_keyword(Keyword::NOT) {
            return self.is_null(depth);
        }
        let inner = self.deeper(depth, Self::negation)?;
        let condition = self.condition(inner)?;
        Ok(Typed { expr: Expr::Not(Box::new(condition)), ty: Some(Type::Bool), at })
    }

    fn deeper(&mut self, depth: usize, f: impl FnOnce(&mut Self, usize) -> Result<Typed>) -> Result<Typed> {
        if depth >= MAX_DEPTH {
            return Err(invalid(self.at(), "nested too deeply", format!("at most {MAX_DEPTH} levels")));
        }
        f(self, depth + 1)
    }

    fn is_null(&mut self, depth: usize) -> Result<Typed> {
        let mut left = self.comparison(depth)?;
        while self.take_keyword(Keyword::IS) {
            let not = self.take_keyword(Keyword::NOT);
            self.need_keyword(Keyword::NULL, if not { "NULL" } else { "NULL or NOT NULL" })?;
            let operand = match left.expr {
                Expr::Blank(kind, name, _) => Expr::Blank(kind, name, left.ty.unwrap_or(Type::Text)),
                e => e,
            };
            let test = Expr::IsNull(Box::new(operand));
            let expr = if not { Expr::Not(Box::new(test)) } else { test };
            left = Typed { expr, ty: Some(Type::Bool), at: left.at };
        }
        Ok(left)
    }

    fn comparison(&mut self, depth: usize) -> Result<Typed> {
        let left = self.predicate(depth)?;
        let op = match self.peek() {
            Token::Eq => CmpOp::Eq,
            Token::Neq => CmpOp::Ne,
            Token::Lt => CmpOp::Lt,
            Token::LtEq => CmpOp::Le,
            Token::Gt => CmpOp::Gt,
            Token::GtEq => CmpOp::Ge,
            _ => return Ok(left),
        };
        self.next += 1;
        let right = self.predicate(depth)?;
        let at = left.at;
        let (a, b) = self.pair(left, right)?;
        Ok(Typed { expr: Expr::Cmp(op, Box::new(a), Box::new(b)), ty: Some(Type::Bool), at })
    }

    fn predicate(&mut self, depth: usize) -> Result<Typed> {
        let left = self.operand(depth)?;
        let before_not = self.next;
        let not = self.take_keyword(Keyword::NOT);
        let at = left.at;
        let expr = if self.take_keyword(Keyword::IN) {
            self.in_list(left, depth)?
        } else if self.take_keyword(Keyword::BETWEEN) {
            let low = self.operand(depth)?;
            self.need_keyword(Keyword::AND, "AND and the upper bound")?;
            let high = self.operand(depth)?;
            let copy = Typed { expr: left.expr.clone(), ty: left.ty, at };
            let (a, low) = self.pair(left, low)?;
            let (b, high) = self.pair(copy, high)?;
            Expr::And(vec![
                Expr::Cmp(CmpOp::Ge, Box::new(a), Box::new(low)),
                Expr::Cmp(CmpOp::Le, Box::new(b), Box::new(high)),
            ])
        } else if self.take_keyword(Keyword::LIKE) {
            self.like(left, depth)?
        } else if not {
            self.next = before_not + 1;
            return Err(self.unexpected("IN, BETWEEN or LIKE"));
        } else {
            return Ok(left);
        };
        let expr = if not { Expr::Not(Box::new(expr)) } else { expr };
        Ok(Typed { expr, ty: Some(Type::Bool), at })
    }

    fn in_list(&mut self, left: Typed, depth: usize) -> Result<Expr> {
        self.need(&Token::LParen, "( and a list of values")?;
        if self.keyword() == Keyword::SELECT {
            return Err(self.unexpected("a list of values; SELECT is not supported here"));
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
        let value = self.of_type(left.expr, left.ty, ty, left.at)?;
        let mut list = Vec::with_capacity(items.len());
        for item in items {
            let left = Typed { expr: value.clone(), ty: Some(ty), at: left.at };
            list.push(self.pair(left, item)?.1);
        }
        Ok(Expr::In(Box::new(value), list))
    }

    fn like(&mut self, left: Typed, depth: usize) -> Result<Expr> {
        let value = self.of_type(left.expr, left.ty, Type::Text, left.at)?;
        let pattern = self.operand(depth)?;
        let at = pattern.at;
        let pattern = self.of_type(pattern.expr, pattern.ty, Type::Text, at)?;
        let mut escape = Some('\\');
        if self.take_keyword(Keyword::ESCAPE) {
            let Token::SingleQuotedString(s) = self.peek() else {
                return Err(self.unexpected("a character in quotes"));
            };
            let mut chars = s.chars();
            escape = chars.next();
            if chars.next().is_some() {
                return Err(self.unexpected("one character or none"));
            }
            self.next += 1;
        }
        match pattern {
            Expr::Const(Value::Text(text)) => match LikePattern::new(&text, escape) {
                Ok(p) => Ok(Expr::Like(Box::new(value), p)),
                Err(problem) => Err(invalid(at, format!("the pattern {problem}"), "")),
            },
            Expr::Const(_) => Ok(Expr::Const(Value::Null)),
            Expr::Blank(..) => Ok(Expr::LikeBlank(Box::new(value), Box::new(pattern), escape)),
            _ => Err(invalid(at, "a pattern that is not fixed", "a text or a parameter")),
        }
    }

    fn operand(&mut self, depth: usize) -> Result<Typed> {
        let at = self.at();
        let typed = |expr, ty| Ok(Typed { expr, ty, at });
        match self.peek().clone() {
            Token::LParen => {
                self.next += 1;
                if self.keyword() == Keyword::SELECT {
                    return Err(self.unexpected("a condition; SELECT is not supported here"));
                }
                let inner = self.deeper(depth, Self::expression)?;
                self.need(&Token::RParen, ")")?;
                Ok(Typed { at, ..inner })
            }
            Token::Number(digits, _) => {
                self.next += 1;
                self.number(&digits, at)
            }
            sign @ (Token::Minus | Token::Plus) => {
                self.next += 1;
                let Token::Number(digits, _) = self.peek().clone() else { return Err(self.unexpected("a number")) };
                self.next += 1;
                self.number(&format!("{}{digits}", if sign == Token::Minus { "-" } else { "" }), at)
            }
            Token::SingleQuotedString(s) => {
                self.next += 1;
                typed(Expr::Const(Value::from(s)), None)
            }
            Token::Colon => {
                self.next += 1;
                let Token::Word(w) = self.peek().clone() else {
                    return Err(self.unexpected("the name of a parameter"));
                };
                if self.scope.as_ref().is_some_and(|s| s.claims) {
                    return Err(invalid(at, "a rule has no parameters", "claim.name"));
                }
                self.next += 1;
                self.params.insert(w.value.clone());
                typed(Expr::Blank(Blank::Param, w.value.into(), Type::Any), None)
            }
            Token::Word(w) => {
                match self.keyword() {
                    Keyword::TRUE | Keyword::FALSE => {
                        let b = self.keyword() == Keyword::TRUE;
                        self.next += 1;
                        return typed(Expr::Const(Value::Bool(b)), Some(Type::Bool));
                    }
                    Keyword::NULL => {
                        self.next += 1;
                        return typed(Expr::Const(Value::Null), None);
                    }
                    _ => {}
                }
                let is_claim = self.scope.as_ref().is_some_and(|s| s.claims)
                    && w.value.eq_ignore_ascii_case("claim")
                    && matches!(self.tokens.get(self.next + 1).map(|t| &t.token), Some(Token::Period));
                if is_claim {
                    return self.claim();
                }
                let column = self.column(OPERAND)?;
                if *self.peek() == Token::LParen {
                    return Err(self.unexpected(format!("{SUPPORTED}; functions are not supported")));
                }
                let ty = self.scope.as_ref().map(|s| s.table.columns[column].ty);
                typed(Expr::Column(column), ty)
            }
            _ => Err(self.unexpected(OPERAND)),
        }
    }

    fn number(&self, digits: &str, at: Location) -> Result<Typed> {
        match Value::parse_number(digits) {
            Some(v) => Ok(Typed { ty: Some(v.type_of()), expr: Expr::Const(v), at }),
            None => Err(invalid(at, format!("{digits} is not a number that can be compared"), "")),
        }
    }

    fn claim(&mut self) -> Result<Typed> {
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
        Ok(Typed { expr: Expr::Blank(Blank::Claim, path.into(), Type::Any), ty: None, at })
    }

    /// Makes two operands comparable: texts in quotes and blanks take the other side's type.
    fn pair(&self, a: Typed, b: Typed) -> Result<(Expr, Expr)> {
        let ty = match (a.ty, b.ty) {
            (Some(x), Some(y)) if x.comparable(y) => {
                // A decimal beside doubles is compared as a double; say so once instead of for every row.
                let double = x == Type::Float8 || y == Type::Float8;
                return Ok(if double { (as_double(a.expr), as_double(b.expr)) } else { (a.expr, b.expr) });
            }
            (Some(x), Some(y)) => {
                return Err(invalid(b.at, format!("{x} cannot be compared with {y}"), format!("a value of type {x}")));
            }
            (Some(x), None) | (None, Some(x)) => x,
            (None, None) => {
                let blank = |e: &Expr| matches!(e, Expr::Blank(..));
                if blank(&a.expr) && blank(&b.expr) {
                    return Err(invalid(b.at, "neither side has a type", "a column or a value on one side"));
                }
                Type::Text
            }
        };
        Ok((self.of_type(a.expr, a.ty, ty, a.at)?, self.of_type(b.expr, b.ty, ty, b.at)?))
    }

    fn of_type(&self, expr: Expr, ty: Option<Type>, wanted: Type, at: Location) -> Result<Expr> {
        match (expr, ty) {
            (Expr::Blank(kind, name, _), None) => Ok(Expr::Blank(kind, name, wanted)),
            (Expr::Const(Value::Text(s)), None) => match Value::from_text(&s, wanted) {
                Some(v) => Ok(Expr::Const(v)),
                None => Err(invalid(at, format!("this text is not a value of type {wanted}"), "")),
            },
            (_, Some(ty)) if !ty.comparable(wanted) => {
                Err(invalid(at, format!("a value of type {ty}"), format!("a value of type {wanted}")))
            }
            (expr, _) => Ok(expr),
        }
    }

    /// Takes an expression as a condition.
    fn condition(&self, e: Typed) -> Result<Expr> {
        match e.ty {
            Some(Type::Bool) => Ok(e.expr),
            None => self.of_type(e.expr, None, Type::Bool, e.at),
            Some(ty) => Err(invalid(e.at, format!("a value of type {ty} is not a condition"), SUPPORTED)),
        }
    }
}

fn as_double(e: Expr) -> Expr {
    match e {
        Expr::Const(v @ (Value::Int(_) | Value::Numeric(_))) => match Value::from_text(&v.to_string(), Type::Float8) {
            Some(x) => Expr::Const(x),
            None => Expr::Const(v),
        },
        e => e,
    }
}

fn is_reserved(k: Keyword) -> bool {
    use Keyword::*;
    matches!(
        k,
        SELECT
            | FROM
            | WHERE
            | AND
            | OR
            | NOT
            | IN
            | BETWEEN
            | LIKE
            | IS
            | NULL
            | TRUE
            | FALSE
            | ORDER
            | GROUP
            | HAVING
            | LIMIT
            | OFFSET
            | UNION
            | JOIN
            | INNER
            | LEFT
            | RIGHT
            | FULL
            | CROSS
            | NATURAL
            | ON
            | USING
            | AS
            | DISTINCT
            | CASE
            | CAST
            | EXISTS
            | FOR
            | FETCH
            | WITH
            | INTERSECT
            | EXCEPT
            | WINDOW
    )
}

fn invalid(at: Location, message: impl Into<String>, expected: impl Into<String>) -> QueryError {
    // The tokenizer counts from 1, and gives 0 where it does not know.
    QueryError::Invalid {
        line: at.line.max(1),
        column: at.column.max(1),
        message: message.into(),
        expected: expected.into(),
    }
}
