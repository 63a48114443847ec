//! What is done in steps of its own, so that nobody else waits for all of it.
//!
//! - Of several results that change much with one commit the first is told with it, the others one after the other, as of whatever
//!   commit there is by then. What is withdrawn of them is withdrawn at once.
//! - The partners that a feed had asked for are released bit by bit when it has ended, and its memory is freed elsewhere.

use super::asked::Asks;
use super::commit::Commit;
use super::io::Output;
use super::later::Parting;
use super::probe::Probe;
use super::{Engine, Garbage};
use crate::index::FeedId;
use crate::plan::EffectivePlan;

/// Partners that are released in one step: about a microsecond each.
const STEP: usize = 1_000;

/// Rows of a feed from which on freeing their memory is worth a way.
const MANY: usize = 1_000;

impl Engine {
    /// Whether something was left for later, and wants an [`Input::Proceed`](super::Input::Proceed).
    pub fn has_more_to_do(&self) -> bool {
        !self.later.partings.is_empty() || !self.later.postponed.is_empty()
    }

    /// Leaves a difference for a step of its own. What it withdraws does not wait.
    pub(super) fn postpone(&mut self, id: FeedId, commit: Commit) {
        if self.materialized(id).is_some_and(|m| m.revokes) {
            self.revoke_unsent(id);
        }
        self.note_untold(id, commit.position);
        self.later.postponed.insert(id);
    }

    /// Goes on with what was left for later, by one step.
    pub(super) fn proceed(&mut self) {
        if let Some(id) = self.later.postponed.pop_first() {
            self.settle_later(id);
        }
        self.part_on();
    }

    /// A feed has ended. Its number is another feed's only when nothing names it any more: when its partners are released, and its
    /// keys too, if these are `cleaned_up`.
    pub(super) fn part(&mut self, feed: FeedId, plan: &EffectivePlan, asks: Option<Asks>, cleaned_up: bool) {
        let mut asked: Vec<(u64, Vec<Probe>)> = Vec::new();
        let sides = plan.joins.iter().flat_map(|joins| joins.sides());
        asked.extend(sides.map(|side| (side.scan().description(), Vec::new())));
        if let Some(asks) = asks {
            for (side, probe) in asks.by.into_keys() {
                if let Some((_, probes)) = asked.get_mut(side) {
                    probes.push(probe);
                }
            }
            self.throw_away(asks.of.len(), asks.of);
        }
        let mut parting = Parting { feed, asked };
        let is_over = self.release_some(&mut parting);
        let waits = u8::from(cleaned_up) + u8::from(!is_over);
        if waits == 0 {
            self.free.push(feed);
        } else {
            self.later.waits.insert(feed, waits);
        }
        if !is_over {
            self.later.partings.push(parting);
        }
    }

    /// Releases some of what a feed had asked for. Returns whether that was all.
    fn release_some(&mut self, parting: &mut Parting) -> bool {
        for _ in 0..STEP {
            let of_side = parting.asked.iter_mut().enumerate().find(|(_, (_, probes))| !probes.is_empty());
            let Some((side, (description, probes))) = of_side else { return true };
            if let Some(probe) = probes.pop() {
                let description = *description;
                self.release_partner(description, (parting.feed, side), &probe);
            }
        }
        parting.asked.iter().all(|(_, probes)| probes.is_empty())
    }

    fn part_on(&mut self) {
        let Some(mut parting) = self.later.partings.pop() else { return };
        if self.release_some(&mut parting) {
            self.has_ended(parting.feed);
        } else {
            self.later.partings.push(parting);
        }
    }

    /// Something that a feed has left behind is forgotten.
    pub(super) fn has_ended(&mut self, feed: FeedId) {
        let Some(waits) = self.later.waits.get_mut(&feed) else { return };
        *waits -= 1;
        if *waits == 0 {
            self.later.waits.remove(&feed);
            self.free.push(feed);
        }
    }

    /// Frees memory that is not needed any more: elsewhere, if it is that of many rows.
    pub(super) fn throw_away<T: Send + Sync + 'static>(&mut self, rows: usize, what: T) {
        if rows > MANY {
            self.out.push(Output::Dropped(Garbage::new(what)));
        }
    }
}
