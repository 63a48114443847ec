//! What tables a database has, as far as following them needs.

use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::Arc;

use gossip_core::canonical::{Canonical as _, Encoder};
use gossip_core::schema::{Column, Table, TableName};
use tokio_postgres::{Row, ToStatement};

use super::client::Client;
use super::connect::quote;
use super::pgoutput::Oid;
use super::types::Reading;
use crate::Result;

/// Which tables are looked for, and under which publications they stream.
#[derive(Clone, Debug)]
pub struct CatalogRequest<'a> {
    /// The tables, as the configuration names them.
    pub tables: &'a [String],
    /// The schema of those that are named without one.
    pub schema: &'a str,
    /// The publications that are read.
    pub publications: [String; 2],
}

impl CatalogRequest<'_> {
    fn names(&self) -> Vec<(String, String)> {
        self.tables.iter().map(|w| split_name(w, self.schema)).collect()
    }
}

/// How a table's changes are published.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Published {
    /// A publication brings inserts and truncates of all rows and columns.
    pub inserts: bool,
    /// One brings updates and deletes as well.
    pub changes: bool,
    /// Differs when anything about this has changed, also where it was changed back: what happened in between was not
    /// streamed.
    pub version: String,
}

/// A column, as far as reading it needs.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CatalogColumn {
    /// Its name.
    pub name: String,
    /// Its number in the table: another one after it was dropped and added again.
    pub number: i16,
    /// The number of its type.
    pub ty: Oid,
    /// How its text is read.
    pub reading: Reading,
    /// The type as SQL writes it.
    pub declared: String,
    /// Whether it cannot be NULL.
    pub not_null: bool,
    /// Whether a large value may be stored apart, and left out of a change that does not touch it.
    pub may_be_apart: bool,
    /// Whether it is text that is ordered otherwise than by bytes.
    pub other_order: bool,
    /// Whether it is text of which only the same is equal, so that `LIKE` knows it.
    pub has_plain_text: bool,
}

/// A table or leaf partition whose changes stream.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Leaf {
    /// Its number.
    pub oid: Oid,
    /// The file that it is stored in: another one after a rewrite.
    pub file: Oid,
    /// What is written of an old row: `d`, `n`, `f` or `i`.
    pub identity: char,
    /// The columns that identify an old row: those of the replica identity's index.
    pub identity_columns: Vec<String>,
    /// Its name in SQL.
    pub sql_name: String,
    /// `u` where it is not logged.
    pub persistence: char,
    /// Its schema and name as they are, and as the stream says them.
    pub name: (String, String),
    /// Whether and how its changes stream.
    pub published: Published,
}

/// A table as the catalog has it now.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Described {
    /// The table's name for queries and rules.
    pub name: TableName,
    /// The name in SQL.
    pub sql_name: String,
    /// Its number.
    pub oid: Oid,
    /// `r` an ordinary table, `p` a partitioned one, and others that cannot stream.
    pub kind: char,
    /// `p` permanent, `u` unlogged, `t` temporary.
    pub persistence: char,
    /// Whether its rows are filtered by policies for some roles.
    pub row_security: bool,
    /// Whether other tables inherit from it.
    pub has_children: bool,
    /// Columns that stream.
    pub columns: Vec<CatalogColumn>,
    /// Generated columns, which do not stream.
    pub generated: Vec<String>,
    /// Indices of the key columns.
    pub key: Vec<usize>,
    /// Itself, or its leaf partitions.
    pub leaves: Vec<Leaf>,
    /// Whether it is a partition itself.
    pub is_partition: bool,
    /// The labels of its columns' types: a label that is renamed changes rows without writing them.
    pub labels: Vec<String>,
}

impl Described {
    /// Whether every change brings the whole row as it was.
    pub fn old_values(&self) -> bool {
        !self.leaves.is_empty() && self.leaves.iter().all(|l| l.identity == 'f')
    }

    /// Whether updates and deletes can be published: whether they identify their row.
    pub fn publishes_changes(&self) -> bool {
        let key: Vec<&str> = self.key.iter().map(|&i| self.columns[i].name.as_str()).collect();
        let tells = |l: &Leaf| l.identity == 'f' || key.iter().all(|k| l.identity_columns.iter().any(|c| c == k));
        !self.key.is_empty() && self.leaves.iter().all(tells)
    }

