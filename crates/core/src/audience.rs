//! Who hears a feed. Most feeds have one subscriber, some have thousands: the one costs no memory of its own, and the
//! many are shared with every delta on its way to them.

use std::sync::Arc;

/// A subscription of one engine; given by the shell and not used twice.
pub type SubId = u64;

/// The subscriptions that a feed is told to.
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

    /// Whether nobody hears it.
    pub fn is_empty(&self) -> bool {
        // The many are never none, so that this need not look at them.
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

    /// Takes one out, if it is there.
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
