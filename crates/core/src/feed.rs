//! One plan over time: a row change in, a change to the result out.
//!
//! If the table's changes carry the old row, a feed needs no memory at all: the old and the new row are both
//! evaluated and compared. Otherwise the feed keeps the keys it has sent, each with hashes of what was shown,
//! so that a change of hidden columns sends nothing.

use std::hash::BuildHasher;

use foldhash::quality::RandomState;

use crate::plan::{EffectivePlan, RowDelta, VisibleRow};
use crate::position::{Old, RowChange};
use crate::query::function::EvalError;
use crate::schema::{ByKey, ColumnSet, Key};
use crate::subquery::SubqueryResults;
use crate::value::Value;

/// A change to a feed's result.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Change {
    /// The row is now in the result. Also sent as a replacement if columns that were shown are hidden now.
    Add {
        /// Its key.
        key: Key,
        /// The visible row.
        row: VisibleRow,
        /// Whether it is a replacement: the row was in the result before.
        instead: bool,
        /// Its place in an ordered result, from 0.
        place: Option<usize>,
        /// The row as it was seen before, if it replaces one that is known.
        was: Option<VisibleRow>,
    },
    /// The row was in the result and still is.
    Replace {
        /// Its key.
        key: Key,
        /// The visible row.
        row: VisibleRow,
        /// The result's columns whose value differs, by place.
        changed: ColumnSet,
        /// Its place in an ordered result, if it is another one than its neighbours' changes explain.
        place: Option<usize>,
        /// The row as it was seen before, where that is known.
        was: Option<VisibleRow>,
    },
    /// The row is no longer in the result.
    Remove {
        /// Its key.
        key: Key,
        /// The row as it was seen before, where that is known.
        was: Option<VisibleRow>,
    },
}

impl Change {
    /// The key of the row.
    pub fn key(&self) -> &Key {
        match self {
            Change::Add { key, .. } | Change::Replace { key, .. } | Change::Remove { key, .. } => key,
        }
    }

    /// The row as it was seen before, where that is known.
    pub fn was(&self) -> Option<&VisibleRow> {
        match self {
            Change::Add { was, .. } | Change::Replace { was, .. } | Change::Remove { was, .. } => was.as_ref(),
        }
    }

    /// The row that is in the result from here on.
    pub fn row(&self) -> Option<&VisibleRow> {
        match self {
            Change::Add { row, .. } | Change::Replace { row, .. } => Some(row),
            Change::Remove { .. } => None,
        }
    }
}

/// The rows that a feed has sent, for tables without old values: each one's key and a hash of each selected column, to
/// detect what has changed for its subscribers.
#[derive(Debug, Default)]
pub struct Sent {
    rows: ByKey<Marks>,
    bytes: usize,
    hasher: RandomState,
}

/// For each selected column a hash of its value, [`HIDDEN`] where it was not shown.
type Marks = Box<[u64]>;

const HIDDEN: u64 = 0;

/// Approximate bytes of a row besides its key and its marks.
const OF_A_ROW: usize = 72;

fn size(key: &Key, marks: &Marks) -> usize {
    OF_A_ROW + key.iter().map(|v| v.size()).sum::<usize>() + size_of_val::<[u64]>(marks)
}

impl Sent {
    /// Records a row as sent.
    pub fn note(&mut self, plan: &EffectivePlan, key: Key, seen: &VisibleRow) {
        let marks = self.marks(plan, seen).collect();
        self.put(key, marks);
    }

    fn put(&mut self, key: Key, marks: Marks) {
        self.forget(&key);
        self.bytes += size(&key, &marks);
        self.rows.insert(key, marks);
    }

    fn forget(&mut self, key: &Key) -> bool {
        let known = self.rows.remove(key);
        self.bytes -= known.as_ref().map_or(0, |marks| size(key, marks));
        known.is_some()
    }

    fn marks(&self, plan: &EffectivePlan, seen: &VisibleRow) -> impl Iterator<Item = u64> {
        (0..plan.project.len()).map(|place| self.mark(plan.project.value(place, seen)))
    }

    fn mark(&self, shown: Option<&Value>) -> u64 {
        shown.map_or(HIDDEN, |value| self.hasher.hash_one(value).max(HIDDEN + 1))
    }

    /// Whether a visible row is equal to what was sent under its key.
    pub fn is_as_sent(&self, plan: &EffectivePlan, key: &Key, seen: &VisibleRow) -> bool {
        self.rows.get(key).is_some_and(|sent| sent.iter().copied().eq(self.marks(plan, seen)))
    }

