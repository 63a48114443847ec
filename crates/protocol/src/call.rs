//! The calls of a client, each with its parameters, its answer and its limits.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};

use crate::error::{RpcError, code};
use crate::params::Params;
use crate::spelling::similar;

/// Longest time between two deltas that a client can ask for, in milliseconds.
pub const MAX_EVERY_MS: u64 = 60_000;

/// Most rows in one message that a client can ask for; a message ends earlier where it grows long.
pub const MAX_BATCH: u64 = 1_000_000;

/// Bytes of the label under which a subscription is observed.
pub const MAX_LABEL: usize = 64;

/// Bytes of an event's id.
pub const MAX_ID: usize = 200;

/// Rules that can be tried at once.
pub const MAX_RULES: usize = 2_000;

/// Queries in one `what_if`.
pub const MAX_QUERIES: usize = 64;

/// Longest time for which a client can be held, in milliseconds.
pub const MAX_HOLD_MS: u64 = 60_000;

/// The calls that everybody may make, and those that are for operators alone.
const CALLS: [&str; 6] = ["authenticate", "subscribe", "unsubscribe", "publish", "join", "leave"];
const OPERATORS: [&str; 5] = ["explain", "what_if", "drain", "disconnect", "hold"];

/// Whether a call is for operators alone.
pub fn is_for_operators(method: &str) -> bool {
    OPERATORS.contains(&method)
}

/// A call.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(tag = "method", content = "params", rename_all = "snake_case")]
pub enum Call {
    /// Says who one is, or renews that. Answers [`Authenticated`].
    Authenticate {
        /// A token (JWT).
        token: String,
    },
    /// Asks for a live query. Answers [`crate::Subscribed`].
    Subscribe(Box<Subscribe>),
    /// Ends a subscription. Answers `{}`.
    Unsubscribe {
        /// Its number within the connection.
        subscription: u64,
    },
    /// Publishes an event. Answers the event's `id` and, where the topic has a state, what became of it.
    Publish(Publish),
    /// Comes to a place, or says something else there. Answers `{}`.
    Join {
        /// The place.
        place: String,
        /// What one says of oneself there.
        #[serde(skip_serializing_if = "Json::is_null")]
        data: Json,
    },
    /// Leaves a place. Answers `{}`.
    Leave {
        /// The place.
        place: String,
    },
    /// Explains why a transaction did or did not reach a client.
    Explain(Box<Explain>),
    /// Compares what clients received with what they would receive under other rules.
    WhatIf(WhatIf),
    /// Drains an instance: its clients are asked to reconnect elsewhere. Answers `{}`.
    Drain {
        /// The instance; by default the one that receives the call.
        #[serde(skip_serializing_if = "Option::is_none")]
        instance: Option<String>,
    },
    /// Ends a client's connection; it is told to connect again. Answers `{}`.
    Disconnect {
        /// The instance that it is connected to; by default the one that receives the call.
        #[serde(skip_serializing_if = "Option::is_none")]
        instance: Option<String>,
        /// Its number there, as in `gossip.clients`.
        client: u64,
    },
    /// Writes nothing to a client for a while, as if its socket took no more. Answers `{}`.
    Hold {
        /// The instance that it is connected to; by default the one that receives the call.
        #[serde(skip_serializing_if = "Option::is_none")]
        instance: Option<String>,
        /// Its number there, as in `gossip.clients`.
        client: u64,
        /// For how long, at most [`MAX_HOLD_MS`]; 0: no longer.
        ms: u64,
    },
}

/// The answer to `authenticate`.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Authenticated {
    /// Who one is.
    pub subject: Option<String>,
    /// One's roles.
    pub roles: Vec<String>,
    /// When the token ends, RFC 3339.
    pub expires: String,
}

