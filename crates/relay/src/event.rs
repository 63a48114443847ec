//! What stands on a broker: an [`Interval`] as a CloudEvent (version 1.0, JSON format), for instances and for whoever
//! else may read it.
//!
//! One event for each interval: `type` is `gossip.interval.v1`, `subject` the source, `source` the reader. Its `data` names the
//! tables with their columns, so that no other knowledge is needed: see `docs/protocol.md`. Values have the form that
//! clients get; where that would not lead back to the same value (a table of SQLite may hold anything) it stands in an
//! object that does.

use std::collections::{BTreeMap, BTreeSet};
use std::ops::RangeInclusive;
use std::sync::Arc;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD as BASE64;
use gossip_core::column_pruning::{Columns, Needed};
use gossip_core::position::{CommitTime, Interval, Old, Position, Reset, ResetReason, RowChange, Transaction};
use gossip_core::schema::{Column, ColumnSet, Identified, Row, Table, TableName};
use gossip_core::value::{Type, Value};
use gossip_protocol::timestamp::rfc3339;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json, json};

/// The event's type, without the version of its format.
const KIND: &str = "gossip.interval.v";

/// Versions of the format that are read here. The highest is the one described in `docs/protocol.md`.
pub const READS: RangeInclusive<u32> = 1..=1;

/// The mark of a value that stands in an object.
const EXACT: &str = "gossip:exact";

/// The tables of a source, as its reader describes them.
pub type Tables = BTreeMap<TableName, Identified>;

#[derive(Serialize, Deserialize)]
struct Event {
    specversion: String,
    id: String,
    source: String,
    #[serde(rename = "type")]
    kind: String,
    subject: String,
    time: String,
    #[serde(default)]
    datacontenttype: String,
    data: Data,
}

#[derive(Serialize, Deserialize)]
struct Data {
    from: String,
    to: String,
    settled: String,
    epoch: u64,
    #[serde(rename = "lineage")]
    timeline: String,
    #[serde(default)]
    mark: String,
    read_at: i64,
    /// The tables that transactions speak of.
    #[serde(default)]
    tables: BTreeMap<String, TableData>,
    /// Tables that have changed and of which nobody may see anything, or whose rows have not the shape of any known
    /// description: their changes are not here.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    withheld: Vec<String>,
    #[serde(default)]
    transactions: Vec<TransactionData>,
    #[serde(default)]
    resets: Vec<ResetData>,
}

#[derive(Serialize, Deserialize)]
struct TableData {
    columns: Vec<ColumnData>,
    key: Vec<String>,
    old_values: bool,
    incarnation: String,
    /// Columns that no rule shows: their values are not here.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    withheld: Vec<String>,
}

#[derive(Serialize, Deserialize)]
struct ColumnData {
    name: String,
    #[serde(rename = "type")]
    ty: String,
}

#[derive(Serialize, Deserialize)]
struct TransactionData {
    position: String,
    committed: [i64; 2],
    #[serde(default)]
    xid: u64,
    /// Where it begins, if there may be commits in it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    joined_after: Option<String>,
    changes: Vec<ChangeData>,
}

#[derive(Serialize, Deserialize)]
struct ChangeData {
    table: String,
    op: String,
    key: Vec<Json>,
    /// Absent where the source does not know it, `null` where there was none.
    #[serde(default, skip_serializing_if = "Option::is_none", with = "maybe")]
    old: Option<Option<Map<String, Json>>>,
    #[serde(default)]
    new: Option<Map<String, Json>>,
    /// Unchanged columns that `new` omits.
    #[serde(default, rename = "untold", skip_serializing_if = "Vec::is_empty")]
    omitted_columns: Vec<String>,
}

#[derive(Serialize, Deserialize)]
struct ResetData {
    table: String,
    why: String,
    described: Option<TableData>,
}

/// Tells `null` from absent.
mod maybe {
    use serde::{Deserialize, Deserializer, Serialize, Serializer};

    pub fn serialize<T: Serialize, S: Serializer>(v: &Option<Option<T>>, s: S) -> Result<S::Ok, S::Error> {
        match v {
            Some(inner) => inner.serialize(s),
            None => s.serialize_none(),
        }
    }

