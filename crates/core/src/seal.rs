//! Cursors and opaque keys, which clients keep but cannot read; one secret per cluster.
//!
//! Cursors are sealed with AES-SIV (RFC 5297), which needs no nonce: the same cursor always gives the same text, and a
//! text reveals nothing else. Opaque keys are HMAC-SHA-256, truncated to 128 bits. The keys of both are derived from the cluster's secret by
//! HKDF (RFC 5869).

use aes_siv::siv::Aes256Siv;
use aes_siv::{Key as SivKey, KeyInit};
use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD as BASE64;
use hkdf::Hkdf;
use hmac::digest::Output;
use hmac::{Hmac, Mac};
use serde::{Deserialize, Serialize};
use sha2::Sha256;

use crate::canonical::{Canonical as _, Encoder};
use crate::position::Position;
use crate::schema::{Key, TableName};

/// The contents of a cursor.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Cursor {
    /// The source.
    pub source: String,
    /// The reader's epoch.
    pub epoch: u64,
    /// The log that the position refers to.
    pub timeline: u64,
    /// The commit number of the position that the client's result shows.
    pub commit: u64,
    /// The index of that position.
    pub index: u32,
    /// The effective plan's fingerprint: changes with the query and with the rules.
    pub query: u64,
    /// The moment that the result shows, where it changes as time passes, in microseconds since 1970; else 0.
    pub moment: i64,
}

/// The cluster's keys. `Debug` does not show them.
#[derive(Clone)]
pub struct Sealer {
    siv: SivKey<Aes256Siv>,
    mac: Hmac<Sha256>,
}

/// The purpose that cursors are sealed for.
const CURSOR: &str = "cursor";

/// Longest text of a cursor, in bytes.
const MAX_CURSOR: usize = 1_024;

impl std::fmt::Debug for Sealer {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Sealer(…)")
    }
}

impl Sealer {
    /// Derives the keys from a secret that all instances of the cluster share.
    pub fn new(secret: &[u8]) -> Sealer {
        let derived = Hkdf::<Sha256>::new(Some(b"gossip"), secret);
        let (mut siv, mut mac) = (SivKey::<Aes256Siv>::default(), Output::<Sha256>::default());
        for (purpose, key) in [(&b"seal"[..], siv.as_mut_slice()), (b"key", mac.as_mut_slice())] {
            derived.expand(purpose, key).expect("both are shorter than HKDF's limit of 255 digests");
        }
        Sealer { siv, mac: new_mac(&mac) }
    }

    /// A key for the order of rows whose own keys are hidden.
    pub fn order_key(&self) -> [u64; 2] {
        let digest = self.digest(&[b"order"]);
        let half = |i: usize| digest.iter().skip(8 * i).take(8).fold(0, |n, b| n << 8 | u64::from(*b));
        [half(0), half(1)]
    }

    fn digest(&self, parts: &[&[u8]]) -> Vec<u8> {
        let mut mac = self.mac.clone();
        for part in parts {
            mac.update(&(part.len() as u64).to_be_bytes());
            mac.update(part);
        }
        mac.finalize().into_bytes().to_vec()
    }

    /// Seals a cursor. The same cursor always seals to the same text, so that it can be compared.
    pub fn seal(&self, cursor: &Cursor) -> String {
        let moment = cursor.moment.cast_unsigned();
        let head = [cursor.epoch, cursor.timeline, cursor.commit, cursor.index.into(), cursor.query, moment];
        let mut plain: Vec<u8> = head.iter().flat_map(|n| n.to_be_bytes()).collect();
        plain.extend_from_slice(cursor.source.as_bytes());
        self.seal_for(CURSOR, &plain)
    }

    /// Opens a cursor; `None` if it is not one of this cluster's.
    pub fn open(&self, text: &str) -> Option<Cursor> {
        if text.len() > MAX_CURSOR {
            return None;
        }
        let plain = self.open_for(CURSOR, text)?;
        let number = |i: usize| plain.get(i * 8..i * 8 + 8)?.try_into().ok().map(u64::from_be_bytes);
        Some(Cursor {
            epoch: number(0)?,
            timeline: number(1)?,
            commit: number(2)?,
            index: number(3)?.try_into().ok()?,
            query: number(4)?,
            moment: number(5)?.cast_signed(),
            source: String::from_utf8(plain.get(48..)?.to_vec()).ok()?,
        })
    }

    /// Seals bytes for one purpose; only [`Sealer::open_for`] with the same purpose opens them.
    pub fn seal_for(&self, purpose: &str, plain: &[u8]) -> String {
        // It fails only for more than 126 headers.
        let sealed = Aes256Siv::new(&self.siv).encrypt([purpose], plain).unwrap_or_default();
        BASE64.encode(sealed)
    }

    /// Opens what was sealed for a purpose; `None` if it was sealed for another one, or not by this cluster.
    pub fn open_for(&self, purpose: &str, text: &str) -> Option<Vec<u8>> {
        let sealed = BASE64.decode(text).ok()?;
        Aes256Siv::new(&self.siv).decrypt([purpose], &sealed).ok()
    }

    /// The opaque form of a key whose columns the client may not see. Stable across instances and reconnects.
    pub fn opaque_key(&self, table: &TableName, key: &Key) -> String {
        let mut identity = Encoder::new("key");
        table.encode(&mut identity);
        identity.list(key);
        BASE64.encode(&self.digest(&[&identity.into_bytes()])[..16])
    }
}

fn new_mac(key: &[u8]) -> Hmac<Sha256> {
    // A key of just the block's size cannot be refused.
    use sha2::Digest;
    let mut block = [0; 64];
    block[..32].copy_from_slice(&Sha256::digest(key));
    <Hmac<Sha256> as Mac>::new(&block.into())
}

impl Cursor {
    /// The position of the cursor.
    pub fn position(&self) -> Position {
        Position { commit: self.commit, index: self.index }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn cursors_open_only_whole_and_under_their_key() {
        let cursor =
            Cursor { source: "harbour".into(), epoch: 3, timeline: 4, commit: 99, index: 0, query: 7, moment: 5 };
        let sealer = Sealer::new(b"one");
        let text = sealer.seal(&cursor);
        assert_eq!(sealer.open(&text), Some(cursor.clone()));
        assert_eq!(sealer.seal(&cursor), text);
        assert_eq!(Sealer::new(b"two").open(&text), None);
        for i in 0..text.len() {
            let mut bad = text.clone().into_bytes();
            bad[i] = if bad[i] == b'A' { b'B' } else { b'A' };
            let bad = String::from_utf8(bad).unwrap();
            // The last character of base64 may carry bits that do not count.
            assert!(sealer.open(&bad).is_none() || i + 1 == text.len(), "{i}");
        }
        assert_eq!(sealer.open(""), None);
        let sealed = sealer.seal_for("a", b"something");
        assert_eq!(sealer.open_for("a", &sealed).as_deref(), Some(&b"something"[..]));
        assert!(sealer.open_for("b", &sealed).is_none() && sealer.open(&sealed).is_none());
        assert!(sealer.open_for("a", &text).is_none(), "a cursor is nothing else");
    }
}
