//! Why a query is refused, for operators: which rules there are and what they lack. Whoever asked it is told only that what
//! it names is not known or not permitted.

use std::collections::BTreeSet;

use serde_json::{Map, Value as Json};

use crate::explain::{Passed, Step};
use crate::query::{QueryError, parse_trusted_query};
use crate::rule::{Claims, RuleSet, RuleText};
use crate::schema::{Catalog, Table};

/// The steps that a query takes until it is refused with this error.
pub fn steps(
    query: &str,
    params: &Map<String, Json>,
    error: &QueryError,
    claims: &Claims,
    rules: &RuleSet,
    catalog: &Catalog,
) -> Vec<Step> {
    let no = |step: &str, text: String, values: Vec<String>| Step::new(step, Passed::No, text, values);
    if !matches!(error, QueryError::NotKnown { .. }) {
        return vec![no("query", error.to_string(), vec![])];
    }
    // With the rights of everybody: what is wrong then is wrong with the query itself.
    let tables = match parse_trusted_query(query, catalog, params) {
        Ok(parsed) => parsed.tables(),
        Err(e @ QueryError::NotKnown { kind: "table", .. }) => {
            let streams = catalog.iter().filter(|t| !t.name.is_system()).map(|t| t.name.to_string());
            return vec![no("stream", e.to_string(), vec![format!("these stream: {}", listed(streams))])];
        }
        Err(e) => return vec![no("query", e.to_string(), vec![])],
    };
    let mut all = Vec::new();
    for table in &tables {
        all.push(Step::new("stream", Passed::Yes, format!("{} streams", table.name), vec![]));
        let standing = rules.standing(table, claims, catalog);
        if standing.is_empty() {
            let others = roles(grants(rules, table));
            let roles = if claims.roles.is_empty() { "nobody".into() } else { claims.roles.join(", ") };
            all.push(no("rule", format!("no rule lets {roles} read {}", table.name), vec![others]));
            return all;
        }
        for s in &standing {
            let text = s.rule.headline();
            all.push(match &s.condition {
                Err(lacking) => no("rule", text, vec![format!("claim.{} {}", lacking.name, lacking.problem)]),
                Ok(_) => Step::new("rule", Passed::Yes, text, vec![]),
            });
        }
    }
    let QueryError::NotKnown { kind: "column", name, .. } = error else { return all };
    let column = name.rsplit_once('.').map_or(name.as_str(), |(_, column)| column);
    for table in &tables {
        let Some(place) = table.column(column, false) else { continue };
        let shows = |r: &&RuleText| r.columns.as_ref().is_none_or(|c| c.iter().any(|c| names(table, c) == Some(place)));
        let standing = rules.standing(table, claims, catalog);
        if standing.iter().any(|s| s.condition.is_ok() && s.rule.columns().contains(place)) {
            continue;
        }
        let others = roles(grants(rules, table).filter(shows));
        all.push(no("columns", format!("none of these rules shows {}.{column}", table.name), vec![others]));
    }
    all
}

/// The rules that let anybody read a table.
fn grants<'a>(rules: &'a RuleSet, table: &Table) -> impl Iterator<Item = &'a RuleText> {
    rules.texts().iter().filter(move |r| r.may.read && r.table == table.name)
}

fn names(table: &Table, column: &str) -> Option<usize> {
    table.column(column, false)
}

/// Who may, by their roles.
fn roles<'a>(rules: impl Iterator<Item = &'a RuleText>) -> String {
    let roles: BTreeSet<String> = rules.map(|r| r.role.clone()).collect();
    match roles.len() {
        0 => "nobody may".into(),
        _ => format!("{} may", listed(roles.into_iter())),
    }
}

/// At most eight names.
fn listed(names: impl Iterator<Item = String>) -> String {
    let names: Vec<String> = names.collect();
    let more = names.len().saturating_sub(8);
    let shown = names.into_iter().take(8).collect::<Vec<_>>().join(", ");
    if more > 0 { format!("{shown} and {more} more") } else { shown }
}
