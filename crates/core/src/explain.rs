//! Why a change reached a subscription, or why not: its steps, as data.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::feed::{self, Change, ChangeError};
use crate::plan::{EffectivePlan, PlansOfTables};
use crate::position::{Old, RowChange, Transaction};
use crate::query::{Beside, Expr, Masked, expr::write_name};
use crate::row_changes;
use crate::rule::Standing;
use crate::schema::{Row, Table, TableName};
use crate::subquery::{Partner, SubqueryResults};

/// The verdict of one transaction for one subscription.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// None of its rows are of the subscription's table.
    Elsewhere,
    /// No rule admits any of its rows, before or after.
    Withheld,
    /// None of its admitted rows matches the query.
    Outside,
    /// Rows of the result, but no selected and visible value changed.
    Unchanged,
    /// The subscription is waiting for a snapshot, which will include it.
    Folded,
    /// The result changed and the delta went to the client's queue.
    Matched,
}

impl Verdict {
    /// The protocol's word for it.
    pub fn word(self) -> &'static str {
        match self {
            Verdict::Elsewhere => "elsewhere",
            Verdict::Withheld => "withheld",
            Verdict::Outside => "outside",
            Verdict::Unchanged => "unchanged",
            Verdict::Folded => "folded",
            Verdict::Matched => "matched",
        }
    }
}

/// The number of rows that a transaction added, replaced and removed.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tally {
    /// Rows added.
    pub added: u32,
    /// Rows replaced.
    pub replaced: u32,
    /// Rows removed.
    pub removed: u32,
}

impl Tally {
    /// Counts the changes of a delta.
    pub fn of(changes: &[Change]) -> Tally {
        let mut t = Tally::default();
        for c in changes {
            match c {
                Change::Add { .. } => t.added += 1,
                Change::Replace { .. } => t.replaced += 1,
                Change::Remove { .. } => t.removed += 1,
            }
        }
        t
    }
}

/// Whether a step was passed.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Passed {
    /// Passed.
    Yes,
    /// Stopped here.
    No,
    /// Stopped earlier.
    NotReached,
}

/// One step of an explanation.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Step {
    /// `stream`, `rule`, `query`, `change` or `window`; the server adds what it knows of the rest of the way.
    pub step: String,
    /// Whether it was passed.
    pub verdict: Passed,
    /// What was checked.
    pub text: String,
    /// The same with the values compared.
    pub values: Vec<String>,
}

impl Step {
    /// Builds a step.
    pub fn new(step: &str, verdict: Passed, text: impl Into<String>, values: Vec<String>) -> Step {
        Step { step: step.into(), verdict, text: text.into(), values }
    }
}

/// The verdict of one row; ordered by how far it came.
pub fn row_verdict(
    plan: &EffectivePlan,
    change: &RowChange,
    subquery_results: &dyn SubqueryResults,
    matched: bool,
) -> Verdict {
    if matched {
        return Verdict::Matched;
    }
    let rows = both(change);
    let is_found = |row: &Row| match plan.joins {
        Some(_) => plan.see(row, subquery_results) != Ok(None),
        None => plan.sees(row, subquery_results),
    };
    if rows.iter().any(|r| is_found(r)) {
        Verdict::Unchanged
    } else if rows.iter().any(|r| plan.scan.admitted(r, subquery_results).is_some()) {
        Verdict::Outside
    } else {
        Verdict::Withheld
    }
}

/// The verdict of a whole transaction: that of the row which came furthest.
pub fn verdict(plan: &EffectivePlan, transaction: &Transaction, subquery_results: &dyn SubqueryResults) -> Verdict {
    let plan = &*plan.of_rows();
    let own = transaction.changes.iter().filter(|c| plan.is_about(c));
    let one = |c: &RowChange| row_verdict(plan, c, subquery_results, would_change(plan, c, subquery_results));
    own.map(one).max().unwrap_or(Verdict::Elsewhere)
}

fn would_change(plan: &EffectivePlan, c: &RowChange, subquery_results: &dyn SubqueryResults) -> bool {
    feed::change(plan, c, subquery_results, None) != Ok(None)
}

fn both(c: &RowChange) -> Vec<&Row> {
    let old = match &c.old {
        Old::Known(old) => old.as_ref(),
        Old::Unknown => None,
    };
    c.new.iter().chain(old).collect()
}

