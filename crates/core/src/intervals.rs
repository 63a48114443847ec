//! Finds the intervals that contain a value: of feeds, by their numbers, whose rows have a column within bounds.
//!
//! A treap by lower end, in which each node knows the highest upper end below it: finding costs the logarithm of how many
//! there are, and what is found. Ends are compared coarsely ([`Coarse`]) and belong to their interval, so that too much may be
//! found, never too little.

use std::cmp::Ordering;
use std::sync::Arc;

use crate::datetime::DAY;
use crate::value::Value;

/// A value, as far as its place among others of its kind is concerned. If SQL has one value below another or equal to it, then
/// so it is here, whatever the types of two numbers are: all are rounded in the same way, and so are moments without a zone.
#[derive(Clone, Debug, PartialEq)]
pub enum Coarse {
    /// A number, rounded to a double. Not-a-number is above all others.
    Number(f64),
    /// A text, by its bytes.
    Text(Arc<str>),
    /// Bytes.
    Bytes(Arc<[u8]>),
    /// `false`, then `true`.
    Bool(bool),
    /// The day of a date or timestamp.
    Day(i64),
    /// A time of day or a moment in time, in microseconds.
    Micros(i64),
}

impl Coarse {
    /// The place of a value; `None` for what has no order.
    pub fn of(v: &Value) -> Option<Coarse> {
        Some(match v {
            Value::Int(i) => Coarse::Number(*i as f64),
            Value::Float(x) => Coarse::Number(*x),
            Value::Float4(x) => Coarse::Number((*x).into()),
            // Its text is rounded to the nearest double, to infinity if it is beyond all.
            Value::Numeric(n) => Coarse::Number(n.to_string().parse().ok()?),
            Value::Text(s) => Coarse::Text(s.clone()),
            Value::Bytes(bytes) => Coarse::Bytes(bytes.clone()),
            Value::Bool(b) => Coarse::Bool(*b),
            Value::Date(days) => Coarse::Day((*days).into()),
            Value::Timestamp(i64::MIN) => Coarse::Day(i32::MIN.into()),
            Value::Timestamp(i64::MAX) => Coarse::Day(i32::MAX.into()),
            Value::Timestamp(t) => Coarse::Day(t.div_euclid(DAY)),
            Value::Time(t) | Value::Timestamptz(t) => Coarse::Micros(*t),
            Value::Json(_) | Value::Null => return None,
        })
    }

    fn kind(&self) -> u8 {
        match self {
            Coarse::Number(_) => 0,
            Coarse::Text(_) => 1,
            Coarse::Bytes(_) => 2,
            Coarse::Bool(_) => 3,
            Coarse::Day(_) => 4,
            Coarse::Micros(_) => 5,
        }
    }
}

impl Eq for Coarse {}

impl PartialOrd for Coarse {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for Coarse {
    fn cmp(&self, other: &Self) -> Ordering {
        match (self, other) {
            (Coarse::Number(a), Coarse::Number(b)) => a.partial_cmp(b).unwrap_or_else(|| a.is_nan().cmp(&b.is_nan())),
            (Coarse::Text(a), Coarse::Text(b)) => a.as_bytes().cmp(b.as_bytes()),
            (Coarse::Bytes(a), Coarse::Bytes(b)) => a.cmp(b),
            (Coarse::Bool(a), Coarse::Bool(b)) => a.cmp(b),
            (Coarse::Day(a), Coarse::Day(b)) | (Coarse::Micros(a), Coarse::Micros(b)) => a.cmp(b),
            (a, b) => a.kind().cmp(&b.kind()),
        }
    }
}

/// What lies between two values, both included; `None` is no bound.
#[derive(Clone, Debug, Default, PartialEq, Eq, PartialOrd, Ord)]
pub struct Bounds {
    /// The lower end.
    pub low: Option<Coarse>,
    /// The upper end.
    pub high: Option<Coarse>,
}

impl Bounds {
    /// Whether a value lies in it.
    fn contains(&self, v: &Coarse) -> bool {
        self.low.as_ref().is_none_or(|low| low <= v) && self.high.as_ref().is_none_or(|high| v <= high)
    }

