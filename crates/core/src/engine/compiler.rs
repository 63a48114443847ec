//! From a request to its effective plan.

use std::sync::Arc;

use super::io::{Compiled, Request};
use crate::plan::EffectivePlan;
use crate::query::{QueryError, parse_query, parse_trusted_query};
use crate::row_changes;
use crate::rule::{self, Permitted, RuleSet};
use crate::schema::Catalog;

/// Compiles requests under one version of tables and rules. Usable on any thread, so that the engine's loop does not wait.
#[derive(Clone, Debug)]
pub struct Compiler {
    pub(super) catalog: Arc<Catalog>,
    pub(super) rules: Arc<RuleSet>,
    pub(super) generation: u64,
}

impl Compiler {
    /// The effective plan of a request, under these rules unless it names others.
    ///
    /// # Errors
    /// What is wrong with the query.
    pub fn compile(&self, request: &Request) -> Result<EffectivePlan, QueryError> {
        let rules = request.under.as_ref().unwrap_or(&self.rules);
        let permitted = Permitted { catalog: &self.catalog, rules, claims: &request.claims };
        let parse = if request.trusted { parse_trusted_query } else { parse_query };
        let query = parse(&request.query, &permitted, &request.params)?;
        let query = query.bind(&request.params, &request.claims.facts)?;
        let source = query.table.source.clone();
        let plan = rule::fold(query, &permitted);
        let mut sides = plan.joins.iter().flat_map(|joins| joins.sides());
        if let Some(side) = sides.find(|side| side.scan().depends_on_time()) {
            let name = &side.scan().table().name;
            let text =
                format!("a rule on {name} names NOW(): it can be read alone and asked by a sub-select, and not joined");
            return Err(QueryError::Parameter(text));
        }
        if !plan.table().name.is_row_changes() {
            return Ok(plan);
        }
        Ok(plan.of_row_changes(row_changes::plans_of(&source, &request.claims, rules, &self.catalog)))
    }

    /// The generation of its tables and rules.
    pub fn generation(&self) -> u64 {
        self.generation
    }

    /// As [`Compiler::compile`], to be handed to the engine with the request.
    pub fn compiled(&self, request: &Request) -> Box<Compiled> {
        Box::new(Compiled { generation: self.generation, outcome: self.compile(request).map(Arc::new) })
    }
}
