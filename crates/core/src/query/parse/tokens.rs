//! Words and signs, one after the other, each with its place.

use std::collections::BTreeSet;

use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::keywords::Keyword;
use sqlparser::tokenizer::{Location, Token, Tokenizer};

use super::{MAX_TEXT, Parser, Result};
use crate::query::QueryError;

impl<'a> Parser<'a> {
    pub(super) fn new(text: &str) -> Result<Parser<'a>> {
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
            scopes: Vec::new(),
            catalog: None,
            claims: false,
            params: BTreeSet::new(),
        })
    }

    pub(super) fn peek(&self) -> &Token {
        self.tokens.get(self.next).map_or(&Token::EOF, |t| &t.token)
    }

    pub(super) fn at(&self) -> Location {
        self.tokens.get(self.next).map_or(self.end, |t| t.span.start)
    }

    pub(super) fn keyword(&self) -> Keyword {
        match self.peek() {
            Token::Word(w) if w.quote_style.is_none() => w.keyword,
            _ => Keyword::NoKeyword,
        }
    }

    pub(super) fn take_keyword(&mut self, k: Keyword) -> bool {
        let found = self.keyword() == k;
        self.next += usize::from(found);
        found
    }

    pub(super) fn take(&mut self, token: &Token) -> bool {
        let found = self.peek() == token;
        self.next += usize::from(found);
        found
    }

    pub(super) fn need(&mut self, token: &Token, expected: &str) -> Result<()> {
        if self.take(token) { Ok(()) } else { Err(self.unexpected(expected)) }
    }

    pub(super) fn need_keyword(&mut self, k: Keyword, expected: &str) -> Result<()> {
        if self.take_keyword(k) { Ok(()) } else { Err(self.unexpected(expected)) }
    }

    pub(super) fn unexpected(&self, expected: impl Into<String>) -> QueryError {
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

    pub(super) fn end(&mut self) -> Result<()> {
        self.take(&Token::SemiColon);
        if *self.peek() == Token::EOF { Ok(()) } else { Err(self.unexpected("the end of the text")) }
    }
}

pub(super) fn is_reserved(k: Keyword) -> bool {
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

pub(super) fn invalid(at: Location, message: impl Into<String>, expected: impl Into<String>) -> QueryError {
    // The tokenizer counts from 1, and gives 0 where it does not know.
    QueryError::Invalid {
        line: at.line.max(1),
        column: at.column.max(1),
        message: message.into(),
        expected: expected.into(),
    }
}
