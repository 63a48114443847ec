//! What is computed: arithmetic, functions, `CASE` and the like, with the types that PostgreSQL gives them.

use super::types::{exactly, ordered};
use super::{Checker, MAX_FUNCTIONS, Result, Size, Typed, aggregate, moment, time};
use crate::query::expr::{CmpOp, Computed, Expr};
use crate::query::function::{Arithmetic, Function, Side, can_cast, is_held_alike};
use crate::query::syntax::{Ast, Call, Ident, Location, invalid};
use crate::value::{Type, Value};
use gossip_protocol::spelling::similar;

/// What a name before brackets stands for.
#[derive(Clone, Copy)]
enum Named {
    /// A function of a text, and of what else it takes.
    Text(Function),
    /// A function of a number, of its type.
    Number(fn(Type) -> Function),
    /// The same; PostgreSQL has it for `numeric` and `float8` alone.
    Whole(fn(Type) -> Function),
    Round,
    Modulo,
    Coalesce,
    NullIf,
    /// `GREATEST`, or else `LEAST`.
    Extreme(bool),
    Extract,
    Truncate,
}

/// The functions that are called by a name, with the least and the most arguments that they take.
const FUNCTIONS: [(&str, usize, usize, Named); 25] = [
    ("abs", 1, 1, Named::Number(Function::Abs)),
    ("btrim", 1, 2, Named::Text(Function::Trim(Side::Both))),
    ("ceil", 1, 1, Named::Whole(Function::Ceil)),
    ("ceiling", 1, 1, Named::Whole(Function::Ceil)),
    ("char_length", 1, 1, Named::Text(Function::Length)),
    ("character_length", 1, 1, Named::Text(Function::Length)),
    ("coalesce", 1, MAX_FUNCTIONS, Named::Coalesce),
    ("date_trunc", 2, 2, Named::Truncate),
    ("extract", 2, 2, Named::Extract),
    ("floor", 1, 1, Named::Whole(Function::Floor)),
    ("greatest", 1, MAX_FUNCTIONS, Named::Extreme(true)),
    ("least", 1, MAX_FUNCTIONS, Named::Extreme(false)),
    ("left", 2, 2, Named::Text(Function::Left)),
    ("length", 1, 1, Named::Text(Function::Length)),
    ("lower", 1, 1, Named::Text(Function::Lower)),
    ("ltrim", 1, 2, Named::Text(Function::Trim(Side::Leading))),
    ("mod", 2, 2, Named::Modulo),
    ("nullif", 2, 2, Named::NullIf),
    ("right", 2, 2, Named::Text(Function::Right)),
    ("round", 1, 2, Named::Round),
    ("rtrim", 1, 2, Named::Text(Function::Trim(Side::Trailing))),
    ("substr", 2, 3, Named::Text(Function::Substring)),
    ("substring", 2, 3, Named::Text(Function::Substring)),
    ("trim", 1, 2, Named::Text(Function::Trim(Side::Both))),
    ("upper", 1, 1, Named::Text(Function::Upper)),
];

