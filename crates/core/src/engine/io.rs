//! What goes into the engine and what comes out of it.

use std::sync::Arc;

use serde_json::{Map, Value as Json};

use crate::audience::{Audience, SubId};
use crate::budget::{Owner, Shares};
use crate::explain::{Tally, Verdict};
use crate::feed::Change;
use crate::plan::{EffectivePlan, SnapshotRequest};
use crate::position::{Interval, Micros, Position, SnapshotPoint, Term, Timestamp, Transaction};
use crate::query::QueryError;
use crate::query::function::EvalError;
use crate::rule::{Claims, RuleSet};
use crate::schema::{Row, Table};
use crate::seal::Cursor;
use crate::seam::ResultRows;

/// A requested snapshot.
pub type SnapshotId = u64;

/// What an engine may hold.
#[derive(Clone, Copy, Debug)]
pub struct Limits {
    /// Subscriptions.
    pub subscriptions: usize,
    /// Rows of one result.
    pub result_rows: usize,
    /// Rows of one result for which rows of other tables are looked for, and rows that a client's sub-select finds.
    pub joined_rows: usize,
    /// Rows of one result that have the same row of another table beside them: a change of that one is a change of them all.
    pub fan_out: usize,
    /// Bytes of keys remembered for tables without old values, over all feeds; and the same for rows held by feeds that group
    /// or order them, or whose rules have sub-selects.
    pub sent_bytes: usize,
    /// Transactions retained for explanations and for resuming.
    pub window: usize,
    /// Row changes in them.
    pub window_changes: usize,
    /// Observed subscriptions: those with a verdict for every transaction.
    pub observed: usize,
    /// Intervals held back while a gap is healed.
    pub ahead: usize,
    /// Attempts at a failing snapshot before its subscriptions are closed.
    pub attempts: u32,
    /// Snapshots that are read at the same time for one person or address; more wait for their turn.
    pub joining: usize,
    /// Rows that are read and kept behind a window, for when some of its own go.
    pub reserve: usize,
    /// Changed rows of one result from which on it is large: of several that are, each has a step of its own.
    pub large: usize,
    /// What subscriptions may cost.
    pub shares: Shares,
}

impl Default for Limits {
    fn default() -> Self {
        Limits {
            subscriptions: 2_000_000,
            result_rows: 1_000_000,
            joined_rows: 50_000,
            fan_out: 10_000,
            sent_bytes: 256 << 20,
            window: 2_000,
            window_changes: 20_000,
            observed: 64,
            ahead: 1_024,
            attempts: 40,
            joining: 32,
            reserve: 64,
            large: 500,
            shares: Shares::default(),
        }
    }
}

impl Limits {
    /// The refusal where too many bytes of rows are held.
    pub(super) fn keeps_too_much(&self) -> Refusal {
        let bytes = self.sent_bytes;
        Refusal::Limit(format!("rows kept for groups, orders and rules that ask other tables, at most {bytes} bytes"))
    }
}

/// A client's request for a live query.
#[derive(Clone, Debug, Default)]
pub struct Request {
    /// The live query.
    pub query: String,
    /// Its parameters.
    pub params: Map<String, Json>,
    /// The client's claims.
    pub claims: Arc<Claims>,
    /// No client has written the query: it may name claims.
    pub trusted: bool,
    /// Whether operators get a verdict for every transaction.
    pub observed: bool,
    /// At most one delta in so many microseconds; 0 for one per transaction.
    pub every: Micros,
    /// What of the result the client wants.
    pub wants: Wants,
    /// Whether it wants rows that were replaced or removed as they were, too.
    pub was: bool,
    /// Where the result stands that the client still has.
    pub resume: Option<Box<Resume>>,
    /// Who is charged for it; `None`: nobody.
    pub owner: Option<Arc<Owner>>,
    /// What it was compiled to before it came here.
    pub compiled: Option<Box<Compiled>>,
    /// Rules to try instead of those in force. The result must not leave the instance.
    pub under: Option<Arc<RuleSet>>,
}

