//! Finds the intervals that contain a value: of feeds, by their numbers, whose rows have a column within bounds.
//!
//! A search tree by lower end with many entries in a node, in which each node knows the highest upper end below it: finding
//! costs the logarithm of how many there are, and what is found. With a million of them hardly anything of it is in the
//! processor's cache, and what counts is how often memory is waited for: the ends in a node stand side by side, as
//! [sketches](Coarse::sketch), and only where these are equal the values themselves are looked at.

use std::cmp::Ordering;

use smallvec::SmallVec;

use crate::bounds::{Bounds, Coarse};

/// Entries of a node for which there is room; one that has no more is split.
const ROOM: usize = 32;

/// Entries that a node keeps.
const FULL: usize = if cfg!(test) { 4 } else { ROOM - 1 };

/// Kept in the node itself: to find the place of a list would be to wait for memory once more.
type InNode<T> = SmallVec<[T; ROOM]>;

/// The sketch of a missing lower end, and of a missing upper end.
const LEAST: u128 = 0;
const GREATEST: u128 = u128::MAX;

/// The bounds of a feed, or all that are below a node.
#[derive(Debug)]
struct Entry {
    /// The bounds; of what is below a node bounds that are not above any of it, in the order of the tree.
    bounds: Bounds,
    feed: u32,
    below: Option<Box<Node>>,
}

#[derive(Debug, Default)]
struct Node {
    /// Sketches of the lower and the highest upper end of each entry.
    ends: InNode<[u128; 2]>,
    /// In ascending order.
    entries: InNode<Entry>,
    /// The highest upper end of them.
    highest: Option<Coarse>,
}

/// Feeds by the bounds within which they need a value.
#[derive(Debug, Default)]
pub struct Intervals {
    root: Node,
}

/// Which of two upper ends is higher; none is the highest.
fn by_height(a: Option<&Coarse>, b: Option<&Coarse>) -> Ordering {
    match (a, b) {
        (Some(a), Some(b)) => a.cmp(b),
        (a, b) => a.is_none().cmp(&b.is_none()),
    }
}

impl Entry {
    fn cmp(&self, bounds: &Bounds, feed: u32) -> Ordering {
        self.bounds.cmp(bounds).then(self.feed.cmp(&feed))
    }

    fn highest(&self) -> Option<&Coarse> {
        self.below.as_ref().map_or(self.bounds.high.as_ref(), |node| node.highest.as_ref())
    }

    fn ends(&self) -> [u128; 2] {
        [self.bounds.low.as_ref().map_or(LEAST, Coarse::sketch), self.highest().map_or(GREATEST, Coarse::sketch)]
    }
}

impl Node {
    fn of(entries: InNode<Entry>) -> Node {
        let mut node = Node { ends: entries.iter().map(Entry::ends).collect(), entries, highest: None };
        node.find_highest();
        node
    }

    fn find_highest(&mut self) {
        let highest = self.entries.iter().map(Entry::highest).max_by(|a, b| by_height(*a, *b));
        self.highest = highest.flatten().cloned();
    }

    fn search(&self, v: &Coarse, sketch: u128, found: &mut impl FnMut(u32)) {
        for ([low, high], entry) in self.ends.iter().zip(&self.entries) {
            if *low > sketch || *low == sketch && entry.bounds.low.as_ref().is_some_and(|low| low > v) {
                return;
            }
            if *high < sketch || *high == sketch && entry.highest().is_some_and(|high| high < v) {
                continue;
            }
            match &entry.below {
                Some(node) => node.search(v, sketch, found),
                None => found(entry.feed),
            }
        }
    }

    /// The entry below which these bounds belong, if there is anything below the entries.
    fn way(&mut self, bounds: &Bounds, feed: u32) -> Option<usize> {
        self.entries.first()?.below.as_ref()?;
        Some(self.entries.partition_point(|e| e.cmp(bounds, feed).is_le()).saturating_sub(1))
    }

