//! The demo's own counts are honest: nothing is missing when nothing is lost, and what is lost is seen.
#![allow(clippy::unwrap_used)]

use gossip::demo::headless::Lose;
use gossip::demo::headless::Options;
use gossip::demo::headless::run;

const OPTIONS: Options = Options { seconds: 4, pace: 60.0, seed: 1860, lose: None };

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_missed_and_no_row_is_wrong() {
    let summary = run(OPTIONS, None, None).await.unwrap();
    assert_eq!((summary.missed_deltas, summary.wrong_rows), (0, 0), "{}", summary.to_text());
    assert!(summary.transactions > 100 && summary.watchers.iter().all(|w| w.heard > 0), "{}", summary.to_text());
    let json = summary.to_json();
    for name in ["changes", "instances", "watchers", "missed_deltas", "wrong_rows", "latency_ms"] {
        assert!(!json[name].is_null(), "{name}");
    }
    assert!(json["watchers"][1]["withheld"].as_u64() > Some(0));
}

#[tokio::test(flavor = "multi_thread")]
async fn one_lost_delta_is_counted_also_when_a_later_one_overwrites_it() {
    // Imre hears everything; what his third delta changed has long changed again at the end.
    let summary = run(Options { lose: Some((0, Lose::One(3))), ..OPTIONS }, None, None).await.unwrap();
    assert!(summary.missed_deltas >= 1, "{}", summary.to_text());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_result_that_stays_behind_is_counted() {
    let summary = run(Options { lose: Some((1, Lose::From(5))), ..OPTIONS }, None, None).await.unwrap();
    assert!(summary.missed_deltas > 10 && summary.wrong_rows > 0, "{}", summary.to_text());
}
