//! A sorted list that knows the place of each entry.

use std::cmp::Ordering;

/// Entries of one chunk; a full one is split.
const CHUNK: usize = 256;

/// Entries in an order that whoever calls knows, and always the same: in chunks, so that none is moved far.
#[derive(Debug)]
pub struct Ranked<T> {
    /// None of them is empty.
    chunks: Vec<Vec<T>>,
}

impl<T> Default for Ranked<T> {
    fn default() -> Self {
        Ranked { chunks: Vec::new() }
    }
}

impl<T> Ranked<T> {
    /// Where an entry stands or would stand, and whether it is there.
    fn find(&self, cmp: impl Fn(&T) -> Ordering) -> (usize, Result<usize, usize>) {
        let chunk = self.chunks.partition_point(|c| c.last().is_some_and(|last| cmp(last).is_lt()));
        match self.chunks.get(chunk) {
            None => (chunk, Err(0)),
            Some(entries) => (chunk, entries.binary_search_by(cmp)),
        }
    }

    /// Adds an entry; `cmp` is the order.
    pub fn insert(&mut self, entry: T, cmp: impl Fn(&T, &T) -> Ordering) {
        let (chunk, place) = self.find(|other| cmp(other, &entry));
        let (Ok(place) | Err(place)) = place;
        // Behind all others: in the last chunk.
        let (chunk, place) = match (self.chunks.get(chunk), self.chunks.last()) {
            (Some(_), _) => (chunk, place),
            (None, Some(last)) => (chunk - 1, last.len()),
            (None, None) => return self.chunks.push(vec![entry]),
        };
        let entries = &mut self.chunks[chunk];
        entries.insert(place, entry);
        if entries.len() > CHUNK {
            let rest = entries.split_off(CHUNK / 2);
            self.chunks.insert(chunk + 1, rest);
        }
    }

    /// Takes an entry out; `cmp` is the order.
    pub fn remove(&mut self, entry: &T, cmp: impl Fn(&T, &T) -> Ordering) -> Option<T> {
        let (chunk, Ok(place)) = self.find(|other| cmp(other, entry)) else { return None };
        let entry = self.chunks[chunk].remove(place);
        if self.chunks[chunk].is_empty() {
            self.chunks.remove(chunk);
        }
        Some(entry)
    }

    /// Puts an entry in another one's stead; mostly it stands between the same others.
    pub fn replace(&mut self, before: &T, entry: T, cmp: impl Fn(&T, &T) -> Ordering) {
        if let (chunk, Ok(place)) = self.find(|other| cmp(other, before)) {
            let entries = &self.chunks[chunk];
            let left = match place {
                0 => chunk.checked_sub(1).and_then(|chunk| self.chunks[chunk].last()),
                _ => entries.get(place - 1),
            };
            let right = entries.get(place + 1).or_else(|| self.chunks.get(chunk + 1)?.first());
            if left.is_none_or(|left| cmp(left, &entry).is_lt()) && right.is_none_or(|right| cmp(&entry, right).is_lt())
            {
                self.chunks[chunk][place] = entry;
                return;
            }
        }
        self.remove(before, &cmp);
        self.insert(entry, cmp);
    }

    /// How many entries come before this one.
    pub fn rank(&self, cmp: impl Fn(&T) -> Ordering) -> usize {
        let (chunk, place) = self.find(cmp);
        let (Ok(place) | Err(place)) = place;
        self.chunks[..chunk].iter().map(Vec::len).sum::<usize>() + place
    }

    /// The entries from this place on, in order.
    pub fn from(&self, mut place: usize) -> impl Iterator<Item = &T> {
        let mut chunk = 0;
        while self.chunks.get(chunk).is_some_and(|c| c.len() <= place) {
            place -= self.chunks[chunk].len();
            chunk += 1;
        }
        self.chunks[chunk..].iter().flatten().skip(place)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #![proptest_config(ProptestConfig { cases: 200, failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn it_is_a_sorted_list(steps in proptest::collection::vec((any::<bool>(), 0..2_000_u32, 0..2_000_u32), 0..2_000)) {
            let (mut ranked, mut list) = (Ranked::default(), Vec::new());
            for (adds, n, other) in steps {
                // As often near as far.
                let other = if other % 2 == 0 { n + other % 8 } else { other };
                match list.binary_search(&n) {
                    Err(place) if adds => {
                        list.insert(place, n);
                        ranked.insert(n, u32::cmp);
                    }
                    Ok(place) if !adds => {
                        list.remove(place);
                        prop_assert_eq!(ranked.remove(&n, u32::cmp), Some(n));
                    }
                    Ok(place) if list.binary_search(&other).is_err() => {
                        list.remove(place);
                        list.insert(list.partition_point(|n| *n < other), other);
                        ranked.replace(&n, other, u32::cmp);
                    }
                    Err(place) => {
                        prop_assert_eq!(ranked.remove(&n, u32::cmp), None);
                        prop_assert_eq!(ranked.rank(|other| other.cmp(&n)), place);
                    }
                    Ok(place) => prop_assert_eq!(ranked.rank(|other| other.cmp(&n)), place),
                }
            }
            prop_assert!(ranked.from(0).eq(&list));
            let middle = list.len() / 2;
            prop_assert!(ranked.from(middle).eq(&list[middle..]));
            prop_assert_eq!(ranked.from(list.len() + 1).count(), 0);
        }
    }
}
