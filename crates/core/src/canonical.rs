//! The canonical binary encoding of everything that has an identity: tables, rules, queries, keys, sub-selects.
//!
//! Two things are the same if and only if their encodings are equal byte for byte, on every instance and in every release
//! with the same [`VERSION`]. Nothing that is stored, sent or compared between instances may be hashed in any other
//! form: `Debug` output omits things, and `Hash` differs between releases of the standard library.
//!
//! The encoding: variants begin with a tag, and every text, list and byte string
//! with its length as a 64-bit big-endian number, so that different things never have the same bytes.

use sha2::{Digest, Sha256};

/// The version of the encoding. A change of anything below is a new version; identities of different versions differ.
pub const VERSION: u8 = 2;

/// Builds an encoding.
#[derive(Debug, Default)]
pub struct Encoder(Vec<u8>);

/// Something that has a canonical encoding.
pub trait Canonical {
    /// Appends the encoding.
    fn encode(&self, to: &mut Encoder);
}

impl Encoder {
    /// Starts an encoding. `domain` separates identities of different kinds.
    pub fn new(domain: &str) -> Encoder {
        let mut encoder = Encoder(vec![VERSION]);
        encoder.text(domain);
        encoder
    }

    /// Appends a tag.
    pub fn tag(&mut self, tag: u8) {
        self.0.push(tag);
    }

    /// Appends a number.
    pub fn number(&mut self, n: u64) {
        self.0.extend_from_slice(&n.to_be_bytes());
    }

    /// Appends a byte string with its length.
    pub fn bytes(&mut self, bytes: &[u8]) {
        self.number(bytes.len() as u64);
        self.0.extend_from_slice(bytes);
    }

    /// Appends a text with its length.
    pub fn text(&mut self, text: &str) {
        self.bytes(text.as_bytes());
    }

    /// Appends something that may be absent.
    pub fn option<T>(&mut self, of: Option<T>, encode: impl FnOnce(T, &mut Encoder)) {
        match of {
            None => self.tag(0),
            Some(inner) => {
                self.tag(1);
                encode(inner, self);
            }
        }
    }

    /// Appends a list with its length.
    pub fn list<T: Canonical>(&mut self, items: &[T]) {
        self.number(items.len() as u64);
        items.iter().for_each(|item| item.encode(self));
    }

    /// The bytes so far.
    pub fn into_bytes(self) -> Vec<u8> {
        self.0
    }

    /// SHA-256 of the bytes so far.
    pub fn digest(&self) -> [u8; 32] {
        Sha256::digest(&self.0).into()
    }

    /// The first 64 bits of [`Encoder::digest`], for small sets.
    pub fn short_digest(&self) -> u64 {
        let [a, b, c, d, e, f, g, h, ..] = self.digest();
        u64::from_be_bytes([a, b, c, d, e, f, g, h])
    }

    /// [`Encoder::digest`] in hexadecimal.
    pub fn hex_digest(&self) -> String {
        self.digest().iter().map(|b| format!("{b:02x}")).collect()
    }
}

impl<T: Canonical + ?Sized> Canonical for &T {
    fn encode(&self, to: &mut Encoder) {
        (**self).encode(to);
    }
}

impl<A: Canonical, B: Canonical> Canonical for (A, B) {
    fn encode(&self, to: &mut Encoder) {
        self.0.encode(to);
        self.1.encode(to);
    }
}

impl Canonical for str {
    fn encode(&self, to: &mut Encoder) {
        to.text(self);
    }
}

impl Canonical for String {
    fn encode(&self, to: &mut Encoder) {
        to.text(self);
    }
}

impl Canonical for usize {
    fn encode(&self, to: &mut Encoder) {
        to.number(*self as u64);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::schema::{Column, Table, TableName};
    use crate::value::{Type, Value};

    fn encoded(v: &Value) -> Vec<u8> {
        let mut e = Encoder::new("test");
        v.encode(&mut e);
        e.into_bytes()
    }

    fn value() -> impl Strategy<Value = Value> {
        prop_oneof![
            Just(Value::Null),
            any::<bool>().prop_map(Value::Bool),
            any::<i64>().prop_map(Value::Int),
            any::<f64>().prop_map(Value::Float),
            any::<f32>().prop_map(Value::Float4),
            "-?[0-9]{1,3}(\\.[0-9]{1,3})?".prop_map(|s| Value::decimal(&s).unwrap_or(Value::Null)),
            ".{0,3}".prop_map(Value::from),
            proptest::collection::vec(0..2_u8, 0..80).prop_map(|b| Value::Bytes(b.into())),
            any::<i32>().prop_map(Value::Date),
            any::<i64>().prop_map(Value::Timestamp),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 2_000, failure_persistence: None, ..ProptestConfig::default() })]

        #[test]
        fn encodings_are_equal_exactly_where_values_are_identical(a in value(), b in value()) {
            prop_assert_eq!(encoded(&a) == encoded(&b), a == b);
        }
    }

    #[test]
    fn values_that_differ_only_far_behind_are_different() {
        let long = |last: u8| Value::Bytes([vec![7; 100], vec![last]].concat().into());
        assert_ne!(encoded(&long(1)), encoded(&long(2)));
        let list = |items: &[&str]| {
            let mut e = Encoder::new("test");
            e.list(items);
            e.into_bytes()
        };
        assert_ne!(list(&["ab", "c"]), list(&["a", "bc"]));
        assert_ne!(Encoder::new("a").digest(), Encoder::new("b").digest());
    }

    /// Fails when the encoding changes without its version: identities are shared between releases.
    #[test]
    fn the_encoding_is_what_its_version_says() {
        let table = Table {
            name: TableName::parse("ops.calls"),
            source: "harbour".into(),
            columns: vec![
                Column { name: "id".into(), ty: Type::Int8 },
                Column { name: "fee".into(), ty: Type::Numeric },
            ],
            key: vec![0],
            old_values: true,
            incarnation: 7,
        };
        let mut e = Encoder::new("table");
        table.encode(&mut e);
        Value::decimal("-12.50").unwrap_or(Value::Null).encode(&mut e);
        assert_eq!((VERSION, e.short_digest()), (2, 8_587_152_724_602_449_586));
    }
}