    pub fn deserialize<'de, T: Deserialize<'de>, D: Deserializer<'de>>(d: D) -> Result<Option<Option<T>>, D::Error> {
        Option::deserialize(d).map(Some)
    }
}

/// Notes what an interval says about tables, for those that follow.
pub fn learn(tables: &mut Tables, interval: &Interval) {
    for reset in &interval.resets {
        match &reset.table {
            Some(table) => drop(tables.insert(reset.name.clone(), Identified::new(table.clone()))),
            None => drop(tables.remove(&reset.name)),
        }
    }
}

/// Encodes an interval. Of a table whose description is unknown, or not that of its changes, only that it has changed is
/// said.
pub fn encode(interval: &Interval, tables: &Tables) -> Vec<u8> {
    encode_for(interval, tables, None, *READS.end())
}

/// Encodes the needed part of an interval: key columns and needed columns of needed tables.
pub fn encode_for(interval: &Interval, tables: &Tables, needed: Option<&Needed>, version: u32) -> Vec<u8> {
    let encoding = Encoding::new(interval, tables, needed);
    let reset = |r: &Reset| ResetData {
        table: r.name.to_string(),
        why: why_out(r.why).into(),
        described: r.table.as_deref().map(described),
    };
    let event = Event {
        specversion: "1.0".into(),
        id: format!("{}:{}:{}", interval.epoch, interval.from, interval.to),
        source: format!("/gossip/{}", interval.reader),
        kind: format!("{KIND}{version}"),
        subject: interval.source.to_string(),
        time: rfc3339(interval.read_at),
        datacontenttype: "application/json".into(),
        data: Data {
            from: interval.from.to_string(),
            to: interval.to.to_string(),
            settled: interval.settled.to_string(),
            epoch: interval.epoch,
            timeline: interval.timeline.to_string(),
            mark: interval.mark.to_string(),
            read_at: interval.read_at,
            tables: encoding.tables.iter().map(|(name, t)| (name.to_string(), t.data())).collect(),
            withheld: encoding.left_out.iter().map(|name| name.to_string()).collect(),
            transactions: interval.transactions.iter().map(|t| encoding.transaction(t)).collect(),
            resets: interval.resets.iter().map(reset).collect(),
        },
    };
    // Maps with texts as keys cannot fail.
    serde_json::to_vec(&event).unwrap_or_default()
}

/// What of an interval is encoded.
struct Encoding<'a> {
    tables: BTreeMap<&'a TableName, EncodedTable>,
    /// Tables with changes that are left out.
    left_out: BTreeSet<&'a TableName>,
}

/// A table with changes in an interval.
struct EncodedTable {
    table: Identified,
    /// Columns that no rule shows or reads.
    withheld: ColumnSet,
}

impl<'a> Encoding<'a> {
    fn new(interval: &'a Interval, tables: &Tables, needed: Option<&Needed>) -> Encoding<'a> {
        let (mut encoded, mut left_out) = (BTreeMap::new(), BTreeSet::new());
        for change in interval.transactions.iter().flat_map(|t| &t.changes) {
            let columns = match needed.map(|n| n.get(&change.table)) {
                None => Some(None),
                Some(columns) => columns.map(Some),
            };
            // The columns of a row with another shape than the description's would get wrong names.
            let table = tables.get(&change.table).filter(|t| t.identity() == change.description);
            match (columns, table) {
                (Some(columns), Some(table)) => {
                    encoded.entry(&change.table).or_insert_with(|| EncodedTable::new(table, columns));
                }
                _ => drop(left_out.insert(&change.table)),
            }
        }
        encoded.retain(|name, _| !left_out.contains(name));
        Encoding { tables: encoded, left_out }
    }

    fn transaction(&self, t: &Transaction) -> TransactionData {
        TransactionData {
            position: t.position.to_string(),
            committed: [t.committed.from, t.committed.to],
            xid: t.number,
            joined_after: t.inexact_after.map(|p| p.to_string()),
            changes: t.changes.iter().filter_map(|c| Some(self.tables.get(&c.table)?.change(c))).collect(),
        }
    }
}

impl EncodedTable {
    fn new(table: &Identified, needed: Option<&Columns>) -> EncodedTable {
        let is_needed =
            |i: &usize| table.key.contains(i) || needed.is_none_or(|columns| columns.has(&table.columns[*i].name));
        let withheld = (0..table.columns.len()).filter(|i| !is_needed(i)).collect();
        EncodedTable { table: table.clone(), withheld }
    }

