//! What a query selects, and what it wants of all rows together: groups, the first of each, an order, a window.

use std::sync::Arc;

use gossip_protocol::spelling::similar;

use super::joined::{self, From};
use super::types::ordered;
use super::{Checker, MAX_FUNCTIONS, Others, Result, Typed, scope};
use crate::plan::{Arrange, Group, Item as Column, LiveQuery, Project, SortTerm};
use crate::query::syntax::{Ast, Distinct, Ident, Item, Location, Node, OrderBy, Select, Tail, invalid};
use crate::query::{Expr, Visible};
use crate::schema::Table;
use crate::value::{Type, Value};

/// Columns of a result.
const MAX_ITEMS: usize = 1_000;

/// Parts of `GROUP BY`, `DISTINCT ON` or `ORDER BY`.
const MAX_TERMS: usize = 32;

/// An item on its way to a column of the result.
struct Selected {
    name: Arc<str>,
    value: Typed,
}

/// A part of `ORDER BY` on its way to a [`SortTerm`].
struct Sorted {
    value: Typed,
    descending: bool,
    nulls_first: bool,
}

/// What is checked of all rows together, before it is known whether there are groups.
struct Parts {
    keys: Vec<Typed>,
    having: Option<Typed>,
    first: Vec<Typed>,
    order: Vec<Sorted>,
    limit: Option<Expr>,
    offset: Option<Expr>,
}

impl<'a> Checker<'a> {
    pub(super) fn query(&mut self, select: Select, visible: &'a dyn Visible) -> Result<LiveQuery> {
        let From { scope, joins, on } = self.from(select.from, select.joins, visible)?;
        let (table, own) = (scope.table.clone(), scope.parts()[0].table.clone());
        self.scopes.push(scope);
        self.aggregates = Some(Vec::new());
        let mut selected = self.items(select.items)?;
        let unique = match &select.distinct {
            Distinct::Rows(at) => Some(*at),
            _ => None,
        };
        // What makes it more than a filter, for a table on which nothing more is possible.
        let wanted = unique.or_else(|| first_of(&select.distinct, &select.tail));
        let mut parts = self.parts(select.distinct, select.tail, &selected)?;
        let aggregates = self.aggregates.take().unwrap_or_default();
        (self.knows_now, self.others) = (true, Others::OfClient(visible));
        let condition = self.filter(select.condition)?.0;
        (self.knows_now, self.others) = (false, Others::None);
        let condition = if on.is_empty() { condition } else { Expr::And([condition].into_iter().chain(on).collect()) };
        if !joins.is_empty() {
            joined::of_first_table_alone(&condition, &own, select.at)?;
        }
        self.scopes.pop();
        if let Some(at) = unique {
            if !parts.keys.is_empty() || !aggregates.is_empty() || parts.having.is_some() {
                return Err(invalid(at, "DISTINCT beside groups", "GROUP BY without DISTINCT"));
            }
            for Selected { value, .. } in &selected {
                groupable(value)?;
                parts.keys.push(value.copy());
            }
        }
        let grouped = !parts.keys.is_empty() || !aggregates.is_empty() || parts.having.is_some();
        let at = wanted.or_else(|| selected.first().map(|s| s.value.at).filter(|_| grouped));
        if let Some(at) = at.filter(|_| table.key.is_empty()) {
            let message = format!("the rows of {} have no key, so that those that leave cannot be told", table.name);
            return Err(invalid(at, message, "a table or topic with a key, or WHERE alone"));
        }
        if grouped {
            parts.group(&mut selected, &table)?;
        }
        let group = grouped.then(|| Group {
            keys: parts.keys.into_iter().map(|k| k.expr).collect(),
            aggregates: aggregates.into(),
            having: parts.having.map_or(Expr::always(), |h| h.expr),
        });
        let term = |s: Sorted| SortTerm { value: s.value.expr, descending: s.descending, nulls_first: s.nulls_first };
        let arrange = Arrange {
            group,
            first: parts.first.into_iter().map(|e| e.expr).collect(),
            order: parts.order.into_iter().map(term).collect(),
            limit: parts.limit,
            offset: parts.offset,
        };
        let project = projected(selected, &arrange, &table, !joins.is_empty());
        let arrange = (!arrange.is_nothing()).then(|| Box::new(arrange));
        let query = LiveQuery { table: own, joins: joins.into(), condition, arrange, project };
        computes_little(&query, wanted.unwrap_or(select.at))?;
        Ok(query)
    }

