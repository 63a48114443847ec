//! What the engine keeps of a subscription. Little: a million of them may share few feeds.

use std::sync::Arc;

use serde_json::{Map, Value as Json};

use super::io::{Request, Wants};
use crate::budget::{Cost, Owner};
use crate::index::FeedId;
use crate::position::Micros;
use crate::rule::{Claims, RuleSet};

/// A subscription of a feed.
#[derive(Debug)]
pub(super) struct Subscription {
    /// The request's text and options, shared with equal ones on the same feed.
    pub shared_request: Arc<SharedRequest>,
    /// The client's claims.
    pub claims: Arc<Claims>,
    /// Who is charged for it.
    pub owner: Option<Arc<Owner>>,
    /// Its feed.
    pub feed: FeedId,
    /// What it is charged with.
    pub cost: Cost,
}

/// The part of a request that does not depend on the client.
#[derive(Debug, PartialEq)]
pub(super) struct SharedRequest {
    query: Box<str>,
    /// `None` where there are none.
    params: Option<Box<Map<String, Json>>>,
    every: Micros,
    wants: Wants,
    was: bool,
    under: Option<Arc<RuleSet>>,
    trusted: bool,
    observed: bool,
}

impl SharedRequest {
    /// That part of a request; `another` itself if it is equal.
    pub(super) fn shared(request: &mut Request, another: Option<&Arc<SharedRequest>>) -> Arc<SharedRequest> {
        let params = std::mem::take(&mut request.params);
        let shared_request = SharedRequest {
            query: std::mem::take(&mut request.query).into(),
            params: (!params.is_empty()).then(|| Box::new(params)),
            every: request.every,
            wants: request.wants,
            was: request.was,
            under: request.under.take(),
            trusted: request.trusted,
            observed: request.observed,
        };
        match another.filter(|another| ***another == shared_request) {
            Some(another) => another.clone(),
            None => Arc::new(shared_request),
        }
    }
}

impl Subscription {
    /// Whether its client wants the rows of the result, and not only what changes.
    pub(super) fn wants_result(&self) -> bool {
        self.shared_request.wants == Wants::Result
    }

    /// The request again, without where to resume.
    pub(super) fn request(&self) -> Request {
        let SharedRequest { query, params, every, wants, was, under, trusted, observed } = &*self.shared_request;
        Request {
            query: query.to_string(),
            params: params.as_deref().cloned().unwrap_or_default(),
            claims: self.claims.clone(),
            trusted: *trusted,
            observed: *observed,
            every: *every,
            wants: *wants,
            was: *was,
            resume: None,
            owner: self.owner.clone(),
            compiled: None,
            under: under.clone(),
        }
    }
}
