//! Who may see what: rules, claims, and folding them into a live query.
//!
//! A rule grants to a role the rows of a table on which its condition holds, with some columns. Nothing is readable
//! without one. Where several rules admit a row, the person sees the columns of those rules, on that row. A condition
//! may ask other tables of the source ([`Subquery`]) and a column may be shown as something else ([`Mask`]).
//!
//! The result of folding is an [`EffectiveQuery`] query. Evaluating it is a barrier: first the rules on the whole row, then
//! the client's condition on what the rules have left visible. Effective queries that are equal share a feed.

use std::borrow::Cow;
use std::collections::{BTreeMap, BTreeSet};
use std::sync::Arc;

use gossip_protocol::spelling::similar;
use serde_json::{Map, Value as Json};

use crate::canonical::{Canonical, Encoder};
use crate::mask::Mask;
use crate::position::RowChange;
use crate::query::Subquery;
use crate::query::{
    Beside, Expr, LiveQuery, Masked, Placeholder, PlaceholderError, QueryError, Visible, parse_condition, parse_mask,
};
use crate::schema::{Catalog, ColumnSet, Key, Row, Table, TableName};
use crate::subquery::SubqueryResults;
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

/// What a rule lets do.
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
    /// What these words let do; `Err` gives back one that is not known.
    ///
    /// # Errors
    /// The word that is not known.
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

/// A rule as it is written, before it is held against a table.
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
    /// What is shown in the place of columns, by their names; see [`Mask`].
    pub masks: BTreeMap<String, String>,
    /// Its line in the configuration, from 1; 0 if it has none.
    pub line: usize,
}

impl Canonical for RuleText {
    fn encode(&self, to: &mut Encoder) {
        // The line is not part of what it says.
        let RuleText { role, table, may, rows, columns, masks, line: _ } = self;
        to.text(role);
        table.encode(to);
        to.list(&may.words().collect::<Vec<_>>());
        to.option(rows.as_deref(), |rows, to| to.text(rows));
        to.option(columns.as_deref(), |columns, to| to.list(columns));
        to.list(&masks.iter().collect::<Vec<_>>());
    }
}

/// A rule that was held against its table.
#[derive(Clone, Debug)]
pub struct Rule {
    /// As written.
    pub text: RuleText,
    condition: Expr,
    columns: ColumnSet,
    masks: Masks,
}

/// What is shown in the place of columns, by column.
type Masks = Vec<(usize, Mask)>;

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
    pub condition: Result<Expr, PlaceholderError>,
}

