//! The parser's place in its tokens: what is next, and taking it if it is what the grammar needs.

use std::collections::BTreeSet;

use super::keyword::Keyword;
use super::lexer::{LexError, Location, Token, excerpt, invalid, tokens};
use super::{MAX_TEXT, Parser, Result};
use crate::query::QueryError;

impl<'a> Parser<'a> {
    pub(super) fn new(text: &'a str) -> Result<Parser<'a>> {
        if text.len() > MAX_TEXT {
            return Err(invalid(
                Location { line: 1, column: 1 },
                format!("the text has {} bytes", text.len()),
                format!("at most {MAX_TEXT}"),
            ));
        }
        let (tokens, end) = tokens(text).map_err(|LexError { why, at, text }| {
            let (message, expected) = why.explain(text);
            invalid(at, message, expected)
        })?;
        Ok(Parser { tokens, next: 0, end, scopes: Vec::new(), catalog: None, claims: false, params: BTreeSet::new() })
    }

    pub(super) fn peek(&self) -> &Token {
        self.tokens.get(self.next).map_or(&Token::EndOfText, |t| &t.token)
    }

    pub(super) fn at(&self) -> Location {
        self.tokens.get(self.next).map_or(self.end, |t| t.at)
    }

    pub(super) fn keyword(&self) -> Keyword {
        match self.peek() {
            Token::Word(w) => w.keyword,
            _ => Keyword::Other,
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
        let message = match self.tokens.get(self.next) {
            Some(token) => format!("unexpected {}", excerpt(token.text)),
            None => "the text ends here".to_string(),
        };
        invalid(self.at(), message, expected)
    }

    pub(super) fn end(&mut self) -> Result<()> {
        self.take(&Token::Semicolon);
        if *self.peek() == Token::EndOfText { Ok(()) } else { Err(self.unexpected("the end of the text")) }
    }
}
