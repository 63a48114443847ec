//! The conformance vectors that every client has to pass (`clients/vectors`): frames in, result out.
#![allow(clippy::unwrap_used, clippy::panic, missing_docs)]

use std::path::Path;

use gossip_client::ResultSet;
use gossip_client::result_set::JsonRow;
use gossip_protocol::{Notification, RowEntry, Shape};
use serde::Deserialize;
use serde_json::Value as Json;

/// What comes, and what the result is then.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Vector {
    name: String,
    frames: Vec<Json>,
    /// Whether it has to be noticed that something is missing.
    #[serde(default)]
    fails: bool,
    #[serde(default)]
    rows: Vec<RowEntry>,
    #[serde(default)]
    cursor: String,
    #[serde(default)]
    complete: bool,
    columns: Option<Vec<String>>,
}

fn result(frames: &[Json]) -> Result<ResultSet, String> {
    let mut live: Option<ResultSet> = None;
    for frame in frames {
        match (frame.get("result"), &mut live) {
            (Some(answer), None) => live = Some(ResultSet::new(serde_json::from_value(answer.clone()).unwrap())),
            (Some(answer), Some(live)) => live.go_on(serde_json::from_value(answer.clone()).unwrap()),
            (None, live) => {
                let told: Notification = serde_json::from_value(frame.clone()).unwrap();
                live.as_mut().unwrap().apply(&told)?;
            }
        }
    }
    Ok(live.unwrap())
}

#[test]
fn every_vector_has_its_result() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../clients/vectors");
    let mut count = 0;
    for file in folder.read_dir().unwrap() {
        let text = std::fs::read_to_string(file.unwrap().path()).unwrap();
        let vectors: Vec<Vector> = serde_json::from_str(&text).unwrap();
        count += vectors.len();
        for vector in vectors {
            let name = &vector.name;
            let live = match result(&vector.frames) {
                Err(_) if vector.fails => continue,
                Err(e) => panic!("{name}: {e}"),
                Ok(_) if vector.fails => panic!("{name}: does not notice that something is missing"),
                Ok(live) => live,
            };
            let mut shown: Vec<&JsonRow> = live.in_order().collect();
            let mut expected: Vec<&JsonRow> = vector.rows.iter().map(|entry| &entry.row).collect();
            if live.shape == Shape::Keyed {
                // They have no order here.
                shown.sort_by_key(|row| Json::Object((*row).clone()).to_string());
                expected.sort_by_key(|row| Json::Object((*row).clone()).to_string());
            }
            assert_eq!(shown, expected, "{name}");
            assert_eq!((&live.cursor, !live.unfinished), (&vector.cursor, vector.complete), "{name}");
            let names: Vec<&String> = live.columns.iter().map(|column| &column.name).collect();
            assert!(
                vector.columns.iter().all(|expected| expected.iter().eq(names.iter().copied())),
                "{name}: {names:?}"
            );
        }
    }
    assert!(count >= 60, "{count} vectors");
}