    /// What lies in both.
    pub fn within(self, other: Bounds) -> Bounds {
        let high = match (self.high, other.high) {
            (Some(a), Some(b)) => Some(a.min(b)),
            (a, b) => a.or(b),
        };
        // No bound is the least of all lower ends.
        Bounds { low: self.low.max(other.low), high }
    }
}

/// No node.
const NIL: u32 = u32::MAX;

#[derive(Debug)]
struct Node {
    bounds: Bounds,
    feed: u32,
    priority: u32,
    left: u32,
    right: u32,
    /// The node at or below this one whose upper end is highest.
    highest: u32,
}

/// Feeds by the bounds within which they need a value.
#[derive(Debug)]
pub struct Intervals {
    nodes: Vec<Node>,
    free: Vec<u32>,
    root: u32,
}

impl Default for Intervals {
    fn default() -> Intervals {
        Intervals { nodes: Vec::new(), free: Vec::new(), root: NIL }
    }
}

/// Spreads numbers that follow each other (Vigna's SplitMix64).
fn spread(n: u64) -> u32 {
    let mut z = n.wrapping_add(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    (z ^ (z >> 31)) as u32
}

impl Intervals {
    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.root == NIL
    }

    /// Adds the bounds of a feed.
    pub fn insert(&mut self, bounds: Bounds, feed: u32) {
        let priority = spread(u64::from(feed) << 32 | self.nodes.len() as u64);
        let node = Node { bounds, feed, priority, left: NIL, right: NIL, highest: NIL };
        let id = match self.free.pop() {
            Some(id) => {
                self.nodes[id as usize] = node;
                id
            }
            None => {
                self.nodes.push(node);
                (self.nodes.len() - 1) as u32
            }
        };
        self.renew(id);
        let (below, above) = self.split(self.root, id);
        let below = self.merge(below, id);
        self.root = self.merge(below, above);
    }

    /// Removes the bounds of a feed, if they are there.
    pub fn remove(&mut self, bounds: &Bounds, feed: u32) {
        let (root, gone) = self.without(self.root, bounds, feed);
        self.root = root;
        if let Some(id) = gone {
            self.nodes[id as usize].bounds = Bounds::default();
            self.free.push(id);
        }
    }

    /// Calls `found` for every feed whose bounds a value lies in.
    pub fn containing(&self, v: &Coarse, found: &mut impl FnMut(u32)) {
        self.search(self.root, v, found);
    }

    fn search(&self, id: u32, v: &Coarse, found: &mut impl FnMut(u32)) {
        let Some(node) = self.nodes.get(id as usize) else { return };
        if self.high(node.highest).is_some_and(|highest| highest < v) {
            return;
        }
        self.search(node.left, v, found);
        if node.bounds.low.as_ref().is_none_or(|low| low <= v) {
            if node.bounds.contains(v) {
                found(node.feed);
            }
            self.search(node.right, v, found);
        }
    }

    fn high(&self, id: u32) -> Option<&Coarse> {
        self.nodes[id as usize].bounds.high.as_ref()
    }

    /// Brings up to date what a node knows of those below it.
    fn renew(&mut self, id: u32) {
        let node = &self.nodes[id as usize];
        let mut highest = id;
        for below in [node.left, node.right] {
            if let Some(below) = self.nodes.get(below as usize).map(|n| n.highest) {
                // No bound is the highest of all.
                let higher = match (self.high(below), self.high(highest)) {
                    (_, None) => false,
                    (None, _) => true,
                    (Some(a), Some(b)) => a > b,
                };
                highest = if higher { below } else { highest };
            }
        }
        self.nodes[id as usize].highest = highest;
    }

    fn order(&self, a: u32, bounds: &Bounds, feed: u32) -> Ordering {
        let a = &self.nodes[a as usize];
        a.bounds.cmp(bounds).then(a.feed.cmp(&feed))
    }

    /// The nodes of a tree that are before another node, and the others.
    fn split(&mut self, tree: u32, at: u32) -> (u32, u32) {
        if tree == NIL {
            return (NIL, NIL);
        }
        let pivot = &self.nodes[at as usize];
        if self.order(tree, &pivot.bounds, pivot.feed).is_lt() {
            let (below, above) = self.split(self.nodes[tree as usize].right, at);
            self.nodes[tree as usize].right = below;
            self.renew(tree);
            (tree, above)
        } else {
            let (below, above) = self.split(self.nodes[tree as usize].left, at);
            self.nodes[tree as usize].left = above;
            self.renew(tree);
            (below, tree)
        }
    }

    /// One tree of two, of which all nodes of the first are before those of the second.
    fn merge(&mut self, below: u32, above: u32) -> u32 {
        match (below, above) {
            (NIL, other) | (other, NIL) => other,
            _ if self.nodes[below as usize].priority >= self.nodes[above as usize].priority => {
                self.nodes[below as usize].right = self.merge(self.nodes[below as usize].right, above);
                self.renew(below);
                below
            }
            _ => {
                self.nodes[above as usize].left = self.merge(below, self.nodes[above as usize].left);
                self.renew(above);
                above
            }
        }
    }

    /// A tree without the bounds of a feed, and the node that had them.
    fn without(&mut self, tree: u32, bounds: &Bounds, feed: u32) -> (u32, Option<u32>) {
        if tree == NIL {
            return (NIL, None);
        }
        let (left, right) = (self.nodes[tree as usize].left, self.nodes[tree as usize].right);
        let gone = match self.order(tree, bounds, feed) {
            Ordering::Equal => return (self.merge(left, right), Some(tree)),
            Ordering::Greater => {
                let (left, gone) = self.without(left, bounds, feed);
                self.nodes[tree as usize].left = left;
                gone
            }
            Ordering::Less => {
                let (right, gone) = self.without(right, bounds, feed);
                self.nodes[tree as usize].right = right;
                gone
            }
        };
        self.renew(tree);
        (tree, gone)
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeSet;

    use proptest::prelude::*;

    use super::*;
    use crate::value::Type;

    fn number(n: i64) -> Coarse {
        Coarse::Number(n as f64)
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 300, failure_persistence: None, ..ProptestConfig::default() })]

