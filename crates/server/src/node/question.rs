//! Commands that get an answer: operators' questions, published events, one-time results.

use std::sync::Arc;

use gossip_core::engine::{Request, SubId};
use gossip_core::plan::EffectivePlan;
use gossip_core::position::Position;
use gossip_core::rule::{Claims, May, RuleSet, RuleText};
use gossip_core::schema::TableName;
use gossip_core::seam::ResultRows;
use gossip_protocol::{Call, CloudEvent, RpcError, call};
use serde_json::{Map, Value as Json};
use tokio::sync::{OwnedSemaphorePermit, oneshot};

use super::publishing::Published;

/// Where an answer goes.
pub type Answer = oneshot::Sender<Result<Json, RpcError>>;

/// A call of an operator.
pub struct Operate {
    /// The call.
    pub call: Call,
    /// Where the answer goes.
    pub answer: Answer,
}

/// A question of `explain`.
#[derive(Clone, Debug)]
pub struct Explain {
    /// The transaction's source and position; without it only the effective plan is explained.
    pub at: Option<(String, Position)>,
    /// Whom it concerns.
    pub whom: QuestionTarget,
}

/// The question for a log, without any value.
impl std::fmt::Display for Explain {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        match &self.at {
            Some((source, position)) => write!(f, "why {source}:{position} did or did not reach ")?,
            None => f.write_str("the effective query of ")?,
        }
        match &self.whom {
            QuestionTarget::Subscription(id) => write!(f, "subscription {id}"),
            QuestionTarget::Anybody(request) => write!(f, "roles {}", request.claims.roles.join(", ")),
            QuestionTarget::Publisher { claims, .. } => write!(f, "a publisher with roles {}", claims.roles.join(", ")),
        }
    }
}

/// Whom an explanation concerns.
#[derive(Clone, Debug)]
pub enum QuestionTarget {
    /// A subscription of this instance.
    Subscription(SubId),
    /// Anybody with these claims and this query.
    Anybody(Box<Request>),
    /// Anybody with these claims who publishes this.
    Publisher {
        /// The topic, or `gossip.presence`.
        to: String,
        /// The event's data.
        data: Json,
        /// Who.
        claims: Arc<Claims>,
    },
}

/// A question of `what_if`.
#[derive(Clone, Debug)]
pub struct WhatIf {
    /// The rules to be tried, all of them.
    pub rules: Arc<RuleSet>,
    /// Whose queries.
    pub asked: Vec<QuestionTarget>,
}

/// What a question takes while it is under way.
#[derive(Debug, Default)]
pub struct Reservation {
    /// Its place among those that are being answered.
    pub(super) place: Option<OwnedSemaphorePermit>,
    /// Subscriptions that keep sub-selects maintained. Their results are not sent.
    pub(super) subscriptions: Option<Vec<SubId>>,
}

/// An event to publish.
pub struct Publish {
    /// The topic.
    pub topic: String,
    /// Who.
    pub claims: Arc<Claims>,
    /// The event. What is empty is filled in: its id, its source, its time.
    pub event: CloudEvent,
    /// Told the position once the event has come back.
    pub answer: oneshot::Sender<Result<Published, RpcError>>,
}

/// A one-time result, encoded by the caller.
#[derive(Clone)]
pub struct OneResult {
    /// The plan.
    pub feed: Arc<EffectivePlan>,
    /// The rows.
    pub rows: Arc<ResultRows>,
    /// Where it stands.
    pub cursor: Arc<str>,
}

impl Explain {
    /// As an operator asks it.
    ///
    /// # Errors
    /// The position is none.
    pub fn of(asked: &call::Explain) -> Result<Explain, RpcError> {
        let parse =
            |at: &String| at.rsplit_once(':').and_then(|(s, n)| Some((s.to_string(), n.parse::<Position>().ok()?)));
        let expected = || RpcError::invalid("position: expected source:number, as deltas to operators carry it");
        let at = asked.position.as_ref().map(|at| parse(at).ok_or_else(expected)).transpose()?;
        Ok(Explain { at, whom: whom(&asked.whom) })
    }
}

fn claims_of(facts: &Map<String, Json>, roles: &Option<Vec<String>>) -> Arc<Claims> {
    let roles = roles.clone().unwrap_or_else(|| vec![gossip_core::rule::ANONYMOUS.to_string()]);
    Arc::new(Claims { roles, facts: facts.clone(), operator: false })
}

/// A subscription, or a query with roles, claims and parameters.
fn whom(asked: &call::QuestionTarget) -> QuestionTarget {
    match asked {
        call::QuestionTarget::Subscription { subscription } => QuestionTarget::Subscription(*subscription),
        call::QuestionTarget::Publisher { publish_to, data, claims, roles } => {
            QuestionTarget::Publisher { to: publish_to.clone(), data: data.clone(), claims: claims_of(claims, roles) }
        }
        call::QuestionTarget::Anybody { query, claims, roles, params } => {
            let claims = claims_of(claims, roles);
            let (query, params) = (query.clone(), params.clone());
            QuestionTarget::Anybody(Box::new(Request { query, params, claims, ..Request::default() }))
        }
    }
}

impl WhatIf {
    /// As an operator asks it.
    ///
    /// # Errors
    /// A rule permits what nobody knows.
    pub fn of(asked: &call::WhatIf) -> Result<WhatIf, RpcError> {
        let text = |(i, tried): (usize, &call::TriedRule)| {
            let may =
                tried.may.as_deref().map_or(Ok(May::default()), |words| May::of(words.iter().map(String::as_str)));
            Ok(RuleText {
                role: tried.role.clone(),
                table: TableName::parse(&tried.table),
                may: may.map_err(|w| RpcError::invalid(format!("rules: may: {w:?} is not known")))?,
                rows: tried.rows.clone(),
                columns: tried.columns.clone(),
                masks: tried.masks.clone(),
                // Problems refer to the rule by its index in the call.
                line: i + 1,
            })
        };
        let rules = asked.rules.iter().enumerate().map(text).collect::<Result<_, RpcError>>()?;
        Ok(WhatIf { rules: Arc::new(RuleSet::new(rules)), asked: asked.asked.iter().map(whom).collect() })
    }
}
