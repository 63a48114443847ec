//! Tables: what streams, who may read it, and the problems found.

use gossip_core::rule::{RuleSet, RuleText};
use gossip_protocol::system::TableRow;
use gossip_source::Finding;

use crate::workbench::ids::Micros;
use crate::workbench::message::Effect;
use crate::workbench::state::{Overlay, State};
use crate::workbench::views::tables::state::{Inspection, Proposal, Proposed};

/// The window in which changes are counted, in microseconds.
const MINUTE: Micros = 60_000_000;

/// Time between two inspections of the database, in microseconds.
const LOOK_AGAIN: Micros = 3_000_000;

/// A row of `gossip.tables`, or its removal.
pub fn told(s: &mut State, name: String, row: Option<TableRow>) {
    match row {
        None => drop(s.tables.known.remove(&name)),
        Some(row) => s.tables.known.entry(name).or_default().row = row,
    }
}

/// On a tick: counts changes, and inspects the database again while the view is open.
pub fn tick(s: &mut State) -> Vec<Effect> {
    let now = s.now;
    for known in s.tables.known.values_mut() {
        let changes = known.row.changes;
        if known.counted.back().is_none_or(|(at, _)| now - at >= 1_000_000) {
            known.counted.push_back((now, changes));
        }
        while known.counted.front().is_some_and(|(at, _)| *at < now - MINUTE) {
            known.counted.pop_front();
        }
    }
    let watched = s.view == crate::workbench::rail::View::Tables || s.tables.inspection.is_none();
    if s.has_database && watched && now - s.tables.looked > LOOK_AGAIN {
        return look(s);
    }
    vec![]
}

/// Inspects the database.
pub fn look(s: &mut State) -> Vec<Effect> {
    s.tables.looked = s.now;
    if s.has_database { vec![Effect::Inspect] } else { vec![] }
}

/// Applies the result of an inspection.
pub fn inspected(s: &mut State, found: Result<Inspection, String>) {
    if let Ok(i) = &found {
        for t in &i.tables {
            if let Some(rows) = t.rows {
                s.tables.first_rows.entry(t.name.clone()).or_insert(rows);
            }
        }
    }
    s.tables.inspection = Some(found);
    let n = s.tables.entries().len();
    s.tables.chosen = s.tables.chosen.min(n.saturating_sub(1));
}

/// Moves the selection.
pub fn step(s: &mut State, by: isize) {
    let n = s.tables.entries().len();
    s.tables.chosen = s.tables.chosen.saturating_add_signed(by).min(n.saturating_sub(1));
    s.tables.finding = 0;
}

/// The selected table's name.
pub fn chosen(s: &State) -> Option<String> {
    s.tables.entries().get(s.tables.chosen).map(|e| e.name.to_string())
}

/// Starts or stops streaming the selected table, after showing what that means.
pub fn switch(s: &mut State) -> Vec<Effect> {
    let entries = s.tables.entries();
    let Some(inspected) = entries.get(s.tables.chosen).and_then(|e| e.inspected) else { return vec![] };
    if let Some(unfit) = inspected.unfit.as_ref().filter(|_| !inspected.wanted) {
        s.notice = Some((s.now, format!("{} {}", inspected.name, unfit.why)));
        return vec![];
    }
    vec![Effect::PlanStream(inspected.name.clone(), !inspected.wanted)]
}

/// The selected finding, if it can be fixed from here.
pub fn fixable(s: &State) -> Option<Finding> {
    let name = chosen(s)?;
    let findings = s.tables.findings(&name);
    // A template has a placeholder that only the user can fill in.
    let runs = |f: &&&Finding| f.fix.as_ref().is_some_and(|m| !m.contains('…'));
    let can: Vec<&&Finding> = findings.iter().filter(runs).collect();
    can.get(s.tables.finding % can.len().max(1)).map(|f| (**f).clone())
}

/// Shows the fix of the selected finding.
pub fn fix(s: &mut State) -> Vec<Effect> {
    let (Some(finding), Some(table)) = (fixable(s), chosen(s)) else { return vec![] };
    let Some(fix) = finding.fix else { return vec![] };
    if fix == "gossip prepare" {
        return vec![Effect::PlanStream(table, true)];
    }
    s.overlay = Overlay::Proposal(Proposal {
        title: format!("{}: {}", finding.about, finding.text),
        effects: vec![],
        sql: vec![fix],
        what: Proposed::Sql,
    });
    vec![]
}

/// Checks a rule against what is known about its table.
///
/// # Errors
/// The rule does not fit the table.
pub fn check(s: &State, rule: &RuleText) -> Result<(), String> {
    let problems = RuleSet::new(vec![rule.clone()]).check(&crate::workbench::views::tables::catalog::catalog(s));
    problems.into_iter().next().map_or(Ok(()), |p| Err(p.message))
}
