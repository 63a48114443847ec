//! A live query's result, updated by the instance's notifications.

use std::collections::{BTreeMap, HashSet, VecDeque};

use gossip_protocol::{ChangeEntry, ColumnInfo, Notification, RowEntry, Shape, Subscribed};
use serde_json::{Map, Value as Json};

/// Rows that are kept of a result that only gains rows: the newest.
pub const MAX_STREAM: usize = 10_000;

/// A row by its columns.
pub type JsonRow = Map<String, Json>;

/// A materialised result.
#[derive(Clone, Debug, Default)]
pub struct ResultSet {
    /// The subscription's number within its connection.
    pub subscription: u64,
    /// The columns.
    pub columns: Vec<ColumnInfo>,
    /// What the result is.
    pub shape: Shape,
    /// The rows, by the JSON text of their key.
    pub rows: BTreeMap<String, JsonRow>,
    /// The keys of an ordered result, in its order.
    pub order: Vec<String>,
    /// Rows without a key, in the order of arrival; the newest [`MAX_STREAM`].
    pub stream: VecDeque<JsonRow>,
    /// How many came before these.
    pub gone: u64,
    /// Where the result stands.
    pub cursor: String,
    /// Whether more of the present result, or of the transaction that changed it last, is on its way.
    pub unfinished: bool,
}

/// What a message did to a result.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Applied {
    /// It was about another subscription.
    NotMine,
    /// The result is whole again, for this reason.
    Whole(String),
    /// It changed by a delta.
    Changed,
    /// It ended, for this reason.
    Closed(String),
}

impl ResultSet {
    /// Begins with the answer to `subscribe`.
    pub fn new(answer: Subscribed) -> ResultSet {
        let mut live = ResultSet {
            subscription: answer.subscription,
            columns: answer.columns,
            shape: answer.shape,
            cursor: answer.cursor,
            unfinished: answer.more,
            ..ResultSet::default()
        };
        live.take(answer.rows);
        live
    }

    /// Goes on with the answer to a `subscribe` that named its cursor: as it is if that says so, else anew.
    pub fn go_on(&mut self, answer: Subscribed) {
        if answer.resumed {
            (self.subscription, self.unfinished) = (answer.subscription, false);
        } else {
            *self = ResultSet::new(answer);
        }
    }

    fn take(&mut self, rows: Vec<RowEntry>) {
        rows.into_iter().for_each(|r| self.put(&r.key, r.row));
    }

    fn put(&mut self, key: &Json, row: JsonRow) {
        if self.shape == Shape::Stream {
            self.stream.push_back(row);
            if self.stream.len() > MAX_STREAM {
                self.stream.pop_front();
                self.gone += 1;
            }
            return;
        }
        let key = key.to_string();
        if self.shape == Shape::Ordered && !self.rows.contains_key(&key) {
            self.order.push(key.clone());
        }
        self.rows.insert(key, row);
    }

