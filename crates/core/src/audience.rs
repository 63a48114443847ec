//! The subscribers of a feed. Most feeds have one, some have thousands: a single one is stored inline, and
//! many are shared with every delta in flight.

use std::sync::Arc;

/// A subscription of one engine; chosen by the shell and never reused.
pub type SubId = u64;

/// The subscriptions of a feed.
#[derive(Clone, Debug, Default)]
pub enum Audience {
    /// None.
    #[default]
    Nobody,
    /// One.
    One(SubId),
    /// Any number.
    Many(Arc<Vec<SubId>>),
}

impl Audience {
    /// All of them, in order of arrival.
    pub fn as_slice(&self) -> &[SubId] {
        match self {
            Audience::Nobody => &[],
            Audience::One(sub) => std::slice::from_ref(sub),
            Audience::Many(subs) => subs,
        }
    }

    /// Whether there are no subscriptions.
    pub fn is_empty(&self) -> bool {
        // `Many` is never empty, so its list need not be read.
        matches!(self, Audience::Nobody)
    }

    /// Adds subscriptions.
    pub fn extend(&mut self, more: impl IntoIterator<Item = SubId>) {
        for sub in more {
            match self {
                Audience::Nobody => *self = Audience::One(sub),
                Audience::One(first) => *self = Audience::Many(Arc::new(vec![*first, sub])),
                Audience::Many(subs) => Arc::make_mut(subs).push(sub),
            }
        }
    }

    /// Removes one, if it is there.
    pub fn remove(&mut self, sub: SubId) -> bool {
        if !self.as_slice().contains(&sub) {
            return false;
        }
        match self {
            Audience::Many(subs) if subs.len() > 1 => Arc::make_mut(subs).retain(|s| *s != sub),
            _ => *self = Audience::Nobody,
        }
        true
    }
}
