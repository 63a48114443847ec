//! One table from one case: what happens to its rows, when its snapshots are read and arrive, and what clients are told.

use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Bound;
use std::sync::Arc;

use gossip_core::audience::SubId;
use gossip_core::engine::{Engine, Input, Limits, Output, Refusal, Request, SnapshotId};
use gossip_core::feed::Change;
use gossip_core::plan::{Admitted, EffectivePlan, SnapshotRequest, VisibleRow};
use gossip_core::position::{
    CommitTime, Interval, Old, Position, Reset, ResetReason, RowChange, SnapshotPoint, Transaction,
};
use gossip_core::query::function::EvalError;
use gossip_core::query::{Expr, Masked};
use gossip_core::rule::Claims;
use gossip_core::schema::{ColumnSet, Identified, Key, Row, TableName};
use gossip_core::subquery::{SubqueryResults as _, subqueries_of};
use gossip_core::value::Value;
use proptest::prelude::*;

use super::applied::apply;
use super::case::{Case, Rights, Step, rules};
use super::others::{self, Sets};
use super::wanted::is_wanted;
use super::{naive, page, queries};

/// The column whose values a database may leave out where they did not change.
const LARGE: usize = 5;

/// The row with another value in a column.
fn with(row: &Row, column: usize, value: Value) -> Row {
    row.iter().enumerate().map(|(i, own)| if i == column { value.clone() } else { own.clone() }).collect()
}

/// All tables at one commit.
#[derive(Clone, Debug, Default)]
struct World {
    rows: BTreeMap<i64, Row>,
    /// With which commit each row came.
    since: BTreeMap<i64, u64>,
    members: BTreeSet<i64>,
    others: BTreeMap<i64, Row>,
}

impl World {
    fn rows(&self) -> Vec<Row> {
        self.rows.values().cloned().collect()
    }

    fn rows_of(&self, table: &str) -> Vec<Row> {
        match table {
            "members" => self.members.iter().map(|g| [Value::Int(*g)].into()).collect(),
            "o" => self.others.values().cloned().collect(),
            _ => self.rows(),
        }
    }

    /// What the sub-selects of a plan find.
    fn sets(&self, plan: &EffectivePlan) -> Result<Sets, EvalError> {
        others::sets(plan, &|table| self.rows_of(table))
    }
}

/// A client, and where its result stands.
#[derive(Debug, Default)]
struct Client {
    rows: Vec<(Key, VisibleRow)>,
    at: Option<Position>,
    closed: Option<Refusal>,
}

/// What cases have reached.
#[derive(Default)]
pub struct Reached(pub BTreeMap<String, usize>);

impl Reached {
    fn note(&mut self, what: String) {
        *self.0.entry(what).or_default() += 1;
    }
}

struct Run<'a> {
    case: &'a Case,
    engine: Engine,
    table: Identified,
    members: Identified,
    others: Identified,
    world: World,
    /// By the position of the commit.
    history: BTreeMap<Position, World>,
    plan: Option<Arc<EffectivePlan>>,
    clients: BTreeMap<SubId, Client>,
    /// Snapshots to be read, and read ones to be handed over, each after so many transactions.
    to_read: Vec<(SnapshotId, SnapshotRequest, usize, usize)>,
    to_hand_over: Vec<(SnapshotId, Vec<Row>, Position, usize)>,
    fetched: usize,
    at: u64,
    /// When something was last taken back that may have been unsent.
    taken_back: Position,
    /// The last commit up to which all was told, also where nothing of it was a change of the result.
    settled: Position,
    reached: &'a RefCell<Reached>,
}

