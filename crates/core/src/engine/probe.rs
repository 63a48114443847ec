//! Keys as they are looked up.

use crate::value::Value;

/// A key as it is looked up: equal if SQL's `=` holds.
pub(super) type Probe = Box<[Value]>;

/// The probe of a key; `None` if a part of it equals nothing.
pub(super) fn probe(key: &[Value]) -> Option<Probe> {
    key.iter().map(Value::probe).collect()
}