    /// Whether it is a table whose changes can stream at all.
    pub fn can_stream(&self) -> bool {
        matches!(self.kind, 'r' | 'p') && self.persistence == 'p'
    }

    /// Whether all its changes stream: it is in a publication of ours, whole.
    pub fn is_published(&self) -> bool {
        let whole = |l: &Leaf| l.published.inserts && (l.published.changes || !self.publishes_changes());
        self.leaves.iter().all(whole)
    }

    /// The table as the engine knows it.
    pub fn table(&self, source: &Arc<str>) -> Arc<Table> {
        let column = |c: &CatalogColumn| Column { name: c.name.as_str().into(), ty: c.reading.ty() };
        let mut incarnation = Encoder::new("postgresql table");
        incarnation.number(self.oid.into());
        incarnation.number(self.leaves.len() as u64);
        for leaf in &self.leaves {
            incarnation.number(leaf.oid.into());
            incarnation.number(leaf.file.into());
            incarnation.text(&leaf.published.version);
        }
        incarnation.number(self.columns.len() as u64);
        for column in &self.columns {
            incarnation.number(i64::from(column.number).cast_unsigned());
            column.reading.encode(&mut incarnation);
        }
        incarnation.list(&self.labels);
        let tells = self.publishes_changes();
        Arc::new(Table {
            name: self.name.clone(),
            source: source.clone(),
            columns: self.columns.iter().map(column).collect(),
            key: if tells { self.key.clone() } else { vec![] },
            old_values: tells && self.old_values(),
            incarnation: incarnation.short_digest(),
        })
    }
}

/// A table's name in a configuration: `table`, `schema.table`, either part in double quotes if it needs them.
pub fn split_name<'a>(wanted: &'a str, default_schema: &'a str) -> (String, String) {
    let (mut parts, mut quoted) = (vec![String::new()], false);
    let mut chars = wanted.chars().peekable();
    while let Some(c) = chars.next() {
        let last = parts.len() - 1;
        match c {
            '"' if quoted && chars.peek() == Some(&'"') => {
                chars.next();
                parts[last].push('"');
            }
            '"' => quoted = !quoted,
            '.' if !quoted && parts.len() == 1 => parts.push(String::new()),
            c => parts[last].push(c),
        }
    }
    match parts.len() {
        1 => (default_schema.to_string(), parts.remove(0)),
        _ => (parts.remove(0), parts.remove(0)),
    }
}

/// The name by which queries and rules know a table.
pub fn table_name(schema: &str, name: &str, default_schema: &str) -> TableName {
    let schema = if schema == default_schema { "" } else { schema };
    TableName { schema: schema.into(), name: name.into() }
}

const RELATIONS: &str = "\
    SELECT n.nspname, c.relname, c.oid, c.relkind, c.relpersistence, c.relrowsecurity, c.relispartition, \
           EXISTS (SELECT FROM pg_inherits i WHERE i.inhparent = c.oid) AND c.relkind = 'r' \
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
    WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') \
      AND (n.nspname, c.relname) IN (SELECT * FROM unnest($1::text[], $2::text[]))";

/// Text of a short limited length is never stored apart, whatever its column would allow. A database whose texts another library
/// orders may have the C library's collation "C" all the same; before version 15 there was no other library.
const COLUMNS: &str = "\
    SELECT a.attrelid, a.attname, a.atttypid, a.attnum, a.attgenerated <> '', a.attnotnull, \
           a.attstorage IN ('x', 'e') AND NOT (a.atttypid IN (1042, 1043) AND a.atttypmod BETWEEN 5 AND 504), \
           format_type(a.atttypid, a.atttypmod), \
           coalesce(CASE WHEN k.collprovider = 'd' \
                THEN (SELECT datcollate NOT IN ('C', 'POSIX') OR coalesce(to_jsonb(d) ->> 'datlocprovider', 'c') <> 'c' \
                      FROM pg_database d WHERE datname = current_database()) \
                ELSE k.collcollate NOT IN ('C', 'POSIX') OR k.collcollate IS NULL END, false), \
           coalesce(k.collisdeterministic, false) AND a.atttypid IN (25, 1043) \
    FROM pg_attribute a LEFT JOIN pg_collation k ON k.oid = a.attcollation \
    WHERE a.attrelid = ANY ($1) AND a.attnum > 0 AND NOT a.attisdropped ORDER BY a.attrelid, a.attnum";

