//! Queries that group, order, limit and count: whatever happens to the rows, and whenever a snapshot of them comes, what a
//! client holds is the result at the commit that it was told of, as [`naive`] works it out.
//!
//! 10,000 cases in every run; more with `PROPTEST_CASES`. What the cases reached is counted, and the test fails if it was
//! too little.
#![allow(clippy::unwrap_used)]

mod applied;
mod case;
mod naive;
mod others;
#[path = "../common/page.rs"]
mod page;
mod queries;
#[path = "../common/wanted.rs"]
mod wanted;
mod world;

use std::cell::RefCell;

use case::{RIGHTS, case, known};
use proptest::test_runner::{Config, TestRunner};
use queries::{KINDS, Kind};
use world::{Reached, run};

fn cases() -> u32 {
    std::env::var("PROPTEST_CASES").ok().and_then(|n| n.parse().ok()).unwrap_or(10_000)
}

#[test]
fn what_is_withdrawn_before_its_client_is_told_what_became_of_it_is_taken_back() {
    let cases = known();
    let mut found = 0;
    for case in &cases {
        let reached = RefCell::new(Reached::default());
        run(case, &reached).unwrap();
        let is = |what: &String| what.ends_with("withdrawn") || what.ends_with("fails");
        found += usize::from(reached.into_inner().0.keys().any(is));
    }
    // One of them is taken back before, and of three nothing is.
    assert_eq!(found, cases.len() - 4);
}

#[test]
fn a_result_is_what_its_rows_make_it() {
    let reached = RefCell::new(Reached::default());
    let mut runner = TestRunner::new(Config { cases: cases(), failure_persistence: None, ..Config::default() });
    runner.run(&case(), |case| run(&case, &reached)).unwrap();
    let reached = reached.into_inner();
    for (what, times) in &reached.0 {
        eprintln!("{what}: {times}");
    }
    // Of every kind of query every aspect, and often.
    let mut missing = Vec::new();
    for kind in KINDS {
        let mut aspects = vec!["delta with old values".to_string(), "delta without old values".into()];
        aspects.extend(RIGHTS.iter().map(|r| format!("delta under {r:?}")));
        aspects.extend(["ends with a result".into(), "withdrawn".into()]);
        if kind != Kind::Distinct {
            aspects.push("replace".into());
        }
        if kind != Kind::Whole {
            aspects.extend(["add".into(), "remove".into()]);
        }
        if matches!(kind, Kind::Ordered | Kind::Window | Kind::TopGroups) {
            aspects.push("move".into());
        }
        if kind == Kind::Window {
            aspects.extend(["reads a page".into(), "reads on".into()]);
        }
        for aspect in aspects {
            let times = reached.0.get(&format!("{kind:?}: {aspect}")).copied().unwrap_or(0);
            if times < cases() as usize / 2_500 {
                missing.push(format!("{kind:?}: {aspect} ({times})"));
            }
        }
    }
    // And of what it asks beside its table.
    let late = "told as of an earlier commit";
    let hows = ["IN", "NOT IN", "EXISTS", "NOT EXISTS", "fails", "withdrawn", "joined withdrawn", late];
    let joins = ["LEFT JOIN", "JOIN", "FROM o JOIN", "JOIN o q"];
    let under = |right: &_| [format!("under {right:?}"), format!("joined under {right:?}")];
    for what in hows.iter().chain(&joins).map(|what| what.to_string()).chain(RIGHTS.iter().flat_map(under)) {
        let times = reached.0.get(&format!("others: {what}")).copied().unwrap_or(0);
        if times < cases() as usize / if what.ends_with("withdrawn") { 5_000 } else { 1_000 } {
            missing.push(format!("others: {what} ({times})"));
        }
    }
    assert!(missing.is_empty(), "hardly reached: {missing:?}");
}