    fn data(&self) -> TableData {
        TableData { withheld: self.names(&self.withheld), ..described(&self.table) }
    }

    fn change(&self, c: &RowChange) -> ChangeData {
        let key_type = |i: usize| self.table.key.get(i).map_or(Type::Any, |k| self.table.columns[*k].ty);
        let op = match (&c.old, &c.new) {
            (_, None) => "delete",
            (Old::Known(None), Some(_)) => "insert",
            _ => "update",
        };
        let mut omitted_columns = c.omitted_columns.clone();
        omitted_columns.remove_all(&self.withheld);
        ChangeData {
            table: c.table.to_string(),
            op: op.into(),
            key: c.key.iter().enumerate().map(|(i, v)| value_out(v, key_type(i))).collect(),
            old: match &c.old {
                Old::Unknown => None,
                Old::Known(old) => Some(old.as_ref().map(|row| self.row(row, &ColumnSet::default()))),
            },
            new: c.new.as_ref().map(|row| self.row(row, &omitted_columns)),
            omitted_columns: self.names(&omitted_columns),
        }
    }

    /// The values of a row but for withheld and omitted ones, by column name.
    fn row(&self, row: &Row, omitted: &ColumnSet) -> Map<String, Json> {
        let columns = self.table.columns.iter().zip(row.iter()).enumerate();
        let shown = columns.filter(|(i, _)| !omitted.contains(*i) && !self.withheld.contains(*i));
        shown.map(|(_, (column, v))| (column.name.to_string(), value_out(v, column.ty))).collect()
    }

