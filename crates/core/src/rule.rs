//! Who may see what: rules, claims, and folding them into a live query.
//!
//! A rule grants to a role the rows of a table on which its condition holds, with some columns. Nothing is readable
//! without one. Where several rules admit a row, the person sees the columns of those rules, on that row.
//!
//! The result of folding is an [`Effective`] query. Evaluating it is a barrier: first the rules on the whole row, then
//! the client's condition on what the rules have left visible. Effective queries that are equal share a feed.

use std::borrow::Cow;
use std::sync::Arc;

use serde_json::{Map, Value as Json};
use sha2::{Digest, Sha256};

use crate::query::{Blank, BlankError, Expr, LiveQuery, Masked, QueryError, Visible, parse_condition, similar};
use crate::schema::{Catalog, ColumnSet, Key, Row, Table, TableName};
use crate::value::Value;

/// The role of a client without a token.
pub const ANONYMOUS: &str = "anonymous";

/// What is known about a client, from its token.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Claims {
    /// Its roles. Without a token: `anonymous`.
    pub roles: Vec<String>,
    /// All claims, for `claim.name` in rules.
    pub facts: Map<String, Json>,
    /// Whether it may look into the system tables.
    pub operator: bool,
}

impl Claims {
    /// A client without a token.
    pub fn anonymous() -> Claims {
        Claims { roles: vec![ANONYMOUS.into()], ..Claims::default() }
    }

    /// The subject, if the token names one.
    pub fn subject(&self) -> Option<&str> {
        self.facts.get("sub").and_then(Json::as_str)
    }
}

/// A rule as it is written, before it is held against a table.
#[derive(Clone, Debug, PartialEq)]
pub struct RuleText {
    /// The role that it grants to.
    pub role: String,
    /// The table.
    pub table: TableName,
    /// The row condition; all rows if absent.
    pub rows: Option<String>,
    /// The columns; all if absent.
    pub columns: Option<Vec<String>>,
    /// Its line in the configuration, from 1; 0 if it has none.
    pub line: usize,
}

/// A rule that was held against its table.
#[derive(Clone, Debug)]
pub struct Rule {
    /// As written.
    pub text: RuleText,
    condition: Expr,
    columns: ColumnSet,
}

/// What is wrong with a rule.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleProblem {
    /// The rule's line in the configuration.
    pub line: usize,
    /// What is wrong.
    pub message: String,
}

/// All rules of an instance.
#[derive(Clone, Debug, Default)]
pub struct RuleSet {
    texts: Vec<RuleText>,
}

/// A rule of one of a client's roles, as it stands for this client.
#[derive(Clone, Debug)]
pub struct Standing {
    /// The rule.
    pub rule: Rule,
    /// Its condition with the claims filled in, or why it grants nothing.
    pub condition: Result<Expr, BlankError>,
}

impl RuleSet {
    /// Takes the rules as they were written.
    pub fn new(texts: Vec<RuleText>) -> RuleSet {
        RuleSet { texts }
    }

    /// The rules as they were written.
    pub fn texts(&self) -> &[RuleText] {
        &self.texts
    }

    /// Holds every rule against its table and returns all problems at once.
    pub fn check(&self, catalog: &Catalog) -> Vec<RuleProblem> {
        let problem = |text: &RuleText| {
            let fail = |message| RuleProblem { line: text.line, message };
            match catalog.get(&text.table) {
                Some(table) => Rule::new(text, table).map_err(fail).err(),
                None => {
                    let names: Vec<_> = catalog.iter().map(|t| t.name.to_string()).collect();
                    let hint = similar(&text.table.to_string(), names.iter().map(String::as_str))
                        .map_or(String::new(), |s| format!("; did you mean {s}?"));
                    Some(fail(format!("table {} is not streamed{hint}", text.table)))
                }
            }
        };
        self.texts.iter().filter_map(problem).collect()
    }

