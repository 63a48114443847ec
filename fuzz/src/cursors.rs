//! What clients hold and bring back: cursors and tickets.

use gossip_core::seal::{Cursor, Sealer};

use crate::text;

/// Takes a text for a cursor and for something sealed; seals what the bytes say, and opens it again.
pub fn run(data: &[u8]) {
    let (sealer, other) = (Sealer::new(b"a secret"), Sealer::new(b"another"));
    let text = text(data);
    // Nobody but the cluster makes one, however much they try.
    assert!(sealer.open(&text).is_none() && sealer.open_for("a", &text).is_none());
    let sealed = sealer.seal_for("a", data);
    assert!(data.is_empty() || sealer.open_for("a", &sealed).as_deref() == Some(data));
    assert!(sealer.open_for("b", &sealed).is_none() && sealer.open(&sealed).is_none());
    assert!(other.open_for("a", &sealed).is_none());
    let number = |i: usize| {
        let mut bytes = [0; 8];
        let from = data.get(i * 8..).unwrap_or_default();
        let n = from.len().min(8);
        bytes[..n].copy_from_slice(&from[..n]);
        u64::from_be_bytes(bytes)
    };
    let source: String = text.chars().take(60).collect();
    let cursor = Cursor {
        source,
        epoch: number(0),
        timeline: number(1),
        commit: number(2),
        index: number(3) as u32,
        query: number(4),
        moment: number(5).cast_signed(),
    };
    let sealed = sealer.seal(&cursor);
    assert_eq!(sealer.open(&sealed), Some(cursor));
    assert!(other.open(&sealed).is_none());
    // One with a bit turned is nothing.
    let mut bent = sealed.into_bytes();
    let place = number(0) as usize % (bent.len() - 1);
    bent[place] = if bent[place] == b'A' { b'B' } else { b'A' };
    assert!(sealer.open(&text_of(bent)).is_none());
}

fn text_of(bytes: Vec<u8>) -> String {
    String::from_utf8(bytes).expect("base64")
}
