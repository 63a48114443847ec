//! Errors of calls, as JSON-RPC 2.0 has them.

use serde::{Deserialize, Serialize};
use serde_json::Value as Json;

/// JSON-RPC error codes of the protocol.
pub mod code {
    /// The text is not JSON.
    pub const PARSE: i64 = -32700;
    /// Not a JSON-RPC 2.0 request.
    pub const INVALID_REQUEST: i64 = -32600;
    /// No such call.
    pub const NO_SUCH_CALL: i64 = -32601;
    /// The parameters do not fit the call.
    pub const INVALID_PARAMS: i64 = -32602;
    /// Something is wrong inside the instance.
    pub const INTERNAL: i64 = -32603;
    /// Not authenticated, or the token was refused.
    pub const NOT_AUTHENTICATED: i64 = -32001;
    /// Unknown or not permitted; the two are indistinguishable.
    pub const NOT_KNOWN: i64 = -32002;
    /// The query is not valid.
    pub const QUERY: i64 = -32003;
    /// No stored query, topic or subscription of that name.
    pub const UNKNOWN_NAME: i64 = -32004;
    /// A limit is reached.
    pub const LIMIT: i64 = -32005;
    /// Not available now.
    pub const UNAVAILABLE: i64 = -32006;
    /// The query fails on a row.
    pub const QUERY_FAILED: i64 = -32007;
}

/// An error answer.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct RpcError {
    /// One of [`code`].
    pub code: i64,
    /// What, where and what to do.
    pub message: String,
    /// More, for programs.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub data: Option<Json>,
}

impl RpcError {
    /// An error without further data.
    pub fn new(code: i64, message: impl Into<String>) -> RpcError {
        RpcError { code, message: message.into(), data: None }
    }

    /// A parameter is not as it should be.
    pub fn invalid(message: impl Into<String>) -> RpcError {
        RpcError::new(code::INVALID_PARAMS, message)
    }

    /// A parameter is not there.
    pub fn missing(name: &str) -> RpcError {
        RpcError::invalid(format!("{name} is missing"))
    }

    /// Adds data for programs.
    pub fn with(mut self, data: Json) -> RpcError {
        self.data = Some(data);
        self
    }
}

impl std::fmt::Display for RpcError {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{} ({})", self.message, self.code)
    }
}

impl std::error::Error for RpcError {}
