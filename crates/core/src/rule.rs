//! Who may see what: rules, claims, and folding them into a live query.
//!
//! A rule grants to a role the rows of a table on which its condition holds, with some columns. Nothing is readable
//! without one. Where several rules admit a row, the client sees the columns of all of them, on that row. A condition
//! may depend on other tables of the source ([`Subquery`](crate::query::Subquery)), and a column may be masked
//! ([`Mask`](crate::mask::Mask)).
//!
//! The result of folding ([`fold`]) is an [`EffectivePlan`], whose scan is a barrier: first the rules on the whole row, then
//! the client's condition on what the rules leave visible.

use std::collections::{BTreeMap, BTreeSet};
use std::convert::Infallible;
use std::sync::Arc;

use gossip_protocol::spelling::similar;
use serde_json::{Map, Value as Json};

use crate::canonical::{Canonical, Encoder};
use crate::plan::{EffectivePlan, LiveQuery, Scan};
use crate::query::expr::{Grant, Masks};
use crate::query::{Expr, Placeholder, PlaceholderError, QueryError, Visible, parse_condition, parse_mask};
use crate::schema::{Catalog, ColumnSet, Table, TableName};
use crate::subquery::subqueries_of;

/// The role of a client without a token.
pub const ANONYMOUS: &str = "anonymous";

/// What is known about a client, from its token.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Claims {
    /// Its roles. Without a token: `anonymous`.
    pub roles: Vec<String>,
    /// All claims, for `claim.name` in rules.
    pub facts: Map<String, Json>,
    /// Whether it may read the system tables.
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

/// What a rule permits.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct May {
    /// Subscribe to rows.
    pub read: bool,
    /// Publish events; of topics, and of `gossip.presence`.
    pub publish: bool,
}

impl Default for May {
    fn default() -> Self {
        May { read: true, publish: false }
    }
}

impl May {
    /// Parses the words of `may`.
    ///
    /// # Errors
    /// The unknown word.
    pub fn of<'a>(words: impl IntoIterator<Item = &'a str>) -> Result<May, &'a str> {
        let mut may = May { read: false, publish: false };
        for word in words {
            match word {
                "read" => may.read = true,
                "publish" => may.publish = true,
                other => return Err(other),
            }
        }
        Ok(may)
    }

    /// The words for it.
    pub fn words(self) -> impl Iterator<Item = &'static str> {
        [("read", self.read), ("publish", self.publish)].into_iter().filter(|(_, may)| *may).map(|(word, _)| word)
    }
}

/// A rule as written, before it is checked against its table.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RuleText {
    /// The role that it grants to.
    pub role: String,
    /// The table.
    pub table: TableName,
    /// What it grants.
    pub may: May,
    /// The row condition; all rows if absent.
    pub rows: Option<String>,
    /// The columns; all if absent.
    pub columns: Option<Vec<String>>,
    /// Masks by column name; see [`Mask`](crate::mask::Mask).
    pub masks: BTreeMap<String, String>,
    /// Its line in the configuration, from 1; 0 if it has none.
    pub line: usize,
}

impl Canonical for RuleText {
    fn encode(&self, to: &mut Encoder) {
        // The line is not part of the rule's meaning.
        let RuleText { role, table, may, rows, columns, masks, line: _ } = self;
        to.text(role);
        table.encode(to);
        to.list(&may.words().collect::<Vec<_>>());
        to.option(rows.as_deref(), |rows, to| to.text(rows));
        to.option(columns.as_deref(), |columns, to| to.list(columns));
        to.list(&masks.iter().collect::<Vec<_>>());
    }
}

/// A rule that was checked against its table.
#[derive(Clone, Debug)]
pub struct Rule {
    /// As written.
    pub text: RuleText,
    condition: Expr,
    columns: ColumnSet,
    masks: Masks,
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
#[derive(Clone, Debug, Default, PartialEq)]
pub struct RuleSet {
    texts: Vec<RuleText>,
}

/// A rule of one of a client's roles, bound to this client.
#[derive(Clone, Debug)]
pub struct Standing {
    /// The rule.
    pub rule: Rule,
    /// Its condition with the claims bound, as those of its masks are; or why it grants nothing.
    pub condition: Result<Expr, PlaceholderError>,
}

impl RuleSet {
    /// A set of rules as written.
    ///
    /// # Errors
    /// The rule does not fit the tables.
    pub fn new(texts: Vec<RuleText>) -> RuleSet {
        RuleSet { texts }
    }