impl RuleSet {
    /// Takes the rules as they were written.
    ///
    /// # Errors
    /// What in the rule does not fit the tables.
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
                Some(table) if text.may.publish && !table.takes_events() => {
                    Some(fail(format!("may: nobody can publish to {}; only to topics and gossip.presence", text.table)))
                }
                Some(table) => match Rule::new(text, table, catalog) {
                    Ok(rule) if text.may.publish && rule.depends_on() => {
                        Some(fail("rows: a rule for publishing cannot ask other tables".into()))
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

    /// The rules that speak of `table` and one of the client's roles. A rule that does not fit the table grants
    /// nothing.
    pub fn standing(&self, table: &Arc<Table>, claims: &Claims, catalog: &Catalog) -> Vec<Standing> {
        let own = claims.operator && table.name.is_system();
        let operators = own.then(|| Rule {
            text: RuleText { role: "operators".into(), table: table.name.clone(), ..RuleText::default() },
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

    /// Whether somebody may publish to a table at all.
    pub fn may_publish_to(&self, table: &Table, claims: &Claims) -> bool {
        self.of(table, claims, |may| may.publish).next().is_some()
    }

    /// Whether somebody may publish what becomes this row: a rule holds on it, and grants all columns that have a value
    /// and that the publisher chooses.
    pub fn may_publish(
        &self,
        table: &Arc<Table>,
        row: &[Value],
        chosen: &ColumnSet,
        claims: &Claims,
        catalog: &Catalog,
    ) -> bool {
        let lets = |text: &RuleText| {
            let Ok(rule) = Rule::new(text, table, catalog) else { return false };
            let standing = rule.standing(claims);
            let granted = |i: usize| row[i] == Value::Null || standing.rule.columns.contains(i);
            let beside = Beside { row, subquery_results: &() };
            !standing.rule.depends_on()
                && standing.condition.is_ok_and(|c| c.truth(&beside) == Some(true))
                && chosen.iter().all(granted)
        };
        self.of(table, claims, |may| may.publish).any(lets)
    }

    /// A hash that differs when the rules do.
    pub fn hash(&self) -> String {
        let mut identity = Encoder::new("rules");
        identity.list(&self.texts);
        identity.hex_digest()[..12].to_string()
    }
}

impl Rule {
    /// Holds a rule against its table and the others that it asks.
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

    /// As it stands for somebody.
    fn standing(self, claims: &Claims) -> Standing {
        let condition = self.condition.bind(Placeholder::Claim, &claims.facts).map(Expr::canonicalize);
        Standing { rule: self, condition }
    }

    /// Whether its condition asks other tables.
    pub fn depends_on(&self) -> bool {
        let mut found = BTreeMap::new();
        find_look_ups(&self.condition, true, &mut found);
        !found.is_empty()
    }

    /// The rule in one line, as explanations quote it.
    pub fn headline(&self) -> String {
        let rows = self.text.rows.as_deref().unwrap_or("all rows");
        format!("{} on {}:  {rows}", self.text.role, self.text.table)
    }

    /// The claims that its condition names.
    pub fn claims(&self) -> BTreeSet<String> {
        let mut found = BTreeSet::new();
        self.condition.for_each_claim(&mut |name| {
            found.insert(name.to_string());
        });
        found
    }

    /// Which rows it admits.
    pub fn condition(&self) -> &Expr {
        &self.condition
    }

    /// The columns of which anything is shown: those that are granted as they are, and those that masks read.
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

/// A condition with the columns that are visible where it holds.
#[derive(Clone, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Grant {
    /// Holds on the rows that are admitted.
    pub condition: Expr,
    /// Visible on those rows, as they are or masked.
    pub columns: ColumnSet,
    /// What is shown in the place of some of them.
    pub masks: Masks,
}

impl Canonical for Grant {
    fn encode(&self, to: &mut Encoder) {
        self.condition.encode(to);
        self.columns.encode(to);
        to.list(&self.masks);
    }
}

/// A live query with the rules for one client's claims folded in.
#[derive(Clone, Debug, PartialEq, Eq, Hash)]
pub struct EffectiveQuery {
    /// The table that it reads.
    pub table: Arc<Table>,
    /// What the rules admit; sorted. Rows that no grant admits do not exist for this query.
    pub grants: Box<[Grant]>,
    /// The client's condition, on what is visible.
    pub condition: Expr,
    /// The client's columns, in the order asked for.
    pub select: Box<[usize]>,
    /// Whether the key columns are visible wherever a row is. Else keys are sent as opaque strings.
    pub open_key: bool,
    /// A short name that is the same on every instance and differs between different effective queries.
    pub fingerprint: u64,
    /// The table's identity: rows of changes under another one have another shape.
    pub description: u64,
}

/// A row as one effective query sees it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct VisibleRow {
    /// The whole row, masks applied.
    pub row: Row,
    /// The columns of it that may be shown, and whose values are known.
    pub columns: ColumnSet,
}

impl VisibleRow {
    /// Takes from the row as it was what this one leaves out.
    pub fn keep_of(&mut self, earlier: &VisibleRow) {
        let mut missing = earlier.columns.clone();
        missing.remove_all(&self.columns);
        if missing.is_empty() {
            return;
        }
        let value = |i: usize| if missing.contains(i) { &earlier.row[i] } else { &self.row[i] };
        self.row = (0..self.row.len()).map(|i| value(i).clone()).collect();
        self.columns.union_with(&missing);
    }
}

impl EffectiveQuery {
    /// Folds the grants of `standing` into `query`.
    pub fn new(query: LiveQuery, standing: &[Standing]) -> EffectiveQuery {
        let mut grants: Vec<Grant> = Vec::new();
        for s in standing {
            let Ok(condition) = &s.condition else { continue };
            match grants.iter_mut().find(|g| g.columns == s.rule.columns && g.masks == s.rule.masks) {
                Some(g) => g.condition = Expr::Or(vec![g.condition.clone(), condition.clone()]),
                None => grants.push(Grant {
                    condition: condition.clone(),
                    columns: s.rule.columns.clone(),
                    masks: s.rule.masks.clone(),
                }),
            }
        }
        EffectiveQuery::folded(query, grants)
    }

    /// The rows that a lookup finds, as the whole rows that they are.
    pub fn of_subquery(subquery: &Subquery) -> EffectiveQuery {
        let table = subquery.table.clone();
        let columns = table.all_columns();
        let condition = subquery.condition.clone();
        let query = LiveQuery { table, select: subquery.columns.clone(), condition: Expr::always() };
        EffectiveQuery::folded(query, vec![Grant { condition, columns, masks: Vec::new() }])
    }

    fn folded(query: LiveQuery, mut grants: Vec<Grant>) -> EffectiveQuery {
        for g in &mut grants {
            g.condition = std::mem::replace(&mut g.condition, Expr::always()).canonicalize();
        }
        // What never holds grants nothing; what is covered by an open grant of all rows adds nothing.
        grants.retain(|g| !g.condition.is_const(false) && g.condition != Expr::Const(Value::Null));
        let open = |g: &Grant| g.condition.is_const(true) && g.masks.is_empty();
        let all: Vec<ColumnSet> = grants.iter().filter(|g| open(g)).map(|g| g.columns.clone()).collect();
        grants.retain(|g| !all.iter().any(|a| a.covers(&g.columns) && (*a != g.columns || !open(g))));
        grants.sort();
        let key: ColumnSet = query.table.key.iter().copied().collect();
        let shows_key = |g: &Grant| g.columns.covers(&key) && !g.masks.iter().any(|(c, _)| key.contains(*c));
        let open_key = grants.iter().all(shows_key);
        let LiveQuery { table, select, condition } = query;
        let condition = condition.canonicalize();
        let mut identity = Encoder::new("effective query");
        table.encode(&mut identity);
        identity.list(&grants);
        condition.encode(&mut identity);
        identity.list(&select);
        let (fingerprint, description) = (identity.short_digest(), table.identity());
        let (grants, select) = (grants.into(), select.into());
        EffectiveQuery { table, grants, condition, select, open_key, fingerprint, description }
    }

    /// Bytes that its conditions take, about, and their parts.
    pub fn size(&self) -> (usize, usize) {
        let (mut bytes, mut nodes) = (0, 0);
        let conditions = self.grants.iter().map(|g| &g.condition).chain([&self.condition]);
        conditions.for_each(|c| {
            c.for_each(&mut |e| {
                nodes += 1;
                bytes += std::mem::size_of::<Expr>();
                match e {
                    Expr::Const(v) => bytes += v.size(),
                    // Each stands there and in the index.
                    Expr::InValues(_, list) => bytes += list.as_slice().iter().map(|v| 3 * v.size()).sum::<usize>(),
                    _ => {}
                }
            });
        });
        (bytes, nodes)
    }

    /// Whether a change is one of its table, with rows of the shape that it knows.
    pub fn is_about(&self, change: &RowChange) -> bool {
        change.table == self.table.name && change.description == self.description
    }

    /// All columns that are visible on some row.
    pub fn granted(&self) -> ColumnSet {
        let mut all = ColumnSet::default();
        self.grants.iter().for_each(|g| all.union_with(&g.columns));
        all
    }

    /// The tables that its rules ask, also through others.
    pub fn depends_on(&self) -> BTreeSet<TableName> {
        let mut found = BTreeSet::new();
        let mut next: Vec<Arc<Subquery>> = self.subqueries().into_keys().collect();
        while let Some(subquery) = next.pop() {
            found.insert(subquery.table.name.clone());
            let mut inner = BTreeMap::new();
            find_look_ups(&subquery.condition, true, &mut inner);
            next.extend(inner.into_keys());
        }
        found
    }

    /// The columns that are masked on some row: what is shown of them can become less without their being hidden.
    pub fn maskable(&self) -> ColumnSet {
        self.grants.iter().flat_map(|g| &g.masks).map(|(column, _)| *column).collect()
    }

    /// Whether the client's condition names a column that not every rule shows as it is.
    pub fn asks_what_may_be_hidden(&self) -> bool {
        let open = |g: &Grant, c: usize| g.columns.contains(c) && !g.masks.iter().any(|(m, _)| *m == c);
        let mut found = false;
        self.condition.for_each_column(&mut |c| found |= !self.grants.iter().all(|g| open(g, c)));
        found
    }

    /// The lookups that its rules ask, each once, and whether only more of what is found can admit more rows.
    pub fn subqueries(&self) -> BTreeMap<Arc<Subquery>, bool> {
        let mut found = BTreeMap::new();
        self.grants.iter().for_each(|g| find_look_ups(&g.condition, true, &mut found));
        found
    }

    /// Whether any of these columns is selected or decides about what is seen.
    pub fn reads_any_of(&self, columns: &ColumnSet) -> bool {
        self.select.iter().any(|&i| columns.contains(i)) || self.is_decided_by_any_of(columns)
    }

    /// The columns that are selected or decide about what is seen.
    pub fn read(&self) -> ColumnSet {
        let mut all: ColumnSet = self.select.iter().copied().collect();
        self.for_each_that_decides(&mut |i| all.insert(i));
        all
    }

    /// Whether any of these columns decides about what is seen.
    pub fn is_decided_by_any_of(&self, columns: &ColumnSet) -> bool {
        let mut found = false;
        self.for_each_that_decides(&mut |i| found |= columns.contains(i));
        found
    }

    fn for_each_that_decides(&self, look: &mut dyn FnMut(usize)) {
        self.grants.iter().for_each(|g| g.condition.for_each_column(&mut |i| look(i)));
        self.condition.for_each_column(&mut |i| look(i));
        let mut shown = ColumnSet::default();
        self.grants.iter().flat_map(|g| &g.masks).for_each(|(_, m)| m.reads(&mut shown));
        shown.iter().for_each(look);
    }

    /// The columns that the rules admit on this row, masked or not, or `None` if they admit none of it.
    pub fn admitted(&self, row: &[Value], subquery_results: &dyn SubqueryResults) -> Option<Cow<'_, ColumnSet>> {
        let beside = Beside { row, subquery_results };
        let mut found: Option<Cow<'_, ColumnSet>> = None;
        for g in &self.grants {
            let known = found.as_ref().is_some_and(|f| f.covers(&g.columns));
            if known || g.condition.truth(&beside) != Some(true) {
                continue;
            }
            match &mut found {
                None => found = Some(Cow::Borrowed(&g.columns)),
                Some(f) => f.to_mut().union_with(&g.columns),
            }
        }
        found
    }

    /// The row with the masks of the rules that admit it. A column that any of them shows openly is not masked; where
    /// several mask it differently one of the masks is shown, always the same.
    fn mask<'a>(&self, row: &'a Row, subquery_results: &dyn SubqueryResults) -> Cow<'a, Row> {
        if self.grants.iter().all(|g| g.masks.is_empty()) {
            return Cow::Borrowed(row);
        }
        let beside = Beside { row, subquery_results };
        let admitting: Vec<&Grant> = self.grants.iter().filter(|g| g.condition.truth(&beside) == Some(true)).collect();
        let shows = |g: &Grant, c: usize| g.columns.contains(c) && !g.masks.iter().any(|(m, _)| *m == c);
        let mut masked = row.to_vec();
        let mut done = ColumnSet::default();
        for (column, mask) in admitting.iter().flat_map(|g| &g.masks) {
            if !done.contains(*column) && !admitting.iter().any(|g| shows(g, *column)) {
                masked[*column] = mask.value(row);
                done.insert(*column);
            }
        }
        Cow::Owned(masked.into())
    }

    /// The row as this query sees it, or `None` if it is withheld or outside.
    pub fn see(&self, row: &Row, subquery_results: &dyn SubqueryResults) -> Option<VisibleRow> {
        let visible = self.admitted(row, subquery_results)?;
        let row = self.mask(row, subquery_results);
        let holds = self.condition.truth(&Masked { row: &row, visible: &visible }) == Some(true);
        holds.then(|| VisibleRow { row: row.into_owned(), columns: visible.into_owned() })
    }

    /// Whether the row is in the result; as [`EffectiveQuery::see`], without the cost of building what is seen.
    pub fn sees(&self, row: &Row, subquery_results: &dyn SubqueryResults) -> bool {
        self.admitted(row, subquery_results).is_some_and(|visible| {
            let row = self.mask(row, subquery_results);
            self.condition.truth(&Masked { row: &row, visible: &visible }) == Some(true)
        })
    }

    /// The selected columns that are shown of a row, with their values.
    pub fn shown<'a>(&'a self, seen: &'a VisibleRow) -> impl Iterator<Item = (usize, &'a Value)> {
        self.select.iter().filter(|&&i| seen.columns.contains(i)).map(|&i| (i, &seen.row[i]))
    }

