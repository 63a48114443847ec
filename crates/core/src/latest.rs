//! The newest value under each of some keys, until all of them are taken.
//!
//! Most often it is one key, of one change: a list costs less than a tree or a table then, and is sorted only when it is taken.

use crate::schema::Key;

/// Entries up to which a list may repeat itself.
const SMALL: usize = 64;

/// Keys with values; of several under one key the one that was noted last counts.
#[derive(Debug)]
pub struct Latest<T> {
    /// In the order in which they were noted, some perhaps several times.
    list: Vec<(Key, T)>,
    /// Different keys when it was last looked for repetitions.
    different: usize,
}

impl<T> Default for Latest<T> {
    fn default() -> Self {
        Latest { list: Vec::new(), different: 0 }
    }
}

impl<T> Latest<T> {
    /// Notes a value. The list is never more than twice as long as there are keys, or [`SMALL`].
    pub fn note(&mut self, key: Key, value: T) {
        if self.list.len() >= SMALL.max(2 * self.different) {
            self.tidy();
            self.different = self.list.len();
        }
        self.list.push((key, value));
    }

    /// Takes all of it, in the order of the keys, each once.
    pub fn take(&mut self) -> Vec<(Key, T)> {
        self.tidy();
        self.different = 0;
        std::mem::take(&mut self.list)
    }

    fn tidy(&mut self) {
        if self.list.len() < 2 {
            return;
        }
        self.list.sort_by(|(a, _), (b, _)| a.cmp(b));
        self.list.dedup_by(|newer, kept| {
            let same = newer.0 == kept.0;
            if same {
                std::mem::swap(newer, kept);
            }
            same
        });
    }

    /// The keys, some perhaps several times.
    pub fn keys(&self) -> impl Iterator<Item = &Key> {
        self.list.iter().map(|(key, _)| key)
    }

    /// How many there are, about: some perhaps counted several times.
    pub fn len(&self) -> usize {
        self.list.len()
    }

    /// Whether there are none.
    pub fn is_empty(&self) -> bool {
        self.list.is_empty()
    }
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;
    use crate::value::Value;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn it_is_a_map_and_does_not_grow_with_repetitions(
            steps in proptest::collection::vec((0..300_i64, any::<u16>(), 0..500_u32), 0..2_000),
        ) {
            let (mut latest, mut map) = (Latest::default(), BTreeMap::new());
            for (key, value, taken) in steps {
                let key: Key = [Value::Int(key)].into();
                map.insert(key.clone(), value);
                latest.note(key, value);
                prop_assert!(latest.list.len() <= SMALL.max(2 * map.len()));
                prop_assert!(latest.keys().all(|key| map.contains_key(key)));
                if taken == 0 {
                    prop_assert_eq!(latest.take(), std::mem::take(&mut map).into_iter().collect::<Vec<_>>());
                    prop_assert!(latest.is_empty());
                }
            }
            prop_assert_eq!(latest.take(), map.into_iter().collect::<Vec<_>>());
        }
    }
}