    fn names(&self, columns: &ColumnSet) -> Vec<String> {
        columns.iter().filter_map(|i| self.table.columns.get(i)).map(|c| c.name.to_string()).collect()
    }
}

/// Reads an event.
///
/// # Errors
/// What is not as it should be, without any of its values.
pub fn decode(bytes: &[u8]) -> Result<Interval, String> {
    decode_for(bytes, Some(&Needed::new()))
}

/// Reads an event for an instance that needs so much of it. Where something of that was withheld, by one that knows
/// other rules, the table needs a new snapshot.
///
/// # Errors
/// What is not as it should be, without any of its values.
pub fn decode_for(bytes: &[u8], needed: Option<&Needed>) -> Result<Interval, String> {
    let event: Event = serde_json::from_slice(bytes)
        .map_err(|e| format!("not such an event: line {}, column {}", e.line(), e.column()))?;
    let version = event.kind.strip_prefix(KIND).and_then(|v| v.parse().ok());
    let version: u32 = version.filter(|_| event.specversion == "1.0").ok_or("not a CloudEvent 1.0 of such a type")?;
    if !READS.contains(&version) {
        let (from, to) = (READS.start(), READS.end());
        return Err(format!("it has version {version} of the format; this instance reads {from} to {to}"));
    }
    let Event { source: reader, subject, data, .. } = event;
    let source: Arc<str> = subject.as_str().into();
    let mut lacking = lacking(&data, needed);
    let tables = data.tables.into_iter().map(|(name, d)| {
        let name = TableName::parse(&name);
        let table = table_in(name.clone(), &source, d)?;
        Ok((name, Identified::new(table)))
    });
    let tables: Tables = tables.collect::<Result<_, String>>()?;
    let reset = |r: ResetData| {
        let name = TableName::parse(&r.table);
        let table = r.described.map(|d| table_in(name.clone(), &source, d)).transpose()?;
        Ok(Reset { name, table, why: why_in(&r.why).ok_or("a reset for no known reason")? })
    };
    let mut interval = Interval {
        epoch: data.epoch,
        from: position(&data.from)?,
        to: position(&data.to)?,
        transactions: data.transactions.into_iter().map(|t| transaction(t, &tables)).collect::<Result<_, _>>()?,
        resets: data.resets.into_iter().map(reset).collect::<Result<_, String>>()?,
        settled: position(&data.settled)?,
        timeline: data.timeline.parse().map_err(|_| "lineage is not a number")?,
        mark: data.mark.parse().unwrap_or(0),
        reader: reader.strip_prefix("/gossip/").unwrap_or(&reader).into(),
        read_at: data.read_at,
        source,
    };
    if !lacking.is_empty() {
        for t in &mut interval.transactions {
            Arc::make_mut(t).changes.retain(|c| !lacking.contains(&c.table));
        }
    }
    check_order(&interval)?;
    lacking.retain(|name| interval.resets.iter().all(|r| r.name != *name));
    interval.resets.extend(lacking.into_iter().map(|name| Reset { name, table: None, why: ResetReason::TooLarge }));
    Ok(interval)
}

/// The tables of which something needed was withheld.
fn lacking(data: &Data, needed: Option<&Needed>) -> BTreeSet<TableName> {
    let mut lacking: BTreeSet<TableName> = data.withheld.iter().map(|name| TableName::parse(name)).collect();
    lacking.retain(|name| needed.is_none_or(|n| n.contains_key(name)));
    for (name, d) in data.tables.iter().filter(|(_, d)| !d.withheld.is_empty()) {
        let name = TableName::parse(name);
        let lacks = |n: &Needed| n.get(&name).is_some_and(|c| d.withheld.iter().any(|column| c.has(column)));
        if needed.is_none_or(lacks) {
            lacking.insert(name);
        }
    }
    lacking
}

fn check_order(interval: &Interval) -> Result<(), String> {
    let mut at = interval.from;
    for t in &interval.transactions {
        if t.position <= at || t.position > interval.to {
            return Err("its transactions are not in order".into());
        }
        at = t.position;
    }
    if interval.to < interval.from {
        return Err("it ends before it begins".into());
    }
    Ok(())
}

fn described(t: &Table) -> TableData {
    let column = |c: &Column| ColumnData { name: c.name.to_string(), ty: c.ty.name().into() };
    TableData {
        columns: t.columns.iter().map(column).collect(),
        key: t.key.iter().map(|&i| t.columns[i].name.to_string()).collect(),
        old_values: t.old_values,
        incarnation: t.incarnation.to_string(),
        withheld: vec![],
    }
}

fn table_in(name: TableName, source: &Arc<str>, d: TableData) -> Result<Arc<Table>, String> {
    let column = |c: &ColumnData| Column { name: c.name.as_str().into(), ty: Type::named(&c.ty) };
    let columns: Vec<Column> = d.columns.iter().map(column).collect();
    let names: BTreeSet<&str> = d.columns.iter().map(|c| c.name.as_str()).collect();
    if names.len() < columns.len() {
        return Err("a table has two columns of the same name".into());
    }
    let place = |name: &String| columns.iter().position(|c| *c.name == **name).ok_or("a key of no known column");
    let key = d.key.iter().map(place).collect::<Result<_, _>>()?;
    let incarnation = d.incarnation.parse().map_err(|_| "an incarnation that is not a number")?;
    Ok(Arc::new(Table { name, source: source.clone(), columns, key, old_values: d.old_values, incarnation }))
}

fn transaction(t: TransactionData, tables: &Tables) -> Result<Arc<Transaction>, String> {
    let changes = t.changes.into_iter().map(|c| change_in(c, tables)).collect::<Result<_, _>>()?;
    let committed = CommitTime { from: t.committed[0], to: t.committed[1] };
    let inexact_after = t.joined_after.as_deref().map(position).transpose()?;
    Ok(Arc::new(Transaction { position: position(&t.position)?, committed, number: t.xid, inexact_after, changes }))
}

fn change_in(c: ChangeData, tables: &Tables) -> Result<RowChange, String> {
    let name = TableName::parse(&c.table);
    let table = tables.get(&name).ok_or("a change of a table that is not described")?;
    let row = |mut row: Map<String, Json>| -> Result<Row, String> {
        let cell = |column: &Column| match row.remove(&*column.name) {
            None => Ok(Value::Null),
            Some(v) => value_in(&v, column.ty),
        };
        let cells: Vec<Value> = table.columns.iter().map(cell).collect::<Result<_, _>>()?;
        if row.is_empty() { Ok(cells.into()) } else { Err("a row with a column that is not described".into()) }
    };
    if !table.key.is_empty() && c.key.len() != table.key.len() {
        return Err("a key of another length".into());
    }
    let key_type = |i: usize| table.key.get(i).map_or(Type::Any, |k| table.columns[*k].ty);
    let key = c.key.iter().enumerate().map(|(i, v)| value_in(v, key_type(i))).collect::<Result<_, _>>()?;
    let place = |name: &String| table.columns.iter().position(|c| *c.name == **name).ok_or("an untold column");
    Ok(RowChange {
        key,
        old: match c.old {
            None => Old::Unknown,
            Some(old) => Old::Known(old.map(row).transpose()?),
        },
        new: c.new.map(row).transpose()?,
        omitted_columns: c.omitted_columns.iter().map(place).collect::<Result<ColumnSet, _>>()?,
        description: table.identity(),
        table: name,
    })
}

fn position(text: &str) -> Result<Position, String> {
    text.parse().map_err(|()| "a position that is none".into())
}

fn why_out(why: ResetReason) -> &'static str {
    match why {
        ResetReason::SchemaChanged => "schema-changed",
        ResetReason::Described => "described",
        ResetReason::Truncated => "truncated",
        ResetReason::TooLarge => "too-large",
    }
}