    /// The rows in their order: that of the result if it has one, of arrival if they have no key, else of keys.
    pub fn in_order(&self) -> Box<dyn Iterator<Item = &JsonRow> + '_> {
        match self.shape {
            Shape::Stream => Box::new(self.stream.iter()),
            Shape::Keyed => Box::new(self.rows.values()),
            Shape::Ordered => Box::new(self.order.iter().filter_map(|key| self.rows.get(key))),
        }
    }

    /// Takes a message. An error means that it does not fit what is known: a delta was lost, doubled or forged.
    ///
    /// # Errors
    /// What came does not fit what is known: a delta was lost, doubled or forged.
    pub fn apply(&mut self, told: &Notification) -> Result<Applied, String> {
        match told {
            Notification::Rows { subscription, rows, more, .. } if *subscription == self.subscription => {
                self.take(rows.clone());
                self.unfinished = *more;
                Ok(Applied::Changed)
            }
            Notification::Snapshot { subscription, rows, cursor, why, columns, more }
                if *subscription == self.subscription =>
            {
                if let Some(columns) = columns {
                    self.columns.clone_from(columns);
                }
                self.rows.clear();
                self.order.clear();
                self.stream.clear();
                self.gone = 0;
                self.take(rows.clone());
                self.cursor.clone_from(cursor);
                self.unfinished = *more;
                Ok(Applied::Whole(why.clone()))
            }
            Notification::Delta { subscription, cursor, changes, more, .. } if *subscription == self.subscription => {
                if *cursor == self.cursor {
                    return Err("the same delta twice".into());
                }
                self.cursor.clone_from(cursor);
                changes.iter().try_for_each(|c| self.change(c))?;
                self.reorder(changes)?;
                self.unfinished = *more;
                Ok(Applied::Changed)
            }
            Notification::Closed { subscription, why, data } if *subscription == self.subscription => {
                let message = data.as_ref().and_then(|data| data["message"].as_str());
                Ok(Applied::Closed(message.map_or_else(|| why.clone(), |message| format!("{why}: {message}"))))
            }
            _ => Ok(Applied::NotMine),
        }
    }

    fn change(&mut self, change: &ChangeEntry) -> Result<(), String> {
        match change {
            ChangeEntry::Add { key, row, .. } => self.put(key, row.clone()),
            ChangeEntry::Replace { key, row, .. } => {
                let known = self.rows.get_mut(&key.to_string());
                let known = known.ok_or_else(|| format!("replace of {key}, which is not there"))?;
                row.iter().for_each(|(c, v)| drop(known.insert(c.clone(), v.clone())));
            }
            ChangeEntry::Remove { key, .. } => {
                self.rows.remove(&key.to_string()).ok_or_else(|| format!("remove of {key}, which is not there"))?;
            }
        }
        Ok(())
    }

    /// Puts what came and what moved in its place: first all that left or have a place are taken out, then these are put
    /// in, the foremost first.
    fn reorder(&mut self, changes: &[ChangeEntry]) -> Result<(), String> {
        if self.shape != Shape::Ordered {
            return Ok(());
        }
        let mut placed: Vec<(u64, String)> = Vec::new();
        let mut out: HashSet<String> = HashSet::new();
        for change in changes {
            match change {
                ChangeEntry::Add { key, place, .. } | ChangeEntry::Replace { key, place, .. } => {
                    placed.extend(place.map(|place| (place, key.to_string())));
                }
                ChangeEntry::Remove { key, .. } => drop(out.insert(key.to_string())),
            }
        }
        if placed.is_empty() && out.is_empty() {
            return Ok(());
        }
        placed.sort_unstable();
        out.extend(placed.iter().map(|(_, key)| key.clone()));
        self.order.retain(|key| !out.contains(key));
        for (place, key) in placed {
            let at = usize::try_from(place).ok().filter(|at| *at <= self.order.len());
            let at = at.ok_or_else(|| format!("place {place} of {key}, behind the end of the result"))?;
            self.order.insert(at, key);
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    /// What left or has a place is taken out, then what has one is put in, the foremost first.
    #[test]
    fn an_ordered_result_keeps_its_order() {
        let row = |id: u64| json!({"key": [id], "row": {"id": id}});
        let answer =
            json!({"subscription": 1, "columns": [], "shape": "ordered", "rows": [row(5), row(3), row(9), row(1)]});
        let mut live = ResultSet::new(serde_json::from_value(answer).unwrap_or_else(|e| panic!("{e}")));
        let mut delta = |cursor: &str, changes: Json| {
            let params = json!({"subscription": 1, "cursor": cursor, "at": "", "changes": changes});
            let told = serde_json::from_value(json!({"method": "delta", "params": params}));
            let told: Notification = told.unwrap_or_else(|e| panic!("{e}"));
            live.apply(&told).map(|_| live.in_order().filter_map(|row| row["id"].as_u64()).collect::<Vec<_>>())
        };
        let add = |id: u64, place: u64| json!({"op": "add", "key": [id], "row": {"id": id}, "place": place});
        let moved =
            |id: u64, place: u64| json!({"op": "replace", "key": [id], "row": {}, "changed": [], "place": place});
        let gone = |id: u64| json!({"op": "remove", "key": [id]});
        assert_eq!(delta("a", json!([add(7, 3), gone(3), moved(1, 0), add(2, 4)])), Ok(vec![1, 5, 9, 7, 2]));
        assert_eq!(delta("b", json!([moved(2, 0), moved(1, 4)])), Ok(vec![2, 5, 9, 7, 1]));
        assert!(delta("c", json!([add(4, 9)])).is_err(), "behind the end");
    }

    /// However long somebody listens.
    #[test]
    fn the_newest_rows_of_a_stream_are_kept() {
        let row = |n: usize| json!({"key": [], "row": {"n": n}});
        let rows: Vec<Json> = (0..MAX_STREAM + 3).map(row).collect();
        let answer = json!({"subscription": 1, "columns": [], "shape": "stream", "rows": rows});
        let live = ResultSet::new(serde_json::from_value(answer).unwrap_or_else(|e| panic!("{e}")));
        assert_eq!((live.stream.len(), live.gone, &live.stream[0]["n"]), (MAX_STREAM, 3, &json!(3)));
    }
}
