//! What others may ask of an engine: its tables and rules, its feeds, plans for requests, what it remembers. Nothing here
//! changes anything.

use std::collections::{BTreeMap, VecDeque};
use std::sync::Arc;

use super::io::{Request, SnapshotId};
use super::materialized::Materialized;
use super::subscription::Subscription;
use super::{Compiler, Engine, Feed, FeedInfo};
use crate::audience::SubId;
use crate::explain::Step;
use crate::index::FeedId;
use crate::plan::EffectivePlan;
use crate::position::{Position, Progress, RowChange, Transaction};
use crate::query::{QueryError, parse_trusted_query};
use crate::refusal;
use crate::rule::{RuleSet, Standing};
use crate::schema::{Catalog, TableName};
use crate::what_if::{Trial, Tried};

impl Engine {
    /// The tables that queries can name.
    pub fn catalog(&self) -> &Catalog {
        &self.catalog
    }

    /// The rules in force.
    pub fn rules(&self) -> &Arc<RuleSet> {
        &self.rules
    }

    /// How far a source has been followed.
    pub fn progress(&self, source: &str) -> Progress {
        self.sources.get(source).map_or(Progress::default(), |s| s.progress)
    }

    /// Whether something of a source is missing at the moment.
    pub fn is_healing(&self, source: &str) -> bool {
        self.sources.get(source).is_some_and(|s| s.healing)
    }