    /// The rules that speak of `table` and one of the client's roles. A rule that does not fit the table grants
    /// nothing.
    pub fn standing(&self, table: &Arc<Table>, claims: &Claims) -> Vec<Standing> {
        let own = claims.operator && table.name.is_system();
        let operators = own.then(|| Rule {
            text: RuleText { role: "operators".into(), table: table.name.clone(), rows: None, columns: None, line: 0 },
            condition: Expr::always(),
            columns: table.all_columns(),
        });
        let granted = self.texts.iter().filter(|t| t.table == table.name && claims.roles.contains(&t.role));
        let standing = |rule: Rule| {
            let condition = rule.condition.fill(Blank::Claim, &claims.facts).map(Expr::normal);
            Standing { rule, condition }
        };
        granted.filter_map(|t| Rule::new(t, table).ok()).chain(operators).map(standing).collect()
    }

    /// A hash that differs when the rules do.
    pub fn hash(&self) -> String {
        let mut h = Sha256::new();
        self.texts.iter().for_each(|t| h.update(format!("{:?}", (&t.role, &t.table, &t.rows, &t.columns))));
        h.finalize()[..6].iter().map(|b| format!("{b:02x}")).collect()
    }
}

impl Rule {
    /// Holds a rule against its table.
    pub fn new(text: &RuleText, table: &Arc<Table>) -> Result<Rule, String> {
        let condition = match &text.rows {
            None => Expr::always(),
            Some(rows) => parse_condition(rows, table).map_err(|e: QueryError| format!("rows: {e}"))?,
        };
        let columns = match &text.columns {
            None => table.all_columns(),
            Some(names) => names
                .iter()
                .map(|name| {
                    table.column(name, false).ok_or_else(|| {
                        let hint = similar(name, table.columns.iter().map(|c| &*c.name));
                        let hint = hint.map_or(String::new(), |s| format!("; did you mean {s}?"));
                        format!("columns: table {} has no column {name}{hint}", table.name)
                    })
                })
                .collect::<Result<_, _>>()?,
        };
        Ok(Rule { text: text.clone(), condition, columns })
    }

    /// The rule in one line, as explanations quote it.
    pub fn headline(&self) -> String {
        let rows = self.text.rows.as_deref().unwrap_or("all rows");
        format!("{} on {}:  {rows}", self.text.role, self.text.table)
    }

    /// The columns that it grants.
    pub fn columns(&self) -> &ColumnSet {
        &self.columns
    }
}

/// A condition with the columns that are visible where it holds.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Grant {
    /// Holds on the rows that are admitted.
    pub condition: Expr,
    /// Visible on those rows.
    pub columns: ColumnSet,
}

/// A live query with the rules for one client's claims folded in.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct Effective {
    /// The table that it reads.
    pub table: Arc<Table>,
    /// What the rules admit; sorted. Rows that no grant admits do not exist for this query.
    pub grants: Vec<Grant>,
    /// The client's condition, on what is visible.
    pub condition: Expr,
    /// The client's columns, in the order asked for.
    pub select: Vec<usize>,
    /// Whether the key columns are visible wherever a row is. Else keys are sent as opaque strings.
    pub open_key: bool,
    /// A short name that is the same on every instance and differs between different effective queries.
    pub fingerprint: u64,
}

/// A row as one effective query sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Seen {
    /// The whole row.
    pub row: Row,
    /// The columns of it that may be shown.
    pub columns: ColumnSet,
}

impl Effective {
    /// Folds the grants of `standing` into `query`.
    pub fn new(query: LiveQuery, standing: &[Standing]) -> Effective {
        let mut grants: Vec<Grant> = Vec::new();
        for s in standing {
            let Ok(condition) = &s.condition else { continue };
            match grants.iter_mut().find(|g| g.columns == s.rule.columns) {
                Some(g) => g.condition = Expr::Or(vec![g.condition.clone(), condition.clone()]),
                None => grants.push(Grant { condition: condition.clone(), columns: s.rule.columns.clone() }),
            }
        }
        for g in &mut grants {
            g.condition = std::mem::replace(&mut g.condition, Expr::always()).normal();
        }
        // What never holds grants nothing; what is covered by a grant of all rows adds nothing.
        grants.retain(|g| !g.condition.is_const(false) && g.condition != Expr::Const(Value::Null));
        let all: Vec<ColumnSet> =
            grants.iter().filter(|g| g.condition.is_const(true)).map(|g| g.columns.clone()).collect();
        grants
            .retain(|g| !all.iter().any(|a| a.covers(&g.columns) && (*a != g.columns || !g.condition.is_const(true))));
        grants.sort();
        let key: ColumnSet = query.table.key.iter().copied().collect();
        let open_key = grants.iter().all(|g| g.columns.covers(&key));
        let LiveQuery { table, select, condition } = query;
        let condition = condition.normal();
        let digest = Sha256::digest(format!("{:?}", (&table, &grants, &condition, &select)).as_bytes());
        let fingerprint = u64::from_be_bytes(digest[..8].try_into().unwrap_or_default());
        Effective { table, grants, condition, select, open_key, fingerprint }
    }

