//! Topics of other programs: what they say on a broker, in whatever form, for one instance to take in and pass on.
//!
//! Where the broker can hold messages for somebody who is away for a moment (MQTT sessions, AMQP queues), it is asked to,
//! under a name that all instances of a cluster share: the next one that listens gets what the last one did not.

use std::time::Duration;

use async_nats::client::Request;
use async_nats::{Event, ServerError};
use bytes::Bytes;
use futures_util::StreamExt;
use lapin::options::{BasicConsumeOptions, QueueBindOptions, QueueDeclareOptions};
use lapin::types::{AMQPValue, FieldTable};
use rumqttc::v5::mqttbytes::QoS;
use rumqttc::v5::mqttbytes::v5::{Packet, SubscribeReasonCode};
use rumqttc::v5::{self as mqtt, AsyncClient};
use tokio::sync::mpsc;

use crate::broker::address::Address;
use crate::broker::{Backoff, TIMEOUT, WAITING};
use crate::tls::Trust;
use crate::{RelayError, broker};

/// How long a broker holds messages while nobody listens.
const AWAY: Duration = Duration::from_secs(300);

/// Longest wait for an answer that shows that a subscription has been heard (NATS).
const ROUND: Duration = Duration::from_secs(1);

/// Bytes of one message that are taken.
const MAX_BYTES: u32 = 1 << 20;

const LIKE: &str = "mqtt://host:1883/topic/filter, nats://host:4222/subject.*, redis://host:6379/channel-* or amqp://host:5672/exchange/key";

/// A message of another program.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Foreign {
    /// Under which name it was said there.
    pub name: String,
    /// What was said.
    pub bytes: Bytes,
}

/// Which broker it is, with TLS or without.
fn kind(scheme: &str) -> Option<&'static str> {
    Some(match scheme {
        "mqtt" | "mqtts" => "mqtt",
        "nats" | "tls" => "nats",
        "redis" | "rediss" => "redis",
        "amqp" | "amqps" => "amqp",
        _ => return None,
    })
}

/// A topic of other programs.
#[derive(Clone, PartialEq, Eq)]
pub struct Listen {
    /// Where it is. May hold a password.
    pub url: String,
    /// The name that all who may take over from each other share.
    pub group: String,
    /// Who vouches for the broker.
    pub trust: Trust,
}

/// Where to listen: the broker's address and the filter of names, which stands behind the first slash as it is.
fn split(url: &str) -> Result<(&str, &str, &str), String> {
    let wrong = || format!("from: expected an address like {LIKE}");
    let (scheme, rest) = url.split_once("://").ok_or_else(wrong)?;
    let (place, filter) = rest.split_once('/').filter(|(p, f)| !p.is_empty() && !f.is_empty()).ok_or_else(wrong)?;
    let kind = kind(scheme).ok_or_else(wrong)?;
    if kind == "amqp" && !filter.contains('/') {
        return Err(wrong());
    }
    Ok((scheme, place, filter))
}

/// Whether one can listen at such an address. The error does not repeat it.
///
/// # Errors
/// What such an address looks like.
pub fn check(url: &str) -> Result<(), String> {
    let (scheme, place, _) = split(url)?;
    // The port is only looked at.
    Address::parse(&format!("{scheme}://{place}"), 1, LIKE).map(drop).map_err(|e| e.to_string())
}

/// Listens until `out` is closed. `told` hears how it stands: nothing while it listens, else why not.
pub async fn listen(to: &Listen, out: mpsc::Sender<Foreign>, told: impl Fn(Option<String>) + Send) {
    let Listen { url, group, trust } = to;
    let Ok((scheme, place, filter)) = split(url) else { return };
    crate::tls::choose();
    let address = format!("{scheme}://{place}");
    let mut backoff = Backoff::new();
    loop {
        let why = {
            let once = async {
                match kind(scheme) {
                    Some("mqtt") => mqtt((&address, trust), filter, group, &out, &told).await,
                    Some("nats") => nats((&address, trust), filter, &out, &told).await,
                    Some("redis") => redis((&address, trust), filter, &out, &told).await,
                    _ => amqp((&address, trust), filter, group, &out, &told).await,
                }
            };
            tokio::select! {
                why = once => why,
                () = out.closed() => return,
            }
        };
        let why = why.err().map_or("the connection is gone".to_string(), |e| e.to_string());
        told(Some(why));
        tokio::select! {
            () = backoff.wait() => {}
            () = out.closed() => return,
        }
    }
}

