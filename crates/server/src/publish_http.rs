//! `POST /v1/events`: events in the standard's three forms over HTTP (CloudEvents 1.0, HTTP binding): structured, binary
//! and batched. An event's type is the topic.

use std::net::SocketAddr;
use std::sync::Arc;

use axum::body::Bytes;
use axum::extract::{ConnectInfo, State as Shared};
use axum::http::{HeaderMap, StatusCode, header};
use axum::response::{IntoResponse, Response};
use gossip_core::rule::Claims;
use gossip_protocol::cloudevent::{CloudEvent, MAX_EVENT};
use gossip_protocol::{RpcError, code};
use serde_json::{Map, Value as Json, json};
use tokio::sync::oneshot;

use crate::node::{Command, Publish, Published};
use crate::requests::{Front, bearer, refuse};

/// Events of one call.
const MAX_BATCH: usize = 100;

/// Bytes of one call.
pub const MAX_BODY: usize = 4 * MAX_EVENT;

/// Takes events, one after the other. What was taken before one that is refused stays taken: with the same ids all of
/// them can be sent again.
pub async fn events(
    Shared(front): Shared<Arc<Front>>,
    ConnectInfo(address): ConnectInfo<SocketAddr>,
    headers: HeaderMap,
    body: Bytes,
) -> Response {
    match take(&front, &headers, &body).await {
        Ok(taken) => {
            let positions: Vec<&str> = taken.iter().map(|of| &*of.position).collect();
            let older: Vec<usize> = taken.iter().enumerate().filter(|(_, of)| of.older).map(|(i, _)| i).collect();
            let mut body = json!({"positions": positions});
            if !older.is_empty() {
                body["older"] = json!(older);
            }
            (StatusCode::OK, axum::Json(body)).into_response()
        }
        Err(e) => refuse(&front, &address, "events", &e),
    }
}

async fn take(front: &Front, headers: &HeaderMap, body: &[u8]) -> Result<Vec<Published>, RpcError> {
    let who = front.who(bearer(headers).as_deref()).await?;
    let claims = Arc::new(who.map_or_else(Claims::anonymous, |a| a.claims));
    let events = read(headers, body)?;
    let stops = || RpcError::new(code::UNAVAILABLE, "the instance stops");
    let mut taken: Vec<Published> = Vec::with_capacity(events.len());
    for (i, event) in events.into_iter().enumerate() {
        let (answer, answered) = oneshot::channel();
        let publish = Publish { topic: event.kind.clone(), claims: claims.clone(), event, answer };
        front.asks.send(Command::Publish(Box::new(publish))).await.map_err(|_| stops())?;
        match answered.await.map_err(|_| stops())? {
            Ok(published) => taken.push(published),
            Err(e) => {
                let taken: Vec<&str> = taken.iter().map(|of| &*of.position).collect();
                return Err(e.with(json!({"event": i, "taken": taken})));
            }
        }
    }
    Ok(taken)
}

fn read(headers: &HeaderMap, body: &[u8]) -> Result<Vec<CloudEvent>, RpcError> {
    let form = headers.get(header::CONTENT_TYPE).and_then(|v| v.to_str().ok()).unwrap_or("");
    let form = form.split(';').next().unwrap_or("").trim().to_ascii_lowercase();
    let whole = |e: String| RpcError::invalid(format!("the event: {e}"));
    match form.as_str() {
        "application/cloudevents+json" => Ok(vec![CloudEvent::read(body).map_err(whole)?]),
        "application/cloudevents-batch+json" => {
            let batch: Vec<CloudEvent> = serde_json::from_slice(body).map_err(|e| {
                RpcError::invalid(format!("not a batch of CloudEvents: line {}, column {}", e.line(), e.column()))
            })?;
            if batch.len() > MAX_BATCH {
                return Err(RpcError::new(
                    code::LIMIT,
                    format!("limit reached: events of one call, at most {MAX_BATCH}"),
                ));
            }
            for (i, event) in batch.iter().enumerate() {
                event.check().map_err(|e| RpcError::invalid(format!("event {i}: {e}")))?;
            }
            Ok(batch)
        }
        _ if headers.contains_key("ce-specversion") => binary(headers, &form, body).map(|event| vec![event]),
        _ => Err(RpcError::invalid(
            "content-type: expected application/cloudevents+json, application/cloudevents-batch+json, or JSON with the \
             attributes in headers (ce-specversion, ce-id, ce-source, ce-type)",
        )),
    }
}

/// The binary form: attributes in headers, the data as the body.
fn binary(headers: &HeaderMap, form: &str, body: &[u8]) -> Result<CloudEvent, RpcError> {
    let mut attributes = Map::new();
    for (name, value) in headers {
        if let Some(name) = name.as_str().strip_prefix("ce-") {
            let text = value.to_str().map_err(|_| RpcError::invalid(format!("ce-{name}: expected ASCII")))?;
            let text = percent_encoding::percent_decode_str(text).decode_utf8_lossy();
            attributes.insert(name.into(), Json::from(text.as_ref()));
        }
    }
    if !form.is_empty() {
        attributes.insert("datacontenttype".into(), form.into());
    }
    if !body.is_empty() {
        let data = serde_json::from_slice(body)
            .map_err(|e| RpcError::invalid(format!("data: not JSON: line {}, column {}", e.line(), e.column())))?;
        attributes.insert("data".into(), data);
    }
    let event: CloudEvent = serde_json::from_value(Json::from(attributes))
        .map_err(|_| RpcError::invalid("ce-…: not the attributes of a CloudEvent"))?;
    event.check().map_err(RpcError::invalid)?;
    Ok(event)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn of(headers: &[(&'static str, &str)], body: &str) -> Result<Vec<CloudEvent>, String> {
        let mut map = HeaderMap::new();
        for (name, value) in headers {
            map.insert(*name, value.parse().unwrap());
        }
        read(&map, body.as_bytes()).map_err(|e| e.message)
    }

    #[test]
    fn the_three_forms_are_read_and_others_refused_with_a_reason() {
        let one = r#"{"specversion":"1.0","id":"1","source":"/s","type":"tide","data":{"a":1}}"#;
        let structured = of(&[("content-type", "application/cloudevents+json; charset=utf-8")], one).unwrap();
        let batch = of(&[("content-type", "application/cloudevents-batch+json")], &format!("[{one},{one}]")).unwrap();
        assert_eq!(batch, [structured.clone(), structured.clone()].concat());
        let attributes = [("ce-specversion", "1.0"), ("ce-id", "1"), ("ce-source", "/s"), ("ce-type", "tide")];
        let with_type = [&attributes[..], &[("content-type", "application/json")]].concat();
        let binary = of(&with_type, r#"{"a":1}"#).unwrap();
        assert_eq!((&binary[0].data, &binary[0].id, &binary[0].kind), (&json!({"a": 1}), &"1".into(), &"tide".into()));
        for (headers, body, why) in [
            (&[("content-type", "text/plain")][..], "x", "content-type: expected"),
            (&[("content-type", "application/cloudevents+json")][..], "{", "not JSON"),
            (&[("content-type", "application/cloudevents-batch+json")][..], "{}", "not a batch"),
            (&attributes[..3], "{}", "attributes of a CloudEvent"),
            (&with_type[..], "{", "data: not JSON"),
        ] {
            let e = of(headers, body).unwrap_err();
            assert!(e.contains(why), "{e}");
        }
        let many = format!("[{}]", vec![one; MAX_BATCH + 1].join(","));
        assert!(of(&[("content-type", "application/cloudevents-batch+json")], &many).unwrap_err().contains("limit"));
    }
}