/// The steps of a transaction into the stream of row changes: what each of its tables adds.
fn of_stream(plan: &EffectivePlan, plans: &PlansOfTables, transaction: &Transaction) -> Vec<Step> {
    let mut tables: BTreeMap<&TableName, (usize, usize)> = BTreeMap::new();
    for change in &transaction.changes {
        let (events, heard) = tables.entry(&change.table).or_default();
        if let Ok(Some((event, _))) = row_changes::event(plans, change, transaction.committed.to) {
            *events += 1;
            *heard += usize::from(plan.sees(&event, &()));
        }
    }
    let step = |(table, (events, heard)): (&TableName, (usize, usize))| match (plans.contains_key(table), events, heard)
    {
        (false, ..) => {
            let why = "it may not be read, its rules ask other tables or the time, or its changes do not carry the row as it was";
            Step::new("stream", Passed::No, format!("{table}: not among the tables of this reader"), vec![why.into()])
        }
        (_, 0, _) => {
            Step::new("stream", Passed::No, format!("{table}: nothing that this reader may see changed"), vec![])
        }
        (_, events, 0) => {
            Step::new("query", Passed::No, format!("{table}: none of {events} events is asked for"), vec![])
        }
        (_, events, heard) => Step::new("query", Passed::Yes, format!("{table}: {heard} of {events} events"), vec![]),
    };
    tables.into_iter().map(step).collect()
}

/// The change of a transaction that came furthest on the way to a plan's rows.
pub fn explained<'a>(
    plan: &EffectivePlan,
    transaction: &'a Transaction,
    subquery_results: &dyn SubqueryResults,
) -> Option<&'a RowChange> {
    let verdict = |c: &RowChange| row_verdict(plan, c, subquery_results, would_change(plan, c, subquery_results));
    transaction.changes.iter().filter(|c| plan.is_about(c)).max_by_key(|c| verdict(c))
}

/// The steps of a transaction through an effective plan. `standing` are the client's rules on the
/// table. Of several rows, the one that came furthest is explained.
pub fn explain(
    plan: &EffectivePlan,
    standing: &[Standing],
    transaction: &Transaction,
    subquery_results: &dyn SubqueryResults,
) -> Vec<Step> {
    if let Some(plans) = &plan.row_changes {
        return of_stream(plan, plans, transaction);
    }
    let arranged = plan.arrange.is_some();
    let plan = &*plan.of_rows();
    let table = plan.table();
    let mut steps = Vec::new();
    let own: Vec<&RowChange> = transaction.changes.iter().filter(|c| plan.is_about(c)).collect();
    let Some(row) = explained(plan, transaction, subquery_results) else {
        return of_another_table(plan, standing, transaction);
    };
    let operation = match (&row.old, &row.new) {
        (_, None) => "delete",
        (Old::Known(None), Some(_)) => "insert",
        _ => "update",
    };
    let known = if matches!(row.old, Old::Known(_)) { "old values known" } else { "old values not known" };
    let more = if own.len() > 1 { format!("; {} rows in all", own.len()) } else { String::new() };
    steps.push(Step::new(
        "stream",
        Passed::Yes,
        format!("{}: {operation} is streamed, {known}{more}", table.name),
        vec![row_name(table, row)],
    ));

    let verdict = row_verdict(plan, row, subquery_results, would_change(plan, row, subquery_results));
    steps.push(rule_step(table, standing, row, subquery_results, verdict != Verdict::Withheld));

    let reached = |v: Verdict| match () {
        () if verdict < v => Passed::NotReached,
        () if verdict == v => Passed::No,
        () => Passed::Yes,
    };
    let condition = plan.filter.condition();
    let passes_all = plan.filter.passes_all();
    let texts = plan.column_texts();
    let query = if passes_all { "all rows".into() } else { condition.show_named(&texts).to_string() };
    steps.extend(join_step(plan, row, subquery_results, verdict != Verdict::Withheld));
    let whole = |r: &Row| match (plan.scan.admit(r, subquery_results)?, &plan.joins) {
        (own, None) => Some(own.into_visible()),
        (own, Some(joins)) => joins.beside_partners(own, subquery_results).ok().flatten(),
    };
    let shown = both(row).into_iter().filter(|_| !passes_all).filter_map(whole).map(|seen| {
        let cells = Masked { row: &seen.row, visible: &seen.columns, subquery_results };
        condition.show_named(&texts).with(&cells).to_string()
    });
    let values = unknown(condition, "with this query", subquery_results).into_iter().chain(shown).collect();
    steps.push(Step::new("query", reached(Verdict::Outside), query, values));

    steps.push(change_step(plan, row, (subquery_results, arranged), reached(Verdict::Unchanged)));
    steps
}