type Once = Result<(), RelayError>;

/// Passes a message on; one that is too long without its bytes, which then does not fit the topic and is counted as such.
/// `false` once nobody takes them any more.
async fn pass_on(out: &mpsc::Sender<Foreign>, name: String, bytes: Bytes) -> bool {
    let bytes = if bytes.len() > MAX_BYTES as usize { Bytes::new() } else { bytes };
    out.send(Foreign { name, bytes }).await.is_ok()
}

async fn mqtt(
    (address, trust): (&str, &Trust),
    filter: &str,
    group: &str,
    out: &mpsc::Sender<Foreign>,
    told: &(impl Fn(Option<String>) + Send),
) -> Once {
    let mut options = broker::mqtt::options(address, trust)?;
    options.set_client_id(format!("gossip-{group}")).set_clean_start(false);
    options.set_session_expiry_interval(Some(AWAY.as_secs() as u32)).set_max_packet_size(Some(MAX_BYTES));
    let (client, mut events) = AsyncClient::new(options, 16);
    let _ = client.try_subscribe(filter, QoS::AtLeastOnce);
    loop {
        match events.poll().await.map_err(|e| broker::mqtt::unreachable(&e))? {
            mqtt::Event::Incoming(Packet::SubAck(answer)) => {
                if !answer.return_codes.iter().all(|c| matches!(c, SubscribeReasonCode::Success(_))) {
                    return Err(RelayError::unreachable("the broker does not let us subscribe"));
                }
                told(None);
            }
            mqtt::Event::Incoming(Packet::Publish(p)) => {
                let name = String::from_utf8_lossy(&p.topic).into_owned();
                if !pass_on(out, name, p.payload).await {
                    return Ok(());
                }
            }
            _ => {}
        }
    }
}

async fn nats(
    (address, trust): (&str, &Trust),
    filter: &str,
    out: &mpsc::Sender<Foreign>,
    told: &(impl Fn(Option<String>) + Send),
) -> Once {
    let (options, place) = broker::nats::options(address, trust)?;
    // The client would connect again by itself and say nothing of it, nor of a subscription that is refused.
    let (ended, mut end) = mpsc::channel(1);
    // Of this subscription: where one may not be answered either, that is refused as well, and no harm.
    let refusal = format!("violation for subscription to \"{}\"", filter.to_lowercase());
    let options = options.event_callback(move |event| {
        let why = match event {
            Event::Disconnected => Some("the connection is gone"),
            Event::ServerError(ServerError::Other(e)) if e.to_lowercase().contains(&refusal) => {
                Some("the broker does not let us subscribe")
            }
            _ => None,
        };
        if let Some(why) = why {
            // The first one is enough.
            let _ = ended.try_send(why);
        }
        std::future::ready(())
    });
    let client = options.connect(place).await.map_err(|e| broker::nats::refused(&e))?;
    let mut heard = client.subscribe(filter.to_string()).await.map_err(RelayError::unreachable)?;
    // A subscription is not answered. But what is asked after it is: nobody has this name; or nothing is said, where one
    // may not ask.
    let ask = Request::new().payload(Bytes::new()).timeout(Some(ROUND));
    let asked = client.send_request(client.new_inbox(), ask);
    tokio::select! {
        _ = asked => told(None),
        why = end.recv() => return Err(RelayError::unreachable(why.unwrap_or_default())),
    }
    loop {
        let message = tokio::select! {
            message = heard.next() => message,
            why = end.recv() => return Err(RelayError::unreachable(why.unwrap_or_default())),
        };
        let Some(m) = message else { return Ok(()) };
        if !pass_on(out, m.subject.to_string(), m.payload).await {
            return Ok(());
        }
    }
}

