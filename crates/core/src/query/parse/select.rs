//! `SELECT`, its tables and columns.

use super::keyword::Keyword;
use super::lexer::{Location, Token, invalid};
use super::{Parser, Result, Scope, Typed};
use crate::query::{Expr, LiveQuery, QueryError, Visible};
use gossip_protocol::spelling::{MAX_NAME, similar};

impl Parser<'_> {
    pub(super) fn query(&mut self, visible: &dyn Visible) -> Result<LiveQuery> {
        self.need_keyword(Keyword::Select, "SELECT")?;
        let at_select = self.next;
        // The select list can be understood only with the table: skip to FROM, then come back.
        self.skip_to_from()?;
        let scope = self.table(visible)?;
        self.scopes.push(scope);
        let at_rest = self.next;
        self.next = at_select;
        let select = self.select_list()?;
        self.next = at_rest;

        let condition = if self.take_keyword(Keyword::Where) {
            let e = self.expression(0)?;
            self.condition(e)?
        } else {
            Expr::always()
        };
        self.take(&Token::Semicolon);
        if *self.peek() != Token::EndOfText {
            return Err(self.unexpected(match self.keyword() {
                Keyword::Order | Keyword::Limit | Keyword::Group | Keyword::Having | Keyword::Union => {
                    "the end of the query: one table with WHERE is supported"
                }
                Keyword::Join | Keyword::Inner | Keyword::Left | Keyword::Cross => "WHERE: one table is supported",
                _ => "WHERE, AND, OR or the end of the query",
            }));
        }
        let Some(Scope { table, .. }) = self.scopes.pop() else { return Err(self.unexpected("a table")) };
        Ok(LiveQuery { table, select, condition })
    }

    /// Goes on behind the next `FROM` that is not in brackets.
    pub(super) fn skip_to_from(&mut self) -> Result<()> {
        let mut depth = 0usize;
        loop {
            match self.peek() {
                Token::EndOfText => return Err(self.unexpected("FROM and a table")),
                Token::LParen => depth += 1,
                Token::RParen => depth = depth.saturating_sub(1),
                _ if depth == 0 && self.keyword() == Keyword::From => break,
                _ => {}
            }
            self.next += 1;
        }
        self.next += 1;
        Ok(())
    }

    pub(super) fn name(&mut self, expected: &str) -> Result<(String, bool, Location)> {
        let at = self.at();
        let Token::Word(w) = self.peek() else { return Err(self.unexpected(expected)) };
        let found = (w.value.clone(), w.quoted, at);
        if !w.quoted && w.keyword.is_reserved() {
            return Err(self.unexpected(expected));
        }
        self.bounded(&found.0)?;
        self.next += 1;
        Ok(found)
    }

    /// Refuses a name that is longer than any that is known.
    pub(super) fn bounded(&self, name: &str) -> Result<()> {
        if name.len() <= MAX_NAME {
            return Ok(());
        }
        Err(invalid(self.at(), format!("a name of {} bytes", name.len()), format!("at most {MAX_NAME}")))
    }

    pub(super) fn table(&mut self, visible: &dyn Visible) -> Result<Scope> {
        let (mut name, mut quoted, at) = self.name("the name of a table")?;
        let mut schema = None;
        if self.take(&Token::Period) {
            schema = Some(name);
            (name, quoted, _) = self.name("the name of a table")?;
        }
        if *self.peek() == Token::Comma {
            return Err(self.unexpected("WHERE: one table is supported"));
        }
        if matches!(self.peek(), Token::Word(_)) && !self.may_follow_table() {
            return Err(self.unexpected("WHERE: aliases are not supported"));
        }
        match visible.table(schema.as_deref(), &name, quoted) {
            Some((table, visible)) => Ok(Scope { table, alias: None, visible }),
            None => {
                let full = schema.map_or(name.clone(), |s| format!("{s}.{name}"));
                let names = visible.names();
                let similar = similar(&full, names.iter().map(String::as_str));
                Err(QueryError::NotKnown { line: at.line, column: at.column, kind: "table", name: full, similar })
            }
        }
    }

    pub(super) fn may_follow_table(&self) -> bool {
        self.keyword().is_reserved()
    }

    pub(super) fn select_list(&mut self) -> Result<Vec<usize>> {
        let mut select = Vec::new();
        loop {
            let at = self.at();
            if self.take(&Token::Star) {
                let Some(scope) = self.scopes.last() else { return Err(self.unexpected("FROM")) };
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
            if self.take_keyword(Keyword::From) {
                return Ok(select);
            }
            self.need(&Token::Comma, "a comma or FROM; only columns are supported here")?;
        }
    }

    /// A column of the row that is spoken of.
    pub(super) fn column(&mut self, expected: &str) -> Result<usize> {
        let (qualifier, name, quoted, at) = self.column_name(expected)?;
        self.own(qualifier.as_deref(), &name, quoted).ok_or_else(|| self.not_known(qualifier, &name, at))
    }

    /// A column of the row that is spoken of or, in a sub-select, of the row around it.
    pub(super) fn column_or_outer(&mut self, expected: &str) -> Result<Typed> {
        let (qualifier, name, quoted, at) = self.column_name(expected)?;
        let innermost = self.scopes.len().saturating_sub(1);
        let outer = || {
            let around = innermost.checked_sub(1)?;
            self.find(around, qualifier.as_deref(), &name, quoted).map(|i| (around, Expr::Outer(i), i))
        };
        let own = self.own(qualifier.as_deref(), &name, quoted).map(|i| (innermost, Expr::Column(i), i));
        match own.or_else(outer) {
            Some((scope, expr, i)) => self.leaf(expr, Some(self.scopes[scope].table.columns[i].ty), at),
            None => Err(self.not_known(qualifier, &name, at)),
        }
    }

    fn column_name(&mut self, expected: &str) -> Result<(Option<String>, String, bool, Location)> {
        let (mut name, mut quoted, mut at) = self.name(expected)?;
        let mut qualifier = None;
        if self.take(&Token::Period) {
            qualifier = Some(name);
            (name, quoted, at) = self.name("the name of a column")?;
        }
        Ok((qualifier, name, quoted, at))
    }

    fn own(&self, qualifier: Option<&str>, name: &str, quoted: bool) -> Option<usize> {
        self.find(self.scopes.len().checked_sub(1)?, qualifier, name, quoted)
    }

    fn find(&self, scope: usize, qualifier: Option<&str>, name: &str, quoted: bool) -> Option<usize> {
        let Scope { table, alias, visible } = self.scopes.get(scope)?;
        let own = alias.as_deref().unwrap_or(&table.name.name);
        let found =
            if qualifier.is_none_or(|q| own.eq_ignore_ascii_case(q)) { table.column(name, quoted) } else { None };
        found.filter(|&i| visible.contains(i))
    }

    fn not_known(&self, qualifier: Option<String>, name: &str, at: Location) -> QueryError {
        let visible = self.scopes.last().map(|s| s.visible.iter().map(|i| &*s.table.columns[i].name));
        QueryError::NotKnown {
            line: at.line,
            column: at.column,
            kind: "column",
            name: qualifier.map_or(name.to_string(), |q| format!("{q}.{name}")),
            similar: visible.and_then(|v| similar(name, v)),
        }
    }
}