    /// Adds the bounds of a feed. Returns what is split off at the end, if there are too many entries then.
    fn insert(&mut self, bounds: Bounds, feed: u32) -> Option<Node> {
        if self.entries.is_empty() || by_height(bounds.high.as_ref(), self.highest.as_ref()).is_gt() {
            self.highest = bounds.high.clone();
        }
        let place = match self.way(&bounds, feed) {
            None => {
                let place = self.entries.partition_point(|e| e.cmp(&bounds, feed).is_lt());
                self.put(place, Entry { bounds, feed, below: None });
                place
            }
            Some(place) => {
                let entry = &mut self.entries[place];
                if entry.cmp(&bounds, feed).is_gt() {
                    (entry.bounds, entry.feed) = (bounds.clone(), feed);
                }
                let split = entry.below.as_mut().and_then(|node| node.insert(bounds, feed));
                self.ends[place] = entry.ends();
                let split = split.and_then(Node::into_entry).map(|entry| self.put(place + 1, entry));
                place + usize::from(split.is_some())
            }
        };
        if self.entries.len() <= FULL {
            return None;
        }
        // What comes in ascending order leaves full nodes behind it.
        let at = if place + 1 == self.entries.len() { place } else { FULL / 2 };
        self.ends.truncate(at);
        let rest = Node::of(self.entries.drain(at..).collect());
        self.find_highest();
        Some(rest)
    }

    fn put(&mut self, place: usize, entry: Entry) {
        self.ends.insert(place, entry.ends());
        self.entries.insert(place, entry);
    }

    /// The entry of a node that has any.
    fn into_entry(self) -> Option<Entry> {
        let Entry { bounds, feed, .. } = self.entries.first()?;
        Some(Entry { bounds: bounds.clone(), feed: *feed, below: Some(Box::new(self)) })
    }

    /// Removes the bounds of a feed, if they are there.
    fn remove(&mut self, bounds: &Bounds, feed: u32) {
        match self.way(bounds, feed) {
            None => {
                let Ok(place) = self.entries.binary_search_by(|e| e.cmp(bounds, feed)) else { return };
                self.take_out(place);
            }
            Some(place) => {
                let entry = &mut self.entries[place];
                let Some(node) = &mut entry.below else { return };
                node.remove(bounds, feed);
                let is_empty = node.entries.is_empty();
                self.ends[place] = entry.ends();
                if is_empty {
                    self.take_out(place);
                }
            }
        }
        self.find_highest();
    }

    fn take_out(&mut self, place: usize) {
        self.ends.remove(place);
        self.entries.remove(place);
    }
}

impl Intervals {
    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.root.entries.is_empty()
    }

    /// Adds the bounds of a feed.
    pub fn insert(&mut self, bounds: Bounds, feed: u32) {
        let Some(rest) = self.root.insert(bounds, feed) else { return };
        let below = [std::mem::take(&mut self.root), rest];
        self.root = Node::of(below.into_iter().filter_map(Node::into_entry).collect());
    }

    /// Removes the bounds of a feed, if they are there.
    pub fn remove(&mut self, bounds: &Bounds, feed: u32) {
        self.root.remove(bounds, feed);
        while let [Entry { below: Some(only), .. }] = &mut self.root.entries[..] {
            self.root = std::mem::take(only);
        }
    }

    /// Calls `found` for every feed whose bounds a value lies in.
    pub fn containing(&self, v: &Coarse, mut found: impl FnMut(u32)) {
        self.root.search(v, v.sketch(), &mut found);
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;

    /// Numbers, and texts that their sketches do not tell apart.
    fn place(n: i64) -> Coarse {
        if n < 15 { Coarse::Number(n as f64) } else { Coarse::Text(format!("a rather long beginning {n}").into()) }
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

        /// Whatever comes and goes, what is found is what a look at all of them finds.
        #[test]
        fn what_contains_a_value_is_found(
            steps in prop::collection::vec((any::<bool>(), prop::option::of(0..30_i64), prop::option::of(0..30_i64), 0..40_u32), 1..240)
        ) {
            let (mut tree, mut all) = (Intervals::default(), BTreeSet::new());
            for (inserts, low, high, feed) in steps {
                let bounds = Bounds { low: low.map(place), high: high.map(place) };
                if inserts {
                    if all.insert((bounds.clone(), feed)) {
                        tree.insert(bounds, feed);
                    }
                } else {
                    // Something that is there, as often as not.
                    let one = all.range((bounds.clone(), feed)..).next().cloned();
                    let (bounds, feed) = one.unwrap_or((bounds, feed));
                    all.remove(&(bounds.clone(), feed));
                    tree.remove(&bounds, feed);
                }
                for v in -1..31 {
                    let v = place(v);
                    let mut found = Vec::new();
                    tree.containing(&v, |feed| found.push(feed));
                    found.sort_unstable();
                    let mut expected: Vec<u32> =
                        all.iter().filter(|(bounds, _)| bounds.contains(&v)).map(|(_, feed)| *feed).collect();
                    expected.sort_unstable();
                    prop_assert_eq!(found, expected);
                }
            }
            prop_assert_eq!(tree.is_empty(), all.is_empty());
        }
    }
}