const LEAVES: &str = "\
    SELECT root, c.oid, c.relfilenode, c.relreplident, n.nspname, c.relname, c.relpersistence \
    FROM unnest($1::oid[]) root, LATERAL ( \
        SELECT relid FROM pg_partition_tree(root) WHERE isleaf \
        UNION SELECT root WHERE NOT EXISTS (SELECT FROM pg_partition_tree(root))) AS leaf (relid), \
        pg_class c, pg_namespace n \
    WHERE c.oid = leaf.relid AND n.oid = c.relnamespace AND c.relkind = 'r' ORDER BY root, c.oid";

/// Of each table the index that tells rows apart: the chosen replica identity, else the primary key. One that is
/// checked late is of no use to the stream.
const IDENTITIES: &str = "\
    SELECT i.indrelid, array_agg(a.attname::text ORDER BY k.place), i.indisreplident \
    FROM pg_index i JOIN pg_class c ON c.oid = i.indrelid, \
         LATERAL unnest(i.indkey::int2[]) WITH ORDINALITY AS k (attnum, place) \
         JOIN pg_attribute a ON a.attnum = k.attnum \
    WHERE i.indrelid = ANY ($1) AND a.attrelid = i.indrelid AND i.indisvalid AND i.indimmediate \
      AND k.place <= i.indnkeyatts \
      AND (CASE WHEN c.relreplident = 'i' THEN i.indisreplident ELSE i.indisprimary END) \
    GROUP BY i.indrelid, i.indexrelid, i.indisreplident";

const TYPES: &str = "\
    SELECT t.oid, t.typname, t.typtype, t.typcategory, t.typelem, t.typbasetype, t.typdelim, \
           t.typnamespace = 'pg_catalog'::regnamespace \
    FROM pg_type t WHERE t.oid = ANY ($1)";

struct TypeRow {
    name: String,
    kind: char,
    category: char,
    element: Oid,
    base: Oid,
    delimiter: char,
    builtin: bool,
}

fn character(row: &Row, i: usize) -> char {
    char::from(row.get::<_, i8>(i).unsigned_abs())
}

/// How texts of these types are read.
fn readings(db: &mut Client, wanted: HashSet<Oid>) -> Result<HashMap<Oid, Reading>> {
    let mut known: HashMap<Oid, TypeRow> = HashMap::new();
    let mut ask: Vec<Oid> = wanted.iter().copied().collect();
    // Domains and arrays lead to other types; how far is bounded by what a database can nest.
    while !ask.is_empty() {
        for r in db.query(TYPES, &[&ask])? {
            let row = TypeRow {
                name: r.get(1),
                kind: character(&r, 2),
                category: character(&r, 3),
                element: r.get(4),
                base: r.get(5),
                delimiter: character(&r, 6),
                builtin: r.get(7),
            };
            known.insert(r.get(0), row);
        }
        let further = known.values().flat_map(|t| [t.element, t.base]).filter(|o| *o != 0 && !known.contains_key(o));
        let mut next: Vec<Oid> = further.collect();
        next.sort_unstable();
        next.dedup();
        // A dropped type would be looked up without end.
        ask = if next == ask { vec![] } else { next };
    }
    Ok(wanted.into_iter().map(|oid| (oid, reading(&known, oid, 0))).collect())
}

fn reading(known: &HashMap<Oid, TypeRow>, oid: Oid, depth: usize) -> Reading {
    use gossip_core::value::Type;
    let Some(t) = known.get(&oid).filter(|_| depth < 64) else { return Reading::One(Type::Other) };
    match t.kind {
        'd' => reading(known, t.base, depth + 1),
        'e' => Reading::One(Type::Enum),
        'b' if t.category == 'A' && t.element != 0 => {
            let element = reading(known, t.element, depth + 1);
            let delimiter = known.get(&t.element).map_or(',', |e| e.delimiter);
            Reading::Array(Box::new(element), delimiter)
        }
        'b' if t.builtin => Reading::of_builtin(&t.name),
        _ => Reading::One(Type::Other),
    }
}

