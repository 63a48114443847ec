//! What can go wrong on the way.

/// Why a relay's operation failed.
#[derive(Debug, thiserror::Error)]
pub enum RelayError {
    /// The broker cannot be reached now.
    #[error("cannot reach the broker: {0}")]
    Unreachable(String),
    /// The address is not one of a relay that this build supports.
    #[error("relay.url: {scheme}:… is not supported; expected {expected}")]
    Unknown {
        /// What stands before its colon.
        scheme: String,
        /// What may stand there.
        expected: String,
    },
    /// The address cannot be read. It is not repeated: it may hold a password.
    #[error("relay.url is not an address like {0}")]
    Address(&'static str),
}

impl RelayError {
    /// The broker cannot be reached now, for this reason.
    pub fn unreachable(e: impl std::fmt::Display) -> RelayError {
        RelayError::Unreachable(e.to_string())
    }
}