    /// The selected items.
    fn items(&mut self, items: Vec<Item>) -> Result<Vec<Selected>> {
        let mut selected: Vec<Selected> = Vec::new();
        for item in items {
            match item {
                Item::Star(at, of) => {
                    for i in self.all_columns(of.as_ref())? {
                        let value = self.own_column(i, at)?;
                        let name = self.column_name(i);
                        self.select(&mut selected, name, value)?;
                    }
                }
                Item::Expr(e, name) => {
                    let at = e.at;
                    let own = name_of(&e);
                    let mut value = self.expression(e)?;
                    if value.ty.is_none() {
                        // As PostgreSQL takes it where nothing else says what it is.
                        value.expr = self.of_type(value.expr, None, Type::Text, at)?;
                        value.ty = Some(Type::Text);
                    }
                    let name: Arc<str> = match (name, &value.expr, own) {
                        (Some(name), ..) => name.name.into(),
                        (None, Expr::Column(i), _) => self.column_name(*i),
                        (None, _, Some(own)) => own.into(),
                        (None, ..) => return Err(invalid(at, "a column without a name", "AS and a name after it")),
                    };
                    self.select(&mut selected, name, value)?;
                }
            }
        }
        Ok(selected)
    }

    /// What `*` stands for, or `table.*`.
    fn all_columns(&self, of: Option<&Ident>) -> Result<Vec<usize>> {
        let Some(scope) = self.scopes.last() else { return Ok(Vec::new()) };
        let parts = scope.written();
        let Some(of) = of else { return Ok(parts.iter().flat_map(|part| part.columns()).collect()) };
        match parts.iter().find(|part| part.name.eq_ignore_ascii_case(&of.name)) {
            Some(part) => Ok(part.columns().collect()),
            None => {
                let similar = similar(&of.name, parts.iter().map(|part| part.name.as_str()));
                Err(scope::not_known("table", of.at, of.name.clone(), similar))
            }
        }
    }

    fn select(&self, selected: &mut Vec<Selected>, name: Arc<str>, value: Typed) -> Result<()> {
        let at = value.at;
        if let Some(same) = selected.iter().find(|s| s.name == name) {
            return Err(if same.value.expr == value.expr {
                invalid(at, format!("the column {name} is named twice"), "each column once")
            } else {
                invalid(at, format!("a second column {name}"), "AS and another name after it")
            });
        }
        if selected.len() >= MAX_ITEMS {
            return Err(invalid(at, "too many columns", format!("at most {MAX_ITEMS}")));
        }
        selected.push(Selected { name, value });
        Ok(())
    }

    /// All that stands around the condition.
    fn parts(&mut self, distinct: Distinct, tail: Tail, selected: &[Selected]) -> Result<Parts> {
        let Tail { group_by, having, order_by, limit, offset } = tail;
        let having = match having {
            Some(having) => {
                let having = self.expression(having)?;
                Some(Typed { expr: self.condition(having.copy())?, ..having })
            }
            None => None,
        };
        let order = self.order(order_by, selected)?;
        let first = match distinct {
            Distinct::On(at, on) => self.first(on, at, &order, selected)?,
            Distinct::No | Distinct::Rows(_) => Vec::new(),
        };
        let aggregates = self.aggregates.take();
        let keys = self.keys(group_by, selected)?;
        self.aggregates = aggregates;
        let window = limit.as_ref().or(offset.as_ref()).map(|e| e.at);
        if let Some(at) = window.filter(|_| order.is_empty()) {
            return Err(invalid(at, "it would be any rows, and others each time", "ORDER BY before LIMIT and OFFSET"));
        }
        // All rows but the first few would be another list after every change.
        if let (None, Some(offset)) = (&limit, &offset) {
            return Err(invalid(offset.at, "OFFSET without LIMIT", "LIMIT before OFFSET"));
        }
        let (limit, offset) = (self.number_of_rows(limit)?, self.number_of_rows(offset)?);
        Ok(Parts { keys, having, first, order, limit, offset })
    }

