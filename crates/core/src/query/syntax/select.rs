//! `SELECT … FROM … WHERE …`

use super::ast::{Item, Select, TableRef};
use super::keyword::Keyword;
use super::lexer::Token;
use super::{Parser, Result};

impl Parser<'_> {
    /// From `SELECT` to the end of the condition.
    pub(super) fn select(&mut self) -> Result<Select> {
        self.select_at(0)
    }

    pub(super) fn select_at(&mut self, depth: usize) -> Result<Select> {
        let at = self.at();
        self.need_keyword(Keyword::Select, "SELECT")?;
        let items = self.items(depth)?;
        let from = self.table()?;
        let condition =
            if self.take_keyword(Keyword::Where) { Some(self.deeper(depth, Self::expression)?) } else { None };
        Ok(Select { at, items, from, condition })
    }

    /// What is selected, and `FROM`.
    fn items(&mut self, depth: usize) -> Result<Vec<Item>> {
        let mut items = Vec::new();
        loop {
            let at = self.at();
            items.push(match self.peek() {
                Token::Star => {
                    self.next += 1;
                    Item::Star(at)
                }
                Token::EndOfText => return Err(self.unexpected("* or the name of a column")),
                _ => Item::Expr(self.deeper(depth, Self::operand)?),
            });
            if self.take_keyword(Keyword::From) {
                return Ok(items);
            }
            self.need(&Token::Comma, "a comma or FROM; only columns are supported here")?;
        }
    }

    fn table(&mut self) -> Result<TableRef> {
        let mut table = self.name("the name of a table")?;
        let mut schema = None;
        if self.take(&Token::Period) {
            schema = Some(table);
            table = self.name("the name of a table")?;
        }
        let named = self.take_keyword(Keyword::As);
        let other = matches!(self.peek(), Token::Word(w) if w.quoted || !w.keyword.is_reserved());
        let alias = if named || other { Some(self.name("another name for the table")?) } else { None };
        if *self.peek() == Token::Comma {
            return Err(self.unexpected("WHERE: one table is supported"));
        }
        Ok(TableRef { schema, table, alias })
    }

    /// Nothing but a semicolon may follow.
    pub(super) fn end_of_query(&mut self) -> Result<()> {
        self.take(&Token::Semicolon);
        if *self.peek() == Token::EndOfText {
            return Ok(());
        }
        Err(self.unexpected(match self.keyword() {
            Keyword::Order | Keyword::Limit | Keyword::Group | Keyword::Having | Keyword::Union => {
                "the end of the query: one table with WHERE is supported"
            }
            Keyword::Join | Keyword::Inner | Keyword::Left | Keyword::Cross => "WHERE: one table is supported",
            _ => "WHERE, AND, OR or the end of the query",
        }))
    }
}
