//! Which query is meant: one of the client's own, a stored one by its name, or one that the application has signed.

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::sync::Arc;

use gossip_core::budget::Owner;
use gossip_core::engine::{Compiler, Request};
use gossip_core::rule::Claims;
use gossip_protocol::{RpcError, code};
use serde_json::{Map, Value as Json};
use tokio::sync::watch;

use crate::admission::Admission;
use crate::auth::Tokens;

/// Texts up to this length, in bytes, are compiled in passing.
const SHORT: usize = 2_048;

/// Whom something is charged to.
pub fn owner(client: Option<u64>, claims: &Claims, address: SocketAddr) -> Arc<Owner> {
    Arc::new(Owner {
        connection: client.map(|id| id.to_string().into()),
        subject: claims.subject().map(Arc::from),
        address: Some(address.ip().to_string().into()),
    })
}

/// What a client says about its query.
#[derive(Clone, Debug, Default)]
pub struct QueryRef {
    /// An inline query.
    pub query: Option<String>,
    /// The name of a stored one.
    pub name: Option<String>,
    /// A signed one.
    pub grant: Option<String>,
    /// Parameters, of the client's own.
    pub params: Map<String, Json>,
}

/// Where queries come from.
#[derive(Clone, Debug)]
pub struct Askable {
    /// Who may come and with which queries.
    pub admission: Admission,
    /// Stored queries by name.
    pub queries: Arc<BTreeMap<String, String>>,
    /// Checks grants; `None`: grants are not accepted.
    pub tokens: Option<Arc<Tokens>>,
    /// What requests are compiled with, on the way to the loop; `None` where rights are decided elsewhere first.
    pub compiler: Option<watch::Receiver<Option<Compiler>>>,
}

impl Askable {
    /// The request that is meant, compiled, so that the loop need not.
    ///
    /// # Errors
    /// Not exactly one of query, name and grant is given, or the one given is not known or not permitted.
    pub async fn request(&self, asked: QueryRef, claims: Arc<Claims>, owner: Arc<Owner>) -> Result<Request, RpcError> {
        let QueryRef { query, name, grant, params } = asked;
        let (query, params, trusted) = match (query, name, grant) {
            (Some(query), None, None) => {
                self.admission.own_query(&claims)?;
                (query, params, false)
            }
            (None, Some(name), None) => match self.queries.get(&name) {
                Some(query) => (query.clone(), params, true),
                None => {
                    let shown: String = name.chars().take(60).collect();
                    return Err(RpcError::new(code::UNKNOWN_NAME, format!("there is no stored query {shown}")));
                }
            },
            (None, None, Some(grant)) => {
                let refused = |e: String| RpcError::new(code::NOT_AUTHENTICATED, e);
                let no_tokens = || refused("this instance takes no tokens, and no grants".into());
                let tokens = self.tokens.as_ref().ok_or_else(no_tokens)?;
                let granted = tokens.grant(&grant, &claims).await.map_err(refused)?;
                if !params.is_empty() {
                    return Err(RpcError::invalid("params: those of a grant are in the grant"));
                }
                (granted.query, granted.params, true)
            }
            (None, None, None) => return Err(RpcError::missing("query")),
            _ => return Err(RpcError::invalid("query, name and grant: expected one of them")),
        };
        let owner = Some(owner);
        let mut request = Request { query, params, claims, trusted, owner, ..Request::default() };
        let compiler = self.compiler.as_ref().and_then(|c| c.borrow().clone());
        if let Some(compiler) = compiler {
            // What takes long is not to hold up other connections either.
            if request.query.len() + request.params.len() > SHORT {
                let work = move || {
                    request.compiled = Some(compiler.compiled(&request));
                    request
                };
                let stops = |_| RpcError::new(code::UNAVAILABLE, "the instance stops");
                return tokio::task::spawn_blocking(work).await.map_err(stops);
            }
            request.compiled = Some(compiler.compiled(&request));
        }
        Ok(request)
    }
}