    /// The columns that the rules admit on this row, or `None` if they admit none of it.
    pub fn admitted(&self, row: &[Value]) -> Option<Cow<'_, ColumnSet>> {
        let mut found: Option<Cow<'_, ColumnSet>> = None;
        for g in &self.grants {
            if found.as_ref().is_some_and(|f| f.covers(&g.columns)) || g.condition.truth(row) != Some(true) {
                continue;
            }
            match &mut found {
                None => found = Some(Cow::Borrowed(&g.columns)),
                Some(f) => f.to_mut().union_with(&g.columns),
            }
        }
        found
    }

    /// The row as this query sees it, or `None` if it is withheld or outside.
    pub fn see(&self, row: &Row) -> Option<Seen> {
        let visible = self.admitted(row)?;
        let masked = Masked { row, visible: &visible };
        (self.condition.truth(&masked) == Some(true)).then(|| Seen { row: row.clone(), columns: visible.into_owned() })
    }

    /// Whether the row is in the result; as [`Effective::see`], without the cost of building what is seen.
    pub fn sees(&self, row: &[Value]) -> bool {
        self.admitted(row).is_some_and(|visible| self.condition.truth(&Masked { row, visible: &visible }) == Some(true))
    }

    /// The selected columns that are shown of a row, with their values.
    pub fn shown<'a>(&'a self, seen: &'a Seen) -> impl Iterator<Item = (usize, &'a Value)> {
        self.select.iter().filter(|&&i| seen.columns.contains(i)).map(|&i| (i, &seen.row[i]))
    }

    /// The query as SQL, rules included, for people.
    pub fn to_sql(&self) -> String {
        let columns: Vec<_> = self.select.iter().map(|&i| &*self.table.columns[i].name).collect();
        let rules: Vec<Expr> = self.grants.iter().map(|g| g.condition.clone()).collect();
        let all = Expr::And(vec![Expr::Or(rules), self.condition.clone()]).normal();
        let tail = if all.is_const(true) { String::new() } else { format!(" WHERE {}", all.show(&self.table, None)) };
        format!("SELECT {} FROM {}{tail}", columns.join(", "), self.table.name)
    }

    /// The key of a row, empty for tables without one.
    pub fn key_of(&self, row: &[Value]) -> Key {
        self.table.key_of(row)
    }
}

/// What one client may name in a query.
pub struct Permitted<'a> {
    /// All tables.
    pub catalog: &'a Catalog,
    /// All rules.
    pub rules: &'a RuleSet,
    /// The client.
    pub claims: &'a Claims,
}

impl Permitted<'_> {
    fn columns(&self, table: &Arc<Table>) -> Option<ColumnSet> {
        let mut visible: Option<ColumnSet> = None;
        for s in self.rules.standing(table, self.claims).iter().filter(|s| s.condition.is_ok()) {
            visible.get_or_insert_default().union_with(&s.rule.columns);
        }
        visible
    }
}

impl Visible for Permitted<'_> {
    fn table(&self, schema: Option<&str>, name: &str, quoted: bool) -> Option<(Arc<Table>, ColumnSet)> {
        let table = self.catalog.find(schema, name, quoted)?;
        Some((table.clone(), self.columns(table)?))
    }

    fn names(&self) -> Vec<String> {
        self.catalog.iter().filter(|t| self.columns(t).is_some()).map(|t| t.name.to_string()).collect()
    }
}