    /// All keys that were sent.
    pub fn into_keys(self) -> impl Iterator<Item = Key> + Send + Sync + 'static {
        self.rows.into_keys()
    }

    /// Whether something was sent under this key.
    pub fn has(&self, key: &Key) -> bool {
        self.rows.contains_key(key)
    }

    /// All keys that were sent.
    pub fn keys(&self) -> impl Iterator<Item = &Key> {
        self.rows.keys()
    }

    /// How many keys were sent.
    pub fn len(&self) -> usize {
        self.rows.len()
    }

    /// Whether nothing was sent.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Approximate bytes.
    pub fn size(&self) -> usize {
        self.bytes
    }

    /// What a change does to what was sent, which is updated. `left_out` are selected and visible columns
    /// that the change omits because they are unchanged.
    fn take_change(
        &mut self,
        plan: &EffectivePlan,
        change: &RowChange,
        seen: Option<VisibleRow>,
        left_out: &ColumnSet,
    ) -> Result<Option<Change>, ChangeError> {
        let key = change.key.clone();
        let Some(mut row) = seen else { return Ok(self.forget(&key).then_some(Change::Remove { key, was: None })) };
        let before = self.rows.get(&key);
        // What was sent remains valid if it is of this row, and was shown as it is now.
        let another = before.is_none() || change.old == Old::Known(None);
        if !left_out.is_empty() && (another || plan.scan.maskable().iter().any(|i| left_out.contains(i))) {
            return Err(ChangeError::MissingValue);
        }
        let stays = |place: usize| before.map_or(HIDDEN, |marks| marks[place]);
        let omitted = |place: usize| plan.project.column(place).is_some_and(|i| left_out.contains(i));
        let mark = |place| if omitted(place) { stays(place) } else { self.mark(plan.project.value(place, &row)) };
        let marks: Marks = (0..plan.project.len()).map(mark).collect();
        let Some(before) = before else {
            self.put(key.clone(), marks);
            return Ok(Some(added(key, row)));
        };
        let both = || before.iter().zip(&marks);
        let came_up = both().enumerate().any(|(place, (was, _))| *was == HIDDEN && omitted(place));
        let lost = both().any(|(was, is)| *was != HIDDEN && *is == HIDDEN);
        if came_up || lost && !left_out.is_empty() {
            return Err(ChangeError::MissingValue);
        }
        let changed: ColumnSet = both().enumerate().filter(|(_, (was, is))| was != is).map(|(n, _)| n).collect();
        self.put(key.clone(), marks);
        plan.project.hide(&mut row, left_out);
        Ok(match (lost, changed.is_empty()) {
            (true, _) => Some(Change::Add { key, row, instead: true, place: None, was: None }),
            (false, true) => None,
            (false, false) => Some(Change::Replace { key, row, changed, place: None, was: None }),
        })
    }
}

/// Why it cannot be said what a change does to a result.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChangeError {
    /// It omits an unchanged value that is needed, or its rows do not have the shape of the table's description.
    MissingValue,
    /// The query fails on the new row.
    Failed(EvalError),
}

impl From<EvalError> for ChangeError {
    fn from(error: EvalError) -> ChangeError {
        ChangeError::Failed(error)
    }
}

/// What a row change does to a result. `sent` is needed, and updated, only if old values are unknown.
///
/// For a plan that makes its result of all rows together that cannot be said of one row: see
/// [`EffectivePlan::of_rows`].
pub fn change(
    plan: &EffectivePlan,
    row: &RowChange,
    subquery_results: &dyn SubqueryResults,
    sent: Option<&mut Sent>,
) -> Result<Option<Change>, ChangeError> {
    change_of(plan, row, None, subquery_results, sent)
}

/// The same, where the row's [`RowChange::differing_columns`] are at hand: a row whose deciding columns are as they were is
/// evaluated once, and not at all if nothing that is selected differs.
pub fn change_of(
    plan: &EffectivePlan,
    row: &RowChange,
    differing: Option<&ColumnSet>,
    subquery_results: &dyn SubqueryResults,
    sent: Option<&mut Sent>,
) -> Result<Option<Change>, ChangeError> {
    let Some(differing) = differing.filter(|_| sent.is_none()) else {
        return evaluated(plan, row, None, subquery_results, sent);
    };
    let places = plan.places_of(differing);
    let change = match places.clone() {
        Some(places) if !plan.may_decide_by(differing) => replaced(plan, row, &places, subquery_results),
        places => evaluated(plan, row, places, subquery_results, None),
    };
    debug_assert!(places.is_none() || change == evaluated(plan, row, None, subquery_results, None), "{row:?}");
    change
}