/// The parameters of `subscribe`. One of `query`, `name` and `grant` has to be there.
#[derive(Clone, Debug, Default, PartialEq, Serialize)]
pub struct Subscribe {
    /// A query of the client's own, in SQL.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub query: Option<String>,
    /// The name of a stored query.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// A query that the application has signed.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub grant: Option<String>,
    /// Values of the query's parameters, by name.
    #[serde(skip_serializing_if = "Map::is_empty")]
    pub params: Map<String, Json>,
    /// Where the result stands that the client still has.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub cursor: Option<String>,
    /// Least milliseconds between two deltas; 0: one for each transaction.
    #[serde(skip_serializing_if = "is_zero")]
    pub every_ms: u64,
    /// Most rows in one message.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub batch: Option<u64>,
    /// What is sent of a changed row.
    #[serde(skip_serializing_if = "is_default")]
    pub send: Send,
    /// Only changes are wanted, and not the result that they begin from: `initial` is false.
    #[serde(rename = "initial", skip_serializing_if = "is_default", serialize_with = "negated")]
    pub changes_only: bool,
    /// Whether a row that was replaced or removed is sent as it was before, too.
    #[serde(skip_serializing_if = "is_default")]
    pub was: bool,
    /// Under which label operators see what becomes of each transaction; may be empty.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub observed: Option<String>,
}

impl From<&str> for Subscribe {
    fn from(query: &str) -> Subscribe {
        Subscribe { query: Some(query.into()), ..Subscribe::default() }
    }
}

impl From<&String> for Subscribe {
    fn from(query: &String) -> Subscribe {
        query.as_str().into()
    }
}

/// What is sent of a changed row.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Send {
    /// All of its columns.
    #[default]
    Rows,
    /// The columns that changed.
    Changed,
    /// Its key alone.
    Keys,
    /// Nothing: only that the result has changed.
    Signal,
}

impl Send {
    /// Reads the parameter `send`, as calls and requests have it.
    ///
    /// # Errors
    /// It is another word.
    pub fn read(text: Option<&str>) -> Result<Send, RpcError> {
        Ok(match text {
            None | Some("rows") => Send::Rows,
            Some("changed") => Send::Changed,
            Some("keys") => Send::Keys,
            Some("signal") => Send::Signal,
            Some(_) => {
                let text = "send: expected \"rows\", \"changed\", \"keys\" or \"signal\"";
                return Err(RpcError::invalid(text));
            }
        })
    }
}

fn negated<S: serde::Serializer>(value: &bool, to: S) -> Result<S::Ok, S::Error> {
    to.serialize_bool(!value)
}

fn is_zero(n: &u64) -> bool {
    *n == 0
}

fn is_default<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// The parameters of `publish`.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Publish {
    /// The topic.
    pub topic: String,
    /// The event's data.
    pub data: Json,
    /// The event's id, of 1 to [`MAX_ID`] bytes; the same id is taken once.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub id: Option<String>,
}

/// The parameters of `explain`.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct Explain {
    /// The instance that is to answer; by default the one that receives the call.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instance: Option<String>,
    /// The transaction, as `source:position`; without it the answer is only the effective plan.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub position: Option<String>,
    /// Whom it concerns.
    #[serde(flatten)]
    pub whom: QuestionTarget,
}

/// The subscription or client that an operator's question is about.
#[derive(Clone, Debug, PartialEq, Serialize)]
#[serde(untagged)]
pub enum QuestionTarget {
    /// A subscription, by its id in `gossip.clients`.
    Subscription {
        /// The id.
        subscription: u64,
    },
    /// A client with these roles and claims and this query.
    Anybody {
        /// The query.
        query: String,
        /// The claims.
        #[serde(skip_serializing_if = "Map::is_empty")]
        claims: Map<String, Json>,
        /// The roles; by default those of an anonymous client.
        #[serde(skip_serializing_if = "Option::is_none")]
        roles: Option<Vec<String>>,
        /// Values of the query's parameters.
        #[serde(skip_serializing_if = "Map::is_empty")]
        params: Map<String, Json>,
    },
    /// A client with these roles and claims that publishes this; for `explain`.
    Publisher {
        /// The topic; or `gossip.presence`, with `place` and `data` in the data.
        publish_to: String,
        /// The event's data.
        #[serde(skip_serializing_if = "Json::is_null")]
        data: Json,
        /// The claims.
        #[serde(skip_serializing_if = "Map::is_empty")]
        claims: Map<String, Json>,
        /// The roles; by default those of an anonymous client.
        #[serde(skip_serializing_if = "Option::is_none")]
        roles: Option<Vec<String>>,
    },
}

