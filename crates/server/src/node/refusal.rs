//! Refusals of the engine, as the protocol says them.

use gossip_core::engine::Refusal;
use gossip_core::query::QueryError;
use gossip_protocol::{RpcError, code};
use serde_json::json;

/// Internal failures are not for clients: they get an incident number under which the log has the cause.
fn unavailable(what: &str, why: &str) -> RpcError {
    let incident = format!("{:08x}", rand::random::<u32>());
    tracing::warn!(%incident, "{what}: {why}");
    RpcError::new(code::UNAVAILABLE, format!("not available now: {what}; try again in a second"))
        .with(json!({"retry_after_ms": 1_000, "incident": incident}))
}

/// A refusal as the protocol says it.
pub fn refused(refusal: &Refusal) -> RpcError {
    match refusal {
        Refusal::Query(e @ QueryError::NotKnown { line, column, .. }) => {
            RpcError::new(code::NOT_KNOWN, e.to_string()).with(json!({"line": line, "column": column}))
        }
        Refusal::Query(e @ QueryError::Invalid { line, column, expected, .. }) => {
            RpcError::new(code::QUERY, e.to_string())
                .with(json!({"line": line, "column": column, "expected": expected}))
        }
        Refusal::Query(e @ QueryError::Parameter(_)) => RpcError::new(code::QUERY, e.to_string()),
        Refusal::Limit(which) => RpcError::new(code::LIMIT, format!("limit reached: {which}")),
        Refusal::Unavailable(why) => unavailable("the source cannot be read at the moment", why),
        Refusal::Undecided(why) => unavailable("the decision service did not answer", why),
        Refusal::Failed(error) => RpcError::new(code::QUERY_FAILED, format!("the query fails on a row: {error}"))
            .with(json!({"message": error.to_string()})),
        Refusal::Expired => RpcError::new(code::NOT_AUTHENTICATED, "the token has expired"),
        Refusal::SchemaChanged(why) | Refusal::RightsChanged(why) => RpcError::new(code::NOT_KNOWN, why.clone()),
    }
}