impl Request {
    /// Whether what it asks of the result can be had of this plan.
    ///
    /// # Errors
    /// What does not suit the query.
    pub(super) fn suits(&self, plan: &EffectivePlan) -> Result<(), QueryError> {
        if self.wants == Wants::Changes && plan.is_ordered() {
            let text = "initial: false does not suit ORDER BY: places are those of a whole result";
            return Err(QueryError::Parameter(text.into()));
        }
        if self.was && !plan.knows_what_was() {
            let text = "was: changes of this table do not carry the row as it was; it needs REPLICA IDENTITY FULL";
            return Err(QueryError::Parameter(text.into()));
        }
        Ok(())
    }
}

/// What of a result a client wants.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub enum Wants {
    /// The whole result, and what changes in it.
    #[default]
    Result,
    /// What changes in it.
    Changes,
    /// That it has changed.
    Signal,
}

/// What a request was compiled to, and under which tables and rules.
#[derive(Clone, Debug)]
pub struct Compiled {
    /// The [`Compiler`](super::Compiler)'s generation.
    pub generation: u64,
    /// The effective plan, or why there is none.
    pub outcome: Result<Arc<EffectivePlan>, QueryError>,
}

/// What a client hands back to go on where it was.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Resume {
    /// An opened cursor.
    At(Cursor),
    /// A cursor that is not of this cluster, or damaged.
    Unreadable,
}

/// Why a subscription is refused or ended.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Refusal {
    /// The query is not valid, or names what is not known or not permitted.
    Query(QueryError),
    /// A limit is reached.
    Limit(String),
    /// The source cannot be read now. Why is not for clients.
    Unavailable(String),
    /// Rights are decided elsewhere, and there is no answer. Why is not for clients.
    Undecided(String),
    /// The query fails on a row that the client may see.
    Failed(EvalError),
    /// The table is gone or does not fit the query any more.
    SchemaChanged(String),
    /// The rules grant nothing of it any more.
    RightsChanged(String),
    /// The client's token has ended.
    Expired,
}

/// Why a result is sent as a whole.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ResyncReason {
    /// It is the first.
    First,
    /// Changes were lost on the way.
    Gap,
    /// The table was altered.
    SchemaChanged,
    /// All rows of the table were removed at once.
    Truncated,
    /// Rules or claims changed.
    RightsChanged,
    /// The client was too slow for all deltas.
    CaughtUp,
    /// What came after the client's cursor is no longer remembered.
    ResumedTooLate,
}

/// An input of the engine.
#[derive(Clone, Debug)]
pub enum Input {
    /// Something was read from a source.
    Interval(Arc<Interval>),
    /// A source's log has gone back: whatever is known of it means nothing any more.
    Forget(Arc<str>),
    /// What was fetched to close a gap; `None` if it is not to be had.
    Healed {
        /// The source.
        source: Arc<str>,
        /// From the last known position on, in order.
        intervals: Option<Vec<Arc<Interval>>>,
    },
    /// A client subscribes.
    Subscribe(SubId, Box<Request>),
    /// A subscription ends.
    Unsubscribe(SubId),
    /// The same, because its client has gone or has enough of it for now: it may come back.
    Leave(SubId),
    /// A client's result is to be sent again as a whole.
    CatchUp(SubId),
    /// Subscriptions have other claims from now on.
    Claims(Vec<SubId>, Arc<Claims>),
    /// All rules are replaced.
    Rules(Arc<RuleSet>),
    /// A table's first or new description, before anything was read from it.
    Table(Arc<Table>),
    /// All tables of a source that stream, as they are now, while they are followed. The feeds of one that is not as it was
    /// known are read anew; what is not among them does not stream any more.
    Described(Arc<str>, Vec<Arc<Table>>),
    /// Some rows of a snapshot.
    SnapshotRows(SnapshotId, Vec<Row>),
    /// A snapshot is complete and shows this of its source.
    SnapshotDone(SnapshotId, SnapshotPoint),
    /// A snapshot could not be read.
    SnapshotFailed(SnapshotId, String),
    /// The next feed in turn is to be audited.
    Audit,
    /// Some time has passed.
    Tick,
    /// There is time for what was left for later.
    Proceed,
}

