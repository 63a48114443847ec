//! What can go wrong where a value is computed.

use crate::value::Type;

/// Why an expression has no value on a row.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord, thiserror::Error)]
pub enum EvalError {
    /// Division by zero.
    #[error("division by zero")]
    DivisionByZero,
    /// A number that its type cannot hold.
    #[error("{0} out of range")]
    OutOfRange(Type),
    /// A text that is not a value of the type it is cast to.
    #[error("a text is not a value of type {0}")]
    NotA(Type),
    /// `SUBSTRING` with a negative length.
    #[error("negative substring length")]
    NegativeLength,
    /// A text of more than `MAX_TEXT` bytes.
    #[error("a text of more than 1 MiB is put together")]
    TooLong,
}
