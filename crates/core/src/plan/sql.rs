//! A plan as SQL, for people.

use super::{Aggregate, AggregateFunction, Arrange, EffectivePlan, Item, Project, Side, SortTerm};
use crate::query::Expr;
use crate::query::expr::write_name;
use crate::schema::Table;

/// A list with commas.
fn listed(texts: impl Iterator<Item = String>) -> String {
    texts.collect::<Vec<_>>().join(", ")
}

fn quoted(name: &str) -> String {
    let mut text = String::new();
    // Writing to a string does not fail.
    let _ = write_name(&mut text, name);
    text
}

fn aggregate(a: &Aggregate, columns: &[String]) -> String {
    let name = match a.function {
        AggregateFunction::Count => "count",
        AggregateFunction::Sum => "sum",
        AggregateFunction::Avg => "avg",
        AggregateFunction::Min => "min",
        AggregateFunction::Max => "max",
        AggregateFunction::And => "bool_and",
        AggregateFunction::Or => "bool_or",
    };
    let distinct = if a.distinct { "DISTINCT " } else { "" };
    let of = a.of.as_ref().map_or("*".into(), |of| of.show_named(columns).to_string());
    let filter = match a.filter.is_const(true) {
        true => String::new(),
        false => format!(" FILTER (WHERE {})", a.filter.show_named(columns)),
    };
    format!("{name}({distinct}{of}){filter}")
}

fn sort_term(term: &SortTerm, columns: &[String]) -> String {
    let direction = if term.descending { " DESC" } else { "" };
    let nulls = match (term.nulls_first, term.descending) {
        (true, false) => " NULLS FIRST",
        (false, true) => " NULLS LAST",
        _ => "",
    };
    format!("{}{direction}{nulls}", term.value.show_named(columns))
}

/// What the columns of the rows are called that are arranged: those of groups, where there are groups.
fn columns_above(arrange: Option<&Arrange>, columns: Vec<String>) -> Vec<String> {
    let Some(group) = arrange.and_then(|a| a.group.as_ref()) else { return columns };
    let keys = group.keys.iter().map(|e| e.show_named(&columns).to_string());
    keys.chain(group.aggregates.iter().map(|a| aggregate(a, &columns))).collect()
}

impl Side {
    /// The `JOIN`, with what the rules admit of its table; `row` is what the columns of the row of all tables are called.
    fn to_sql(&self, row: &[String]) -> String {
        let table = self.scan().table();
        let own = columns_of(table);
        let key = self.found_by().map(|(column, e)| format!("{} = {}", own[column], e.show_named(row)));
        let admitted = Expr::Or(self.scan().conditions().cloned().collect()).canonicalize();
        let admitted = (!admitted.is_const(true)).then(|| admitted.show_named(&own).to_string());
        let condition = (!self.condition().is_const(true)).then(|| self.condition().show_named(row).to_string());
        let on: Vec<String> = key.chain(admitted).chain(condition).collect();
        let kind = if self.is_left() { "LEFT JOIN" } else { "JOIN" };
        format!(" {kind} {} ON {}", table.name, on.join(" AND "))
    }
}

/// The columns of a table with its name before them.
fn columns_of(table: &Table) -> Vec<String> {
    table.columns.iter().map(|c| format!("{}.{}", table.name, quoted(&c.name))).collect()
}

impl EffectivePlan {
    /// What the columns of the row are called that its expressions speak of, for people.
    pub fn column_texts(&self) -> Vec<String> {
        let Some(joins) = &self.joins else { return self.table().columns.iter().map(|c| quoted(&c.name)).collect() };
        let tables = [self.table()].into_iter().chain(joins.sides().iter().map(|side| side.scan().table()));
        tables.flat_map(|table| columns_of(table)).collect()
    }

    /// The plan as SQL, rules included, for people.
    pub fn to_sql(&self) -> String {
        let (table, arrange) = (self.table(), self.arrange.as_deref());
        let above = columns_above(arrange, self.column_texts());
        let item = |item: &Item| {
            let (value, name) = (item.value.show_named(&above).to_string(), quoted(&item.name));
            if value == name { value } else { format!("{value} AS {name}") }
        };
        let items = match &self.project {
            Project::Columns(_) => listed(self.output().map(|c| c.name.to_string())),
            Project::Items(items) => listed(items.iter().map(item)),
        };
        let first = match arrange.filter(|a| !a.first.is_empty()) {
            Some(a) => format!("DISTINCT ON ({}) ", listed(a.first.iter().map(|e| e.show_named(&above).to_string()))),
            None => String::new(),
        };
        let mut sql = format!("SELECT {first}{items} FROM {}", table.name);
        for side in self.joins.iter().flat_map(|joins| joins.sides()) {
            sql += &side.to_sql(&self.column_texts());
        }
        if let Some(condition) = self.condition_sql() {
            sql += &format!(" WHERE {condition}");
        }
        if let Some(arranged) = self.arranged_sql() {
            sql += &format!(" {arranged}");
        }
        sql
    }

    /// Which rows the plan finds, as SQL, for people: the rules and the client's condition; `None` for all.
    pub fn condition_sql(&self) -> Option<String> {
        let rules = self.scan.grants().iter().map(|g| g.condition.clone()).collect();
        let all = Expr::And(vec![Expr::Or(rules), self.filter.condition().clone()]).canonicalize();
        (!all.is_const(true)).then(|| all.show_named(&self.column_texts()).to_string())
    }

    /// What the plan makes of all rows together, as SQL, for people: from `GROUP BY` on; `None` if nothing.
    pub fn arranged_sql(&self) -> Option<String> {
        let arrange = self.arrange.as_deref()?;
        let above = columns_above(Some(arrange), self.column_texts());
        let mut parts = Vec::new();
        if let Some(group) = &arrange.group {
            if !group.keys.is_empty() {
                parts.push(format!("GROUP BY {}", listed(above.iter().take(group.keys.len()).cloned())));
            }
            if !group.having.is_const(true) {
                parts.push(format!("HAVING {}", group.having.show_named(&above)));
            }
        }
        if !arrange.order.is_empty() {
            parts.push(format!("ORDER BY {}", listed(arrange.order.iter().map(|term| sort_term(term, &above)))));
        }
        parts.extend(arrange.limit().map(|n| format!("LIMIT {n}")));
        if arrange.offset() > 0 {
            parts.push(format!("OFFSET {}", arrange.offset()));
        }
        (!parts.is_empty()).then(|| parts.join(" "))
    }
}