    /// The query as SQL, rules included, for people.
    pub fn to_sql(&self) -> String {
        let columns: Vec<_> = self.select.iter().map(|&i| &*self.table.columns[i].name).collect();
        let rules: Vec<Expr> = self.grants.iter().map(|g| g.condition.clone()).collect();
        let all = Expr::And(vec![Expr::Or(rules), self.condition.clone()]).canonicalize();
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

pub(crate) fn find_look_ups(condition: &Expr, more_admits: bool, found: &mut BTreeMap<Arc<Subquery>, bool>) {
    match condition {
        Expr::Member { subquery, of, .. } => {
            let only_more = found.entry(subquery.clone()).or_insert(true);
            *only_more &= more_admits;
            of.iter().for_each(|e| find_look_ups(e, false, found));
        }
        Expr::And(es) | Expr::Or(es) => es.iter().for_each(|e| find_look_ups(e, more_admits, found)),
        Expr::Not(e) => find_look_ups(e, !more_admits, found),
        // Anything else may turn a truth value around.
        e => {
            let mut inner = Vec::new();
            e.for_each(&mut |part| {
                if matches!(part, Expr::Member { .. }) && !std::ptr::eq(part, e) {
                    inner.push(part);
                }
            });
            inner.into_iter().for_each(|part| {
                if let Expr::Member { subquery, .. } = part {
                    found.insert(subquery.clone(), false);
                }
            });
        }
    }
}

impl Permitted<'_> {
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