fn why_in(text: &str) -> Option<ResetReason> {
    use ResetReason::{Described, SchemaChanged, TooLarge, Truncated};
    [SchemaChanged, Described, Truncated, TooLarge].into_iter().find(|w| why_out(*w) == text)
}

/// A value in the protocol's form, or exactly where that does not lead back to it.
fn value_out(v: &Value, ty: Type) -> Json {
    let plain = v.to_json();
    let leads_back = match (v, ty) {
        (Value::Null, _) | (Value::Bool(_), Type::Bool) => true,
        (Value::Int(i), ty) if ty.is_integer() => ty.holds(*i),
        (Value::Text(_), Type::Text | Type::Enum | Type::Other) | (Value::Bytes(_), Type::Bytea) => true,
        _ => !plain.is_object() && Value::from_json(&plain, ty).is_ok_and(|back| back == *v),
    };
    if leads_back {
        return plain;
    }
    let (kind, text) = match v {
        Value::Null => return Json::Null,
        Value::Bool(b) => ("bool", b.to_string()),
        Value::Int(i) => ("int8", i.to_string()),
        Value::Float(x) => ("float8", x.to_bits().to_string()),
        Value::Float4(x) => ("float4", x.to_bits().to_string()),
        Value::Numeric(n) => {
            // With all the digits behind the point, also where they are zeros.
            let (digits, behind) = n.as_bigint_and_exponent();
            ("numeric", format!("{digits}e{}", -behind))
        }
        Value::Text(s) => ("text", s.to_string()),
        Value::Bytes(b) => ("bytea", BASE64.encode(b)),
        Value::Date(d) => ("date", d.to_string()),
        Value::Time(t) => ("time", t.to_string()),
        Value::Timestamp(t) => ("timestamp", t.to_string()),
        Value::Timestamptz(t) => ("timestamptz", t.to_string()),
        Value::Json(text) => ("json", text.to_string()),
    };
    json!({EXACT: kind, "value": text})
}

fn value_in(v: &Json, ty: Type) -> Result<Value, String> {
    let Json::Object(exact) = v else { return Value::from_json(v, ty) };
    let (Some(kind), Some(text)) = (exact.get(EXACT).and_then(Json::as_str), exact.get("value").and_then(Json::as_str))
    else {
        return Value::from_json(v, ty);
    };
    let wrong = || format!("a value that is not a {kind}");
    fn number<T: std::str::FromStr>(text: &str) -> Option<T> {
        text.parse().ok()
    }
    let found = match kind {
        "bool" => number(text).map(Value::Bool),
        "int8" => number(text).map(Value::Int),
        "float8" => number(text).map(|bits| Value::Float(f64::from_bits(bits))),
        "float4" => number(text).map(|bits| Value::Float4(f32::from_bits(bits))),
        "numeric" => Value::decimal(text),
        "text" => Some(Value::text(text)),
        "bytea" => BASE64.decode(text).ok().map(|b| Value::Bytes(b.into())),
        "date" => number(text).map(Value::Date),
        "time" => number(text).map(Value::Time),
        "timestamp" => number(text).map(Value::Timestamp),
        "timestamptz" => number(text).map(Value::Timestamptz),
        "json" => Some(Value::Json(text.into())),
        _ => None,
    };
    found.ok_or_else(wrong)
}