impl Run<'_> {
    fn fail<T>(&self, why: impl std::fmt::Display) -> Result<T, TestCaseError> {
        Err(TestCaseError::fail(format!("{why}\n{}", self.case.query.text)))
    }

    fn note(&self, what: &str) {
        self.reached.borrow_mut().note(format!("{:?}: {what}", self.case.query.kind));
    }

    /// How the query asks another table, if it does.
    fn note_others(&self) {
        let text = &self.case.query.text;
        for how in ["LEFT JOIN", "JOIN", "FROM o JOIN", "JOIN o q"].iter().filter(|how| text.contains(**how)) {
            for what in [how.to_string(), format!("joined under {:?}", self.case.on_others)] {
                self.reached.borrow_mut().note(format!("others: {what}"));
            }
        }
        let hows = ["NOT IN (SELECT", "IN (SELECT", "NOT EXISTS (", "EXISTS ("];
        if let Some(how) = hows.iter().find(|how| text.contains(**how)) {
            let how = how.trim_end_matches("(SELECT").trim_end_matches('(').trim_end();
            for what in [how.to_string(), format!("under {:?}", self.case.on_others)] {
                self.reached.borrow_mut().note(format!("others: {what}"));
            }
        }
    }

    /// The result at a commit.
    fn expected(&self, world: &World) -> Result<Vec<(Key, VisibleRow)>, EvalError> {
        let plan = self.plan.as_ref().unwrap();
        naive::result(plan, &world.rows(), &world.sets(plan)?, &|table| world.rows_of(table))
    }

    /// The result where the query fails on rows that need not be read: those outside a window, and those that a sub-select has not.
    fn expected_of_read(&self, world: &World) -> Option<Vec<(Key, VisibleRow)>> {
        let plan = self.plan.as_ref().unwrap();
        let sets = world.sets(plan).ok()?;
        let unread = |row: &Admitted<'_>| {
            let cells = Masked { row: &row.row, visible: &row.columns, subquery_results: &sets };
            let all = match plan.condition_of_own() {
                Expr::And(all) => all.as_slice(),
                one => std::slice::from_ref(one),
            };
            let asks = |e: &&Expr| !subqueries_of([*e]).is_empty();
            plan.page_order().is_some() || all.iter().filter(asks).any(|e| e.holds(&cells) == Ok(false))
        };
        let is_left_out = |row: &Row| {
            let admitted = plan.scan.admit(row, &sets);
            plan.see(row, &sets).is_err() && admitted.is_some_and(|row| unread(&row))
        };
        let mut world = world.clone();
        world.rows.retain(|_, row| !is_left_out(row));
        self.expected(&world).ok()
    }

    fn take(&mut self, outputs: Vec<Output>) -> Result<(), TestCaseError> {
        for o in outputs {
            match o {
                Output::FetchSnapshot { id, mut request, .. } => {
                    let (read, arrive) = self.case.delays[self.fetched % self.case.delays.len()];
                    self.fetched += 1;
                    if let Some(page) = &request.page {
                        let reads_on = if page.after.is_some() { "reads on" } else { "reads a page" };
                        self.note(reads_on);
                    }
                    if self.fetched % 5 == 4 {
                        // The database does not know the order, or the types, and hands out all that there is.
                        request.page = None;
                        request.filter = request.filter.filter(|_| self.fetched.is_multiple_of(2));
                    }
                    self.to_read.push((id, *request, read, arrive));
                }
                Output::CancelSnapshot(id) => {
                    self.to_read.retain(|(other, ..)| *other != id);
                    self.to_hand_over.retain(|(other, ..)| *other != id);
                }
                Output::Result { to, feed, rows, position, .. } => {
                    self.plan = Some(feed);
                    for (sub, _) in to {
                        let client = self.clients.get_mut(&sub).unwrap();
                        client.rows = rows.to_vec();
                        client.at = Some(position);
                        self.check(sub)?;
                        self.check_nothing_is_withdrawn_since(position)?;
                    }
                }
                Output::Delta(delta, audience) => {
                    for sub in audience.as_slice() {
                        let client = self.clients.get_mut(sub).unwrap();
                        prop_assert!(client.at.is_some_and(|at| at < delta.position), "back to {}", delta.position);
                        if let Err(why) = apply(&mut client.rows, &delta.changes, &delta.feed, self.case.every > 0) {
                            return self.fail(why);
                        }
                        client.at = Some(delta.position);
                        self.note_delta(&delta.changes);
                        self.check(*sub)?;
                        self.check_nothing_is_withdrawn_since(delta.position)?;
                    }
                }
                Output::Discard(sub) => self.clients.get_mut(&sub).unwrap().at = None,
                Output::Closed(sub, refusal) => {
                    let client = self.clients.get_mut(&sub).unwrap();
                    client.closed = Some(refusal.clone());
                    if !matches!(refusal, Refusal::Failed(_)) {
                        return self.fail(format!("{refusal:?}"));
                    }
                    self.note("fails");
                    if self.case.query.text.contains("FROM o") {
                        self.reached.borrow_mut().note("others: fails".into());
                    }
                }
                _ => {}
            }
        }
        Ok(())
    }

    fn note_delta(&self, changes: &[Change]) {
        self.note(if self.case.old_values { "delta with old values" } else { "delta without old values" });
        self.note(&format!("delta under {:?}", self.case.rights));
        self.note_others();
        for c in changes {
            match c {
                Change::Add { .. } => self.note("add"),
                Change::Remove { .. } => self.note("remove"),
                Change::Replace { place: Some(_), .. } => self.note("move"),
                Change::Replace { .. } => self.note("replace"),
            }
        }
    }

    /// A client's result is that at the commit that it was told of.
    fn check(&self, sub: SubId) -> Result<(), TestCaseError> {
        let client = &self.clients[&sub];
        let at = client.at.unwrap();
        let Some((_, world)) = self.history.range(..=at).next_back() else { return self.fail("before all") };
        let plan = self.plan.as_ref().unwrap();
        let expected = match self.expected(world).or_else(|error| self.expected_of_read(world).ok_or(error)) {
            Ok(expected) => expected,
            Err(error) => return self.fail(format!("told at {at} what fails: {error}")),
        };
        let shown = |rows: &[(Key, VisibleRow)]| -> Vec<(Key, Vec<Option<Value>>)> {
            let cells =
                |row: &VisibleRow| (0..plan.project.len()).map(|p| plan.project.value(p, row).cloned()).collect();
            let mut shown: Vec<_> = rows.iter().map(|(key, row)| (key.clone(), cells(row))).collect();
            if !plan.is_ordered() {
                shown.sort();
            }
            shown
        };
        let (held, expected) = (shown(&client.rows), shown(&expected));
        if held != expected {
            return self.fail(format!("at {at} client {sub} holds\n{held:?}\nand not\n{expected:?}"));
        }
        Ok(())
    }

    /// Reads and hands over the snapshots whose time has come.
    fn pass(&mut self, at_once: bool) -> Result<(), TestCaseError> {
        for (id, request, read, arrive) in std::mem::take(&mut self.to_read) {
            if read > 0 && !at_once {
                self.to_read.push((id, request, read - 1, arrive));
                continue;
            }
            let mut rows = self.world.rows_of(&request.table.name.name);
            rows.retain(|row| request.filter.as_ref().is_none_or(|filter| is_wanted(filter, row)));
            if let Some(page) = &request.page {
                rows = page::page(page, rows);
            }
            self.to_hand_over.push((id, rows, Position::at(self.at), arrive));
        }
        for (id, rows, at, arrive) in std::mem::take(&mut self.to_hand_over) {
            if arrive > 0 && !at_once {
                self.to_hand_over.push((id, rows, at, arrive - 1));
                continue;
            }
            let half = rows.len() / 2;
            let outputs = self.engine.handle(Input::SnapshotRows(id, rows[..half].to_vec()));
            self.take(outputs)?;
            let outputs = self.engine.handle(Input::SnapshotRows(id, rows[half..].to_vec()));
            self.take(outputs)?;
            let outputs = self.engine.handle(Input::SnapshotDone(id, SnapshotPoint::UpTo(at)));
            self.take(outputs)?;
        }
        Ok(())
    }

    fn subscribe(&mut self, sub: SubId) -> Result<(), TestCaseError> {
        let (query, claims) = (self.case.query.text.clone(), Arc::new(Claims::anonymous()));
        let request = Request { query, claims, every: self.case.every, ..Request::default() };
        match self.engine.compile(&request) {
            Ok(plan) => self.plan = Some(Arc::new(plan)),
            Err(e) => return self.fail(e),
        }
        self.clients.insert(sub, Client::default());
        let outputs = self.engine.handle(Input::Subscribe(sub, Box::new(request)));
        self.take(outputs)
    }

    /// Commits a transaction, and perhaps empties the table before it.
    fn commit(&mut self, steps: &[Step], truncates: bool) -> Result<(), TestCaseError> {
        self.at += 1;
        let mut changes = Vec::new();
        if truncates {
            self.world.rows.clear();
        }
        for step in steps {
            match step {
                Step::Write(id, texts) if !truncates => {
                    let row: Row = queries::row(*id, texts).into();
                    let old = self.world.rows.insert(*id, row.clone());
                    if old.is_none() {
                        self.world.since.insert(*id, self.at);
                    }
                    let same = old.as_ref().is_some_and(|old| old[LARGE] == row[LARGE]);
                    let old = if self.case.old_values { Old::Known(old) } else { Old::Unknown };
                    let mut change = RowChange::of(&self.table, [Value::Int(*id)].into(), old, Some(row));
                    if same && !self.case.old_values {
                        // A large value that is unchanged is not told again.
                        change.omitted_columns = [LARGE].into_iter().collect();
                        change.new = change.new.map(|row| with(&row, LARGE, Value::Null));
                    }
                    changes.push(change);
                }
                Step::Delete(id) if !truncates => {
                    let Some(old) = self.world.rows.remove(id) else { continue };
                    let old = if self.case.old_values { Old::Known(Some(old)) } else { Old::Unknown };
                    changes.push(RowChange::of(&self.table, [Value::Int(*id)].into(), old, None));
                }
                Step::Member(g, is) => {
                    let row = || -> Row { [Value::Int(*g)].into() };
                    let was = self.world.members.contains(g);
                    if was == *is {
                        continue;
                    }
                    let _ = if *is { self.world.members.insert(*g) } else { self.world.members.remove(g) };
                    let (old, new) = (was.then(row), is.then(row));
                    changes.push(RowChange::of(&self.members, [Value::Int(*g)].into(), Old::Known(old), new));
                }
                Step::Other(id, texts) => {
                    let new = texts.as_ref().map(|texts| others::row(*id, texts));
                    let old = match &new {
                        Some(row) => self.world.others.insert(*id, row.clone()),
                        None => self.world.others.remove(id),
                    };
                    if old.is_none() && new.is_none() {
                        continue;
                    }
                    let old = if self.case.old_values { Old::Known(old) } else { Old::Unknown };
                    changes.push(RowChange::of(&self.others, [Value::Int(*id)].into(), old, new));
                }
                _ => {}
            }
        }
        // One change of each row.
        let mut last: Vec<RowChange> = Vec::new();
        for change in changes {
            match last.iter_mut().find(|c| c.table == change.table && c.key == change.key) {
                Some(before) => {
                    let told = before.new.as_ref().filter(|_| !before.omitted_columns.contains(LARGE));
                    let omits = change.omitted_columns.contains(LARGE);
                    (before.new, before.omitted_columns) = match (omits, told) {
                        (true, Some(told)) => {
                            let value = told[LARGE].clone();
                            (change.new.map(|row| with(&row, LARGE, value)), ColumnSet::default())
                        }
                        _ => (change.new, change.omitted_columns),
                    };
                }
                None => last.push(change),
            }
        }
        self.history.insert(Position::at(self.at), self.world.clone());
        let table = Some(queries::table(self.case.old_values));
        let reset = Reset { name: TableName::plain("t"), table, why: ResetReason::Truncated };
        let resets = if truncates { vec![reset] } else { vec![] };
        let before = self.history.get(&Position::at(self.at - 1)).cloned().unwrap_or_default();
        let outputs = self.engine.handle(Input::Interval(interval(self.at, last, resets)));
        // What was told before something was taken back is not unsent any more.
        let told = |c: &Client| {
            let at = c.at.map(|at| if self.case.every == 0 { at.max(self.settled) } else { at });
            at.filter(|at| c.closed.is_none() && *at >= self.taken_back)
        };
        let told: Vec<Position> = self.clients.values().filter_map(told).collect();
        let known = |at: &Position| self.history.range(..=*at).next_back().map(|(_, world)| world);
        let withdrawn = told.iter().filter_map(known).any(|known| self.is_withdrawn(&before, known, &self.world));
        let takes_back = |o: &Output| match o {
            Output::Delta(delta, _) => delta.revokes,
            Output::Revoke(_) | Output::Discard(_) | Output::Closed(..) => true,
            _ => false,
        };
        let taken_back = outputs.iter().any(takes_back);
        if taken_back {
            self.taken_back = Position::at(self.at);
        }
        if !truncates && withdrawn {
            if !taken_back {
                return self.fail("something was withdrawn, and what is unsent of it was not");
            }
            self.note("withdrawn");
        }
        let withdrawn =
            told.iter().filter_map(known).any(|known| self.is_withdrawn_of_joined(&before, known, &self.world));
        if withdrawn {
            if !taken_back {
                return self.fail("of a row that is joined something was withdrawn, and what is unsent was not");
            }
            self.reached.borrow_mut().note("others: joined withdrawn".into());
        }
        let withdrawn =
            told.iter().filter_map(known).any(|known| self.is_withdrawn_of_others(&before, known, &self.world));
        if withdrawn {
            if !taken_back {
                return self.fail("what a sub-select found was withdrawn, and what is unsent was not");
            }
            self.reached.borrow_mut().note("others: withdrawn".into());
        }
        self.take(outputs)?;
        self.note_settled();
        Ok(())
    }

    fn note_settled(&mut self) {
        if self.engine.waiting().next().is_none() {
            self.settled = Position::at(self.at);
        }
    }

    /// What is told late, because partners had to be read, has nothing in it that was withdrawn meanwhile.
    fn check_nothing_is_withdrawn_since(&self, at: Position) -> Result<(), TestCaseError> {
        let Some((of, told)) = self.history.range(..=at).next_back().filter(|(of, _)| of.commit < self.at) else {
            return Ok(());
        };
        let plan = self.plan.as_ref().unwrap();
        let mut before = told.clone();
        for (_, after) in self.history.range((Bound::Excluded(of), Bound::Unbounded)) {
            if self.is_withdrawn(&before, told, after)
                || self.is_withdrawn_of_joined(&before, told, after)
                || self.is_withdrawn_of_others(&before, told, after)
            {
                return self.fail(format!("what is told as of {of} was withdrawn meanwhile"));
            }
            // What has left the result since, is not told any more by what comes; one that was removed and came again is another one.
            let Ok(sets) = after.sets(plan) else { break };
            let stays = |id: &i64| {
                let row = after.rows.get(id).filter(|_| told.since.get(id) == after.since.get(id));
                row.is_some_and(|row| matches!(plan.of_rows().see(row, &sets), Ok(Some(_))))
            };
            let rows = before.rows.into_keys().filter(stays).collect::<Vec<_>>();
            before = after.clone();
            before.rows.retain(|id, _| rows.contains(id));
        }
        if self.case.every == 0 && self.case.query.text.contains("JOIN") {
            self.reached.borrow_mut().note("others: told as of an earlier commit".into());
        }
        Ok(())
    }

    /// Whether less may be seen of a row now than before, of which the query shows or counts something. It was `known` to a
    /// client, too.
    fn is_withdrawn(&self, before: &World, known: &World, after: &World) -> bool {
        let Some(plan) = self.plan.as_ref().filter(|_| self.case.rights != Rights::Masked) else { return false };
        let of = |world: &World| world.sets(plan);
        let (Ok(then), Ok(earlier), Ok(now)) = (of(known), of(before), of(after)) else { return false };
        let admitted = |sets: &Sets, row: &Row| plan.scan.admitted(row, sets).map(|columns| columns.into_owned());
        let found = |sets: &Sets, row: &Row| {
            let shown = admitted(sets, row)?;
            plan.of_rows().see(row, sets).ok().flatten().map(|_| shown)
        };
        before.rows.iter().any(|(id, old)| {
            let same = known.since.get(id) == before.since.get(id);
            let was_told = same && known.rows.get(id).is_some_and(|row| found(&then, row).is_some());
            let (Some(shown), Some(new)) = (admitted(&earlier, old), after.rows.get(id)) else { return false };
            let read = plan.read();
            // What came while rows were awaited, or their time, has not been told to anybody.
            let known_columns = known.rows.get(id).and_then(|row| admitted(&then, row)).unwrap_or_default();
            let lost = |now: &ColumnSet| {
                shown.iter().any(|i| read.contains(i) && !now.contains(i) && known_columns.contains(i))
            };
            let key = [Value::Int(*id)];
            let in_window = |rows: Vec<(Key, VisibleRow)>| rows.iter().any(|(k, _)| **k == key);
            // Of a window only what it shows is told.
            let was_told = was_told && (!plan.is_window() || self.expected(known).is_ok_and(in_window));
            was_told && found(&earlier, old).is_some() && admitted(&now, new).is_none_or(|now| lost(&now))
        })
    }

    /// Whether less may be seen of a row that is joined than before. What may be seen then is `known` to a client, too.
    fn is_withdrawn_of_joined(&self, before: &World, known: &World, after: &World) -> bool {
        let Some(plan) = self.plan.as_ref().filter(|_| self.case.on_others != Rights::Masked) else { return false };
        let Some(joins) = &plan.joins else { return false };
        let of = |world: &World| world.sets(plan);
        let (Ok(then), Ok(earlier), Ok(now)) = (of(known), of(before), of(after)) else { return false };
        let shows = |row: Option<&Row>, sets: &Sets| row.is_some_and(|row| matches!(plan.see(row, sets), Ok(Some(_))));
        before.rows.iter().filter(|(_, row)| shows(Some(row), &earlier)).any(|(id, row)| {
            let same = known.rows.get(id) == Some(row) && after.rows.get(id) == Some(row);
            same && shows(known.rows.get(id), &then)
                && plan.partners_of(row, &earlier).into_iter().any(|(side, key)| {
                    let (scan, Value::Int(key)) = (joins.sides()[side].scan(), &key[0]) else { return false };
                    let before_it = joins.sides()[..side].iter().map(|s| s.scan().table().columns.len());
                    let first = row.len() + before_it.sum::<usize>();
                    // It may be there, and not be the partner; or another one was it then.
                    let joined = |row: &Row, sets: &Sets| {
                        plan.see(row, sets).ok().flatten().is_some_and(|seen| seen.row[first] == Value::Int(*key))
                    };
                    if !joined(row, &earlier) || !joined(row, &then) {
                        return false;
                    }
                    let seen = |world: &World, sets: &Sets| -> Option<ColumnSet> {
                        Some(scan.admitted(world.others.get(key)?, sets)?.into_owned())
                    };
                    let (Some(old), Some(known)) = (seen(before, &earlier), seen(known, &then)) else { return false };
                    let is_there = after.others.contains_key(key);
                    let new = seen(after, &now).unwrap_or_default();
                    is_there && old.iter().any(|i| known.contains(i) && !new.contains(i))
                })
        })
    }

    /// Whether a value that one of the query's sub-selects found is found no more because less may be seen of a row than before. It was
    /// found in what is `known` to a client, too.
    fn is_withdrawn_of_others(&self, before: &World, known: &World, after: &World) -> bool {
        let Some(plan) = self.plan.as_ref().filter(|_| self.case.on_others != Rights::Masked) else { return false };
        let of = |world: &World| world.sets(plan);
        let (Ok(then), Ok(earlier), Ok(now)) = (of(known), of(before), of(after)) else { return false };
        plan.asked_by_client().any(|asked| {
            let of = EffectivePlan::of_subquery(&asked);
            let value = |seen: &VisibleRow| -> Option<Vec<Value>> {
                let value = |c: &usize| seen.columns.contains(*c).then(|| seen.row[*c].clone());
                asked.columns.iter().map(value).collect()
            };
            let has = |sets: &Sets, found: &[Value]| sets.set(&asked).is_some_and(|set| set.has(found) == Some(true));
            before.others.iter().any(|(id, old)| {
                let Some(new) = after.others.get(id) else { return false };
                let found = of.see(old, &earlier).ok().flatten().and_then(|seen| value(&seen));
                let admitted = of.scan.admitted(new, &now);
                let hides = admitted.is_none_or(|columns| asked.columns.iter().any(|c| !columns.contains(*c)));
                found.is_some_and(|f| hides && has(&then, &f) && has(&earlier, &f) && !has(&now, &f))
            })
        })
    }

    fn tick(&mut self) -> Result<(), TestCaseError> {
        self.engine.set_clock(self.at as i64 * 1_000);
        let outputs = self.engine.handle(Input::Tick);
        self.take(outputs)
    }
}

