//! JSON objects in which every name stands once. A token that says two things of the same name means whatever its
//! reader likes; such a one is refused.

use std::fmt;

use serde::de::{Deserialize, Deserializer, Error, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Value as Json};

/// Reads an object. Nesting is limited by the reader.
///
/// # Errors
/// It is no JSON object, or has a name twice.
pub fn object(bytes: &[u8]) -> Result<Map<String, Json>, String> {
    match serde_json::from_slice(bytes) {
        Ok(Unique(Json::Object(map))) => Ok(map),
        Ok(_) => Err("an object is expected".into()),
        // The reader's own words may repeat what stands in the token.
        Err(e) if e.to_string().starts_with("a name occurs twice") => Err("a name occurs twice".into()),
        Err(_) => Err("it cannot be read".into()),
    }
}

struct Unique(Json);

impl<'de> Deserialize<'de> for Unique {
    fn deserialize<D: Deserializer<'de>>(d: D) -> Result<Self, D::Error> {
        d.deserialize_any(Values).map(Unique)
    }
}

struct Values;

impl<'de> Visitor<'de> for Values {
    type Value = Json;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("JSON")
    }

    fn visit_bool<E>(self, v: bool) -> Result<Json, E> {
        Ok(v.into())
    }

    fn visit_i64<E>(self, v: i64) -> Result<Json, E> {
        Ok(v.into())
    }

    fn visit_u64<E>(self, v: u64) -> Result<Json, E> {
        Ok(v.into())
    }

    fn visit_f64<E>(self, v: f64) -> Result<Json, E> {
        Ok(v.into())
    }

    fn visit_str<E>(self, v: &str) -> Result<Json, E> {
        Ok(v.into())
    }

    fn visit_unit<E>(self) -> Result<Json, E> {
        Ok(Json::Null)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut list: A) -> Result<Json, A::Error> {
        let mut values = Vec::new();
        while let Some(Unique(v)) = list.next_element()? {
            values.push(v);
        }
        Ok(values.into())
    }

    fn visit_map<A: MapAccess<'de>>(self, mut entries: A) -> Result<Json, A::Error> {
        let mut map = Map::new();
        while let Some((name, Unique(value))) = entries.next_entry::<String, Unique>()? {
            if map.insert(name, value).is_some() {
                return Err(A::Error::custom("a name occurs twice"));
            }
        }
        Ok(map.into())
    }
}