/// What a change of these places does, under a plan that decides by none of them.
fn replaced(
    plan: &EffectivePlan,
    row: &RowChange,
    places: &ColumnSet,
    subquery_results: &dyn SubqueryResults,
) -> Result<Option<Change>, ChangeError> {
    if row.description != plan.scan.description() {
        return Err(ChangeError::MissingValue);
    }
    let (Old::Known(Some(old)), Some(new)) = (&row.old, &row.new) else { return Ok(None) };
    if places.is_empty() {
        return Ok(None);
    }
    let Some(new) = plan.see(new, subquery_results)? else { return Ok(None) };
    let was = VisibleRow { row: old.clone(), columns: new.columns.clone() };
    Ok(replace_places(plan, row.key.clone(), was, new, places))
}

/// What becomes of one row under a key when these places of it differ, where the same columns are visible before and after.
fn replace_places(
    plan: &EffectivePlan,
    key: Key,
    was: VisibleRow,
    row: VisibleRow,
    places: &ColumnSet,
) -> Option<Change> {
    let changed = plan.visible_places(places, &row);
    (!changed.is_empty()).then_some(Change::Replace { key, row, changed, place: None, was: Some(was) })
}

/// What a change does, of which the places may be known that differ if the row is in the result before and after.
fn evaluated(
    plan: &EffectivePlan,
    row: &RowChange,
    places: Option<ColumnSet>,
    subquery_results: &dyn SubqueryResults,
    sent: Option<&mut Sent>,
) -> Result<Option<Change>, ChangeError> {
    debug_assert!(!plan.projects_late, "its rows are not those of the result");
    if row.description != plan.scan.description() {
        return Err(ChangeError::MissingValue);
    }
    if !row.omitted_columns.is_empty() && row.new.is_some() && plan.is_decided_by_any_of(&row.omitted_columns) {
        return Err(ChangeError::MissingValue);
    }
    let key = row.key.clone();
    let RowDelta { old, new } = plan.apply(row, subquery_results)?;
    if !plan.is_keyed() {
        return Ok(new.map(|row| added(key, row)));
    }
    let left_out: ColumnSet = match &new {
        Some(new) if !row.omitted_columns.is_empty() => {
            let shown = plan.shown(new).filter_map(|(place, _)| plan.project.column(place));
            shown.filter(|i| row.omitted_columns.contains(*i)).collect()
        }
        _ => ColumnSet::default(),
    };
    match (&row.old, sent) {
        (_, Some(sent)) => sent.take_change(plan, row, new, &left_out),
        _ if !left_out.is_empty() => Err(ChangeError::MissingValue),
        (Old::Known(_), None) => Ok(match (old, new, places) {
            (Some(old), Some(new), Some(places)) if old.columns == new.columns => {
                replace_places(plan, key, old, new, &places)
            }
            (old, new, _) => between(plan, key, old, new),
        }),
        // Without memory, only the row's presence now is known.
        (Old::Unknown, None) => Ok(new.map(|row| added(key, row))),
    }
}

/// The change that takes a result from one row under a key to another.
pub fn between(plan: &EffectivePlan, key: Key, old: Option<VisibleRow>, new: Option<VisibleRow>) -> Option<Change> {
    match (old, new) {
        (None, None) => None,
        (None, Some(row)) => Some(added(key, row)),
        (was @ Some(_), None) => Some(Change::Remove { key, was }),
        (Some(old), Some(row)) => replace(plan, key, old, row),
    }
}

/// Whether the change withdraws something that its readers were permitted to see before: what is still unsent must
/// not be sent. `row` is the row's change.
pub fn revokes(plan: &EffectivePlan, change: &Change, row: &RowChange, subquery_results: &dyn SubqueryResults) -> bool {
    match change {
        Change::Remove { .. } => shows_less(plan, row, subquery_results),
        Change::Add { row, instead: true, .. } => {
            plan.computes() || !row.columns.covers(&plan.scan.granted()) || !plan.scan.maskable().is_empty()
        }
        // A mask may now replace the value itself, or something is computed of what is hidden now.
        Change::Replace { changed, .. } => {
            let concealable = plan.concealable();
            !concealable.is_empty() && changed.iter().any(|place| plan.project.depends_on(place, &concealable))
                || plan.computes() && conceals(plan, row, subquery_results)
        }
        Change::Add { .. } => false,
    }
}

/// Whether less may be seen of a row, of which something is computed, than before. What is computed need not have changed.
pub fn conceals(plan: &EffectivePlan, row: &RowChange, subquery_results: &dyn SubqueryResults) -> bool {
    !plan.concealable().is_empty() && shows_less(plan, row, subquery_results)
}

/// Whether less may be seen of a row than before.
pub fn shows_less(plan: &EffectivePlan, row: &RowChange, subquery_results: &dyn SubqueryResults) -> bool {
    let Some(new) = &row.new else { return false };
    let before = match &row.old {
        Old::Known(Some(old)) => plan.scan.admitted(old, subquery_results),
        Old::Known(None) | Old::Unknown => None,
    };
    plan.scan.shows_less(before.as_deref(), new, subquery_results)
}