/// The parameters of `what_if`.
#[derive(Clone, Debug, PartialEq, Serialize)]
pub struct WhatIf {
    /// The instance that is to answer; by default the one that receives the call.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub instance: Option<String>,
    /// All rules that would be in force, at most [`MAX_RULES`].
    pub rules: Vec<TriedRule>,
    /// Whom it concerns, at most [`MAX_ASKED`].
    pub asked: Vec<QuestionTarget>,
}

/// A rule that is tried.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct TriedRule {
    /// Whom it is for.
    pub role: String,
    /// The table, with its schema where it is not the default one.
    pub table: String,
    /// What it permits; without it: to read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub may: Option<Vec<String>>,
    /// The condition on rows, in SQL.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rows: Option<String>,
    /// The columns; without it: all.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub columns: Option<Vec<String>>,
    /// What is shown in place of a column's value.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub masks: BTreeMap<String, String>,
}

impl Call {
    /// Reads a call.
    ///
    /// # Errors
    /// There is no such call, or its parameters do not fit; never with a value of theirs.
    pub fn read(method: &str, params: Map<String, Json>) -> Result<Call, RpcError> {
        let mut p = Params::new(params);
        let call = match method {
            "authenticate" => Call::Authenticate { token: p.required_text("token")? },
            "subscribe" => Call::Subscribe(Box::new(Subscribe::read(&mut p)?)),
            "unsubscribe" => Call::Unsubscribe { subscription: p.number("subscription")? },
            "publish" => Call::Publish(Publish::read(&mut p)?),
            "join" => Call::Join { place: p.required_text("place")?, data: p.any("data").unwrap_or(Json::Null) },
            "leave" => Call::Leave { place: p.required_text("place")? },
            "explain" => {
                let (instance, position) = (p.text("instance")?, p.text("position")?);
                Call::Explain(Box::new(Explain { instance, position, whom: QuestionTarget::read(&mut p)? }))
            }
            "what_if" => Call::WhatIf(WhatIf::read(&mut p)?),
            "drain" => Call::Drain { instance: p.text("instance")? },
            "disconnect" => Call::Disconnect { instance: p.text("instance")?, client: p.number("client")? },
            "hold" => {
                let (instance, client) = (p.text("instance")?, p.number("client")?);
                let ms = p.number_up_to("ms", MAX_HOLD_MS)?.ok_or_else(|| RpcError::missing("ms"))?;
                Call::Hold { instance, client, ms }
            }
            other => {
                let known: Vec<&str> = CALLS.into_iter().chain(OPERATORS).collect();
                let hint = similar(other, known.iter().copied());
                let hint = hint.map_or(format!("known: {}", known.join(", ")), |h| format!("did you mean {h}?"));
                let shown: String = other.chars().take(60).collect();
                return Err(RpcError::new(code::NO_SUCH_CALL, format!("there is no call {shown}; {hint}")));
            }
        };
        p.end()?;
        Ok(call)
    }

    /// The instance that an operator wants to answer; `None`: the one that receives the call.
    pub fn instance(&self) -> Option<&str> {
        match self {
            Call::Explain(e) => e.instance.as_deref(),
            Call::WhatIf(w) => w.instance.as_deref(),
            Call::Drain { instance } | Call::Disconnect { instance, .. } | Call::Hold { instance, .. } => {
                instance.as_deref()
            }
            _ => None,
        }
    }
}

