//! A live query's result, updated by the instance's notifications.

use std::collections::BTreeMap;

use gossip_protocol::{ChangeEntry, ColumnInfo, Notification, RowEntry, Subscribed};
use serde_json::{Map, Value as Json};

/// A row by its columns.
pub type JsonRow = Map<String, Json>;

/// A materialised result.
#[derive(Clone, Debug, Default)]
pub struct ResultSet {
    /// The subscription's number within its connection.
    pub subscription: u64,
    /// The columns.
    pub columns: Vec<ColumnInfo>,
    /// The rows, by the JSON text of their key.
    pub rows: BTreeMap<String, JsonRow>,
    /// Rows without a key, in the order of arrival.
    pub stream: Vec<JsonRow>,
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
            cursor: answer.cursor,
            unfinished: answer.more,
            ..ResultSet::default()
        };
        live.take(answer.rows);
        live
    }

    fn take(&mut self, rows: Vec<RowEntry>) {
        rows.into_iter().for_each(|r| self.put(&r.key, r.row));
    }

    fn put(&mut self, key: &Json, row: JsonRow) {
        match key.as_array() {
            Some(values) if values.is_empty() => self.stream.push(row),
            _ => drop(self.rows.insert(key.to_string(), row)),
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
            Notification::Snapshot { subscription, rows, cursor, why, more } if *subscription == self.subscription => {
                self.rows.clear();
                self.stream.clear();
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
                self.unfinished = *more;
                Ok(Applied::Changed)
            }
            Notification::Closed { subscription, why } if *subscription == self.subscription => {
                Ok(Applied::Closed(why.clone()))
            }
            _ => Ok(Applied::NotMine),
        }
    }

    fn change(&mut self, change: &ChangeEntry) -> Result<(), String> {
        match change {
            ChangeEntry::Add { key, row } => self.put(key, row.clone()),
            ChangeEntry::Replace { key, row, .. } => {
                let known = self.rows.get_mut(&key.to_string());
                let known = known.ok_or_else(|| format!("replace of {key}, which is not there"))?;
                row.iter().for_each(|(c, v)| drop(known.insert(c.clone(), v.clone())));
            }
            ChangeEntry::Remove { key } => {
                self.rows.remove(&key.to_string()).ok_or_else(|| format!("remove of {key}, which is not there"))?;
            }
        }
        Ok(())
    }
}