fn interval(at: u64, changes: Vec<RowChange>, resets: Vec<Reset>) -> Arc<Interval> {
    let (number, inexact_after) = (0, None);
    let t =
        Transaction { position: Position::at(at), committed: CommitTime::default(), number, inexact_after, changes };
    Arc::new(Interval {
        source: "s".into(),
        epoch: 1,
        from: Position::at(at - 1),
        to: Position::at(at),
        transactions: vec![Arc::new(t)],
        resets,
        settled: Position::at(at),
        timeline: 1,
        mark: 0,
        reader: "one".into(),
        read_at: 0,
    })
}

/// Runs a case, and says where what a client was told is not what holds.
pub fn run(case: &Case, reached: &RefCell<Reached>) -> Result<(), TestCaseError> {
    let table = queries::table(case.old_values);
    // Windows are read on after every row or two that goes.
    let limits = Limits { reserve: 1, ..Limits::default() };
    let mut engine = Engine::new(Arc::new(rules(case.rights, case.on_others)), limits);
    engine.handle(Input::Table(table.clone()));
    engine.handle(Input::Table(others::members()));
    engine.handle(Input::Table(others::others(case.old_values)));
    let mut run = Run {
        case,
        engine,
        table: Identified::new(table),
        members: Identified::new(others::members()),
        others: Identified::new(others::others(case.old_values)),
        world: World::default(),
        history: BTreeMap::new(),
        plan: None,
        clients: BTreeMap::new(),
        to_read: Vec::new(),
        to_hand_over: Vec::new(),
        fetched: 0,
        at: 0,
        taken_back: Position::default(),
        settled: Position::default(),
        reached,
    };
    let others = case.others.iter().zip(1..).map(|(texts, id)| Step::Other(id, Some(*texts)));
    let first: Vec<Step> = [Step::Member(1, true), Step::Member(2, true)].into_iter().chain(others).collect();
    run.commit(&first, false)?;
    for (i, steps) in case.transactions.iter().enumerate() {
        for (n, comes) in case.comes.iter().enumerate() {
            if *comes == i {
                run.subscribe(n as SubId + 1)?;
            }
        }
        if i == case.catches_up && run.clients.get(&1).is_some_and(|c| c.closed.is_none()) {
            let outputs = run.engine.handle(Input::CatchUp(1));
            run.take(outputs)?;
        }
        run.tick()?;
        run.pass(false)?;
        run.commit(steps, case.truncated == Some(i))?;
    }
    // In the end everything arrives.
    for _ in 0..8 {
        run.at += 1;
        run.history.insert(Position::at(run.at), run.world.clone());
        let outputs = run.engine.handle(Input::Interval(interval(run.at, vec![], vec![])));
        run.take(outputs)?;
        run.tick()?;
        run.pass(true)?;
    }
    for (sub, client) in &run.clients {
        match (&client.closed, run.expected(&run.world)) {
            // A later change may have mended it.
            (Some(_), _) => {
                let failed = |world| run.expected(world).is_err();
                prop_assert!(run.history.values().any(failed), "client {} was closed: {}", sub, case.query.text);
            }
            (None, now) => {
                let now = match now.or_else(|error| run.expected_of_read(&run.world).ok_or(error)) {
                    Ok(now) => now,
                    Err(error) => return run.fail(format!("{error}, and client {sub} was not closed")),
                };
                prop_assert!(client.at.is_some(), "client {} has no result: {}", sub, case.query.text);
                run.note("ends with a result");
                // What was told last is what holds now, if nothing more was told.
                let mut held: Vec<_> = client.rows.iter().map(|(key, _)| key.clone()).collect();
                let mut wanted: Vec<_> = now.iter().map(|(key, _)| key.clone()).collect();
                if !run.plan.as_ref().unwrap().is_ordered() {
                    held.sort();
                    wanted.sort();
                }
                prop_assert_eq!(held, wanted, "{}", case.query.text);
            }
        }
    }
    Ok(())
}