impl Subscribe {
    fn read(p: &mut Params) -> Result<Subscribe, RpcError> {
        let read = Subscribe {
            query: p.text("query")?,
            name: p.text("name")?,
            grant: p.text("grant")?,
            params: p.object("params")?,
            cursor: p.text("cursor")?,
            every_ms: p.number_up_to("every_ms", MAX_EVERY_MS)?.unwrap_or(0),
            batch: p.number_up_to("batch", MAX_BATCH)?,
            send: Send::read(p.text("send")?.as_deref())?,
            changes_only: !p.flag("initial")?.unwrap_or(true),
            was: p.flag("was")?.unwrap_or(false),
            observed: match p.any("observed") {
                None | Some(Json::Bool(false)) => None,
                Some(Json::Bool(true)) => Some(String::new()),
                Some(Json::String(label)) if label.len() <= MAX_LABEL => Some(label),
                Some(_) => {
                    let text = format!("observed: expected true, false or a label of at most {MAX_LABEL} bytes");
                    return Err(RpcError::invalid(text));
                }
            },
        };
        if read.observed.is_some() && read.every_ms > 0 {
            let text = "observed and every_ms: what is observed is told transaction by transaction";
            return Err(RpcError::invalid(text));
        }
        if read.was && matches!(read.send, Send::Keys | Send::Signal) {
            return Err(RpcError::invalid(
                "was and send: what a row was is sent beside what it is, not beside its key",
            ));
        }
        Ok(read)
    }
}

impl Publish {
    fn read(p: &mut Params) -> Result<Publish, RpcError> {
        let (topic, id) = (p.required_text("topic")?, p.text("id")?);
        if id.as_ref().is_some_and(|id| id.is_empty() || id.len() > MAX_ID) {
            return Err(RpcError::invalid(format!("id: expected 1 to {MAX_ID} bytes")));
        }
        let data = p.any("data").ok_or_else(|| RpcError::missing("data"))?;
        Ok(Publish { topic, data, id })
    }
}

impl QuestionTarget {
    fn read(p: &mut Params) -> Result<QuestionTarget, RpcError> {
        if p.has("subscription") {
            return Ok(QuestionTarget::Subscription { subscription: p.number("subscription")? });
        }
        if let Some(publish_to) = p.text("publish_to")? {
            let data = p.any("data").unwrap_or_default();
            return Ok(QuestionTarget::Publisher {
                publish_to,
                data,
                claims: p.object("claims")?,
                roles: p.texts("roles")?,
            });
        }
        let missing = || RpcError::invalid("subscription, or claims and query, are missing");
        Ok(QuestionTarget::Anybody {
            query: p.text("query")?.ok_or_else(missing)?,
            claims: p.object("claims")?,
            roles: p.texts("roles")?,
            params: p.object("params")?,
        })
    }
}

