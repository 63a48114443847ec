//! Why a connection ends: WebSocket close codes (RFC 6455 and its registry).

/// A message is of a kind that the protocol does not have.
pub const UNSUPPORTED: u16 = 1003;
/// The client is not permitted to connect, or no longer.
pub const POLICY: u16 = 1008;
/// A message is too long.
pub const TOO_BIG: u16 = 1009;
/// The instance stops; another one, or this one later, goes on.
pub const RESTART: u16 = 1012;