    /// The rules as they were written.
    pub fn texts(&self) -> &[RuleText] {
        &self.texts
    }

    /// Checks every rule against its table and returns all problems at once.
    pub fn check(&self, catalog: &Catalog) -> Vec<RuleProblem> {
        let problem = |text: &RuleText| {
            let fail = |message| RuleProblem { line: text.line, message };
            match catalog.get(&text.table) {
                Some(table) if text.may.publish && !table.takes_events() => {
                    Some(fail(format!("may: nobody can publish to {}; only to topics and gossip.presence", text.table)))
                }
                Some(table) => match Rule::new(text, table, catalog) {
                    Ok(rule) if text.may.publish && !rule.decides_by_the_row() => {
                        Some(fail("rows: a rule for publishing can ask neither other tables nor the time".into()))
                    }
                    Ok(_) => None,
                    Err(e) => Some(fail(e)),
                },
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

    /// The rules on `table` for one of the client's roles. A rule that does not fit the table grants
    /// nothing.
    pub fn standing(&self, table: &Arc<Table>, claims: &Claims, catalog: &Catalog) -> Vec<Standing> {
        let everybody = table.name.is_row_changes();
        let own = everybody || claims.operator && table.name.is_system();
        let role = if everybody { "everybody" } else { "operators" };
        let operators = own.then(|| Rule {
            text: RuleText { role: role.into(), table: table.name.clone(), ..RuleText::default() },
            condition: Expr::always(),
            columns: table.all_columns(),
            masks: Vec::new(),
        });
        let granted = self.of(table, claims, |may| may.read);
        granted.filter_map(|t| Rule::new(t, table, catalog).ok()).chain(operators).map(|r| r.standing(claims)).collect()
    }

    fn of(&self, table: &Table, claims: &Claims, lets: impl Fn(May) -> bool) -> impl Iterator<Item = &RuleText> {
        self.texts.iter().filter(move |t| t.table == table.name && lets(t.may) && claims.roles.contains(&t.role))
    }

    /// Whether a client may publish to a table at all.
    pub fn may_publish_to(&self, table: &Table, claims: &Claims) -> bool {
        self.of(table, claims, |may| may.publish).next().is_some()
    }

    /// The rules that may let a client publish to a table.
    pub(crate) fn publishers(&self, table: &Table, claims: &Claims) -> impl Iterator<Item = &RuleText> {
        self.of(table, claims, |may| may.publish)
    }

    /// A hash that differs when the rules do.
    pub fn hash(&self) -> String {
        let mut identity = Encoder::new("rules");
        identity.list(&self.texts);
        identity.hex_digest()[..12].to_string()
    }
}

impl Rule {
    /// Checks a rule against its table and the tables of its sub-selects.
    pub fn new(text: &RuleText, table: &Arc<Table>, catalog: &Catalog) -> Result<Rule, String> {
        let condition = match &text.rows {
            None => Expr::always(),
            Some(rows) => parse_condition(rows, table, catalog).map_err(|e: QueryError| format!("rows: {e}"))?,
        };
        let find = |what: &str, name: &String| {
            table.column(name, false).ok_or_else(|| {
                let hint = similar(name, table.columns.iter().map(|c| &*c.name));
                let hint = hint.map_or(String::new(), |s| format!("; did you mean {s}?"));
                format!("{what}: table {} has no column {name}{hint}", table.name)
            })
        };
        let mut columns = match &text.columns {
            None => table.all_columns(),
            Some(names) => names.iter().map(|name| find("columns", name)).collect::<Result<_, _>>()?,
        };
        let mut masks = Vec::new();
        for (name, mask) in &text.masks {
            let column = find("masks", name)?;
            columns.insert(column);
            let mask = parse_mask(mask, table, column).map_err(|e| format!("masks: {name}: {e}"))?;
            masks.push((column, mask));
        }
        masks.sort();
        Ok(Rule { text: text.clone(), condition, columns, masks })
    }

    /// Binds it to a client.
    pub(crate) fn standing(mut self, claims: &Claims) -> Standing {
        let condition = self.condition.bind(Placeholder::Claim, &claims.facts).map(Expr::canonicalize);
        let masks: Result<Masks, _> =
            self.masks.iter().map(|(column, mask)| Ok((*column, mask.bind(&claims.facts)?))).collect();
        let condition = condition.and_then(|condition| {
            self.masks = masks?;
            Ok(condition)
        });
        Standing { rule: self, condition }
    }

    /// Whether its condition is about the row alone, and not about other tables or the time.
    pub fn decides_by_the_row(&self) -> bool {
        let mut asks_time = false;
        self.condition.for_each_moment(&mut |_, _| asks_time = true);
        !asks_time && subqueries_of([&self.condition]).is_empty()
    }

    /// The rule in one line, as explanations quote it.
    pub fn headline(&self) -> String {
        let rows = self.text.rows.as_deref().unwrap_or("all rows");
        format!("{} on {}:  {rows}", self.text.role, self.text.table)
    }

    /// The claims that its condition and its masks name.
    pub fn claims(&self) -> BTreeSet<String> {
        let mut found = BTreeSet::new();
        let mut note = |name: &str| found.extend([name.to_string()]);
        self.condition.for_each_claim(&mut note);
        self.masks.iter().for_each(|(_, mask)| mask.for_each_claim(&mut note));
        found
    }

    /// Its condition.
    pub fn condition(&self) -> &Expr {
        &self.condition
    }

    /// The columns that it reveals anything of: those granted unmasked, and those that masks read.
    pub fn shown(&self) -> ColumnSet {
        let masked = |i: &usize| self.masks.iter().any(|(column, _)| column == i);
        let mut shown: ColumnSet = self.columns.iter().filter(|i| !masked(i)).collect();
        self.masks.iter().for_each(|(_, mask)| mask.reads(&mut shown));
        shown
    }

    /// The columns that it grants.
    pub fn columns(&self) -> &ColumnSet {
        &self.columns
    }
}

/// Folds what one client may see into a query: the grants on each of its tables. Rules that need a claim which the client lacks
/// grant nothing.
pub fn fold(mut query: LiveQuery, client: &Permitted<'_>) -> EffectivePlan {
    query.condition = seen_by(&query.condition, client);
    let grants = client.grants(&query.table);
    let on_joined = query.joins.iter().map(|join| client.grants(&join.table)).collect();
    EffectivePlan::new(query, grants, on_joined)
}

/// A condition whose sub-selects find what a client may see.
fn seen_by(condition: &Expr, client: &Permitted<'_>) -> Expr {
    match condition {
        Expr::Member { of, subquery, exists } => {
            let Ok(within) = subquery.try_map(|e| Ok::<_, Infallible>(seen_by(e, client)));
            let grants = Scan::new(subquery.table.clone(), client.grants(&subquery.table)).grants().to_vec();
            Expr::Member { of: of.clone(), subquery: Arc::new(within.seen_by(grants)), exists: *exists }
        }
        e => {
            let Ok(seen) = e.try_map(|part| Ok::<_, Infallible>(seen_by(part, client)));
            seen
        }
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
    fn grants(&self, table: &Arc<Table>) -> Vec<Grant> {
        let grant =
            |s: Standing| Some(Grant { condition: s.condition.ok()?, columns: s.rule.columns, masks: s.rule.masks });
        self.rules.standing(table, self.claims, self.catalog).into_iter().filter_map(grant).collect()
    }

    fn columns(&self, table: &Arc<Table>) -> Option<ColumnSet> {
        let mut visible: Option<ColumnSet> = None;
        for s in self.rules.standing(table, self.claims, self.catalog).iter().filter(|s| s.condition.is_ok()) {
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
