//! The envelope: JSON-RPC 2.0, one message in each text message of the socket, no batches.

use serde::Serialize;
use serde_json::{Map, Value as Json, json};

use crate::call::Call;
use crate::error::{RpcError, code};

/// Most bytes of a call's id: it is retained until the call is answered.
pub const MAX_CALL_ID: usize = 128;

/// A call as it arrived, before its parameters are read.
#[derive(Clone, Debug, PartialEq)]
pub struct Request {
    /// The client's own id of the call, which the answer repeats.
    pub id: Json,
    /// The call's name.
    pub method: String,
    /// Its parameters.
    pub params: Map<String, Json>,
}

/// Why a message is no call.
#[derive(Clone, Debug, PartialEq)]
pub struct InvalidRequest {
    /// The id to answer under; null where there is none that could be repeated.
    pub id: Json,
    /// What is not as JSON-RPC 2.0 has it.
    pub error: RpcError,
}

impl Request {
    /// Reads a message. `None`: a notification by the standard, which gets no answer, and every call here is about
    /// its answer.
    ///
    /// # Errors
    /// What is not as JSON-RPC 2.0 has it.
    pub fn read(text: &str) -> Result<Option<Request>, Box<InvalidRequest>> {
        let no = |id: Json, error: RpcError| Box::new(InvalidRequest { id, error });
        let nameless = |code: i64, what: String| no(Json::Null, RpcError::new(code, what));
        let call: Json = serde_json::from_str(text)
            .map_err(|e| nameless(code::PARSE, format!("not JSON: line {}, column {}", e.line(), e.column())))?;
        let Json::Object(mut call) = call else {
            let what = if call.is_array() { "batches are not part of gossip.v1" } else { "expected an object" };
            return Err(nameless(code::INVALID_REQUEST, what.into()));
        };
        let id = call.remove("id");
        let ok_id = match &id {
            None | Some(Json::Number(_)) => true,
            Some(Json::String(text)) => text.len() <= MAX_CALL_ID,
            Some(_) => false,
        };
        let method = call.get("method").and_then(Json::as_str).map(String::from);
        let version = call.get("jsonrpc").and_then(Json::as_str) == Some("2.0");
        let (Some(method), true, true) = (method, ok_id, version) else {
            let text = "expected {\"jsonrpc\":\"2.0\",\"id\":…,\"method\":\"…\",\"params\":{…}} with a number or a \
                        string of at most 128 bytes as id";
            let id = id.filter(|_| ok_id).unwrap_or(Json::Null);
            return Err(no(id, RpcError::new(code::INVALID_REQUEST, text)));
        };
        let Some(id) = id else { return Ok(None) };
        let params = match call.remove("params") {
            None => Map::new(),
            Some(Json::Object(params)) => params,
            Some(_) => return Err(no(id, RpcError::invalid("params: expected an object"))),
        };
        Ok(Some(Request { id, method, params }))
    }
}

/// A call in its envelope.
pub fn request(id: u64, call: &Call) -> String {
    #[derive(Serialize)]
    struct Envelope<'a> {
        jsonrpc: &'static str,
        id: u64,
        #[serde(flatten)]
        call: &'a Call,
    }
    // Maps with texts as keys cannot fail.
    serde_json::to_string(&Envelope { jsonrpc: "2.0", id, call }).unwrap_or_default()
}

/// What stands before the body that subscribers of a feed share.
pub fn delta_head(subscription: u64) -> String {
    format!("{{\"jsonrpc\":\"2.0\",\"method\":\"delta\",\"params\":{{\"subscription\":{subscription}")
}

/// An answer with a result.
pub fn reply(id: &Json, result: impl Serialize) -> String {
    json!({"jsonrpc": "2.0", "id": id, "result": result}).to_string()
}

/// An answer with an error.
pub fn refuse(id: &Json, error: &RpcError) -> String {
    json!({"jsonrpc": "2.0", "id": id, "error": error}).to_string()
}

/// A notification.
pub fn notify(method: &str, params: Json) -> String {
    json!({"jsonrpc": "2.0", "method": method, "params": params}).to_string()
}
