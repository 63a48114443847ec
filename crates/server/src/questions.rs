//! What operators ask, in the terms of the engine.

use std::sync::Arc;

use gossip_core::engine::Request;
use gossip_core::position::Position;
use gossip_core::rule::{Claims, May, RuleSet, RuleText};
use gossip_core::schema::TableName;
use gossip_protocol::{RpcError, call};

use crate::node::{Explain, WhatIf, Whom};

/// Why a transaction did or did not reach somebody.
pub fn explain(asked: &call::Explain) -> Result<Explain, RpcError> {
    let parse = |at: &String| at.rsplit_once(':').and_then(|(s, n)| Some((s.to_string(), n.parse::<Position>().ok()?)));
    let expected = || RpcError::invalid("position: expected source:number, as deltas to operators carry it");
    let at = asked.position.as_ref().map(|at| parse(at).ok_or_else(expected)).transpose()?;
    Ok(Explain { at, whom: whom(&asked.whom) })
}

/// A subscription, or a query with roles, claims and parameters.
fn whom(asked: &call::Whom) -> Whom {
    match asked {
        call::Whom::Subscription { subscription } => Whom::Subscription(*subscription),
        call::Whom::Anybody { query, claims, roles, params } => {
            let roles = roles.clone().unwrap_or_else(|| vec![gossip_core::rule::ANONYMOUS.to_string()]);
            let claims = Arc::new(Claims { roles, facts: claims.clone(), operator: false });
            let (query, params) = (query.clone(), params.clone());
            Whom::Anybody(Box::new(Request { query, params, claims, ..Request::default() }))
        }
    }
}

/// What other rules would have let be heard.
pub fn what_if(asked: &call::WhatIf) -> Result<WhatIf, RpcError> {
    let text = |(i, tried): (usize, &call::TriedRule)| {
        let may = tried.may.as_deref().map_or(Ok(May::default()), |words| May::of(words.iter().map(String::as_str)));
        Ok(RuleText {
            role: tried.role.clone(),
            table: TableName::parse(&tried.table),
            may: may.map_err(|w| RpcError::invalid(format!("rules: may: {w:?} is not known")))?,
            rows: tried.rows.clone(),
            columns: tried.columns.clone(),
            masks: tried.masks.clone(),
            // Problems are told by the rule's place in the question.
            line: i + 1,
        })
    };
    let rules = asked.rules.iter().enumerate().map(text).collect::<Result<_, RpcError>>()?;
    Ok(WhatIf { rules: Arc::new(RuleSet::new(rules)), asked: asked.asked.iter().map(whom).collect() })
}
