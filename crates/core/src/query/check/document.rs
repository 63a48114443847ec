//! What is taken out of json and arrays.

use super::{Checker, Result, Typed};
use crate::query::expr::{Expr, MAX_ARRAY};
use crate::query::function::{Function, MAX_PARTS, array_literal, json_path, parts_of_json};
use crate::query::syntax::{Ast, Infix, Location, invalid};
use crate::value::{Type, Value};

fn refused(e: &Typed, expected: &str) -> crate::query::QueryError {
    let found = e.ty.map_or("a text".into(), |ty| format!("a value of type {ty}"));
    invalid(e.at, format!("{found} does not have this"), expected)
}

impl Checker<'_> {
    pub(super) fn infix(&mut self, infix: Infix, left: Ast, right: Ast) -> Result<Typed> {
        let (left, right) = (self.expression(left)?, self.expression(right)?);
        let at = left.at;
        match infix {
            Infix::Part { as_text } => self.json_part(as_text, left, right, at),
            Infix::Path { as_text } => self.json_path(as_text, left, right, at),
            Infix::Contains if left.ty == Some(Type::Jsonb) => self.contains_json(left, right, at),
            Infix::Contains => self.arrays(Function::Contains, left, right, at),
            Infix::Overlaps => self.arrays(Function::Overlaps, left, right, at),
        }
    }

    /// `json -> key`, `json -> place`.
    fn json_part(&self, as_text: bool, json: Typed, part: Typed, at: Location) -> Result<Typed> {
        let of = of_json(&json)?;
        let part = match part.ty {
            None | Some(Type::Text | Type::Bpchar) => self.converted(part, Type::Text)?,
            Some(Type::Int2 | Type::Int4) => part,
            Some(_) => return Err(refused(&part, "a key in quotes, or a place as an int4")),
        };
        self.function(Function::Part { of, as_text }, vec![json, part], at)
    }

    /// `json #> '{a,b}'`.
    fn json_path(&self, as_text: bool, json: Typed, path: Typed, at: Location) -> Result<Typed> {
        let of = of_json(&json)?;
        let steps = match (&path.expr, path.ty) {
            (Expr::Const(Value::Text(text)), None) => json_path(text),
            _ => None,
        };
        let Some(steps) = steps else {
            return Err(invalid(path.at, "this is not a path", "keys and places, as '{orders,0,id}'"));
        };
        let path = Typed { expr: Expr::Const(Value::Json(steps.into())), ..path };
        self.function(Function::Path { of, as_text }, vec![json, path], at)
    }

    /// `jsonb @> '{"a": 1}'`.
    fn contains_json(&self, json: Typed, wanted: Typed, at: Location) -> Result<Typed> {
        let wanted = match (&wanted.expr, wanted.ty) {
            (Expr::Placeholder(..), None) => {
                let (expr, ty) = (self.of_type(wanted.expr, None, Type::Jsonb, wanted.at)?, Some(Type::Jsonb));
                Typed { expr, ty, ..wanted }
            }
            (Expr::Const(Value::Text(text)), None) => {
                let read: serde_json::Value = serde_json::from_str(text)
                    .map_err(|e| invalid(wanted.at, format!("this text is not read as JSON: {e}"), ""))?;
                let parts = parts_of_json(&read);
                if parts > MAX_PARTS {
                    let most = format!("at most {MAX_PARTS}");
                    return Err(invalid(wanted.at, format!("a document with {parts} values"), most));
                }
                Typed { expr: Expr::Const(Value::Json(text.clone())), ty: Some(Type::Jsonb), ..wanted }
            }
            _ => return Err(refused(&wanted, "a document in quotes or a parameter")),
        };
        self.function(Function::ContainsJson, vec![json, wanted], at)
    }

    /// An operator between two arrays of the same type.
    fn arrays(&self, function: fn(Type) -> Function, left: Typed, right: Typed, at: Location) -> Result<Typed> {
        let ty = match (left.ty, right.ty) {
            (Some(ty @ Type::Array(_)), None) | (None, Some(ty @ Type::Array(_))) => ty,
            (Some(ty @ Type::Array(_)), Some(other)) if ty == other => ty,
            (Some(Type::Array(_)), _) => return Err(refused(&right, "an array of the same type")),
            _ => return Err(refused(&left, "an array")),
        };
        let Type::Array(element) = ty else { return Err(refused(&left, "an array")) };
        element_is_compared(element.ty(), at)?;
        let args = vec![self.array(left, ty)?, self.array(right, ty)?];
        self.function(function(element.ty()), args, at)
    }

    /// `value = ANY (array)`.
    pub(super) fn element_of(&self, value: Typed, array: Typed) -> Result<Typed> {
        let Some(Type::Array(element)) = array.ty else { return Err(refused(&array, "an array")) };
        let (ty, at) = (element.ty(), value.at);
        element_is_compared(ty, array.at)?;
        match value.ty {
            Some(found) if !found.comparable(ty) => return Err(refused(&value, &format!("a value of type {ty}"))),
            _ => {}
        }
        let expr = self.of_type(value.expr, value.ty, ty, at)?;
        let value = Typed { expr, ty: Some(value.ty.unwrap_or(ty)), ..value };
        self.function(Function::ElementOf(ty), vec![value, array], at)
    }

    /// A parameter that is a list, or a list in quotes, as an array.
    fn array(&self, e: Typed, ty: Type) -> Result<Typed> {
        match (&e.expr, e.ty) {
            (Expr::Placeholder(..), None) => {
                let at = e.at;
                Ok(Typed { expr: self.of_type(e.expr, None, ty, at)?, ty: Some(ty), ..e })
            }
            (Expr::Const(Value::Text(text)), None) => {
                let Type::Array(element) = ty else { return Err(refused(&e, "an array")) };
                let elements = in_quotes(text, element.ty(), e.at)?;
                let list = serde_json::Value::Array(elements.iter().map(Value::to_json).collect());
                Ok(Typed { expr: Expr::Const(Value::Json(list.to_string().into())), ty: Some(ty), ..e })
            }
            (_, None) => Err(refused(&e, "an array column, a list in quotes or a parameter that is a list")),
            _ => Ok(e),
        }
    }
}

fn of_json(e: &Typed) -> Result<Type> {
    e.ty.filter(|ty| matches!(ty, Type::Json | Type::Jsonb)).ok_or_else(|| refused(e, "json or jsonb"))
}

/// The elements of an array in quotes.
pub(super) fn in_quotes(text: &str, ty: Type, at: Location) -> Result<Vec<Value>> {
    let Some(elements) = array_literal(text, ty) else {
        return Err(invalid(at, format!("this text is not a list of values of type {ty}"), "'{1,2}' or '{a,\"b c\"}'"));
    };
    if elements.len() > MAX_ARRAY {
        return Err(invalid(at, format!("a list of {} values", elements.len()), format!("at most {MAX_ARRAY}")));
    }
    Ok(elements)
}

pub(super) fn element_is_compared(ty: Type, at: Location) -> Result<()> {
    if ty.is_compared() {
        return Ok(());
    }
    Err(invalid(at, format!("elements of type {ty} are not compared"), "an array of another type"))
}
