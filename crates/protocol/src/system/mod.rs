//! Gossip's own tables, schema `gossip`: what an instance says of itself, row by row.
//!
//! A table is a struct in [`rows`]: its fields are the columns, the first of them the key. An instance makes rows of
//! them ([`SystemRow::cells`]), a client reads them ([`SystemRow::read`]), and neither counts columns.

mod field;
mod row;
mod rows;

pub use field::{Cell, ColumnType, Embedded, Field, JSON_SAFE, Moment};
pub use row::{Shape, SystemRow};
pub use rows::*;

/// The schema that Gossip's own tables are in.
pub const SCHEMA: &str = "gossip";

/// All tables.
pub const TABLES: &[Shape] = &[
    InstanceRow::SHAPE,
    LinkRow::SHAPE,
    TopicRow::SHAPE,
    PresenceRow::SHAPE,
    TableRow::SHAPE,
    RuleRow::SHAPE,
    FeedRow::SHAPE,
    ClientRow::SHAPE,
    AlarmRow::SHAPE,
    ChangesRow::SHAPE,
    EventRow::SHAPE,
    TrafficRow::SHAPE,
    ConnectionRow::SHAPE,
    FrameRow::SHAPE,
    VerdictRow::SHAPE,
];

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    #[test]
    fn rows_are_read_as_they_are_told() {
        let told = json!({
            "name": "harbour.calls", "source": "harbour", "columns": "[{\"name\":\"id\",\"type\":\"int8\"}]", "key": "id",
            "old_values": true, "feeds": 2, "changes": "9007199254740993", "last_change": null, "later": "unknown",
        });
        let row = TableRow::read(told.as_object().unwrap()).unwrap();
        assert_eq!(row.columns.0, [TableColumn { name: "id".into(), ty: "int8".into() }]);
        assert_eq!((row.feeds, row.changes, row.last_change.as_deref()), (2, 9_007_199_254_740_993, None));
        assert_eq!(row.roles, "", "what an older instance does not say");
        let cells = row.clone().cells();
        assert_eq!(cells.len(), TableRow::SHAPE.columns.len());
        assert_eq!(TableRow::read(&row.to_json()).as_ref(), Ok(&row));
        assert_eq!(cells[2], Cell::Text("[{\"name\":\"id\",\"type\":\"int8\"}]".into()));
        assert_eq!(cells[7], Cell::Null);
        assert_eq!(TableRow::read(json!({"feeds": "many"}).as_object().unwrap()), Err("feeds"));
        assert_eq!(TableRow::read(json!({"columns": "{"}).as_object().unwrap()), Err("columns"));
    }

    #[test]
    fn a_table_has_a_name_of_its_own_and_its_key_first() {
        for (i, t) in TABLES.iter().enumerate() {
            assert!(t.key < t.columns.len(), "{}", t.name);
            assert!(TABLES[..i].iter().all(|other| other.name != t.name), "{}", t.name);
        }
    }
}
