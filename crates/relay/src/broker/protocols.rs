//! The brokers that this build can speak to, one line each.

use super::Protocol;

/// In the order in which messages name them.
pub static PROTOCOLS: &[&dyn Protocol] = &[
    #[cfg(feature = "mqtt")]
    &super::mqtt::Mqtt5,
    #[cfg(feature = "nats")]
    &super::nats::NatsJetStream,
    #[cfg(feature = "redis")]
    &super::redis::RedisStreams,
    #[cfg(feature = "amqp")]
    &super::amqp::Amqp091,
];

/// Whether no broker's client was left out of this build.
pub const ARE_COMPLETE: bool = cfg!(all(feature = "amqp", feature = "mqtt", feature = "nats", feature = "redis"));
