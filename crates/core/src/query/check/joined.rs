//! `FROM … JOIN … ON …`: which table's rows the result has, and how the rows that are joined to them are found.
//!
//! A table is joined by its whole key: each row of the others has one partner in it or none. That makes the rows of one table those
//! of the result, whichever is written first: `users JOIN messages ON messages.sender = users.id` has those of `messages`.

use std::convert::Infallible;

use super::scope::{self, Part, Scope};
use super::{Checker, Others, Result};
use crate::plan::Join;
use crate::query::syntax::{self, Location, TableRef, invalid};
use crate::query::{CmpOp, Expr, QueryError, Visible};
use crate::schema::Table;
use crate::value::Type;

/// Tables of one query, without those of sub-selects.
const MAX_TABLES: usize = 4;

/// What a query reads.
pub(super) struct From {
    /// The row that it speaks of: that of the first table, then those that are joined to it.
    pub(super) scope: Scope,
    pub(super) joins: Vec<Join>,
    /// What has to hold beside the `WHERE`.
    pub(super) on: Vec<Expr>,
}

/// The tables as they are written, and what their `ON` say, in parts that all have to hold.
struct Written<'a> {
    parts: &'a [Part],
    /// Of the first table nothing.
    on: Vec<Vec<Expr>>,
}

/// A table that is found by columns of those before it.
struct Found {
    part: usize,
    /// The columns that its key is equal to, in the order of the key.
    key: Vec<Expr>,
    /// What has to hold for a row to be the partner; of an inner join that is part of the query's condition.
    condition: Vec<Expr>,
    is_left: bool,
}

impl<'a> Checker<'a> {
    /// The tables of a query, and how they are joined.
    pub(super) fn from(&mut self, from: TableRef, joins: Vec<syntax::Join>, visible: &'a dyn Visible) -> Result<From> {
        let scope = scope::of_client(from, visible)?;
        if joins.is_empty() {
            return Ok(From { scope, joins: Vec::new(), on: Vec::new() });
        }
        if let Some(join) = joins.get(MAX_TABLES - 1) {
            return Err(invalid(join.at, "one table too many", format!("at most {MAX_TABLES}")));
        }
        let mut parts = scope.parts().to_vec();
        let (mut on, mut kinds) = (vec![Vec::new()], vec![(false, Location { line: 1, column: 1 })]);
        for join in joins {
            kinds.push((join.is_left, join.at));
            parts.push(next_part(join.table, &parts, visible)?);
            let scope = Scope::of_joined(parts.clone());
            parts = scope.parts().to_vec();
            self.scopes.push(scope);
            self.others = Others::None;
            let (condition, _) = self.filter(Some(join.on))?;
            self.scopes.pop();
            on.push(conjuncts(condition));
        }
        let (first, found, rest) = Written { parts: &parts, on }.found(&kinds)?;
        Ok(in_order(&parts, first, found, rest))
    }
}

/// The part that a table of a `JOIN` is.
fn next_part(table: TableRef, parts: &[Part], visible: &dyn Visible) -> Result<Part> {
    let (at, full) = (table.at(), table.full());
    let mut part = scope::of_client(table, visible)?.parts()[0].clone();
    let own = &parts[0].table;
    let of_database = |table: &Table| !table.name.is_system() && !table.is_topic();
    if !of_database(own) || !of_database(&part.table) {
        return Err(invalid(at, format!("{} and {full} are not both tables of a database", own.name), "one table"));
    }
    scope::of_same_source(&part.table, own, at, &full)?;
    scope::of_same_source(own, own, at, &own.name.to_string())?;
    if parts.iter().any(|p| p.name.eq_ignore_ascii_case(&part.name)) {
        return Err(invalid(at, format!("a second table that is called {}", part.name), "AS and another name"));
    }
    part.written = parts.len();
    Ok(part)
}

/// The parts of a condition that all have to hold.
fn conjuncts(e: Expr) -> Vec<Expr> {
    match e {
        Expr::And(all) => all.into_iter().flat_map(conjuncts).collect(),
        e => vec![e],
    }
}

/// Whether values of these types that are equal can be looked up by each other.
fn fits(a: Type, b: Type) -> bool {
    let is_whole = |ty| matches!(ty, Type::Int2 | Type::Int4 | Type::Int8);
    a == b || is_whole(a) && is_whole(b)
}

