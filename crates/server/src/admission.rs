//! Who may come and with which queries, before any rule is looked at.

use std::time::Duration;

use axum::http::{HeaderMap, HeaderName, Method, header};
use gossip_core::rule::Claims;
use gossip_protocol::{RpcError, code};
use tower_http::cors::{AllowOrigin, CorsLayer};

/// Who may come and with which queries.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Admission {
    /// Whether clients may only ask stored queries, by name. Operators may always ask their own.
    pub stored_only: bool,
    /// The origins (RFC 6454) from which browsers may come; `None`: all. Other programs have none and may come.
    pub origins: Option<Vec<String>>,
    /// A client that was silent for so long, despite pings, is disconnected.
    pub silence: Duration,
}

impl Default for Admission {
    fn default() -> Admission {
        Admission { stored_only: false, origins: None, silence: Duration::from_secs(60) }
    }
}

impl Admission {
    /// Refuses a query that is not stored.
    ///
    /// # Errors
    /// Only stored queries are accepted.
    pub fn own_query(&self, claims: &Claims) -> Result<(), RpcError> {
        if self.stored_only && !claims.operator {
            let text = "this instance answers stored queries only: give its name instead of a query";
            return Err(RpcError::new(code::NOT_KNOWN, text));
        }
        Ok(())
    }

    pub(crate) fn lets_in(&self, headers: &HeaderMap) -> bool {
        let Some(allowed) = &self.origins else { return true };
        let origin = headers.get(header::ORIGIN).map(|o| o.to_str().unwrap_or(""));
        origin.is_none_or(|o| allowed.iter().any(|a| a == o))
    }

    /// The CORS headers for browsers (Fetch, 3.2).
    pub(crate) fn cors(&self) -> CorsLayer {
        let allowed = match &self.origins {
            None => AllowOrigin::any(),
            Some(list) => AllowOrigin::list(list.iter().filter_map(|o| o.parse().ok())),
        };
        CorsLayer::new().allow_origin(allowed).allow_methods([Method::GET, Method::POST]).allow_headers([
            header::AUTHORIZATION,
            header::CONTENT_TYPE,
            HeaderName::from_static("last-event-id"),
        ])
    }
}
