//! Whether somebody may publish an event, or say something in a place; and for operators, why not. Whoever tried is told only
//! that the topic is not known or not permitted.

use std::sync::Arc;

use crate::explain::{Passed, Step};
use crate::query::{Beside, PlaceholderError};
use crate::rule::{Claims, Rule, RuleSet, RuleText, Standing};
use crate::schema::{Catalog, ColumnSet, Table};
use crate::value::Value;

/// A row that somebody wants to publish.
#[derive(Clone, Copy, Debug)]
pub struct Publication<'a> {
    /// The topic's table, or that of presence.
    pub table: &'a Arc<Table>,
    /// The row.
    pub row: &'a [Value],
    /// The columns that the publisher chooses.
    pub chosen: &'a ColumnSet,
    /// Who.
    pub claims: &'a Claims,
}

/// What a rule says to a publication.
enum Judged {
    Granted,
    /// The rule does not fit the table.
    Unfit(String),
    Lacks(PlaceholderError),
    /// It asks other tables or the time, and so decides nothing here.
    AsksOthers,
    Fails(Box<Standing>),
    /// These columns may not be chosen.
    Hidden(Vec<usize>),
}

impl Publication<'_> {
    fn judge(&self, text: &RuleText, catalog: &Catalog) -> Judged {
        let rule = match Rule::new(text, self.table, catalog) {
            Ok(rule) => rule,
            Err(why) => return Judged::Unfit(why),
        };
        if !rule.decides_by_the_row() {
            return Judged::AsksOthers;
        }
        let standing = rule.standing(self.claims);
        let beside = Beside { row: self.row, subquery_results: &() };
        match &standing.condition {
            Err(lacks) => return Judged::Lacks(lacks.clone()),
            Ok(condition) if condition.holds(&beside) != Ok(true) => return Judged::Fails(Box::new(standing)),
            Ok(_) => {}
        }
        let hidden = |i: &usize| self.row[*i] != Value::Null && !standing.rule.columns().contains(*i);
        let hidden: Vec<usize> = self.chosen.iter().filter(hidden).collect();
        if hidden.is_empty() { Judged::Granted } else { Judged::Hidden(hidden) }
    }

    /// Whether it is permitted: a rule holds on the row, and grants all columns that have a value and that the publisher
    /// chooses.
    pub fn is_permitted(&self, rules: &RuleSet, catalog: &Catalog) -> bool {
        rules.publishers(self.table, self.claims).any(|text| matches!(self.judge(text, catalog), Judged::Granted))
    }

    /// The steps by which that is decided, for operators.
    pub fn steps(&self, rules: &RuleSet, catalog: &Catalog) -> Vec<Step> {
        let texts: Vec<&RuleText> = rules.publishers(self.table, self.claims).collect();
        if texts.is_empty() {
            return vec![nobody(self.table, self.claims, rules)];
        }
        texts.into_iter().map(|text| self.step(text, catalog)).collect()
    }

    fn step(&self, text: &RuleText, catalog: &Catalog) -> Step {
        let rows = text.rows.as_deref().unwrap_or("all rows");
        let headline = format!("{} on {}:  {rows}", text.role, text.table);
        let (passed, values) = match self.judge(text, catalog) {
            Judged::Granted => (Passed::Yes, vec![]),
            Judged::Unfit(why) => (Passed::No, vec![why]),
            Judged::Lacks(lacks) => (Passed::No, vec![format!("claim.{} {}", lacks.name, lacks.problem)]),
            Judged::AsksOthers => {
                (Passed::No, vec!["a rule for publishing can ask neither other tables nor the time".into()])
            }
            Judged::Fails(standing) => {
                let beside = Beside { row: self.row, subquery_results: &() };
                let shown = standing.condition.map(|c| c.show(self.table, Some(&beside)).to_string());
                (Passed::No, shown.into_iter().collect())
            }
            Judged::Hidden(columns) => {
                let names: Vec<&str> = columns.iter().map(|&i| &*self.table.columns[i].name).collect();
                (Passed::No, vec![format!("it does not let them set {}", names.join(", "))])
            }
        };
        Step::new("rule", passed, headline, values)
    }
}

/// That no rule lets somebody publish to a table at all, and whom one does.
pub fn nobody(table: &Table, claims: &Claims, rules: &RuleSet) -> Step {
    let mut roles: Vec<&str> =
        rules.texts().iter().filter(|r| r.may.publish && r.table == table.name).map(|r| &*r.role).collect();
    roles.sort_unstable();
    roles.dedup();
    let others = if roles.is_empty() { "nobody may".to_string() } else { format!("{} may", roles.join(", ")) };
    let who = if claims.roles.is_empty() { "nobody".into() } else { claims.roles.join(", ") };
    Step::new("rule", Passed::No, format!("no rule lets {who} publish to {}", table.name), vec![others])
}
