//! From an address to a relay, or to a topic of other programs.

use std::sync::Arc;

use crate::broker::address::Address;
use crate::broker::protocols::{ARE_COMPLETE, PROTOCOLS};
use crate::broker::{Protocol, backoff, pause};
use crate::broker_relay::BrokerRelay;
use crate::ingest::{Ingest, Place, Sink};
use crate::inproc::InProcess;
use crate::{Relay, RelayError, Settings, scheme, tls};

/// The scheme of the relay within one process.
const IN_PROCESS: &str = "inproc";

/// The schemes of the addresses that this build can connect to.
pub fn schemes() -> impl Iterator<Item = &'static str> {
    std::iter::once(IN_PROCESS).chain(PROTOCOLS.iter().flat_map(|p| p.schemes().iter().copied()))
}

/// [`schemes`], as a message names what is expected.
pub fn expected_schemes() -> String {
    let known: Vec<String> = schemes().map(|scheme| format!("{scheme}:")).collect();
    let left_out = if ARE_COMPLETE { "" } else { " (this build leaves some brokers out)" };
    known.join(", ") + left_out
}

fn protocol(scheme: &str) -> Option<&'static dyn Protocol> {
    PROTOCOLS.iter().copied().find(|p| p.schemes().contains(&scheme))
}

/// The relay of these settings, for the instance of this name.
///
/// # Errors
///
/// The address is not one that this build knows, or the broker cannot be reached.
pub async fn connect(settings: &Settings, instance: &str) -> Result<Arc<dyn Relay>, RelayError> {
    tls::install_provider();
    let scheme = scheme(&settings.url);
    if scheme == IN_PROCESS {
        return Ok(Arc::new(InProcess::default()));
    }
    let unknown = || RelayError::Unknown { scheme: scheme.into(), expected: expected_schemes() };
    let broker = protocol(scheme).ok_or_else(unknown)?.connect(settings).await?;
    Ok(Arc::new(BrokerRelay::new(broker, settings, instance)))
}

/// Checks that messages can be read from such an address. The error does not repeat it.
///
/// # Errors
///
/// What such an address looks like.
pub fn check_ingest(url: &str) -> Result<(), String> {
    let wrong = || {
        let like: Vec<_> = PROTOCOLS.iter().map(|p| p.ingest_example()).collect();
        format!("from: expected an address like {}", like.join(" or "))
    };
    let (place, protocol) = Place::of(url).zip(protocol(scheme(url))).ok_or_else(wrong)?;
    // The port is only looked at.
    Address::parse(place.broker, 1, protocol.ingest_example()).map_err(|_| wrong())?;
    if protocol.takes_filter(place.filter) { Ok(()) } else { Err(wrong()) }
}

/// Reads messages until the receiver is closed. Reconnects with growing pauses.
pub async fn ingest(from: &Ingest, sink: Sink) {
    let Some((place, protocol)) = Place::of(&from.url).zip(protocol(scheme(&from.url))) else { return };
    tls::install_provider();
    let mut backoff = backoff();
    loop {
        let ended = tokio::select! {
            ended = protocol.ingest(place, from, &sink) => ended,
            () = sink.closed() => return,
        };
        sink.failed(ended.err().map_or("the connection was lost".to_string(), |e| e.to_string()));
        tokio::select! {
            () = pause(&mut backoff) => {}
            () = sink.closed() => return,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    #[cfg(all(feature = "amqp", feature = "mqtt", feature = "nats", feature = "redis"))]
    fn topics_of_other_programs_have_a_broker_and_a_filter() {
        for good in ["mqtt://h/a/#", "nats://h:1/a.>", "redis://h/a*", "amqp://h/exchange/key.#"] {
            assert_eq!(check_ingest(good), Ok(()), "{good}");
        }
        for bad in ["mqtt://h", "http://h/a", "amqp://h/exchange", "secret", "nats:///a", "inproc:/a"] {
            let e = check_ingest(bad).unwrap_err();
            assert!(e.contains("expected an address like mqtt://") && !e.contains("secret"), "{bad}: {e}");
        }
    }
}
