//! The queries in the documentation are understood by the demo, and its stored queries too.
#![allow(clippy::unwrap_used)]

use gossip::demo::scene::Scene;
use gossip_client::{ResultSet, Session};
use gossip_protocol::Shape;
use serde_json::json;

const TEXT: &str = include_str!("../../../docs/queries.md");

/// The whole queries in blocks of SQL.
fn documented() -> Vec<String> {
    let blocks = TEXT.split("```sql\n").skip(1).filter_map(|rest| rest.split("```").next());
    blocks.map(|block| block.trim().to_string()).filter(|block| block.starts_with("SELECT")).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_documented_query_runs_on_the_demo() {
    let scene = Scene::start(None, None).await.unwrap_or_else(|e| panic!("{e:?}"));
    let now = gossip_server::now() / 1_000_000;
    let token = scene.tokens.mint_for("reader", &["control".to_string()], &Default::default(), now, 3_600).unwrap();
    let (_, address) = scene.cluster.places().into_iter().next().unwrap();
    let mut session = Session::connect(&address.to_string(), Some(&token)).await.unwrap();
    let tide = json!({"topic": "tide", "data": {"gauge": "North Head", "level_m": 1.5}});
    let gauge = scene.tokens.mint_for("gauge", &["gauge".to_string()], &Default::default(), now, 3_600).unwrap();
    let mut publisher = Session::connect(&address.to_string(), Some(&gauge)).await.unwrap();
    publisher.call("publish", tide).await.unwrap();
    let queries = documented();
    assert!(queries.len() > 7, "{queries:?}");
    for query in &queries {
        let answer = session.subscribe(query).await.unwrap_or_else(|e| panic!("{query}: {e}"));
        let ordered = query.contains("ORDER BY");
        assert_eq!(answer.shape == Shape::Ordered, ordered, "{query}");
        let begins_empty = answer.shape == Shape::Stream;
        assert!(begins_empty || ResultSet::new(answer).in_order().next().is_some(), "{query} finds nothing");
    }
    for name in scene.config.queries.keys() {
        let answer = session.call("subscribe", json!({ "name": name })).await;
        assert!(answer.is_ok(), "{name}: {answer:?}");
    }
    scene.cluster.stop().await;
}