/// A change of one feed, for all its subscribers.
#[derive(Clone, Debug)]
pub struct Delta {
    /// The feed.
    pub feed: Arc<EffectivePlan>,
    /// The source's reader and log.
    pub term: Term,
    /// The transaction's place.
    pub position: Position,
    /// Commit time of the transaction, latest possible.
    pub at: Timestamp,
    /// What changes in the result. Each key once.
    pub changes: Vec<Change>,
    /// Additions without a key that were dropped because too many came between two deltas.
    pub skipped: u64,
    /// It takes back something that its readers were allowed to see before, which is not to be sent any more.
    pub revokes: bool,
    /// The transaction goes on in the feed's next delta; the result is one that was committed only after the last.
    pub more: bool,
}

/// Something that is only to be dropped, where nobody waits for it.
#[derive(Clone)]
pub struct Garbage(#[expect(dead_code, reason = "it is dropped")] Arc<dyn std::any::Any + Send + Sync>);

impl Garbage {
    pub(super) fn new<T: Send + Sync + 'static>(what: T) -> Garbage {
        Garbage(Arc::new(what))
    }
}

impl std::fmt::Debug for Garbage {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Garbage")
    }
}

/// What the shell is to do.
#[derive(Clone, Debug)]
pub enum Output {
    /// Read what a plan needs of its source, with the position that it shows.
    FetchSnapshot {
        /// The snapshot's number.
        id: SnapshotId,
        /// What it is for: rows that it does not see need not be handed over.
        plan: Arc<EffectivePlan>,
        /// What is to be read.
        request: Box<SnapshotRequest>,
    },
    /// A snapshot is no longer wanted.
    CancelSnapshot(SnapshotId),
    /// A whole result.
    Result {
        /// Who gets it and why.
        to: Vec<(SubId, ResyncReason)>,
        /// The plan.
        feed: Arc<EffectivePlan>,
        /// The rows, in key order.
        rows: Arc<ResultRows>,
        /// The reader and its log.
        term: Term,
        /// What the rows show.
        position: Position,
    },
    /// A client's result is still good up to its cursor; deltas since follow.
    Resumed {
        /// Who.
        sub: SubId,
        /// The plan.
        feed: Arc<EffectivePlan>,
        /// The reader and its log.
        term: Term,
        /// Where the client's result stands.
        position: Position,
    },
    /// A change for all subscribers of a feed.
    Delta(Arc<Delta>, Audience),
    /// What is unsent of these may not be seen any more: drop it. Those of whom something was dropped are to catch up.
    Revoke(Audience),
    /// Throw away what is unsent of this subscription; a new result follows.
    Discard(SubId),
    /// The subscription is refused, or ended.
    Closed(SubId, Refusal),
    /// Fetch the intervals after this position.
    Heal {
        /// The source.
        source: Arc<str>,
        /// The last known position.
        after: Position,
    },
    /// What became of a transaction for an observed subscription.
    Verdict {
        /// The subscription.
        sub: SubId,
        /// The source.
        source: Arc<str>,
        /// The reader and its log, as in the delta.
        term: Term,
        /// The transaction.
        position: Position,
        /// What became of it.
        verdict: Verdict,
        /// What it did to the result.
        tally: Tally,
    },
    /// An audit has ended.
    Audited {
        /// What was audited.
        feed: Arc<EffectivePlan>,
        /// Rows that were read; none if it was given up.
        rows: usize,
        /// How it differs from the database. All feeds of its table take a new snapshot.
        difference: Option<String>,
    },
    /// A table of this source differs from its known description: request new descriptions of all.
    Describe(Arc<str>),
    /// Memory that is not needed any more. To free it takes a while.
    Dropped(Garbage),
    /// A transaction of this interval was taken.
    Taken(Arc<Interval>, Arc<Transaction>),
}

// One for every delta: each is moved.
const _: () = assert!(size_of::<Output>() <= 88);