/// Asks how tables are published: for each publication that has one, whether that is whole, what it brings, and what
/// differs when it was changed. A transaction that changed a row of the catalog stands in it as `xmin`.
const PUBLISHED: &str = "\
    SELECT c.oid, p.pubinsert AND p.pubtruncate, p.pubupdate AND p.pubdelete, \
           EXISTS (SELECT FROM pg_publication_rel r WHERE r.prpubid = p.oid AND r.prrelid IN (SELECT unnest(w.ways)) \
                   AND PARTIAL), \
           concat_ws(' ', p.oid, p.xmin, \
               (SELECT string_agg(concat_ws(':', r.oid, r.xmin), ',' ORDER BY r.oid) FROM pg_publication_rel r \
                WHERE r.prpubid = p.oid AND r.prrelid IN (SELECT unnest(w.ways))), \
               (SELECT string_agg(concat_ws(':', i.inhparent, i.xmin), ',' ORDER BY i.inhparent) FROM pg_inherits i \
                WHERE i.inhrelid IN (SELECT unnest(w.ways)))) \
    FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace \
         JOIN pg_publication_tables t ON t.schemaname = n.nspname AND t.tablename = c.relname \
         JOIN pg_publication p ON p.pubname = t.pubname, \
         LATERAL (SELECT array_agg(relid::oid) FROM (SELECT c.oid UNION SELECT relid FROM pg_partition_ancestors(c.oid)) \
             AS a (relid)) AS w (ways) \
    WHERE c.oid = ANY ($1) AND p.pubname = ANY ($2) ORDER BY c.oid, p.oid";

fn published(db: &mut Client, oids: Vec<Oid>, publications: &[String; 2]) -> Result<HashMap<Oid, Published>> {
    // Row filters and column lists came with version 15.
    let version: i32 = db.query_one("SELECT current_setting('server_version_num')::int", &[])?.get(0);
    let partial = if version >= 150_000 { "(r.prqual IS NOT NULL OR r.prattrs IS NOT NULL)" } else { "false" };
    let sql = PUBLISHED.replace("PARTIAL", partial);
    let mut found: HashMap<Oid, Published> = HashMap::new();
    for r in db.query(&sql, &[&oids, &&publications[..]])? {
        let (inserts, changes, partly): (bool, bool, bool) = (r.get(1), r.get(2), r.get(3));
        let of_table = found.entry(r.get(0)).or_default();
        of_table.inserts |= inserts && !partly;
        of_table.changes |= inserts && changes && !partly;
        of_table.version.push_str(&format!("{}{inserts}{changes}{partly};", r.get::<_, String>(4)));
    }
    Ok(found)
}

/// Describes those of the wanted tables that exist, by their index in the list.
///
/// # Errors
/// The connection is lost, or what the server says.
pub fn describe(db: &mut Client, wanted: &CatalogRequest<'_>) -> Result<BTreeMap<usize, Described>> {
    let mut found = relations(db, wanted)?;
    let oids: Vec<Oid> = found.values().map(|d| d.oid).collect();
    read_columns(db, &oids, &mut found)?;
    let mut leaves = leaves(db, &oids, &wanted.publications)?;
    let mut indexed: Vec<Oid> = oids.iter().copied().chain(leaves.iter().map(|(_, l)| l.oid)).collect();
    indexed.dedup();
    let identities: HashMap<Oid, Vec<String>> =
        db.query(IDENTITIES, &[&indexed])?.iter().map(|r| (r.get(0), r.get(1))).collect();
    for (root, leaf) in &mut leaves {
        if matches!(leaf.identity, 'd' | 'i') {
            leaf.identity_columns = identities.get(&leaf.oid).cloned().unwrap_or_default();
        }
        found.values_mut().filter(|d| d.oid == *root).for_each(|d| d.leaves.push(leaf.clone()));
    }
    for r in db.query(LABELS, &[&oids])? {
        let root: Oid = r.get(0);
        found.values_mut().filter(|d| d.oid == root).for_each(|d| d.labels.push(r.get(1)));
    }
    for d in found.values_mut() {
        let names = identities.get(&d.oid).cloned().unwrap_or_default();
        let place = |n: &String| d.columns.iter().position(|c| c.name == *n);
        d.key = names.iter().map(place).collect::<Option<Vec<usize>>>().unwrap_or_default();
    }
    Ok(found)
}