impl Checker<'_> {
    fn checked(&mut self, all: Vec<Ast>) -> Result<Vec<Typed>> {
        all.into_iter().map(|e| self.expression(e)).collect()
    }

    /// A function of arguments that have its types.
    pub(super) fn function(&self, function: Function, args: Vec<Typed>, at: Location) -> Result<Typed> {
        if self.never_fails && !function.is_total() {
            return Err(invalid(at, "this can fail on a row", "in a rule, only what has a value on every row"));
        }
        let size = args.iter().map(|a| a.size).fold(Size::default(), Size::beside);
        let of = args.into_iter().map(|a| a.expr).collect();
        self.node(Expr::Computed(Box::new(Computed::Function(function, of))), Some(function.ty()), at, size)
    }

    fn computed_of(&self, computed: Computed, ty: Type, at: Location, size: Size) -> Result<Typed> {
        self.node(Expr::Computed(Box::new(computed)), Some(ty), at, size)
    }

    /// An expression as one of another type, to which PostgreSQL converts it by itself.
    pub(super) fn converted(&self, e: Typed, ty: Type) -> Result<Typed> {
        let Some(from) = e.ty else {
            let (at, size) = (e.at, e.size);
            return Ok(Typed { expr: self.of_type(e.expr, None, ty, at)?, ty: Some(ty), at, size });
        };
        if is_held_alike(from, ty) {
            return Ok(Typed { ty: Some(ty), ..e });
        }
        let at = e.at;
        self.function(Function::Cast(from, ty), vec![e], at)
    }

    pub(super) fn arithmetic(&mut self, op: Arithmetic, left: Ast, right: Ast) -> Result<Typed> {
        let at = left.at;
        if let Some(interval) = moment::interval(&right)? {
            return self.shifted(op, left, interval, at);
        }
        if let Some(interval) = moment::interval(&left)? {
            return self.shifted(op, right, interval, at);
        }
        let (left, right) = (self.expression(left)?, self.expression(right)?);
        self.arithmetic_of(op, left, right, at)
    }

    fn arithmetic_of(&self, op: Arithmetic, left: Typed, right: Typed, at: Location) -> Result<Typed> {
        if let Some(function) = time::of_dates(op, left.ty, right.ty) {
            return self.function(function, vec![left, right], at);
        }
        for side in [&left, &right] {
            number(side, "a number")?;
        }
        let ty = match (left.ty, right.ty) {
            (Some(a), Some(b)) => wider(a, b),
            (Some(ty), None) | (None, Some(ty)) => ty,
            (None, None) => {
                return Err(invalid(right.at, "neither side has a type", "a column or a number on one side"));
            }
        };
        if op == Arithmetic::Modulo && matches!(ty, Type::Float4 | Type::Float8) {
            return Err(invalid(at, format!("% is not defined for {ty}"), "integers or numeric"));
        }
        let args = vec![self.converted(left, ty)?, self.converted(right, ty)?];
        self.function(Function::Arithmetic(op, ty), args, at)
    }

    pub(super) fn negated(&mut self, value: Ast, at: Location) -> Result<Typed> {
        let value = self.expression(value)?;
        number(&value, "a number")?;
        let ty = value.ty.unwrap_or(Type::Float8);
        let value = self.converted(value, ty)?;
        self.function(Function::Negate(ty), vec![value], at)
    }

    /// `a || b || …`: texts, and on one side of each `||` anything that has a text.
    pub(super) fn concatenated(&mut self, parts: Vec<Ast>) -> Result<Typed> {
        let parts = self.checked(parts)?;
        let is_text = |e: &Typed| matches!(e.ty, None | Some(Type::Text | Type::Bpchar));
        let at = parts.first().map_or(Location { line: 1, column: 1 }, |e| e.at);
        if let [first, second, ..] = &parts[..]
            && !is_text(first)
            && !is_text(second)
        {
            return Err(invalid(second.at, "neither side of || is a text", "a text on one side"));
        }
        let args = parts.into_iter().map(|e| self.as_text(e)).collect::<Result<Vec<Typed>>>()?;
        self.function(Function::Concat, args, at)
    }

    fn as_text(&self, e: Typed) -> Result<Typed> {
        match e.ty {
            Some(ty) if !can_cast(ty, Type::Text) => Err(invalid(
                e.at,
                format!("a value of type {ty} has no text here"),
                "a text, a number or a truth value",
            )),
            _ => self.converted(e, Type::Text),
        }
    }

    pub(super) fn distinct(&mut self, left: Ast, right: Ast) -> Result<Typed> {
        let at = left.at;
        let (left, right) = (self.expression(left)?, self.expression(right)?);
        let (a, b, size) = self.pair(left, right)?;
        self.computed_of(Computed::Distinct(a, b), Type::Bool, at, size)
    }

    pub(super) fn is_truth(&mut self, value: Ast, wanted: Option<bool>) -> Result<Typed> {
        let value = self.expression(value)?;
        let (at, size) = (value.at, value.size);
        let condition = self.condition(value)?;
        let Some(wanted) = wanted else {
            return self.node(Expr::IsNull(Box::new(condition)), Some(Type::Bool), at, size);
        };
        let wanted = Expr::Const(Value::Bool(wanted));
        let differs = self.computed_of(Computed::Distinct(condition, wanted), Type::Bool, at, size)?;
        let size = differs.size;
        self.node(Expr::Not(Box::new(differs.expr)), Some(Type::Bool), at, size)
    }

    pub(super) fn case(
        &mut self,
        operand: Option<Ast>,
        arms: Vec<(Ast, Ast)>,
        otherwise: Option<Ast>,
        at: Location,
    ) -> Result<Typed> {
        let operand = operand.map(|e| self.expression(e)).transpose()?;
        let (mut conditions, mut values, mut size) = (Vec::new(), Vec::new(), Size::default());
        for (when, then) in arms {
            let when = self.expression(when)?;
            let condition = match &operand {
                None => {
                    size = size.beside(when.size);
                    self.condition(when)?
                }
                Some(operand) => {
                    // The operand stands in each comparison: it is counted before it is copied.
                    self.node(Expr::always(), None, at, size.beside(operand.size).beside(when.size))?;
                    let (a, b, compared) = self.pair(operand.copy(), when)?;
                    size = size.beside(Size { depth: compared.depth + 1, nodes: compared.nodes + 1 });
                    Expr::Cmp(CmpOp::Eq, Box::new(a), Box::new(b))
                }
            };
            conditions.push(condition);
            values.push(self.expression(then)?);
        }
        // PostgreSQL looks at it first.
        values.insert(
            0,
            match otherwise {
                Some(otherwise) => self.expression(otherwise)?,
                None => self.leaf(Expr::Const(Value::Null), None, at)?,
            },
        );
        let ty = common(&values)?;
        values.rotate_left(1);
        let mut values = values.into_iter().map(|v| self.converted(v, ty)).collect::<Result<Vec<Typed>>>()?;
        let size = values.iter().map(|v| v.size).fold(size, Size::beside);
        let otherwise = values.pop().map_or(Expr::Const(Value::Null), |v| v.expr);
        let arms = conditions.into_iter().zip(values.into_iter().map(|v| v.expr)).collect();
        self.computed_of(Computed::Case { arms, otherwise }, ty, at, size)
    }

    /// A function or an aggregate that is called by its name.
    pub(super) fn called(&mut self, call: Call) -> Result<Typed> {
        let Call { name, args, distinct, filter } = &call;
        if let Some(aggregate) = aggregate::named(&name.name) {
            return self.aggregate(aggregate, call);
        }
        if let Some(at) = distinct.or(filter.as_ref().map(|f| f.at)) {
            return Err(invalid(
                at,
                format!("{} is not of many rows", name.name),
                "DISTINCT and FILTER with aggregates",
            ));
        }
        if args.is_none() {
            return Err(invalid(name.at, format!("{}(*)", name.name), "COUNT(*), or values in the brackets"));
        }
        self.named(&call.name, call.args.unwrap_or_default())
    }

    /// A function that is called by its name.
    fn named(&mut self, name: &Ident, args: Vec<Ast>) -> Result<Typed> {
        let at = name.at;
        if moment::is_now(&name.name) {
            return Err(moment::misplaced(at));
        }
        let word = if name.quoted { name.name.clone() } else { name.name.to_ascii_lowercase() };
        let names = || FUNCTIONS.iter().map(|(name, ..)| *name);
        let Some((name, least, most, named)) = FUNCTIONS.iter().find(|(name, ..)| *name == word) else {
            let hint = similar(&word, names()).map_or(String::new(), |s| format!("; did you mean {s}?"));
            let expected = names().collect::<Vec<_>>().join(", ");
            return Err(invalid(at, format!("the function {word} is not known here{hint}"), expected));
        };
        if !(*least..=*most).contains(&args.len()) {
            let found = args.len();
            let takes = match (least, most) {
                (1, 1) => "1 argument".into(),
                (least, most) if least == most => format!("{least} arguments"),
                (least, most) => format!("{least} to {most} arguments"),
            };
            return Err(invalid(at, format!("{name} has {found} arguments"), takes));
        }
        let args = self.checked(args)?;
        match *named {
            Named::Text(function) => self.of_text(function, args, at),
            Named::Number(function) => self.of_number(function, args, false, at),
            Named::Whole(function) => self.of_number(function, args, true, at),
            Named::Round if args.len() == 1 => self.of_number(Function::Round, args, true, at),
            Named::Round => self.round_to(args, at),
            Named::Modulo => {
                let [a, b] = exactly(args, at)?;
                self.arithmetic_of(Arithmetic::Modulo, a, b, at)
            }
            Named::NullIf => self.null_if(args, at),
            Named::Coalesce => self.coalesce(args, at),
            Named::Extreme(greatest) => self.extreme(greatest, args, at),
            Named::Extract => self.extract(args, at),
            Named::Truncate => self.truncate(args, at),
        }
    }

    /// A function of a text, and perhaps further texts or `int4`s.
    fn of_text(&self, function: Function, args: Vec<Typed>, at: Location) -> Result<Typed> {
        let mut typed = Vec::with_capacity(args.len());
        for (i, arg) in args.into_iter().enumerate() {
            let text = i == 0 || matches!(function, Function::Trim(_));
            let fits = match arg.ty {
                None => true,
                Some(ty) if text => matches!(ty, Type::Text | Type::Bpchar),
                Some(ty) => matches!(ty, Type::Int2 | Type::Int4),
            };
            let ty = if text { Type::Text } else { Type::Int4 };
            if !fits {
                let found = arg.ty.unwrap_or(ty);
                return Err(invalid(arg.at, format!("a value of type {found}"), format!("a value of type {ty}")));
            }
            typed.push(self.converted(arg, ty)?);
        }
        self.function(function, typed, at)
    }

    /// A function of a number; `whole`: one that PostgreSQL has for `numeric` and `float8` alone.
    fn of_number(
        &self,
        function: impl Fn(Type) -> Function,
        args: Vec<Typed>,
        whole: bool,
        at: Location,
    ) -> Result<Typed> {
        let [arg] = exactly(args, at)?;
        number(&arg, "a number")?;
        let ty = match arg.ty.unwrap_or(Type::Float8) {
            Type::Numeric => Type::Numeric,
            _ if whole => Type::Float8,
            ty => ty,
        };
        let arg = self.converted(arg, ty)?;
        self.function(function(ty), vec![arg], at)
    }

    fn round_to(&self, args: Vec<Typed>, at: Location) -> Result<Typed> {
        let [of, digits] = exactly(args, at)?;
        if !of.ty.is_none_or(|ty| ty.is_integer() || ty == Type::Numeric) {
            return Err(invalid(of.at, "ROUND to digits is of numeric", "CAST(… AS numeric)"));
        }
        if !digits.ty.is_none_or(|ty| matches!(ty, Type::Int2 | Type::Int4)) {
            return Err(invalid(digits.at, "this is not a number of digits", "a value of type int4"));
        }
        let args = vec![self.converted(of, Type::Numeric)?, self.converted(digits, Type::Int4)?];
        self.function(Function::RoundTo, args, at)
    }

    /// `NULLIF(a, b)`: `CASE WHEN a = b THEN NULL ELSE a END`.
    fn null_if(&self, args: Vec<Typed>, at: Location) -> Result<Typed> {
        let [a, b] = exactly(args, at)?;
        self.node(Expr::always(), None, at, a.size.beside(a.size).beside(b.size))?;
        let ty = match (a.ty, b.ty) {
            (Some(a), Some(b)) => compared_as(a, b),
            (a, b) => a.or(b).unwrap_or(Type::Text),
        };
        let value = self.converted(a.copy(), ty)?;
        let (a, b, compared) = self.pair(a, b)?;
        let size = value.size.beside(Size { depth: compared.depth + 1, nodes: compared.nodes + 1 });
        let equal = Expr::Cmp(CmpOp::Eq, Box::new(a), Box::new(b));
        let computed = Computed::Case { arms: [(equal, Expr::Const(Value::Null))].into(), otherwise: value.expr };
        self.computed_of(computed, ty, at, size)
    }

    fn coalesce(&self, args: Vec<Typed>, at: Location) -> Result<Typed> {
        let (of, ty, size) = self.alike(args)?;
        self.computed_of(Computed::Coalesce(of), ty, at, size)
    }

    fn extreme(&self, greatest: bool, args: Vec<Typed>, at: Location) -> Result<Typed> {
        args.iter().try_for_each(ordered)?;
        let (of, ty, size) = self.alike(args)?;
        if !ty.is_compared() {
            return Err(invalid(at, format!("values of type {ty} have no order here"), "COALESCE"));
        }
        self.computed_of(Computed::Extreme { greatest, of }, ty, at, size)
    }

    /// Values of which one is taken, as ones of one type, and their size together.
    fn alike(&self, args: Vec<Typed>) -> Result<(Box<[Expr]>, Type, Size)> {
        let ty = common(&args)?;
        let args = args.into_iter().map(|a| self.converted(a, ty)).collect::<Result<Vec<Typed>>>()?;
        let size = args.iter().map(|a| a.size).fold(Size::default(), Size::beside);
        Ok((args.into_iter().map(|a| a.expr).collect(), ty, size))
    }
}