async fn redis(
    (address, trust): (&str, &Trust),
    filter: &str,
    out: &mpsc::Sender<Foreign>,
    told: &(impl Fn(Option<String>) + Send),
) -> Once {
    let client = broker::redis::client(address, trust)?;
    let refused = |e: ::redis::RedisError| RelayError::unreachable(e.category());
    let mut connection = client.get_async_pubsub().await.map_err(refused)?;
    connection.psubscribe(filter).await.map_err(refused)?;
    told(None);
    let mut heard = connection.into_on_message();
    while let Some(m) = heard.next().await {
        if !pass_on(out, m.get_channel_name().to_string(), m.get_payload_bytes().to_vec().into()).await {
            break;
        }
    }
    Ok(())
}

async fn amqp(
    (address, trust): (&str, &Trust),
    filter: &str,
    group: &str,
    out: &mpsc::Sender<Foreign>,
    told: &(impl Fn(Option<String>) + Send),
) -> Once {
    // The virtual host is the usual one.
    let (exchange, key) = filter.split_once('/').unwrap_or((filter, "#"));
    let refused = |e: lapin::Error| RelayError::unreachable(e.to_string().chars().take(160).collect::<String>());
    let uri = format!("{address}/%2f?heartbeat=5").parse().map_err(|_| RelayError::Address(LIKE))?;
    let connected = async {
        let connection = broker::amqp::connection(uri, trust).await?;
        let channel = connection.create_channel().await?;
        let mut bounds = FieldTable::default();
        bounds.insert("x-expires".into(), AMQPValue::LongInt(AWAY.as_millis() as i32));
        bounds.insert("x-max-length".into(), AMQPValue::LongInt(WAITING as i32 * 100));
        let queue = format!("gossip-{group}");
        let options = QueueDeclareOptions { durable: true, ..QueueDeclareOptions::default() };
        channel.queue_declare(queue.as_str().into(), options, bounds).await?;
        let none = FieldTable::default;
        channel
            .queue_bind(queue.as_str().into(), exchange.into(), key.into(), QueueBindOptions::default(), none())
            .await?;
        let options = BasicConsumeOptions { no_ack: true, exclusive: true, ..BasicConsumeOptions::default() };
        let consumer = channel.basic_consume(queue.as_str().into(), "".into(), options, none()).await?;
        Ok::<_, lapin::Error>((connection, consumer))
    };
    let connected = tokio::time::timeout(TIMEOUT, connected).await;
    let (_connection, mut heard) = connected.map_err(|_| RelayError::unreachable("no answer"))?.map_err(refused)?;
    told(None);
    while let Some(delivery) = heard.next().await {
        let delivery = delivery.map_err(refused)?;
        if !pass_on(out, delivery.routing_key.to_string(), delivery.data.into()).await {
            break;
        }
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[tokio::test]
    async fn a_message_that_is_too_long_is_passed_on_as_one_that_does_not_fit() {
        let (out, mut heard) = mpsc::channel(2);
        for n in [MAX_BYTES, MAX_BYTES + 1] {
            assert!(pass_on(&out, "tide".into(), vec![b' '; n as usize].into()).await);
        }
        assert_eq!(heard.recv().await.unwrap().bytes.len(), MAX_BYTES as usize);
        assert_eq!(heard.recv().await, Some(Foreign { name: "tide".into(), bytes: Bytes::new() }));
        drop(heard);
        assert!(!pass_on(&out, "tide".into(), Bytes::new()).await);
    }

    #[test]
    fn addresses_name_a_broker_and_a_filter() {
        assert_eq!(split("mqtt://me:x@h:1/a/+/#").unwrap(), ("mqtt", "me:x@h:1", "a/+/#"));
        for good in ["mqtt://h/a/#", "nats://h:1/a.>", "redis://h/a*", "amqp://h/exchange/key.#"] {
            assert_eq!(check(good), Ok(()), "{good}");
        }
        for bad in ["mqtt://h", "http://h/a", "amqp://h/exchange", "secret", "nats:///a"] {
            let e = check(bad).unwrap_err();
            assert!(e.contains("expected an address like") && !e.contains("secret"), "{bad}: {e}");
        }
    }
}
