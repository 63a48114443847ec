//! What a database server streams: messages of `pgoutput`, as rows of a table that is known.

use std::sync::{Arc, LazyLock};

use gossip_core::schema::{Table, TableName};
use gossip_core::value::Type;
use gossip_source::postgres::catalog::{CatalogColumn, Described, Leaf, Published};
use gossip_source::postgres::pgoutput::{Message, decode};
use gossip_source::postgres::rows::{Mapped, RowMessage};
use gossip_source::postgres::transaction::Building;
use gossip_source::postgres::types::Reading;

const TABLE: u32 = 7;

/// Nobody streams more in one go than this takes.
const LONGEST: usize = 64 << 10;

struct World {
    described: Described,
    table: Arc<Table>,
}

static WORLD: LazyLock<World> = LazyLock::new(|| {
    let column = |(i, (name, ty, reading)): (usize, (&str, u32, Reading))| CatalogColumn {
        name: name.into(),
        number: i as i16 + 1,
        ty,
        reading,
        declared: "text".into(),
        not_null: false,
        may_be_apart: true,
        other_order: false,
        has_plain_text: true,
    };
    let one = Reading::One;
    let columns = [
        ("id", 20, one(Type::Int8)),
        ("body", 25, one(Type::Text)),
        ("price", 1700, one(Type::Numeric)),
        ("at", 1184, one(Type::Timestamptz)),
        ("tags", 1009, Reading::Array(Box::new(one(Type::Text)), ',')),
        ("bytes", 17, one(Type::Bytea)),
        ("day", 1082, one(Type::Date)),
    ];
    let described = Described {
        name: TableName::plain("t"),
        sql_name: "t".into(),
        oid: TABLE,
        kind: 'r',
        persistence: 'p',
        row_security: false,
        has_children: false,
        columns: columns.into_iter().enumerate().map(column).collect(),
        generated: vec![],
        key: vec![0],
        leaves: vec![Leaf {
            oid: TABLE,
            file: TABLE,
            identity: 'd',
            identity_columns: vec!["id".into()],
            sql_name: "t".into(),
            persistence: 'p',
            name: ("public".into(), "t".into()),
            published: Published { inserts: true, changes: true, version: String::new() },
        }],
        is_partition: false,
        labels: vec![],
    };
    let table = described.table(&"s".into());
    World { described, table }
});

/// Takes messages, each with its length before it (two bytes, the higher first), until one is not a message or does not
/// fit the table.
pub fn run(data: &[u8]) {
    let mut rest = data;
    let mut mapped = None;
    let mut building = Building::new(0, 1);
    while let Some((length, tail)) = rest.split_first_chunk() {
        let (message, tail) = tail.split_at(tail.len().min(u16::from_be_bytes(*length).into()));
        rest = tail;
        let size = message.len();
        let Ok(message) = decode(message.to_vec().into()) else { return };
        let row = match message {
            Message::Relation(relation) => {
                mapped = Mapped::new(&relation, &WORLD.described, WORLD.table.clone()).map(Arc::new);
                continue;
            }
            Message::Insert(_, cells) => RowMessage::Insert(cells),
            Message::Update(_, old, cells) => RowMessage::Update(old, cells),
            Message::Delete(_, old) => RowMessage::Delete(old),
            Message::Commit { .. } => {
                if !commit(std::mem::replace(&mut building, Building::new(0, 1))) {
                    return;
                }
                continue;
            }
            _ => continue,
        };
        let Some(mapped) = &mapped else { continue };
        if size > LONGEST || building.take(mapped, row, size).is_err() {
            return;
        }
    }
    commit(building);
}

/// Whether a transaction can be told. All that is told has the table's shape.
fn commit(building: Building) -> bool {
    let Ok((changes, _)) = building.finish() else { return false };
    let Some(mut changes) = changes else { return true };
    loop {
        let Ok((part, last)) = changes.next_part() else { return false };
        let width = WORLD.table.columns.len();
        for change in &part {
            assert_eq!(change.description, WORLD.table.identity());
            assert_eq!(change.key.len(), 1, "{change:?}");
            assert!(change.new.as_ref().is_none_or(|row| row.len() == width), "{change:?}");
            assert!(change.omitted_columns.iter().all(|i| i < width), "{change:?}");
        }
        if last {
            return true;
        }
    }
}