impl Written<'_> {
    fn part_of(&self, column: usize) -> usize {
        self.parts.partition_point(|part| part.first <= column) - 1
    }

    fn ty(&self, column: usize) -> Type {
        let part = &self.parts[self.part_of(column)];
        part.table.columns[column - part.first].ty
    }

    /// The columns of tables that are known which the key of another one is equal to; takes what says so out of the conditions.
    fn key_of(&self, part: usize, known: &[usize], conditions: &mut Vec<Expr>) -> Option<Vec<Expr>> {
        let Part { table, first, .. } = &self.parts[part];
        let mut left = conditions.clone();
        let mut key = Vec::new();
        for column in &table.key {
            let own = first + column;
            let other = |e: &Expr| match e {
                Expr::Cmp(CmpOp::Eq, a, b) => match (&**a, &**b) {
                    (Expr::Column(a), Expr::Column(b)) if *a == own => Some(*b),
                    (Expr::Column(a), Expr::Column(b)) if *b == own => Some(*a),
                    _ => None,
                },
                _ => None,
            };
            let suits = |c: &usize| known.contains(&self.part_of(*c)) && fits(self.ty(*c), self.ty(own));
            let (place, column) = left.iter().enumerate().find_map(|(i, e)| Some((i, other(e).filter(suits)?)))?;
            left.remove(place);
            key.push(Expr::Column(column));
        }
        *conditions = left;
        Some(key)
    }

    /// The table whose rows the result has, those that are joined to it in an order in which they can be found, and what else has to
    /// hold.
    fn found(mut self, kinds: &[(bool, Location)]) -> Result<(usize, Vec<Found>, Vec<Expr>)> {
        // Those before the first LEFT JOIN may be joined in any order.
        let inner = kinds.iter().skip(1).take_while(|(is_left, _)| !is_left).count() + 1;
        let pool: Vec<Expr> = self.on[..inner].iter_mut().flat_map(std::mem::take).collect();
        let from = |first: usize| {
            let (mut known, mut found, mut pool) = (vec![first], Vec::new(), pool.clone());
            while known.len() < inner {
                let next = (0..inner).filter(|part| !known.contains(part));
                let (part, key) = next.into_iter().find_map(|p| Some((p, self.key_of(p, &known, &mut pool)?)))?;
                known.push(part);
                found.push(Found { part, key, condition: Vec::new(), is_left: false });
            }
            Some((first, found, pool))
        };
        let Some((first, mut found, mut rest)) = (0..inner).find_map(from) else {
            return Err(self.not_by_key(1, kinds[1].1));
        };
        for (part, (is_left, at)) in kinds.iter().enumerate().skip(inner) {
            let known: Vec<usize> = (0..part).collect();
            let mut condition = std::mem::take(&mut self.on[part]);
            let Some(key) = self.key_of(part, &known, &mut condition) else { return Err(self.not_by_key(part, *at)) };
            if !is_left {
                rest.append(&mut condition);
            }
            found.push(Found { part, key, condition, is_left: *is_left });
        }
        Ok((first, found, rest))
    }

    fn not_by_key(&self, part: usize, at: Location) -> QueryError {
        let Part { table, name, .. } = &self.parts[part];
        let key = table.key.iter().map(|i| format!("{name}.{} = …", table.columns[*i].name));
        let key = key.collect::<Vec<_>>().join(" AND ");
        let message = format!("{name} is not joined by its whole key");
        invalid(at, message, format!("ON {key}, with columns of the same types of the tables before it"))
    }
}

/// The tables in the order in which they are found, and what is said of them in terms of the row that they make together.
fn in_order(parts: &[Part], first: usize, found: Vec<Found>, rest: Vec<Expr>) -> From {
    let order = [first].into_iter().chain(found.iter().map(|f| f.part));
    let scope = Scope::of_joined(order.map(|part| parts[part].clone()).collect());
    let moved: Vec<(usize, usize)> = parts
        .iter()
        .map(|part| (part.first, scope.parts().iter().find(|p| p.written == part.written).map_or(0, |p| p.first)))
        .collect();
    let place = |column: usize| {
        let (was, is) = moved[moved.partition_point(|(first, _)| *first <= column) - 1];
        is + column - was
    };
    let join = |f: Found| Join {
        table: parts[f.part].table.clone(),
        key: f.key.iter().map(|e| placed(e, &place)).collect(),
        condition: Expr::And(f.condition.iter().map(|e| placed(e, &place)).collect()).canonicalize(),
        is_left: f.is_left,
    };
    let on = rest.iter().map(|e| placed(e, &place)).collect();
    From { joins: found.into_iter().map(join).collect(), on, scope }
}

/// An expression with its columns at other places.
fn placed(e: &Expr, place: &impl Fn(usize) -> usize) -> Expr {
    match e {
        Expr::Column(i) => Expr::Column(place(*i)),
        e => {
            let Ok(e) = e.try_map(|part| Ok::<_, Infallible>(placed(part, place)));
            e
        }
    }
}

/// Refuses `NOW()` beside columns of tables that are joined: their rows would come and go by themselves where nobody looks.
pub(super) fn of_first_table_alone(condition: &Expr, own: &Table, at: Location) -> Result<()> {
    for e in conjuncts(condition.clone()) {
        let (mut of_others, mut asks_time) = (false, false);
        e.for_each_column(&mut |i| of_others |= i >= own.columns.len());
        e.for_each_moment(&mut |_, _| asks_time = true);
        if of_others && asks_time {
            let expected = format!("columns of {}, whose rows the result has", own.name);
            return Err(invalid(at, "NOW() beside a column of a table that is joined", expected));
        }
    }
    Ok(())
}
