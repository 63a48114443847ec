//! Whether a table has the indexes by which the rows of conditions are found.

use gossip_core::plan::LookUp;
use tokio_postgres::Row;

use super::catalog::{CatalogColumn, Described};
use super::client::Client;
use super::connect::quote;
use crate::{Condition, Result};

/// Bytes of a table below which reading all of it costs no more than an index is worth.
const SMALL: i64 = 1 << 20;

/// By what an index finds rows first.
struct Index {
    /// Its name, as SQL.
    name: String,
    /// Whether it was made to the end; else nothing is found by it.
    valid: bool,
    column: String,
    /// Whether it has values in order.
    ordered: bool,
    /// Whether it compares them as the column does.
    as_column: bool,
    /// Whether it compares texts by their bytes.
    by_bytes: bool,
    /// Whether it finds texts by their beginning, and does not know their order otherwise.
    of_patterns: bool,
}

impl Index {
    fn serves(&self, column: &CatalogColumn, how: LookUp) -> bool {
        let by_bytes = self.by_bytes || self.as_column && !column.other_order;
        self.column == column.name
            && match how {
                LookUp::Equal => self.as_column,
                LookUp::Ordered => self.ordered && !self.of_patterns && by_bytes,
                LookUp::Begins => self.ordered && (by_bytes || self.of_patterns && self.as_column),
            }
    }
}

/// The indexes of a table that are of use to all who read it.
pub struct Indexes(Vec<Index>);

impl Indexes {
    /// Those of a table; `None` if it is so small that it needs none.
    ///
    /// # Errors
    /// The connection is lost.
    pub fn of(db: &mut Client, d: &Described) -> Result<Option<Indexes>> {
        let size = "SELECT coalesce(sum(pg_relation_size(relid)), 0)::int8 \
                    FROM (SELECT relid FROM pg_partition_tree($1::oid) UNION SELECT $1::oid) AS part (relid)";
        if db.query_one(size, &[&d.oid])?.get::<_, i64>(0) < SMALL {
            return Ok(None);
        }
        // 950 is the collation "C".
        let sql = "SELECT a.attname, m.amname IN ('btree', 'brin'), i.indcollation[0] = a.attcollation, \
                          i.indcollation[0] IN (0, 950), o.opcname LIKE '%pattern_ops', i.indisvalid, \
                          format('%I.%I', n.nspname, x.relname) \
                   FROM pg_index i JOIN pg_class x ON x.oid = i.indexrelid JOIN pg_am m ON m.oid = x.relam \
                        JOIN pg_namespace n ON n.oid = x.relnamespace \
                        JOIN pg_opclass o ON o.oid = i.indclass[0] \
                        JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = i.indkey[0] \
                   WHERE i.indrelid = $1 AND i.indpred IS NULL \
                         AND m.amname IN ('btree', 'hash', 'brin')";
        let index = |r: &Row| Index {
            column: r.get(0),
            ordered: r.get(1),
            as_column: r.get(2),
            by_bytes: r.get(3),
            of_patterns: r.get(4),
            valid: r.get(5),
            name: r.get(6),
        };
        Ok(Some(Indexes(db.query(sql, &[&d.oid])?.iter().map(index).collect())))
    }

    fn serve(&self, column: &CatalogColumn, how: LookUp) -> bool {
        self.0.iter().any(|index| index.valid && index.serves(column, how))
    }

    /// The columns that want an index for a condition, and the SQL that makes them; nothing if its rows are found.
    pub fn missing(&self, d: &Described, c: &Condition) -> Option<(String, String)> {
        let column = |name: &str| d.columns.iter().find(|k| k.name == *name);
        let first = c.first_by.as_deref().and_then(column);
        if first.is_some_and(|first| self.serve(first, LookUp::Ordered)) {
            return None;
        }
        let found_by = c.found_by.iter().filter_map(|(name, how)| Some((column(name)?, *how)));
        let mut wanted: Vec<(&CatalogColumn, LookUp)> =
            found_by.filter(|(column, how)| !self.serve(column, *how)).collect();
        if c.found_by.is_empty() {
            wanted.extend(first.map(|first| (first, LookUp::Ordered)));
        }
        // On a partitioned table an index cannot be made beside those who write.
        let beside = if d.kind == 'p' { "" } else { "CONCURRENTLY " };
        let create = |(column, how): &(&CatalogColumn, LookUp)| {
            // One that failed while it was made beside those who write stays behind. That of a partitioned table lacks some of
            // its partitions' instead, which making it again does not mend.
            if let Some(index) = self.0.iter().find(|index| d.kind != 'p' && index.serves(column, *how)) {
                return format!("REINDEX INDEX CONCURRENTLY {}", index.name);
            }
            let in_order = if *how != LookUp::Equal && column.other_order { " COLLATE \"C\"" } else { "" };
            format!("CREATE INDEX {beside}ON {} ({}{in_order})", d.sql_name, quote(&column.name))
        };
        let names: Vec<&str> = wanted.iter().map(|(column, _)| &*column.name).collect();
        let statements: Vec<String> = wanted.iter().map(create).collect();
        (!names.is_empty()).then(|| (names.join(", "), statements.join(";\n")))
    }
}
