//! `SELECT … FROM … WHERE … GROUP BY … HAVING … ORDER BY … LIMIT …`

use super::ast::{Distinct, Item, Join, OrderBy, Select, TableRef, Tail};
use super::keyword::Keyword;
use super::lexer::{Token, Word, invalid};
use super::{Parser, Result};

impl Parser<'_> {
    /// From `SELECT` to `LIMIT` and `OFFSET`.
    pub(super) fn select(&mut self) -> Result<Select> {
        let mut select = self.select_at(0)?;
        select.tail = self.tail()?;
        Ok(select)
    }

    /// From `SELECT` to the end of the condition.
    pub(super) fn select_at(&mut self, depth: usize) -> Result<Select> {
        let at = self.at();
        self.need_keyword(Keyword::Select, "SELECT")?;
        let distinct = self.distinct()?;
        let items = self.items(depth)?;
        let from = self.table()?;
        let joins = self.joins(depth)?;
        let condition =
            if self.take_keyword(Keyword::Where) { Some(self.deeper(depth, Self::expression)?) } else { None };
        Ok(Select { at, distinct, items, from, joins, condition, tail: Tail::default() })
    }

    fn distinct(&mut self) -> Result<Distinct> {
        let at = self.at();
        if !self.take_keyword(Keyword::Distinct) {
            return Ok(Distinct::No);
        }
        if !self.take_keyword(Keyword::On) {
            return Ok(Distinct::Rows(at));
        }
        self.need(&Token::LParen, "( and what the groups have in common")?;
        Ok(Distinct::On(at, self.deeper(0, Self::list)?))
    }

    /// What is selected, and `FROM`.
    fn items(&mut self, depth: usize) -> Result<Vec<Item>> {
        let mut items = Vec::new();
        loop {
            let at = self.at();
            items.push(match self.peek() {
                Token::Star => {
                    self.next += 1;
                    Item::Star(at, None)
                }
                Token::Word(_) if *self.peek_at(1) == Token::Period && *self.peek_at(2) == Token::Star => {
                    let table = self.name("the name of a table")?;
                    self.next += 2;
                    Item::Star(at, Some(table))
                }
                Token::EndOfText => return Err(self.unexpected("* or what is selected")),
                _ => {
                    let value = self.deeper(depth, Self::expression)?;
                    let named = self.take_keyword(Keyword::As) || self.is_name();
                    let name = if named { Some(self.name("a name for the column")?) } else { None };
                    Item::Expr(value, name)
                }
            });
            if self.take_keyword(Keyword::From) {
                return Ok(items);
            }
            self.need(&Token::Comma, "AS, a comma or FROM")?;
        }
    }

    /// Whether a word follows that can be a name.
    fn is_name(&self) -> bool {
        matches!(self.peek(), Token::Word(w) if w.quoted || !w.keyword.is_reserved())
    }

    fn table(&mut self) -> Result<TableRef> {
        let mut table = self.name("the name of a table")?;
        let mut schema = None;
        if self.take(&Token::Period) {
            schema = Some(table);
            table = self.name("the name of a table")?;
        }
        let named = self.take_keyword(Keyword::As);
        let alias = if named || self.is_name() { Some(self.name("another name for the table")?) } else { None };
        if *self.peek() == Token::Comma {
            return Err(self.unexpected("JOIN … ON …, or WHERE"));
        }
        Ok(TableRef { schema, table, alias })
    }

    /// What is joined to the first table.
    fn joins(&mut self, depth: usize) -> Result<Vec<Join>> {
        let mut joins = Vec::new();
        loop {
            let at = self.at();
            let is_left = match self.keyword() {
                Keyword::Join => false,
                Keyword::Inner => {
                    self.next += 1;
                    false
                }
                Keyword::Left => {
                    self.next += 1;
                    self.take_word("outer");
                    true
                }
                _ => return Ok(joins),
            };
            self.need_keyword(Keyword::Join, "JOIN")?;
            let table = self.table()?;
            self.need_keyword(Keyword::On, "ON and what the tables have in common")?;
            joins.push(Join { at, is_left, table, on: self.deeper(depth, Self::expression)? });
        }
    }

    /// Takes a word that is no keyword elsewhere.
    fn take_word(&mut self, word: &str) {
        let is = matches!(self.peek(), Token::Word(w) if !w.quoted && w.value.eq_ignore_ascii_case(word));
        self.next += usize::from(is);
    }

    fn tail(&mut self) -> Result<Tail> {
        let mut tail = Tail::default();
        if self.take_keyword(Keyword::Group) {
            self.need_keyword(Keyword::By, "BY")?;
            tail.group_by.push(self.deeper(0, Self::expression)?);
            while self.take(&Token::Comma) {
                tail.group_by.push(self.deeper(0, Self::expression)?);
            }
        }
        if self.take_keyword(Keyword::Having) {
            tail.having = Some(self.deeper(0, Self::expression)?);
        }
        if self.take_keyword(Keyword::Order) {
            self.need_keyword(Keyword::By, "BY")?;
            tail.order_by.push(self.order()?);
            while self.take(&Token::Comma) {
                tail.order_by.push(self.order()?);
            }
        }
        loop {
            let (word, place) = match self.keyword() {
                Keyword::Limit => ("LIMIT", &mut tail.limit),
                Keyword::Offset => ("OFFSET", &mut tail.offset),
                _ => return Ok(tail),
            };
            if place.is_some() {
                return Err(self.unexpected(format!("the end of the query: {word} stands there already")));
            }
            self.next += 1;
            *place = Some(self.deeper(0, Self::operand)?);
        }
    }

    /// An expression of `ORDER BY`, with its direction.
    fn order(&mut self) -> Result<OrderBy> {
        let value = self.deeper(0, Self::expression)?;
        let at = self.at();
        if self.take_keyword(Keyword::Collate) {
            let collation = self.word("the name of a collation")?;
            if collation.name != "C" || !collation.quoted {
                return Err(invalid(at, "text is ordered by its bytes here", "COLLATE \"C\", or nothing"));
            }
        }
        let descending = self.take_keyword(Keyword::Desc);
        if !descending {
            self.take_keyword(Keyword::Asc);
        }
        let mut nulls_first = descending;
        if self.take_keyword(Keyword::Nulls) {
            nulls_first = match self.keyword() {
                Keyword::First => true,
                Keyword::Last => false,
                _ => return Err(self.unexpected("FIRST or LAST")),
            };
            self.next += 1;
        }
        Ok(OrderBy { value, descending, nulls_first })
    }

    /// Nothing but a semicolon may follow.
    pub(super) fn end_of_query(&mut self) -> Result<()> {
        self.take(&Token::Semicolon);
        if *self.peek() == Token::EndOfText {
            return Ok(());
        }
        Err(self.unexpected(match self.peek() {
            Token::Word(Word { keyword: Keyword::Union | Keyword::Except | Keyword::Intersect, .. }) => {
                "the end of the query: one SELECT is supported"
            }
            Token::Word(Word {
                keyword: Keyword::Right | Keyword::Full | Keyword::Cross | Keyword::Natural, ..
            }) => "JOIN … ON … or LEFT JOIN … ON …",
            _ => "JOIN, WHERE, GROUP BY, ORDER BY, LIMIT or the end of the query",
        }))
    }
}