        /// Whatever comes and goes, what is found is what a look at all of them finds.
        #[test]
        fn what_contains_a_value_is_found(
            steps in prop::collection::vec((any::<bool>(), prop::option::of(0..30_i64), prop::option::of(0..30_i64), 0..40_u32), 1..120)
        ) {
            let (mut tree, mut all) = (Intervals::default(), BTreeSet::new());
            for (inserts, low, high, feed) in steps {
                let bounds = Bounds { low: low.map(number), high: high.map(number) };
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
                    let v = number(v);
                    let mut found = Vec::new();
                    tree.containing(&v, &mut |feed| found.push(feed));
                    found.sort_unstable();
                    let mut expected: Vec<u32> =
                        all.iter().filter(|(bounds, _)| bounds.contains(&v)).map(|(_, feed)| *feed).collect();
                    expected.sort_unstable();
                    prop_assert_eq!(found, expected);
                }
            }
            prop_assert_eq!(tree.is_empty(), all.is_empty());
        }

        /// Where SQL has one value below another, so it is here.
        #[test]
        fn what_is_coarse_never_contradicts(a in 0..VALUES.len(), b in 0..VALUES.len()) {
            let value = |(text, ty): (&str, Type)| Value::from_text(text, ty).unwrap();
            let (a, b) = (value(VALUES[a]), value(VALUES[b]));
            if a.sql_cmp(&b).is_some_and(Ordering::is_le) {
                prop_assert!(Coarse::of(&a) <= Coarse::of(&b), "{:?} {:?}", a, b);
            }
        }
    }

    const VALUES: [(&str, Type); 22] = [
        ("9007199254740992", Type::Int8),
        ("9007199254740993", Type::Int8),
        ("9007199254740992.5", Type::Numeric),
        ("9007199254740993.0", Type::Numeric),
        ("9007199254740992", Type::Float8),
        ("9007199254740994", Type::Float8),
        ("1e400", Type::Numeric),
        ("-1e400", Type::Numeric),
        ("1e-400", Type::Numeric),
        ("0", Type::Int8),
        ("-0", Type::Float8),
        ("NaN", Type::Float8),
        ("Infinity", Type::Float8),
        ("-Infinity", Type::Float4),
        ("0.1", Type::Float4),
        ("0.1", Type::Float8),
        ("0.1", Type::Numeric),
        ("2024-02-29", Type::Date),
        ("infinity", Type::Date),
        ("2024-02-29 12:00", Type::Timestamp),
        ("-infinity", Type::Timestamp),
        ("infinity", Type::Timestamp),
    ];
}