    /// All feeds, for the system tables.
    pub fn feeds(&self) -> impl Iterator<Item = FeedInfo> + '_ {
        (0..self.feeds.len() as FeedId).filter_map(|id| self.info(id))
    }

    /// How many feeds there are on tables other than Gossip's own, and how many subscriptions they have.
    pub fn counts(&self) -> (usize, usize) {
        let own = self.feeds.iter().flatten().filter(|f| !f.plan.table().name.is_system());
        own.fold((0, 0), |(feeds, subs), f| (feeds + 1, subs + f.live.as_slice().len() + f.waiting().len()))
    }

    /// Whether any feed is on this table.
    pub fn has_feeds_on(&self, table: &TableName) -> bool {
        self.tables.contains_key(table)
    }

    /// Subscriptions that wait for something to be read: their result, the first one or another after a gap or a change of
    /// rights, or what is needed to go on with it, as the next page of a window is.
    pub fn waiting(&self) -> impl Iterator<Item = SubId> + '_ {
        let held = |(id, f): (usize, &Feed)| match self.is_settled(id as FeedId) {
            true => vec![],
            false => f.live.as_slice().to_vec(),
        };
        let feeds = || self.feeds.iter().enumerate().filter_map(|(id, f)| Some((id, f.as_ref()?)));
        feeds().flat_map(|(_, f)| f.waiting().iter().map(|(sub, _)| *sub)).chain(feeds().flat_map(held))
    }

    /// Bytes of the rows that feeds hold, and of what is made of them, as they count towards the limit.
    pub fn held_bytes(&self) -> usize {
        self.materialized_bytes
    }

    fn info(&self, id: FeedId) -> Option<FeedInfo> {
        let f = self.feed(id)?;
        let subscriptions = f.live.as_slice().len() + f.waiting().len();
        Some(FeedInfo { id, plan: f.plan.clone(), subscriptions, deltas: f.deltas, held: f.memory.rows() })
    }

    /// The feed of a subscription.
    pub fn feed_of_subscription(&self, sub: SubId) -> Option<FeedInfo> {
        self.subs.get(&sub).and_then(|s| self.info(s.feed))
    }

    /// The effective plan of a subscription.
    pub fn plan(&self, sub: SubId) -> Option<Arc<EffectivePlan>> {
        self.subs.get(&sub).and_then(|s| self.feed(s.feed)).map(|f| f.plan.clone())
    }

    /// Everything needed to explain a transaction to a subscription: the transaction, the query and the rules.
    pub fn inquiry(&self, sub: SubId) -> Option<(Arc<EffectivePlan>, Vec<Standing>)> {
        let plan = self.plan(sub)?;
        let standing = self.rules.standing(plan.table(), &self.subs.get(&sub)?.claims, &self.catalog);
        Some((plan, standing))
    }

    /// As [`Engine::inquiry`], for a query without a subscription.
    ///
    /// # Errors
    /// The query is not valid for these claims.
    pub fn hypothetical(&self, request: &Request) -> Result<(Arc<EffectivePlan>, Vec<Standing>), QueryError> {
        let plan = self.compile(request)?;
        let standing = self.rules.standing(plan.table(), &request.claims, &self.catalog);
        Ok((Arc::new(plan), standing))
    }

    /// Why a request is refused with this error, for operators.
    pub fn refusal_steps(&self, request: &Request, error: &QueryError) -> Vec<Step> {
        let Request { query, params, claims, .. } = request;
        refusal::steps(query, params, error, claims, &self.rules, &self.catalog)
    }

    /// The feed that an effective plan shares with others, one delta per transaction; `None` if it has no subscribers.
    pub fn feed_of(&self, plan: &Arc<EffectivePlan>) -> Option<FeedInfo> {
        let id = self.shared.find((plan, 0), |id| self.feed(id).map(Feed::shared_by))?;
        self.info(id)
    }

    /// The newest remembered change of the table of a query.
    pub fn newest_change(&self, plan: &EffectivePlan) -> Option<&RowChange> {
        self.window.iter().rev().find_map(|(_, t)| t.changes.iter().find(|c| plan.is_about(c)))
    }

    /// A transaction that is still remembered.
    pub fn transaction(&self, source: &str, position: Position) -> Option<Arc<Transaction>> {
        let found = self.window.iter().rev().find(|(s, t)| &**s == source && t.position == position);
        found.map(|(_, t)| t.clone())
    }

    /// The effective plan of a request, under the rules in force unless it names others.
    ///
    /// # Errors
    /// What is wrong with the query.
    pub fn compile(&self, request: &Request) -> Result<EffectivePlan, QueryError> {
        self.compiler().compile(request)
    }

    /// What compiles requests, elsewhere too, as long as tables and rules are what they are now.
    pub fn compiler(&self) -> Compiler {
        Compiler { catalog: self.catalog.clone(), rules: self.rules.clone(), generation: self.generation }
    }

    /// Rises when tables or rules change.
    pub fn generation(&self) -> u64 {
        self.generation
    }

    /// Whose turn a snapshot takes: that of the first who waits for it; of a sub-select, that of the first who asks it. What is read for
    /// joins is many people's, and takes nobody's.
    pub fn snapshot_owner(&self, id: SnapshotId) -> Option<Arc<str>> {
        let of = *self.snapshots.get(&id)?;
        let feed = self.feed(of)?;
        if self.materialized(of).is_some_and(Materialized::is_for_joins) {
            return None;
        }
        // Those who wait come first; where nobody does, it is those who are there who need it.
        let first = feed.waiting().first().map(|(sub, _)| *sub).or_else(|| feed.subscribers().next());
        let sub = first.or_else(|| self.dependents(of).first().copied())?;
        self.subs.get(&sub)?.owner.as_ref()?.in_turn().cloned()
    }

    /// The tables that a request names, whether they may be read or not, that of its rows first; for those who decide about that.
    /// None if it is no query.
    pub fn tables_named(&self, request: &Request) -> Vec<TableName> {
        let query = parse_trusted_query(&request.query, &*self.catalog, &request.params);
        query.map(|q| q.tables().into_iter().map(|table| table.name.clone()).collect()).unwrap_or_default()
    }

    /// A subscription's request, without the cursor that it resumed from.
    pub fn request(&self, sub: SubId) -> Option<Request> {
        self.subs.get(&sub).map(Subscription::request)
    }

    /// The retained transactions, for a what-if.
    pub fn trial(&self, rules: &Arc<RuleSet>, asked: &[Request]) -> Trial {
        let tried = |r: &Request| Tried {
            now: self.compile(&Request { under: None, ..r.clone() }).map(Arc::new),
            then: self.compile(&Request { under: Some(rules.clone()), ..r.clone() }).map(Arc::new),
        };
        let asked = asked.iter().map(tried).collect();
        let mut trial = Trial {
            asked,
            transactions: VecDeque::new(),
            subquery_results: BTreeMap::new(),
            moment: self.subquery_sets.moment,
        };
        for subquery in trial.subqueries() {
            if let Some(values) = self.subquery_values(&subquery) {
                trial.subquery_results.insert(subquery.clone(), values.clone());
            }
        }
        let system = |source: &str| source == crate::schema::SYSTEM_SCHEMA;
        trial.transactions = self.window.iter().filter(|(source, _)| !system(source)).cloned().collect();
        trial
    }
}