/// The wanted tables that exist, without their columns, key and leaves.
fn relations(db: &mut Client, wanted: &CatalogRequest<'_>) -> Result<BTreeMap<usize, Described>> {
    let names = wanted.names();
    let (schemas, tables): (Vec<&str>, Vec<&str>) = names.iter().map(|(s, t)| (s.as_str(), t.as_str())).unzip();
    let mut found = BTreeMap::new();
    for r in db.query(RELATIONS, &[&schemas, &tables])? {
        let (schema, table): (String, String) = (r.get(0), r.get(1));
        let Some(place) = names.iter().position(|(s, t)| *s == schema && *t == table) else { continue };
        let described = Described {
            name: table_name(&schema, &table, wanted.schema),
            sql_name: format!("{}.{}", quote(&schema), quote(&table)),
            oid: r.get(2),
            kind: character(&r, 3),
            persistence: character(&r, 4),
            row_security: r.get(5),
            is_partition: r.get(6),
            labels: vec![],
            has_children: r.get(7),
            columns: vec![],
            generated: vec![],
            key: vec![],
            leaves: vec![],
        };
        found.insert(place, described);
    }
    Ok(found)
}

/// Reads the columns of tables into their descriptions.
fn read_columns(db: &mut Client, oids: &[Oid], found: &mut BTreeMap<usize, Described>) -> Result<()> {
    let columns = db.query(COLUMNS, &[&oids])?;
    let readings = readings(db, columns.iter().map(|r| r.get(2)).collect())?;
    for r in &columns {
        let (root, ty): (Oid, Oid) = (r.get(0), r.get(2));
        for d in found.values_mut().filter(|d| d.oid == root) {
            if r.get(4) {
                d.generated.push(r.get(1));
                continue;
            }
            let reading = readings.get(&ty).cloned().unwrap_or(Reading::One(gossip_core::value::Type::Other));
            d.columns.push(CatalogColumn {
                name: r.get(1),
                number: r.get(3),
                ty,
                declared: r.get(7),
                not_null: r.get(5),
                may_be_apart: r.get(6),
                other_order: r.get::<_, bool>(8) && reading.ty() == gossip_core::value::Type::Text,
                has_plain_text: r.get(9),
                reading,
            });
        }
    }
    Ok(())
}

/// The leaves of tables, each with its root, without their identity columns.
fn leaves(db: &mut Client, oids: &[Oid], publications: &[String; 2]) -> Result<Vec<(Oid, Leaf)>> {
    let mut leaves: Vec<(Oid, Leaf)> = Vec::new();
    for r in db.query(LEAVES, &[&oids])? {
        let (schema, name): (String, String) = (r.get(4), r.get(5));
        let leaf = Leaf {
            oid: r.get(1),
            file: r.get(2),
            identity: character(&r, 3),
            identity_columns: vec![],
            sql_name: format!("{}.{}", quote(&schema), quote(&name)),
            persistence: character(&r, 6),
            name: (schema, name),
            published: Published::default(),
        };
        leaves.push((r.get(0), leaf));
    }
    let published = published(db, leaves.iter().map(|(_, l)| l.oid).collect(), publications)?;
    for (_, leaf) in &mut leaves {
        leaf.published = published.get(&leaf.oid).cloned().unwrap_or_default();
    }
    Ok(leaves)
}

/// The labels of the enums of tables' columns.
const LABELS: &str = "\
    SELECT a.attrelid, e.enumlabel::text FROM pg_attribute a JOIN pg_enum e ON e.enumtypid = a.atttypid \
    WHERE a.attrelid = ANY ($1) AND NOT a.attisdropped ORDER BY a.attnum, e.enumsortorder";

