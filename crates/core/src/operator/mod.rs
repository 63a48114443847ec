//! The operators that have a state: what a query [`Arrange`](crate::plan::Arrange)s of all its rows together.
//!
//! ```text
//! rows ──► Groups ──► Firsts ──► Sorted ──► Delivery ──► changes of the result
//! ```
//!
//! Each takes the changes of the rows below it, under their keys, and hands on what that changes above it. They are in a
//! transaction's middle until [`Operators::settle`]; then [`Operators::deliver`] is the difference between what was
//! delivered last and what holds now. An operator's memory grows with the rows below it and with nothing else; how much it is,
//! [`Operators::size`] says, and the engine limits it together with the rows.
//!
//! Whoever feeds them sees that a row is taken back exactly as it came.

mod accumulator;
mod delivery;
mod first;
mod group;
mod ranked;
mod rows;
mod sorted;
mod sql_order;
mod sum;

use crate::feed::Change;
use crate::plan::{EffectivePlan, RowDelta, VisibleRow};
use crate::query::function::EvalError;
use crate::schema::Key;
use crate::seam::ResultRows;
use delivery::Delivery;
use first::Firsts;
use group::Groups;
use rows::Below;
use sorted::Sorted;
pub use sorted::{Place, Ties};

/// The operators of one feed.
#[derive(Debug)]
pub struct Operators {
    groups: Option<Groups>,
    firsts: Option<Firsts>,
    sorted: Option<Sorted>,
    delivery: Delivery,
    /// What came since the last [`Operators::settle`], where there are no groups.
    below: Vec<Below>,
}

impl Operators {
    /// Those that a plan needs, without a row; `None` if its feed needs none.
    pub fn of(plan: &EffectivePlan, ties: Ties) -> Option<Operators> {
        if !plan.projects_late {
            return None;
        }
        let arrange = plan.arrange.as_deref();
        let ties = if plan.open_key() { Ties::ByKey } else { ties };
        Some(Operators {
            groups: arrange.and_then(|a| a.group.as_ref()).map(Groups::new),
            firsts: arrange.filter(|a| !a.first.is_empty()).map(|_| Firsts::new(ties)),
            sorted: arrange.filter(|a| a.is_ordered()).map(|_| Sorted::new(ties)),
            delivery: Delivery::default(),
            below: Vec::new(),
        })
    }

    /// Takes a row's change.
    ///
    /// # Errors
    /// The query fails on the new row.
    pub fn apply(&mut self, plan: &EffectivePlan, key: Key, delta: RowDelta) -> Result<(), EvalError> {
        match (&mut self.groups, plan.arrange.as_ref().and_then(|a| a.group.as_ref())) {
            (Some(groups), Some(spec)) => groups.apply(spec, &delta),
            _ => {
                self.below.push((key, delta));
                Ok(())
            }
        }
    }

    /// Hands on what all changes together did: the transaction is complete.
    ///
    /// # Errors
    /// The query fails on a row or a group.
    pub fn settle(&mut self, plan: &EffectivePlan) -> Result<(), EvalError> {
        let mut changes = std::mem::take(&mut self.below);
        let Some(arrange) = &plan.arrange else {
            self.delivery.hold(changes);
            return Ok(());
        };
        if let (Some(groups), Some(spec)) = (&mut self.groups, &arrange.group) {
            changes = groups.settle(spec)?;
        }
        if let Some(firsts) = &mut self.firsts {
            changes = firsts.apply(arrange, changes)?;
        }
        match &mut self.sorted {
            Some(sorted) => self.delivery.touch(sorted.apply(arrange, changes)?),
            None => self.delivery.hold(changes),
        }
        Ok(())
    }

    /// What changed in the result since the last delivery.
    ///
    /// # Errors
    /// The query fails on a row of the result.
    pub fn deliver(&mut self, plan: &EffectivePlan) -> Result<Vec<Change>, EvalError> {
        self.delivery.deliver(plan, self.sorted.as_ref())
    }

    /// The result as it was delivered last: in its order, else in the order of keys.
    pub fn result(&self) -> ResultRows {
        self.delivery.result(self.sorted.as_ref())
    }

    /// How many other rows that are in order come before one, wherever that stands now.
    ///
    /// # Errors
    /// What rows are ordered by has no value.
    pub fn rank(&self, plan: &EffectivePlan, key: &Key, row: &VisibleRow) -> Result<Option<usize>, EvalError> {
        let Some((arrange, sorted)) = plan.arrange.as_deref().zip(self.sorted.as_ref()) else { return Ok(None) };
        sorted.rank_of(arrange, key, row).map(Some)
    }

    /// How many rows are in order, in the window or not.
    pub fn rows_in_order(&self) -> usize {
        self.sorted.as_ref().map_or(0, Sorted::len)
    }

    /// How many of them come up to this place.
    pub fn rows_up_to(&self, plan: &EffectivePlan, place: &Place) -> usize {
        let arrange = plan.arrange.as_deref();
        arrange.zip(self.sorted.as_ref()).map_or(0, |(arrange, sorted)| sorted.up_to(arrange, place))
    }

    /// The place of the row that has so many before it in the order.
    pub fn place(&self, rank: usize) -> Option<&Place> {
        self.sorted.as_ref().and_then(|sorted| sorted.place(rank))
    }

    /// Whether something was handed on that is not delivered yet.
    pub fn holds_something(&self) -> bool {
        self.delivery.holds_something()
    }

    /// Whether a row under this key is in the result as it was delivered last.
    pub fn shows(&self, key: &Key) -> bool {
        self.delivery.shows(key)
    }

    /// Approximate bytes of all operators.
    pub fn size(&self) -> usize {
        let groups = self.groups.as_ref().map_or(0, Groups::size);
        let firsts = self.firsts.as_ref().map_or(0, Firsts::size);
        groups + firsts + self.sorted.as_ref().map_or(0, Sorted::size) + self.delivery.size()
    }
}
