//! What must hold whatever arrives from a client, a broker, a database or a file.
//!
//! Each module is one way in, and its `run` takes any bytes there. A fuzzer looks for bytes that break it; the seeds that
//! it begins with are run by `cargo test` as well, so that none of this falls behind the code. None may panic, and what
//! is taken must mean the same when it is written out and read again.
#![warn(missing_docs)]

pub mod arranged;
pub mod calls;
pub mod configuration;
pub mod cursors;
pub mod pgoutput;
pub mod query;
pub mod relay;

use std::borrow::Cow;

fn text(data: &[u8]) -> Cow<'_, str> {
    String::from_utf8_lossy(data)
}
