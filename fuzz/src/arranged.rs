//! A query that groups, orders or limits, its rows, and what happens to them: what clients are told is what the query means, as
//! a second evaluation works it out from nothing.
//!
//! The bytes are what random numbers are taken from, so that whatever can happen has bytes for it. What follows from them
//! comes after them: where they end, a number would be zero for ever, and some are drawn again until they fit.

use std::cell::RefCell;

use proptest::strategy::{Strategy as _, ValueTree as _};
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};

#[path = "../../crates/core/tests/arranged/naive.rs"]
#[allow(clippy::unwrap_used, reason = "it is a test's, too")]
mod naive;
#[path = "../../crates/core/tests/arranged/queries.rs"]
#[allow(dead_code, clippy::unwrap_used, reason = "it is a test's, too")]
mod queries;
#[path = "../../crates/core/tests/arranged/world.rs"]
#[allow(dead_code, clippy::unwrap_used, reason = "it is a test's, too")]
mod world;

/// Runs the case that the bytes stand for.
///
/// # Panics
/// A client is told something else than what holds.
pub fn run(data: &[u8]) {
    let rng = TestRng::from_seed(RngAlgorithm::PassThrough, &continued(data));
    let mut runner = TestRunner::new_with_rng(Config { failure_persistence: None, ..Config::default() }, rng);
    let Ok(case) = world::case().new_tree(&mut runner) else { return };
    let outcome = world::run(&case.current(), &RefCell::default());
    assert!(outcome.is_ok(), "{outcome:?}");
}

/// More than any case takes.
const MORE: usize = 1 << 18;

/// The bytes, and many more that follow from them.
fn continued(data: &[u8]) -> Vec<u8> {
    let hash = data.iter().fold(0x9e37_79b9_7f4a_7c15_u64, |hash, byte| {
        (hash ^ u64::from(*byte)).wrapping_mul(0x0100_0000_01b3).rotate_left(23)
    });
    let mut state = hash | 1;
    let more = std::iter::repeat_with(|| {
        // Marsaglia's xorshift.
        state ^= state << 13;
        state ^= state >> 7;
        state ^= state << 17;
        state.to_le_bytes()
    });
    data.iter().copied().chain(more.take(MORE / 8).flatten()).collect()
}
