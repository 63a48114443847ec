//! A query that groups, orders or limits, its rows, and what happens to them: what clients are told is what the query means, as
//! a second evaluation works it out from nothing.
//!
//! The bytes are the seed of the random numbers that a case is made of: taken as the numbers themselves they would end, and
//! some are drawn again until they fit.

use std::cell::RefCell;

use proptest::strategy::{Strategy as _, ValueTree as _};
use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};

#[path = "../../crates/core/tests/arranged/applied.rs"]
mod applied;
#[path = "../../crates/core/tests/arranged/case.rs"]
#[allow(dead_code, reason = "it is a test's, too")]
mod case;
#[path = "../../crates/core/tests/arranged/naive.rs"]
#[allow(clippy::unwrap_used, reason = "it is a test's, too")]
mod naive;
#[path = "../../crates/core/tests/arranged/others.rs"]
#[allow(clippy::unwrap_used, reason = "it is a test's, too")]
mod others;
#[path = "../../crates/core/tests/common/page.rs"]
#[allow(clippy::unwrap_used, reason = "it is a test's, too")]
mod page;
#[path = "../../crates/core/tests/arranged/queries.rs"]
#[allow(dead_code, clippy::unwrap_used, reason = "it is a test's, too")]
mod queries;
#[path = "../../crates/core/tests/common/wanted.rs"]
mod wanted;
#[path = "../../crates/core/tests/arranged/world.rs"]
#[allow(dead_code, clippy::unwrap_used, reason = "it is a test's, too")]
mod world;

/// Runs the case that the bytes stand for.
///
/// # Panics
/// A client is told something else than what holds.
pub fn run(data: &[u8]) {
    let rng = TestRng::from_seed(RngAlgorithm::ChaCha, &seed(data));
    let mut runner = TestRunner::new_with_rng(Config { failure_persistence: None, ..Config::default() }, rng);
    let Ok(case) = case::case().new_tree(&mut runner) else { return };
    let outcome = world::run(&case.current(), &RefCell::default());
    assert!(outcome.is_ok(), "{outcome:?}");
}

/// A seed of as many bytes as it has to have, in which every byte counts.
fn seed(data: &[u8]) -> [u8; 32] {
    let mut seed = [0_u8; 32];
    for (i, byte) in data.iter().enumerate() {
        let at = &mut seed[i % 32];
        *at = at.rotate_left(3) ^ byte;
    }
    seed
}