impl WhatIf {
    fn read(p: &mut Params) -> Result<WhatIf, RpcError> {
        let instance = p.text("instance")?;
        let rules = p.list_up_to("rules", MAX_RULES)?;
        let asked = p.list_up_to("asked", MAX_QUERIES)?;
        // What is wrong with a rule's text is for its author, an operator.
        let rule = |rule| serde_json::from_value(rule).map_err(|e| RpcError::invalid(format!("rules: {e}")));
        let whom = |whom| {
            let Json::Object(whom) = whom else { return Err(RpcError::invalid("asked: expected a list of objects")) };
            let mut p = Params::new(whom);
            let whom = QuestionTarget::read(&mut p)?;
            p.end()?;
            if matches!(whom, QuestionTarget::Publisher { .. }) {
                return Err(RpcError::invalid("asked: publish_to is for explain; what_if is about queries"));
            }
            Ok(whom)
        };
        Ok(WhatIf {
            instance,
            rules: rules.into_iter().map(rule).collect::<Result<_, RpcError>>()?,
            asked: asked.into_iter().map(whom).collect::<Result<_, RpcError>>()?,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::message::{self, Request};
    use serde_json::json;

    fn object(json: Json) -> Map<String, Json> {
        json.as_object().cloned().unwrap_or_default()
    }

    #[test]
    fn whatever_is_written_is_read_the_same() {
        let whom = QuestionTarget::Anybody {
            query: "SELECT * FROM calls".into(),
            claims: object(json!({"agency": "fen"})),
            roles: Some(vec!["agent".into()]),
            params: object(json!({"id": 7})),
        };
        let rule = TriedRule {
            role: "agent".into(),
            table: "calls".into(),
            may: Some(vec!["read".into()]),
            rows: Some("agency = claim.agency".into()),
            columns: Some(vec!["id".into()]),
            masks: BTreeMap::from([("eta".into(), "NULL".into())]),
        };
        let full = Subscribe {
            name: Some("calls".into()),
            params: object(json!({"id": 7})),
            cursor: Some("c".into()),
            every_ms: 200,
            batch: Some(10),
            send: Send::Changed,
            was: true,
            changes_only: true,
            ..Subscribe::default()
        };
        let observed = Subscribe { grant: Some("g".into()), observed: Some("ada".into()), ..Subscribe::default() };
        let instance = Some("south".to_string());
        for call in [
            Call::Authenticate { token: "t".into() },
            Call::Subscribe(Box::new(full)),
            Call::Subscribe(Box::new(observed)),
            Call::Unsubscribe { subscription: 3 },
            Call::Publish(Publish { topic: "tide".into(), data: json!([1]), id: Some("1".into()) }),
            Call::Join { place: "quay".into(), data: json!({"typing": true}) },
            Call::Join { place: "quay".into(), data: Json::Null },
            Call::Leave { place: "quay".into() },
            Call::Explain(Box::new(Explain {
                instance: instance.clone(),
                position: Some("harbour:7".into()),
                whom: QuestionTarget::Subscription { subscription: 9 },
            })),
            Call::Explain(Box::new(Explain { instance: None, position: None, whom: whom.clone() })),
            Call::WhatIf(WhatIf { instance: instance.clone(), rules: vec![rule], asked: vec![whom] }),
            Call::Disconnect { instance: instance.clone(), client: 7 },
            Call::Hold { instance: None, client: 7, ms: 5_000 },
            Call::Drain { instance },
        ] {
            let text = message::request(5, &call);
            let request = Request::read(&text).unwrap().unwrap();
            assert_eq!(request.id, 5);
            assert_eq!(Call::read(&request.method, request.params).unwrap(), call, "{text}");
        }
    }

    #[test]
    fn what_does_not_fit_is_named_and_never_repeated() {
        for (method, params, why) in [
            ("subscrbe", json!({}), "there is no call subscrbe; did you mean subscribe?"),
            ("subscribe", json!({"querry": "s3cret"}), "querry is not a parameter of this call; did you mean query?"),
            ("subscribe", json!({"query": ["s3cret"]}), "query: expected a text"),
            ("subscribe", json!({"every_ms": "s3cret"}), "every_ms: expected a number from 0 to 60000"),
            ("subscribe", json!({"send": "s3cret"}), "send: expected \"rows\", \"changed\", \"keys\" or \"signal\""),
            ("subscribe", json!({"initial": "s3cret"}), "initial: expected true or false"),
            ("subscribe", json!({"was": true, "send": "signal"}), "was and send"),
            ("subscribe", json!({"observed": "s3cret".repeat(20)}), "observed: expected true, false or a label"),
            ("subscribe", json!({"observed": true, "every_ms": 5}), "observed and every_ms"),
            ("authenticate", json!({}), "token is missing"),
            ("authenticate", json!({"token": {"s3cret": 1}}), "token: expected a text"),
            ("unsubscribe", json!({"subscription": "s3cret"}), "subscription: expected a number"),
            ("publish", json!({"topic": "t"}), "data is missing"),
            ("publish", json!({"topic": "t", "data": 1, "id": ""}), "id: expected 1 to 200 bytes"),
            ("disconnect", json!({}), "client"),
            ("hold", json!({"client": 1, "ms": 60_001}), "ms: expected a number from 0 to 60000"),
            ("explain", json!({"position": "a:1"}), "subscription, or claims and query, are missing"),
            ("explain", json!({"query": "q", "roles": "s3cret"}), "roles: expected a list of texts"),
            ("what_if", json!({"rules": [], "asked": vec![json!({}); MAX_QUERIES + 1]}), "limit reached: asked"),
            ("what_if", json!({"rules": [], "asked": ["s3cret"]}), "asked: expected a list of objects"),
        ] {
            let e = Call::read(method, object(params)).unwrap_err().message;
            assert!(e.contains(why) && !e.contains("s3cret"), "{method}: {e}");
        }
    }
}
