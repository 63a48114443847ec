//! The words of functions and operators that say which one.

use std::fmt;

/// An operator of arithmetic.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Arithmetic {
    /// `+`
    Add,
    /// `-`
    Subtract,
    /// `*`
    Multiply,
    /// `/`; of integers, truncated towards zero.
    Divide,
    /// `%`, with the sign of the dividend. Not of floating-point numbers.
    Modulo,
}

impl Arithmetic {
    /// The operator in SQL.
    pub fn sign(self) -> &'static str {
        match self {
            Arithmetic::Add => "+",
            Arithmetic::Subtract => "-",
            Arithmetic::Multiply => "*",
            Arithmetic::Divide => "/",
            Arithmetic::Modulo => "%",
        }
    }
}

/// The ends at which `TRIM` removes characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Side {
    /// Both ends.
    Both,
    /// The start.
    Leading,
    /// The end.
    Trailing,
}

impl fmt::Display for Arithmetic {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.sign())
    }
}