    /// The parts of `GROUP BY`: names of columns, else of items, places of items, or expressions.
    fn keys(&mut self, group_by: Vec<Ast>, selected: &[Selected]) -> Result<Vec<Typed>> {
        let mut keys: Vec<Typed> = Vec::new();
        for e in group_by {
            let (at, mut of_many) = (e.at, false);
            let item = match placed(&e, selected)? {
                Some(item) => Some(item),
                None if self.names_column(&e) => None,
                None => named(&e, selected),
            };
            let key = match item {
                Some(item) => Typed { at, ..item.value.copy() },
                None => self.expression(e)?,
            };
            groupable(&key)?;
            key.expr.for_each(&mut |e| of_many |= matches!(e, Expr::Outer(_)));
            if of_many {
                return Err(invalid(at, "an aggregate in GROUP BY", "what the rows of a group have in common"));
            }
            if keys.iter().all(|k| k.expr != key.expr) {
                keys.push(key);
            }
        }
        few(&keys)?;
        Ok(keys)
    }

    /// The parts of `ORDER BY`: names of items, else of columns, places of items, or expressions.
    fn order(&mut self, order_by: Vec<OrderBy>, selected: &[Selected]) -> Result<Vec<Sorted>> {
        let mut order = Vec::new();
        for OrderBy { value, descending, nulls_first } in order_by {
            let value = self.sorted(value, selected)?;
            order.push(Sorted { value, descending, nulls_first });
        }
        few(&order)?;
        Ok(order)
    }

    fn sorted(&mut self, e: Ast, selected: &[Selected]) -> Result<Typed> {
        let at = e.at;
        let item = match placed(&e, selected)? {
            Some(item) => Some(item),
            None => named(&e, selected),
        };
        let value = match item {
            Some(item) => Typed { at, ..item.value.copy() },
            None => self.expression(e)?,
        };
        ordered(&value)?;
        groupable(&value)?;
        Ok(value)
    }

    /// The parts of `DISTINCT ON`, by which the rows have to be ordered first of all.
    fn first(&mut self, on: Vec<Ast>, at: Location, order: &[Sorted], selected: &[Selected]) -> Result<Vec<Typed>> {
        let mut first: Vec<Typed> = Vec::new();
        for e in on {
            let value = self.sorted(e, selected)?;
            if first.iter().all(|f| f.value_differs(&value)) {
                first.push(value);
            }
        }
        few(&first)?;
        let leads = order.iter().take(first.len());
        let covered = first.iter().all(|f| leads.clone().any(|s| s.value.expr == f.expr));
        if !covered {
            let expected = "ORDER BY that begins with the same, and then says which row is the first";
            return Err(invalid(at, "which row is the first is not said", expected));
        }
        Ok(first)
    }

    /// The number after `LIMIT` or `OFFSET`.
    fn number_of_rows(&mut self, e: Option<Ast>) -> Result<Option<Expr>> {
        let Some(e) = e else { return Ok(None) };
        let at = e.at;
        let value = self.expression(e)?;
        match value.expr {
            Expr::Const(Value::Int(n)) if n >= 0 => Ok(Some(Expr::Const(Value::Int(n)))),
            Expr::Const(Value::Null) => Ok(None),
            e @ Expr::Placeholder(..) => Ok(Some(self.of_type(e, None, Type::Int8, at)?)),
            _ => Err(invalid(at, "this is not a number of rows", "a whole number or a parameter")),
        }
    }
}

impl Typed {
    fn value_differs(&self, other: &Typed) -> bool {
        self.expr != other.expr
    }
}

impl Parts {
    /// Has all that is above the groups speak of a group's row instead of the table's.
    fn group(&mut self, selected: &mut [Selected], table: &Table) -> Result<()> {
        let keys: Vec<Expr> = self.keys.iter().map(|k| k.expr.clone()).collect();
        let items = selected.iter_mut().map(|s| &mut s.value);
        let order = self.order.iter_mut().map(|s| &mut s.value);
        for value in items.chain(&mut self.having).chain(&mut self.first).chain(order) {
            value.expr = of_group(&value.expr, &keys, table, value.at)?;
        }
        Ok(())
    }
}

/// An expression on the row of a group: the keys, then the aggregates, which stand in it as values of an outer row.
fn of_group(e: &Expr, keys: &[Expr], table: &Table, at: Location) -> Result<Expr> {
    if let Some(place) = keys.iter().position(|k| k == e) {
        return Ok(Expr::Column(place));
    }
    match e {
        Expr::Outer(aggregate) => Ok(Expr::Column(keys.len() + aggregate)),
        Expr::Column(i) => {
            let message = format!("the rows of a group may differ in {}", table.columns[*i].name);
            Err(invalid(at, message, "what GROUP BY names, or an aggregate"))
        }
        e => e.try_map(|part| of_group(part, keys, table, at)),
    }
}