/// Which rows of the tables that are joined a row is with.
fn join_step(
    plan: &EffectivePlan,
    change: &RowChange,
    subquery_results: &dyn SubqueryResults,
    reached: bool,
) -> Option<Step> {
    let joins = plan.joins.as_ref()?;
    let mut values = Vec::new();
    let mut found = false;
    for row in both(change) {
        let admit = || plan.scan.admit(row, subquery_results);
        let beside = admit().map(|own| joins.beside_partners(own, subquery_results));
        found |= beside.is_some_and(|row| row != Ok(None));
        let asked = admit().map(|own| joins.wanted(own, subquery_results)).unwrap_or_default();
        for (side, key) in asked.into_iter().filter(|_| reached) {
            let Some(side) = joins.sides().get(side) else { continue };
            let what = match subquery_results.partner(side.scan().description(), &key) {
                Partner::Unknown => "not known: nobody listens to this query now",
                Partner::Known(None) => "no such row",
                Partner::Known(Some(row)) if side.scan().admitted(row, subquery_results).is_none() => "withheld",
                Partner::Known(Some(_)) => "there",
            };
            let key = key.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
            values.push(format!("{} {key}: {what}", side.scan().table().name));
        }
    }
    values.dedup();
    let names = joins.sides().iter().map(|side| side.scan().table().name.to_string()).collect::<Vec<_>>().join(", ");
    let passed = if !reached {
        Passed::NotReached
    } else if found {
        Passed::Yes
    } else {
        Passed::No
    };
    Some(Step::new("join", passed, format!("with {names}"), values))
}

/// What a change does to the rows of a plan; whether those are arranged.
fn change_step(
    plan: &EffectivePlan,
    row: &RowChange,
    (subquery_results, arranged): (&dyn SubqueryResults, bool),
    passed: Passed,
) -> Step {
    let table = plan.table();
    let changed = changed_columns(table, row);
    let text = match feed::change(plan, row, subquery_results, None) {
        Ok(Some(Change::Add { .. })) if arranged => {
            "the row joins those that are grouped, ordered or limited".to_string()
        }
        Ok(Some(Change::Remove { .. })) if arranged => {
            "the row leaves those that are grouped, ordered or limited".to_string()
        }
        Ok(Some(Change::Add { .. })) => "the row comes into the result".to_string(),
        Ok(Some(Change::Remove { .. })) => "the row leaves the result".to_string(),
        Ok(Some(Change::Replace { changed, .. })) => {
            format!("replaced: {}", names(changed.iter().map(|place| plan.project.name(place, table))))
        }
        Err(ChangeError::MissingValue) => "the change omits a large value: the result is read again".to_string(),
        Err(ChangeError::Failed(error)) => format!("the query fails on the row: {error}"),
        Ok(None) => "nothing that is selected and visible changed".to_string(),
    };
    let values = if changed.is_empty() { vec![] } else { vec![format!("changed in the row: {changed}")] };
    Step::new("change", passed, text, values)
}

/// Whether a condition asks a table, also indirectly.
fn asks(condition: &Expr, table: &TableName) -> bool {
    let mut found = false;
    condition.for_each(&mut |e| {
        if let Expr::Member { subquery, .. } = e {
            found |= subquery.table.name == *table || subquery.conditions().any(|within| asks(within, table));
        }
    });
    found
}