fn added(key: Key, row: VisibleRow) -> Change {
    Change::Add { key, row, instead: false, place: None, was: None }
}

fn replace(plan: &EffectivePlan, key: Key, old: VisibleRow, row: VisibleRow) -> Option<Change> {
    let mut changed = ColumnSet::default();
    for place in 0..plan.project.len() {
        match (plan.project.value(place, &old), plan.project.value(place, &row)) {
            (Some(_), None) => return Some(Change::Add { key, row, instead: true, place: None, was: Some(old) }),
            (before, now) if before != now => changed.insert(place),
            _ => {}
        }
    }
    (!changed.is_empty()).then_some(Change::Replace { key, row, changed, place: None, was: Some(old) })
}

#[cfg(test)]
mod tests {
    use std::sync::Arc;

    use serde_json::json;

    use super::*;
    use crate::engine::{Engine, Input, Limits, Request};
    use crate::rule::{Claims, RuleSet, RuleText};
    use crate::schema::{Column, Table, TableName};
    use crate::value::Type;

    /// A table `t (id, state, n, body)` whose changes tell no old values, for one who sees `n` only where `state` is 1.
    fn plan() -> EffectivePlan {
        let rule = |rows: &str, columns: &[&str]| RuleText {
            role: "all".into(),
            table: TableName::plain("t"),
            rows: Some(rows.into()),
            columns: Some(columns.iter().map(|c| c.to_string()).collect()),
            ..RuleText::default()
        };
        let rules = vec![rule("state < 9", &["id", "state", "body"]), rule("state = 1", &["n"])];
        let mut engine = Engine::new(Arc::new(RuleSet::new(rules)), Limits::default());
        let column = |name: &str| Column { name: name.into(), ty: Type::Int8 };
        engine.handle(Input::Table(Arc::new(Table {
            name: TableName::plain("t"),
            source: "s".into(),
            columns: ["id", "state", "n", "body"].map(column).into(),
            key: vec![0],
            old_values: false,
            incarnation: 0,
        })));
        let facts = json!({}).as_object().cloned().unwrap_or_default();
        let claims = Arc::new(Claims { roles: vec!["all".into()], facts, operator: false });
        engine.compile(&Request { query: "SELECT * FROM t".into(), claims, ..Request::default() }).unwrap()
    }

    #[test]
    fn what_was_sent_tells_what_a_change_is_to_its_readers() {
        let (of, mut sent) = (plan(), Sent::default());
        let change = |state: i64, n: i64, body: Option<i64>, old: Old| RowChange {
            table: of.table().name.clone(),
            description: of.table().identity(),
            key: [Value::Int(1)].into(),
            old,
            new: Some([Value::Int(1), Value::Int(state), Value::Int(n), body.map_or(Value::Null, Value::Int)].into()),
            omitted_columns: [3].into_iter().filter(|_| body.is_none()).collect(),
        };
        let mut tell = |c: RowChange| super::change(&of, &c, &(), Some(&mut sent));
        let changed = |c: Result<Option<Change>, ChangeError>| match c {
            Ok(Some(Change::Replace { row, changed, .. })) => {
                (changed.iter().collect::<Vec<_>>(), row.columns.contains(3))
            }
            other => panic!("{other:?}"),
        };
        assert_eq!(tell(change(1, 5, None, Old::Unknown)), Err(ChangeError::MissingValue), "it was not sent before");
        assert!(matches!(tell(change(1, 5, Some(8), Old::Unknown)), Ok(Some(Change::Add { instead: false, .. }))));
        assert_eq!(changed(tell(change(1, 6, None, Old::Unknown))), (vec![2], false));
        assert_eq!(changed(tell(change(1, 6, Some(9), Old::Unknown))), (vec![3], true));
        assert_eq!(tell(change(1, 6, None, Old::Known(None))), Err(ChangeError::MissingValue), "another row");
        // A column becomes hidden: the whole row has to be sent, but a value is missing.
        assert_eq!(tell(change(2, 6, None, Old::Unknown)), Err(ChangeError::MissingValue));
        assert!(matches!(tell(change(2, 6, Some(9), Old::Unknown)), Ok(Some(Change::Add { instead: true, .. }))));
        assert_eq!(tell(change(2, 7, None, Old::Unknown)), Ok(None), "what is hidden says nothing");
        assert_eq!(
            tell(change(9, 7, Some(9), Old::Unknown)),
            Ok(Some(Change::Remove { key: [Value::Int(1)].into(), was: None }))
        );
        assert_eq!((sent.size(), sent.keys().count()), (0, 0));
    }
}