/// The columns of the result.
fn projected(selected: Vec<Selected>, arrange: &Arrange, table: &Table, is_joined: bool) -> Project {
    let as_it_is = |s: &Selected| match s.value.expr {
        Expr::Column(i) => (table.columns[i].name == s.name).then_some(i),
        _ => None,
    };
    if arrange.is_nothing()
        && !is_joined
        && let Some(columns) = selected.iter().map(as_it_is).collect::<Option<Box<[usize]>>>()
    {
        return Project::Columns(columns);
    }
    let is_key = |e: &Expr| match (e, &arrange.group) {
        (e, _) if !arrange.first.is_empty() => arrange.first.contains(e),
        (Expr::Column(i), Some(group)) => *i < group.keys.len(),
        (Expr::Column(i), None) => table.key.contains(i),
        _ => false,
    };
    let item = |Selected { name, value }: Selected| {
        let key = is_key(&value.expr);
        Column { name, ty: value.ty.unwrap_or(Type::Text), value: value.expr, key }
    };
    Project::Items(selected.into_iter().map(item).collect())
}

/// The item whose place a number in `GROUP BY` or `ORDER BY` says.
fn placed<'a>(e: &Ast, selected: &'a [Selected]) -> Result<Option<&'a Selected>> {
    let Node::Number(digits) = &e.node else { return Ok(None) };
    let place = digits.parse::<usize>().ok().and_then(|place| selected.get(place.checked_sub(1)?));
    match place {
        Some(item) => Ok(Some(item)),
        None => Err(invalid(e.at, format!("{digits} is not the place of a column of the result"), "1 for the first")),
    }
}

/// The item that has this name.
fn named<'a>(e: &Ast, selected: &'a [Selected]) -> Option<&'a Selected> {
    let Node::Name(parts) = &e.node else { return None };
    let [name] = &parts[..] else { return None };
    let is = |s: &&Selected| *s.name == *name.name || !name.quoted && s.name.eq_ignore_ascii_case(&name.name);
    selected.iter().find(is)
}

/// The name that an item has of its own, as in PostgreSQL.
fn name_of(e: &Ast) -> Option<String> {
    match &e.node {
        Node::Name(parts) => parts.last().map(|p| p.name.clone()),
        Node::Call(call) => Some(call.name.name.to_ascii_lowercase()),
        Node::Case { .. } => Some("case".into()),
        Node::Cast(value, ty) => name_of(value).or_else(|| Some(ty.name.clone())),
        _ => None,
    }
}

fn first_of(distinct: &Distinct, tail: &Tail) -> Option<Location> {
    match distinct {
        Distinct::On(at, _) => Some(*at),
        _ => {
            let order = tail.order_by.iter().map(|o| o.value.at);
            tail.group_by.iter().chain(&tail.having).map(|e| e.at).chain(order).next()
        }
    }
}

/// Refuses values that cannot be told to be equal.
fn groupable(e: &Typed) -> Result<()> {
    match e.ty {
        Some(Type::Any) => Err(invalid(e.at, "a column without a declared type", "a column with one")),
        Some(ty) if !ty.is_compared() => {
            Err(invalid(e.at, format!("values of type {ty} cannot be compared"), "a value of another type"))
        }
        _ => Ok(()),
    }
}

fn few<T: At>(terms: &[T]) -> Result<()> {
    match terms.get(MAX_TERMS) {
        Some(next) => Err(invalid(next.at(), "too many parts", format!("at most {MAX_TERMS}"))),
        None => Ok(()),
    }
}

/// Something that stands somewhere in the text.
trait At {
    fn at(&self) -> Location;
}

impl At for Typed {
    fn at(&self) -> Location {
        self.at
    }
}

impl At for Sorted {
    fn at(&self) -> Location {
        self.value.at
    }
}

/// Refuses a query that computes too much of every row.
fn computes_little(query: &LiveQuery, at: Location) -> Result<()> {
    let mut functions = 0;
    let arranged = query.arrange.iter().flat_map(|a| a.exprs());
    for e in arranged.chain(query.project.exprs()) {
        e.for_each(&mut |e| functions += usize::from(matches!(e, Expr::Computed(_))));
    }
    if functions > MAX_FUNCTIONS {
        return Err(invalid(at, format!("{functions} functions and operators"), format!("at most {MAX_FUNCTIONS}")));
    }
    Ok(())
}
