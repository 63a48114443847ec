//! State of Tables: what streams, who may read it, and the problems found.

use std::collections::{BTreeMap, VecDeque};

use gossip_core::rule::RuleText;
use gossip_protocol::system::TableRow;
use gossip_source::Finding;
use gossip_source::database::Inspected;

use crate::workbench::ids::Timestamp;
use crate::workbench::views::clients::state::ClientId;

/// A table as instances report it.
#[derive(Clone, Debug, Default)]
pub struct TableInfo {
    /// Its row of `gossip.tables`.
    pub row: TableRow,
    /// Number of changes by time, over the last minute.
    pub counted: VecDeque<(Timestamp, u64)>,
}

impl TableInfo {
    /// Its columns: name and type.
    pub fn columns(&self) -> Vec<(String, String)> {
        self.row.columns.0.iter().map(|c| (c.name.clone(), c.ty.clone())).collect()
    }

    /// Changes in the last minute.
    pub fn per_minute(&self) -> u64 {
        match (self.counted.front(), self.counted.back()) {
            (Some(first), Some(last)) => last.1.saturating_sub(first.1),
            _ => 0,
        }
    }
}

/// The result of inspecting the database.
#[derive(Clone, Debug, Default)]
pub struct Inspection {
    /// All tables.
    pub tables: Vec<Inspected>,
    /// The findings.
    pub findings: Vec<Finding>,
}

/// Something to be confirmed before it is done.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Proposal {
    /// Its title.
    pub title: String,
    /// Its consequences, for the user.
    pub effects: Vec<String>,
    /// The SQL.
    pub sql: Vec<String>,
    /// What to do.
    pub what: Proposed,
}

/// What a proposal does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Proposed {
    /// Starts or stops streaming a table.
    Stream(String, bool),
    /// Runs its SQL.
    Sql,
    /// Ends a client's connection.
    Disconnect(ClientId),
}

/// The view's state.
#[derive(Default)]
pub struct Tables {
    /// What instances report, by table.
    pub known: BTreeMap<String, TableInfo>,
    /// What the database itself says, if it can be reached.
    pub inspection: Option<Result<Inspection, String>>,
    /// Number of rows when first inspected, by table.
    pub first_rows: BTreeMap<String, u64>,
    /// The rules, where the configuration can be read.
    pub rules: Vec<RuleText>,
    /// Only tables with this in their name, or in a column's, are shown.
    pub find: String,
    /// The selected table.
    pub chosen: usize,
    /// The selected finding.
    pub finding: usize,
    /// When the database was last inspected.
    pub looked: Timestamp,
}

/// A line of the list.
pub struct Entry<'a> {
    /// The table's name.
    pub name: &'a str,
    /// What instances report.
    pub known: Option<&'a TableInfo>,
    /// What the database says.
    pub inspected: Option<&'a Inspected>,
}

impl Tables {
    /// Every table, streaming or not.
    pub fn entries(&self) -> Vec<Entry<'_>> {
        let mut all: BTreeMap<&str, Entry<'_>> = BTreeMap::new();
        for (name, known) in &self.known {
            all.insert(name, Entry { name, known: Some(known), inspected: None });
        }
        for t in self.inspected() {
            let entry = all.entry(&t.name).or_insert(Entry { name: &t.name, known: None, inspected: None });
            entry.inspected = Some(t);
        }
        let wanted = self.find.to_lowercase();
        let sought = |e: &Entry<'_>| {
            let told = e.known.map(|k| k.columns()).unwrap_or_default();
            let declared = e.inspected.map(|i| i.columns.as_slice()).unwrap_or_default();
            let columns = told.iter().map(|(c, _)| c.as_str()).chain(declared.iter().map(|c| c.name.as_str()));
            std::iter::once(e.name).chain(columns).any(|name| name.to_lowercase().contains(&wanted))
        };
        all.into_values().filter(|e| wanted.is_empty() || sought(e)).collect()
    }

    /// The tables of the database.
    pub fn inspected(&self) -> &[Inspected] {
        match &self.inspection {
            Some(Ok(i)) => &i.tables,
            _ => &[],
        }
    }

    /// The findings about a table, and those about the whole source.
    pub fn findings(&self, table: &str) -> Vec<&Finding> {
        let Some(Ok(i)) = &self.inspection else { return vec![] };
        let named = |f: &Finding| i.tables.iter().any(|t| t.name == f.about);
        i.findings.iter().filter(|f| f.about == table || !named(f)).collect()
    }

    /// Whether there are findings.
    pub fn needs_mending(&self) -> bool {
        matches!(&self.inspection, Some(Ok(i)) if i.findings.iter().any(|f| f.blocks))
    }

    /// A table that a rule grants, or else the first that streams.
    pub fn granted(&self) -> Option<String> {
        let rules = self.rules.iter().map(|r| r.table.to_string());
        rules.rev().find(|t| self.known.contains_key(t)).or_else(|| self.known.keys().next().cloned())
    }

    /// The roles that see a column of a table.
    pub fn roles_seeing(&self, table: &str, column: &str) -> Vec<&str> {
        let grants = |r: &&RuleText| {
            r.may.read
                && r.table.to_string() == table
                && r.columns.as_ref().is_none_or(|c| c.iter().any(|c| c.eq_ignore_ascii_case(column)))
        };
        let mut roles: Vec<&str> = self.rules.iter().filter(grants).map(|r| r.role.as_str()).collect();
        roles.sort_unstable();
        roles.dedup();
        roles
    }
}
