//! State of Tables: what streams, who may read it, and the problems found.

use std::collections::{BTreeMap, VecDeque};
use std::sync::LazyLock;

use gossip_core::rule::RuleText;
use gossip_core::schema::{SYSTEM_SCHEMA, TOPIC_SOURCE};
use gossip_core::value::Type;
use gossip_protocol::system::{self, Shape, TableRow};
use gossip_source::Finding;
use gossip_source::database::{Inspected, Standing};

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
    /// How that stands on which streaming depends.
    pub standing: Vec<Standing>,
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

/// What a line of the list is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Group {
    /// The database's tables.
    Tables,
    /// Topics.
    Topics,
    /// Gossip's own tables.
    System,
}

impl Group {
    /// Its heading.
    pub fn heading(self) -> &'static str {
        match self {
            Group::Tables => "tables",
            Group::Topics => "topics ┄┄",
            Group::System => "system tables ┄┄",
        }
    }
}

/// A line of the list.
pub struct Entry<'a> {
    /// What it is about.
    pub group: Group,
    /// The table's name.
    pub name: &'a str,
    /// What instances report.
    pub known: Option<&'a TableInfo>,
    /// What the database says.
    pub inspected: Option<&'a Inspected>,
}

impl Entry<'_> {
    /// Its columns: name and type.
    pub fn columns(&self) -> Vec<(String, String)> {
        let declared = |i: &Inspected| i.columns.iter().map(|c| (c.name.clone(), c.declared.clone())).collect();
        match (self.known, self.inspected) {
            (_, Some(inspected)) => declared(inspected),
            (Some(known), None) => known.columns(),
            (None, None) => self.shape().map_or(vec![], |shape| {
                shape.columns.iter().map(|(name, ty)| (name.to_string(), Type::from(*ty).name().into())).collect()
            }),
        }
    }

    /// Its columns, if it is one of Gossip's own tables.
    pub fn shape(&self) -> Option<&'static Shape> {
        let name = self.name.strip_prefix(SYSTEM_SCHEMA)?.strip_prefix('.')?;
        system::TABLES.iter().find(|shape| shape.name == name)
    }
}

/// The names of Gossip's own tables.
static SYSTEM_TABLES: LazyLock<Vec<String>> =
    LazyLock::new(|| system::TABLES.iter().map(|shape| format!("{SYSTEM_SCHEMA}.{}", shape.name)).collect());

impl Tables {
    /// Every table, streaming or not, then the topics, then Gossip's own tables.
    pub fn entries(&self) -> Vec<Entry<'_>> {
        let mut all: BTreeMap<(Group, &str), Entry<'_>> = BTreeMap::new();
        for (name, known) in &self.known {
            let group = if known.row.source == TOPIC_SOURCE { Group::Topics } else { Group::Tables };
            all.insert((group, name), Entry { group, name, known: Some(known), inspected: None });
        }
        for t in self.inspected() {
            let group = Group::Tables;
            let empty = Entry { group, name: &t.name, known: None, inspected: None };
            all.entry((group, &t.name)).or_insert(empty).inspected = Some(t);
        }
        if !all.is_empty() {
            for name in &*SYSTEM_TABLES {
                let group = Group::System;
                all.insert((group, name), Entry { group, name, known: None, inspected: None });
            }
        }
        let wanted = self.find.to_lowercase();
        let sought = |e: &Entry<'_>| {
            let own = e.columns().into_iter().map(|(name, _)| name);
            std::iter::once(e.name.to_string()).chain(own).any(|name| name.to_lowercase().contains(&wanted))
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
