//! Binds placeholders: the client's parameters, and claims of its token.

use std::sync::Arc;

use serde_json::{Map, Value as Json};

use super::{Expr, Placeholder};
use crate::query::function::{MAX_PARTS, parts_of_json};
use crate::query::like::LikePattern;
use crate::value::{Type, Value};

/// Most values in all lists of one query's parameters.
pub const MAX_LIST: usize = 10_000;

/// Most values in a list that is compared with an array: it is gone through for every row.
pub const MAX_ARRAY: usize = 256;

/// Why a placeholder could not be bound.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct PlaceholderError {
    /// The kind of placeholder.
    pub placeholder: Placeholder,
    /// Its name.
    pub name: String,
    /// What is wrong: absent, or not of the expected type.
    pub problem: String,
}

impl Expr {
    /// Binds placeholders of one kind from a JSON object. Claims may be nested: `claim.org.id` follows the path.
    ///
    /// # Errors
    /// A value is absent or of the wrong type, or lists have more than [`MAX_LIST`] values in total.
    pub fn bind(&self, placeholder: Placeholder, facts: &Map<String, Json>) -> Result<Expr, PlaceholderError> {
        self.bind_within(placeholder, facts, &mut MAX_LIST.clone())
    }

    /// As [`Expr::bind`], for one of several expressions whose lists have at most `left` values together.
    ///
    /// # Errors
    /// As [`Expr::bind`].
    pub fn bind_within(
        &self,
        placeholder: Placeholder,
        facts: &Map<String, Json>,
        left: &mut usize,
    ) -> Result<Expr, PlaceholderError> {
        Binding { placeholder, facts, left }.bind(self)
    }
}

fn fact<'a>(placeholder: Placeholder, name: &str, facts: &'a Map<String, Json>) -> Result<&'a Json, PlaceholderError> {
    let found = match placeholder {
        Placeholder::Param => facts.get(name),
        Placeholder::Claim => {
            let mut parts = name.split('.');
            parts.next().and_then(|p| facts.get(p)).and_then(|first| parts.try_fold(first, |at, p| at.get(p)))
        }
    };
    let fail = |problem: &str| Err(PlaceholderError { placeholder, name: name.to_string(), problem: problem.into() });
    match found {
        None => fail("is missing"),
        // A claim that is null counts as absent.
        Some(Json::Null) if placeholder == Placeholder::Claim => fail("is null"),
        Some(json) => Ok(json),
    }
}

fn value_of(
    placeholder: Placeholder,
    name: &str,
    ty: Type,
    facts: &Map<String, Json>,
) -> Result<Value, PlaceholderError> {
    let fail = |problem| PlaceholderError { placeholder, name: name.to_string(), problem };
    let json = fact(placeholder, name, facts)?;
    if let Type::Array(element) = ty {
        let Json::Array(list) = json else { return Err(fail("is not a list".into())) };
        if list.len() > MAX_ARRAY {
            return Err(fail(format!("is a list of {} values; here at most {MAX_ARRAY}", list.len())));
        }
        list.iter().try_for_each(|v| Value::from_json(v, element.ty()).map(drop)).map_err(fail)?;
    }
    if ty == Type::Jsonb {
        let parts = parts_of_json(json);
        if parts > MAX_PARTS {
            return Err(fail(format!("is a document with {parts} values; here at most {MAX_PARTS}")));
        }
    }
    Value::from_json(json, ty).map_err(fail)
}

/// The kind of placeholder, their values, and how many more values lists may have.
struct Binding<'a> {
    placeholder: Placeholder,
    facts: &'a Map<String, Json>,
    left: &'a mut usize,
}

impl Binding<'_> {
    fn boxed(&mut self, e: &Expr) -> Result<Box<Expr>, PlaceholderError> {
        self.bind(e).map(Box::new)
    }

    fn many(&mut self, es: &[Expr]) -> Result<Vec<Expr>, PlaceholderError> {
        es.iter().map(|e| self.bind(e)).collect()
    }

    fn bind(&mut self, e: &Expr) -> Result<Expr, PlaceholderError> {
        let placeholder = self.placeholder;
        Ok(match e {
            Expr::Placeholder(kind, name, ty) if *kind == placeholder => {
                Expr::Const(value_of(placeholder, name, *ty, self.facts)?)
            }
            Expr::LikePlaceholder { of, pattern, escape, ignores_case } => {
                let (of, pattern) = (self.boxed(of)?, self.boxed(pattern)?);
                match &*pattern {
                    Expr::Const(Value::Text(text)) => match LikePattern::with_case(text, *escape, *ignores_case) {
                        Ok(p) => Expr::Like(of, Arc::new(p)),
                        Err(problem) => return Err(PlaceholderError { placeholder, name: "pattern".into(), problem }),
                    },
                    Expr::Const(_) => Expr::Const(Value::Null),
                    _ => Expr::LikePlaceholder { of, pattern, escape: *escape, ignores_case: *ignores_case },
                }
            }
            Expr::AnyOf(e, kind, name, ty) if *kind == placeholder => {
                let e = self.boxed(e)?;
                Expr::In(e, self.list_of(name, *ty)?.into_iter().map(Expr::Const).collect()).canonicalize()
            }
            Expr::Member { of, subquery, exists } => {
                let subquery = subquery.try_map(|e| self.bind(e))?;
                Expr::Member { of: self.many(of)?, subquery: Arc::new(subquery), exists: *exists }
            }
            other => other.try_map(|e| self.bind(e))?,
        })
    }

    fn list_of(&mut self, name: &str, ty: Type) -> Result<Vec<Value>, PlaceholderError> {
        let fail =
            |problem: String| PlaceholderError { placeholder: self.placeholder, name: name.to_string(), problem };
        let Json::Array(list) = fact(self.placeholder, name, self.facts)? else {
            return Err(fail("is not a list".into()));
        };
        *self.left = self
            .left
            .checked_sub(list.len())
            .ok_or_else(|| fail(format!("makes more than {MAX_LIST} values in the lists of one query")))?;
        list.iter().map(|v| Value::from_json(v, ty).map_err(fail)).collect()
    }
}
