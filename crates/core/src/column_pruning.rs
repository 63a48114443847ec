//! The columns that any rule can show or read. Others need not be relayed to other instances.

use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use crate::query::Subquery;
use crate::rule::{Rule, RuleSet};
use crate::schema::{Catalog, ColumnSet, Table, TableName};
use crate::subquery::subqueries_of;

/// The needed columns of a table, by name: names survive an ALTER TABLE.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Columns {
    /// All, also future ones.
    All,
    /// These.
    These(BTreeSet<Arc<str>>),
}

impl Columns {
    /// Whether a column is needed.
    pub fn has(&self, name: &str) -> bool {
        match self {
            Columns::All => true,
            Columns::These(names) => names.contains(name),
        }
    }
}

/// The needed columns of each table; none of tables that are absent.
pub type Needed = BTreeMap<TableName, Columns>;

/// The columns that the rules can show or read: those that they grant unmasked, and those that their
/// conditions and masks read, also in other tables. `None`: all, because a rule does not fit its table and may
/// fit it later.
pub fn needed(rules: &RuleSet, catalog: &Catalog) -> Option<Needed> {
    let mut needed = Needed::new();
    for text in rules.texts().iter().filter(|t| t.may.read) {
        let table = catalog.get(&text.table)?;
        let rule = Rule::new(text, table, catalog).ok()?;
        if text.columns.is_none() {
            needed.insert(table.name.clone(), Columns::All);
        }
        let mut columns = rule.shown();
        rule.condition().for_each_column(&mut |i| columns.insert(i));
        add(&mut needed, table, &columns);
        let mut next: Vec<Arc<Subquery>> = subqueries_of([rule.condition()]).into_keys().collect();
        while let Some(subquery) = next.pop() {
            let mut columns: ColumnSet = subquery.columns.iter().copied().collect();
            subquery.conditions().for_each(|e| e.for_each_column(&mut |i| columns.insert(i)));
            add(&mut needed, &subquery.table, &columns);
            next.extend(subqueries_of(subquery.conditions()).into_keys());
        }
    }
    Some(needed)
}

fn add(needed: &mut Needed, table: &Arc<Table>, columns: &ColumnSet) {
    let of = needed.entry(table.name.clone()).or_insert_with(|| Columns::These(BTreeSet::new()));
    if let Columns::These(names) = of {
        names.extend(columns.iter().map(|i| table.columns[i].name.clone()));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::rule::RuleText;
    use crate::schema::Column;
    use crate::value::Type;

    fn table(name: &str, columns: &[&str]) -> Arc<Table> {
        let column = |c: &&str| Column { name: (*c).into(), ty: Type::Text };
        Arc::new(Table {
            name: TableName::plain(name),
            source: "s".into(),
            columns: columns.iter().map(column).collect(),
            key: vec![0],
            old_values: true,
            incarnation: 0,
        })
    }

    #[test]
    fn what_rules_show_and_ask_is_needed_and_nothing_else() {
        let mut catalog = Catalog::default();
        catalog.put(table("calls", &["id", "agency", "status", "note", "secret", "fee"]));
        catalog.put(table("assignments", &["id", "call", "pilot", "wage"]));
        catalog.put(table("crews", &["id", "member", "boss", "home"]));
        catalog.put(table("logins", &["id", "password"]));
        catalog.put(table("berths", &["id", "place"]));
        let rule = |table: &str, rows: &str, columns: Option<&[&str]>, masks: &[(&str, &str)]| RuleText {
            role: "r".into(),
            table: TableName::plain(table),
            rows: Some(rows.into()),
            columns: columns.map(|c| c.iter().map(|s| s.to_string()).collect()),
            masks: masks.iter().map(|(c, m)| (c.to_string(), m.to_string())).collect(),
            ..RuleText::default()
        };
        let condition = "status = 'in' AND EXISTS (SELECT 1 FROM assignments a WHERE a.call = calls.id \
                    AND pilot IN (SELECT member FROM crews WHERE boss = claim.sub))";
        let masks = [("fee", "'hidden'"), ("note", "left(agency, 2)")];
        let mut texts =
            vec![rule("calls", condition, Some(&["id", "fee"]), &masks), rule("berths", "id = claim.sub", None, &[])];
        let these = |names: &[&str]| Columns::These(names.iter().map(|n| Arc::from(*n)).collect());
        let expected = [
            ("calls", these(&["id", "status", "agency"])),
            ("assignments", these(&["call", "pilot"])),
            ("crews", these(&["member", "boss"])),
            ("berths", Columns::All),
        ];
        let found = needed(&RuleSet::new(texts.clone()), &catalog);
        assert_eq!(found, Some(expected.map(|(t, c)| (TableName::plain(t), c)).into()));
        texts.push(rule("calls", "id = 'x'", Some(&["fee"]), &[]));
        let found = needed(&RuleSet::new(texts.clone()), &catalog).unwrap();
        assert!(found[&TableName::plain("calls")].has("fee"), "masked for one, open for another");
        texts.push(rule("calls", "no_such = 1", None, &[]));
        assert_eq!(needed(&RuleSet::new(texts), &catalog), None);
    }
}
