//! Authenticates instances' messages on a broker.
//!
//! Others than instances may be let onto a broker, to publish events of topics, and rights there are often wider than was
//! meant. So each message of an instance carries a code (HMAC-SHA-256, RFC 2104) under a key that is derived from the
//! cluster's secret, over the name it stands under, which part it is and its bytes. It is looked at before anything else
//! of a message. It does not keep a message from being said again by whoever has heard it: changes are void by their
//! position and epoch, messages between instances by its time, and an event of a topic is taken once,
//! as long as its id is remembered.

use std::fmt;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use hmac::{Hmac, Mac};
use sha2::Sha256;

use crate::message::Message;

/// Says what the key is for, and in which version.
const PURPOSE: &[u8] = b"gossip relay v1";

fn mac_of(key: &[u8]) -> Hmac<Sha256> {
    // HMAC takes keys of every length.
    Hmac::new_from_slice(key).unwrap_or_else(|_| unreachable!())
}

/// The keys of a cluster. They do not show in `Debug`.
#[derive(Clone, PartialEq, Eq)]
pub struct Keys {
    own: [u8; 32],
    other: Option<[u8; 32]>,
}

impl fmt::Debug for Keys {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Keys(…)")
    }
}

impl Keys {
    /// From the secret that all instances share, and one more whose messages are believed as well, so that a secret can be
    /// changed while instances run.
    pub fn new(secret: &[u8], other: Option<&[u8]>) -> Keys {
        let derive = |secret: &[u8]| mac_of(secret).chain_update(PURPOSE).finalize().into_bytes().into();
        Keys { own: derive(secret), other: other.map(derive) }
    }

    fn over(key: &[u8; 32], prefix: &str, m: &Message) -> Hmac<Sha256> {
        let mut mac = mac_of(key);
        for part in [prefix.as_bytes(), m.path.to_string().as_bytes(), m.part.to_string().as_bytes(), &m.bytes] {
            mac.update(&(part.len() as u64).to_be_bytes());
            mac.update(part);
        }
        mac
    }

    /// The code of a message under a prefix, as it stands beside the message.
    pub fn code(&self, prefix: &str, m: &Message) -> String {
        URL_SAFE_NO_PAD.encode(Keys::over(&self.own, prefix, m).finalize().into_bytes())
    }

    /// Whether an instance of this cluster said a message.
    pub fn vouch_for(&self, prefix: &str, m: &Message) -> bool {
        let Some(code) = m.code.as_deref().and_then(|code| URL_SAFE_NO_PAD.decode(code).ok()) else { return false };
        let under = |key: &[u8; 32]| Keys::over(key, prefix, m).verify_slice(&code).is_ok();
        under(&self.own) || self.other.as_ref().is_some_and(under)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::message::Path;
    use crate::parts::Part;

    #[test]
    fn only_what_was_said_under_one_of_both_secrets_is_vouched_for() {
        let (old, new): (&[u8], &[u8]) = (b"the old secret", b"the new secret");
        let said = |keys: &Keys| {
            let m = Message {
                path: Path::Rows("harbour".into()),
                part: Part::WHOLE,
                to: None,
                id: String::new(),
                code: None,
                bytes: b"{}".as_slice().into(),
            };
            Message { code: Some(keys.code("gossip", &m)), ..m }
        };
        let (before, during, after) = (Keys::new(old, None), Keys::new(new, Some(old)), Keys::new(new, None));
        assert!(before.vouch_for("gossip", &said(&before)) && during.vouch_for("gossip", &said(&before)));
        assert!(after.vouch_for("gossip", &said(&during)) && !after.vouch_for("gossip", &said(&before)));
        let m = said(&before);
        let part = "1/2".parse().unwrap();
        for forged in [
            Message { path: Path::Beat("harbour".into()), ..m.clone() },
            Message { path: Path::Rows("harbor".into()), ..m.clone() },
            Message { part, ..m.clone() },
            Message { bytes: b"{} ".as_slice().into(), ..m.clone() },
            Message { code: None, ..m.clone() },
            Message { code: Some(String::new()), ..m.clone() },
            Message { code: Some("AAAA".into()), ..m.clone() },
            Message { code: Some("not base64!".into()), ..m.clone() },
        ] {
            assert!(!before.vouch_for("gossip", &forged), "{forged:?}");
        }
        assert!(!before.vouch_for("another", &m), "another cluster's");
        assert!(!format!("{before:?}").contains("secret"));
    }
}