impl Typed {
    pub(super) fn copy(&self) -> Typed {
        Typed { expr: self.expr.clone(), ..*self }
    }
}

fn number(side: &Typed, expected: &str) -> Result<()> {
    match side.ty.filter(|ty| !ty.is_number()) {
        Some(ty) => Err(invalid(side.at, format!("a value of type {ty} is not a number"), expected)),
        None => Ok(()),
    }
}

/// The place of a type of numbers in the order in which PostgreSQL converts them by itself.
fn rank(ty: Type) -> u8 {
    match ty {
        Type::Int2 => 0,
        Type::Int4 => 1,
        Type::Int8 => 2,
        Type::Numeric => 3,
        Type::Float4 => 4,
        _ => 5,
    }
}

/// The type in which two numbers are added, subtracted, multiplied or divided.
fn wider(a: Type, b: Type) -> Type {
    match if rank(a) >= rank(b) { a } else { b } {
        // There is no operator for a float4 beside another type.
        Type::Float4 if a != b => Type::Float8,
        ty => ty,
    }
}

/// The type that PostgreSQL converts `a` to where it compares it with `b`.
fn compared_as(a: Type, b: Type) -> Type {
    let float = |ty| matches!(ty, Type::Float4 | Type::Float8);
    match (a, b) {
        (a, b) if a == b || (a.is_integer() && b.is_integer()) || (float(a) && float(b)) => a,
        (a, b) if a.is_number() && b.is_number() => match (float(a), float(b)) {
            (true, _) => a,
            (false, true) => Type::Float8,
            (false, false) => Type::Numeric,
        },
        (Type::Bpchar, Type::Text) => Type::Text,
        _ => a,
    }
}

/// The type of several values of which one is taken.
fn common(values: &[Typed]) -> Result<Type> {
    let mut found: Option<Type> = None;
    for v in values {
        let Some(ty) = v.ty else { continue };
        found = Some(match found {
            None => ty,
            Some(before) if before == ty => ty,
            Some(before) if before.is_number() && ty.is_number() => {
                if rank(before) >= rank(ty) {
                    before
                } else {
                    ty
                }
            }
            // Each is converted to the other, so the first one decides.
            Some(before @ (Type::Text | Type::Bpchar)) if matches!(ty, Type::Text | Type::Bpchar) => before,
            Some(Type::Date | Type::Timestamp) if matches!(ty, Type::Date | Type::Timestamp) => Type::Timestamp,
            Some(before) => {
                let text = format!("a value of type {ty} beside one of type {before}");
                return Err(invalid(v.at, text, format!("a value of type {before}")));
            }
        });
    }
    Ok(found.unwrap_or(Type::Text))
}