/// The steps if no row of the transaction is of the plan's table.
fn of_another_table(plan: &EffectivePlan, standing: &[Standing], transaction: &Transaction) -> Vec<Step> {
    let table = plan.table();
    let tables: BTreeSet<String> = transaction.changes.iter().map(|c| c.table.to_string()).collect();
    let depends_on = plan.depends_on().into_iter().find(|t| tables.contains(&t.to_string()));
    if let Some(asked) = depends_on {
        let joins = plan.joins.iter().flat_map(|joins| joins.sides()).any(|side| side.scan().table().name == asked);
        let by_query = joins || asks(plan.filter.condition(), &asked);
        let by_rules = plan.scan.conditions().any(|condition| asks(condition, &asked));
        let who = match (by_rules, by_query) {
            (true, true) => format!("a rule on {} and the query ask", table.name),
            (false, true) if joins => "the query joins".into(),
            (false, true) => "the query asks".into(),
            _ => format!("a rule on {} asks", table.name),
        };
        let text = format!("the change is to {asked}, which {who}");
        let rules = standing.iter().map(|s| s.rule.headline()).collect::<Vec<_>>().join("; or ");
        let again = |by: bool, what: &str| {
            if by { vec![format!("the rows that {what} were evaluated again")] } else { vec![] }
        };
        let query = if by_query { Passed::Yes } else { Passed::NotReached };
        let condition =
            if by_query { plan.filter.condition().show_named(&plan.column_texts()).to_string() } else { String::new() };
        return vec![
            Step::new("stream", Passed::Yes, text, vec![]),
            Step::new("rule", Passed::Yes, rules, again(by_rules, "the rules admit")),
            Step::new("query", query, condition, again(by_query, "it finds")),
            Step::new("change", Passed::NotReached, "", vec![]),
        ];
    }
    let text = if tables.contains(&table.name.to_string()) {
        format!("{} was altered between the change and now: the result was read again", table.name)
    } else {
        let tables = tables.into_iter().collect::<Vec<_>>().join(", ");
        format!("the change is to {tables}; this query reads {}", table.name)
    };
    vec![
        Step::new("stream", Passed::No, text, vec![]),
        Step::new("rule", Passed::NotReached, "", vec![]),
        Step::new("query", Passed::NotReached, "", vec![]),
        Step::new("change", Passed::NotReached, "", vec![]),
    ]
}

fn rule_step(
    table: &Table,
    standing: &[Standing],
    row: &RowChange,
    subquery_results: &dyn SubqueryResults,
    passed: bool,
) -> Step {
    if standing.is_empty() {
        let text = format!("no rule grants anything on {} to any of these roles", table.name);
        return Step::new("rule", Passed::No, text, vec![]);
    }
    let mut texts = Vec::new();
    let mut values = Vec::new();
    for s in standing {
        match &s.condition {
            Err(e) => values.push(format!("claim.{} {}", e.name, e.problem)),
            Ok(condition) => {
                values.extend(unknown(condition, "under this rule", subquery_results));
                let holds = both(row).iter().any(|r| condition.holds(&Beside { row: r, subquery_results }) == Ok(true));
                // Show the rules that admitted it, or all where none did.
                if passed && !holds {
                    continue;
                }
                if !condition.is_const(true) {
                    let shown = |r: &Row| condition.show(table, Some(&Beside { row: r, subquery_results })).to_string();
                    values.extend(both(row).into_iter().map(shown));
                }
            }
        }
        texts.push(s.rule.headline());
    }
    values.dedup();
    Step::new("rule", if passed { Passed::Yes } else { Passed::No }, texts.join("; or "), values)
}

/// The sub-selects of a condition of which it is not known what they find.
fn unknown(condition: &Expr, whose: &str, subquery_results: &dyn SubqueryResults) -> Vec<String> {
    let mut found = Vec::new();
    condition.for_each(&mut |e| match e {
        Expr::Member { subquery, .. } if subquery_results.set(subquery).is_none() => {
            found.push(format!("nobody listens {whose} now, so it is not known what it finds: {subquery}"));
        }
        _ => {}
    });
    found
}

fn row_name(table: &Table, row: &RowChange) -> String {
    let key: Vec<String> = row.key.iter().map(|v| v.to_string()).collect();
    format!("{} {}", table.name, key.join(", "))
}

fn changed_columns(table: &Table, row: &RowChange) -> String {
    match (&row.old, &row.new) {
        (Old::Known(Some(old)), Some(new)) => {
            let differs = (0..table.columns.len()).filter(|&i| old.get(i) != new.get(i));
            names(differs.map(|i| &*table.columns[i].name))
        }
        _ => String::new(),
    }
}

fn names<'a>(columns: impl Iterator<Item = &'a str>) -> String {
    let mut text = String::new();
    for name in columns {
        if !text.is_empty() {
            text.push_str(", ");
        }
        let _ = write_name(&mut text, name);
    }
    text
}
