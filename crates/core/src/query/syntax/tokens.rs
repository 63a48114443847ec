//! The parser's place in its tokens: what is next, and taking it if it is what the grammar needs.

use gossip_protocol::spelling::MAX_NAME;

use super::ast::Ident;
use super::keyword::Keyword;
use super::lexer::{LexError, Location, Token, Word, excerpt, invalid, tokens};
use super::{MAX_BRACKETS, MAX_TEXT, Parser, Result};
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
        Ok(Parser { tokens, next: 0, end })
    }

    pub(super) fn peek(&self) -> &Token {
        self.peek_at(0)
    }

    /// The token after so many others.
    pub(super) fn peek_at(&self, further: usize) -> &Token {
        self.tokens.get(self.next + further).map_or(&Token::EndOfText, |t| &t.token)
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

    /// A name that is no reserved word, or in quotes.
    pub(super) fn name(&mut self, expected: &str) -> Result<Ident> {
        match self.peek() {
            Token::Word(w) if w.quoted || !w.keyword.is_reserved() => self.word(expected),
            _ => Err(self.unexpected(expected)),
        }
    }

    /// Any word as a name.
    pub(super) fn word(&mut self, expected: &str) -> Result<Ident> {
        let at = self.at();
        let Token::Word(Word { value, quoted, .. }) = self.peek() else { return Err(self.unexpected(expected)) };
        // Longer than any that is known.
        if value.len() > MAX_NAME {
            return Err(invalid(at, format!("a name of {} bytes", value.len()), format!("at most {MAX_NAME}")));
        }
        let name = Ident { name: value.clone(), quoted: *quoted, at };
        self.next += 1;
        Ok(name)
    }

    /// Goes a level down.
    pub(super) fn deeper<T>(&mut self, depth: usize, f: impl FnOnce(&mut Self, usize) -> Result<T>) -> Result<T> {
        if depth >= MAX_BRACKETS {
            return Err(invalid(self.at(), "nested too deeply", format!("at most {MAX_BRACKETS} levels")));
        }
        f(self, depth + 1)
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
