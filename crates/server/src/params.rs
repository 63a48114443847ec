//! The parameters of calls, as they are read and what is wrong with them.

use std::collections::BTreeMap;
use std::sync::Arc;

use gossip_core::engine::Request;
use gossip_core::position::Position;
use gossip_core::query::shortened;
use gossip_core::rule::{Claims, May, RuleSet, RuleText};
use gossip_core::schema::TableName;
use gossip_core::wire::{RpcError, code};
use serde::Deserialize;
use serde_json::{Map, Value as Json};

use crate::node::{Explain, MAX_ASKED, MAX_RULES, WhatIf, Whom};

/// A parameter is not as it should be.
pub fn invalid(text: impl Into<String>) -> RpcError {
    RpcError::new(code::INVALID_PARAMS, text)
}

/// A parameter is not there.
pub fn missing(name: &str) -> RpcError {
    invalid(format!("{name} is missing"))
}

/// The parameters of one call. What was read is taken out; [`Params::end`] finds what was not known.
pub struct Params(pub Map<String, Json>);

impl Params {
    /// A text.
    pub fn text(&mut self, name: &str) -> Result<Option<String>, RpcError> {
        match self.0.remove(name) {
            None => Ok(None),
            Some(Json::String(s)) => Ok(Some(s)),
            Some(_) => Err(invalid(format!("{name}: expected a text"))),
        }
    }

    /// An object; empty if it is not there.
    pub fn object(&mut self, name: &str) -> Result<Map<String, Json>, RpcError> {
        match self.0.remove(name) {
            None => Ok(Map::new()),
            Some(Json::Object(o)) => Ok(o),
            Some(_) => Err(invalid(format!("{name}: expected an object"))),
        }
    }

    /// A number, which has to be there.
    pub fn number(&mut self, name: &str) -> Result<u64, RpcError> {
        match self.0.remove(name) {
            None => Err(missing(name)),
            Some(v) => v.as_u64().ok_or_else(|| invalid(format!("{name}: expected a number"))),
        }
    }

    /// A number within a limit.
    pub fn number_up_to(&mut self, name: &str, most: u64) -> Result<Option<u64>, RpcError> {
        match self.0.remove(name) {
            None => Ok(None),
            Some(v) => match v.as_u64().filter(|n| *n <= most) {
                Some(n) => Ok(Some(n)),
                None => Err(invalid(format!("{name}: expected a number from 0 to {most}"))),
            },
        }
    }

    /// Nothing else may be there.
    pub fn end(&self, known: &[&str]) -> Result<(), RpcError> {
        match self.0.keys().next() {
            None => Ok(()),
            Some(stray) => {
                let hint = gossip_core::query::similar(stray, known.iter().copied());
                let hint = hint.map_or(format!("known: {}", known.join(", ")), |h| format!("did you mean {h}?"));
                Err(invalid(format!("{} is not a parameter of this call; {hint}", shortened(stray))))
            }
        }
    }
}

/// The parameters of `explain`.
pub fn explain(p: &mut Params) -> Result<Explain, RpcError> {
    let parse = |at: String| at.rsplit_once(':').and_then(|(s, n)| Some((s.to_string(), n.parse::<Position>().ok()?)));
    let expected = || invalid("position: expected source:number, as deltas to operators carry it");
    let at = p.text("position")?.map(|at| parse(at).ok_or_else(expected)).transpose()?;
    let whom = whom(p)?;
    p.end(&["position", "subscription", "query", "claims", "roles", "params"])?;
    Ok(Explain { at, whom })
}

/// A subscription, or a query with roles, claims and parameters.
fn whom(p: &mut Params) -> Result<Whom, RpcError> {
    if p.0.contains_key("subscription") {
        return Ok(Whom::Subscription(p.number("subscription")?));
    }
    let query = p.text("query")?.ok_or_else(|| invalid("subscription, or claims and query, are missing"))?;
    let facts = p.object("claims")?;
    let roles = match p.0.remove("roles") {
        None => vec![gossip_core::rule::ANONYMOUS.to_string()],
        Some(roles) => serde_json::from_value(roles).map_err(|_| invalid("roles: expected a list of texts"))?,
    };
    let params = p.object("params")?;
    let claims = Arc::new(Claims { roles, facts, operator: false });
    Ok(Whom::Anybody(Box::new(Request { query, params, claims, ..Request::default() })))
}

/// The parameters of `what_if`.
pub fn what_if(mut p: Params) -> Result<WhatIf, RpcError> {
    #[derive(Deserialize)]
    #[serde(deny_unknown_fields)]
    struct Tried {
        role: String,
        table: String,
        #[serde(default)]
        may: Option<Vec<String>>,
        rows: Option<String>,
        columns: Option<Vec<String>>,
        #[serde(default)]
        masks: BTreeMap<String, String>,
    }
    let rules = p.0.remove("rules").ok_or_else(|| missing("rules"))?;
    let rules: Vec<Tried> = serde_json::from_value(rules).map_err(|e| invalid(format!("rules: {e}")))?;
    let asked = p.0.remove("asked").ok_or_else(|| missing("asked"))?;
    let asked: Vec<Map<String, Json>> = serde_json::from_value(asked).map_err(|e| invalid(format!("asked: {e}")))?;
    p.end(&["rules", "asked"])?;
    for (what, n, most) in [("rules", rules.len(), MAX_RULES), ("asked", asked.len(), MAX_ASKED)] {
        if n > most {
            return Err(RpcError::new(code::LIMIT, format!("limit reached: {what}, at most {most}")));
        }
    }
    let may = |words: &[String]| {
        May::of(words.iter().map(String::as_str)).map_err(|w| invalid(format!("rules: may: {w:?} is not known")))
    };
    let mays: Vec<May> =
        rules.iter().map(|t| t.may.as_deref().map_or(Ok(May::default()), may)).collect::<Result<_, _>>()?;
    let text = |(i, t): (usize, Tried)| RuleText {
        role: t.role,
        table: TableName::parse(&t.table),
        may: mays[i],
        rows: t.rows,
        columns: t.columns,
        masks: t.masks,
        // Problems are told by the rule's place in the question.
        line: i + 1,
    };
    let rules = Arc::new(RuleSet::new(rules.into_iter().enumerate().map(text).collect()));
    let whom = |asked| {
        let mut p = Params(asked);
        let whom = whom(&mut p)?;
        p.end(&["subscription", "query", "claims", "roles", "params"])?;
        Ok(whom)
    };
    Ok(WhatIf { rules, asked: asked.into_iter().map(whom).collect::<Result<_, RpcError>>()? })
}