/// Asks for a text that differs when anything that [`describe`] reads of some tables may have changed, cheaply. Oids are in
/// arrays, because the planner takes those for short and uses the catalog's indices.
pub const SIGNATURE: &str = "\
    WITH own AS MATERIALIZED ( \
        SELECT ARRAY(SELECT c.oid FROM unnest($1::text[], $2::text[]) AS wanted (schema, name) \
            JOIN pg_namespace n ON n.nspname = wanted.schema::name \
            JOIN pg_class c ON c.relname = wanted.name::name AND c.relnamespace = n.oid) AS oids), \
    every AS MATERIALIZED ( \
        SELECT oids || ARRAY(SELECT t.relid::oid FROM unnest(oids) AS o (oid), LATERAL pg_partition_tree(o.oid) t) AS oids \
        FROM own), \
    parts AS ( \
        SELECT concat_ws(' ', c.oid, c.relname, c.relnamespace, c.relfilenode, c.relreplident, c.relkind, \
            c.relpersistence, c.relispartition, \
            (SELECT string_agg(concat_ws(':', a.attnum, a.attname, a.atttypid, a.atttypmod, a.attgenerated), ',' \
                ORDER BY a.attnum) FROM pg_attribute a \
             WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped), \
            (SELECT string_agg(concat_ws(':', i.indexrelid, i.indkey, i.indisprimary, i.indisreplident), ',' \
                ORDER BY i.indexrelid) FROM pg_index i \
             WHERE i.indrelid = c.oid AND (i.indisprimary OR i.indisreplident))) AS text \
        FROM pg_class c WHERE c.oid = ANY (ARRAY(SELECT unnest(oids) FROM every)) \
        UNION ALL \
        SELECT concat_ws(' ', e.enumtypid, e.enumsortorder, e.enumlabel) FROM pg_enum e \
        WHERE e.enumtypid = ANY (ARRAY(SELECT a.atttypid FROM pg_attribute a \
            WHERE a.attrelid = ANY (ARRAY(SELECT unnest(oids) FROM own)))) \
        UNION ALL \
        SELECT concat_ws(' ', 'p', p.oid, p.xmin) FROM pg_publication p WHERE p.pubname = ANY ($3::text[]) \
        UNION ALL \
        SELECT concat_ws(' ', 'r', r.oid, r.xmin, r.prrelid) FROM pg_publication_rel r, every \
        WHERE r.prpubid IN (SELECT oid FROM pg_publication WHERE pubname = ANY ($3::text[])) \
            AND r.prrelid = ANY (every.oids || ARRAY(SELECT a.relid::oid FROM unnest(every.oids) AS o (oid), \
                LATERAL pg_partition_ancestors(o.oid) a)) \
        UNION ALL \
        SELECT concat_ws(' ', 'i', i.inhrelid, i.inhparent, i.xmin) FROM pg_inherits i \
        WHERE i.inhrelid = ANY (ARRAY(SELECT unnest(oids) FROM every))) \
    SELECT md5(coalesce(string_agg(text, ';' ORDER BY text), '')) FROM parts";

/// Asks [`SIGNATURE`], or the statement prepared for it.
///
/// # Errors
/// The connection is lost, or what the server says.
pub fn signature(
    db: &mut Client,
    statement: &(impl ToStatement + ?Sized),
    wanted: &CatalogRequest<'_>,
) -> Result<String> {
    let names = wanted.names();
    let (schemas, tables): (Vec<&str>, Vec<&str>) = names.iter().map(|(s, t)| (s.as_str(), t.as_str())).unzip();
    Ok(db.query_one(statement, &[&schemas, &tables, &&wanted.publications[..]])?.get(0))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_are_split_at_the_dot_outside_of_quotes() {
        let split = |s| split_name(s, "public");
        let pair = |a: &str, b: &str| (a.to_string(), b.to_string());
        assert_eq!(split("calls"), pair("public", "calls"));
        assert_eq!(split("ops.calls"), pair("ops", "calls"));
        assert_eq!(split("\"a.b\".\"Ü \"\"x\"\"\""), pair("a.b", "Ü \"x\""));
    }
}
