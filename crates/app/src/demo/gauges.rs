//! The scenario's gauges and its radio: a client that publishes, as any other program would.

use std::time::Duration;

use gossip_client::Session;
use gossip_protocol::Call;
use gossip_protocol::call::Publish;
use rand::rngs::StdRng;
use rand::seq::IndexedRandom;
use rand::{Rng, SeedableRng};
use serde_json::{Value as Json, json};

/// Time between two readings.
const EVERY: Duration = Duration::from_millis(1_500);

/// Time between two attempts to reach an instance.
const AGAIN: Duration = Duration::from_secs(1);

const SAID: [&str; 6] = [
    "pilot boat leaving the inner pier",
    "two tugs standing by at berth four",
    "visibility one mile at the outer mark",
    "outbound, clear of the bar",
    "dredger moving to the east channel",
    "request berth and line handlers",
];

/// The next report: topic and data.
fn report(rng: &mut StdRng, n: u32) -> (&'static str, Json) {
    let gauge = format!("gauge-{}", rng.random_range(1..4));
    let round = |x: f64, digits: f64| (x * digits).round() / digits;
    match rng.random_range(0..5) {
        0 => {
            let channel = [12, 16, 71][rng.random_range(0..3)];
            ("vhf", json!({"channel": channel, "text": SAID.choose(rng)}))
        }
        1 => {
            let (knots, from) = (round(rng.random_range(4.0..28.0), 10.0), rng.random_range(0..36) * 10);
            ("wind", json!({"gauge": gauge, "knots": knots, "from_deg": from}))
        }
        _ => {
            let level = 2.4 + 1.6 * (f64::from(n) / 40.0).sin() + rng.random_range(-0.05..0.05);
            ("tide", json!({"gauge": gauge, "level_m": round(level, 100.0)}))
        }
    }
}

/// Publishes until aborted. `urls` are the instances; when one is gone, the next is tried.
pub async fn run(urls: Vec<String>, token: String, seed: u64) {
    let mut rng = StdRng::seed_from_u64(seed);
    let mut n = 0;
    for url in urls.iter().cycle() {
        let Ok(mut session) = Session::connect(url, Some(&token)).await else {
            tokio::time::sleep(AGAIN).await;
            continue;
        };
        loop {
            let (topic, data) = report(&mut rng, n);
            n = n.wrapping_add(1);
            // A refused reading is not retried: the next one follows soon.
            match session.make(&Call::Publish(Publish { topic: topic.into(), data, id: None })).await {
                Ok(_) | Err(gossip_client::ClientError::Refused(_)) => {}
                Err(_) => break,
            }
            tokio::time::sleep(EVERY).await;
        }
    }
}
