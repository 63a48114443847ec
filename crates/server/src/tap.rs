//! What goes over one client's connection, for an operator who looks at it.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicBool, Ordering::Relaxed};

use gossip_core::position::Timestamp;
use parking_lot::Mutex;
use serde_json::Value as Json;

use crate::now;

/// Frames that wait for the loop to fetch them; further ones are counted and left out.
const MOST: usize = 200;

/// Characters of a frame that are shown.
const SHOWN: usize = 4_000;

/// Parameters of calls that nobody else may read: who has them can speak in the client's name.
const SECRETS: [&str; 2] = ["token", "grant"];

/// Which way a frame went.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Way {
    /// To the client.
    Sent,
    /// From the client.
    Received,
}

impl Way {
    /// As `gossip.frames` has it.
    pub fn word(self) -> &'static str {
        match self {
            Way::Sent => "sent",
            Way::Received => "received",
        }
    }
}

/// A frame.
#[derive(Clone, Debug)]
pub struct Tapped {
    /// When.
    pub at: Timestamp,
    /// Which way.
    pub way: Way,
    /// Bytes of the whole text.
    pub bytes: usize,
    /// The text, cut where it is long, without secrets.
    pub text: String,
    /// Frames left out before it.
    pub left_out: u64,
}

/// Notes frames while it is open.
#[derive(Debug, Default)]
pub struct Tap {
    open: AtomicBool,
    noted: Mutex<(VecDeque<Tapped>, u64)>,
}

impl Tap {
    /// Opens it, or closes it and forgets what was noted.
    pub fn set(&self, open: bool) {
        if self.open.swap(open, Relaxed) && !open {
            *self.noted.lock() = Default::default();
        }
    }

    /// Notes a frame, if it is open.
    pub fn note(&self, way: Way, text: &[u8]) {
        if !self.open.load(Relaxed) {
            return;
        }
        let (frames, left_out) = &mut *self.noted.lock();
        if frames.len() >= MOST {
            *left_out += 1;
            return;
        }
        let shown = match way {
            Way::Received => without_secrets(text),
            Way::Sent => String::from_utf8_lossy(text).into_owned(),
        };
        let cut = shown.char_indices().nth(SHOWN).map(|(at, _)| at);
        let shown = cut.map_or_else(|| shown.clone(), |at| format!("{}…", &shown[..at]));
        frames.push_back(Tapped { at: now(), way, bytes: text.len(), text: shown, left_out: std::mem::take(left_out) });
    }

    /// Takes what was noted.
    pub fn take(&self) -> VecDeque<Tapped> {
        if !self.open.load(Relaxed) {
            return VecDeque::new();
        }
        std::mem::take(&mut self.noted.lock().0)
    }
}

/// What a client said, without what only it may know. What is not JSON might hold anything, so nothing of it is shown.
fn without_secrets(text: &[u8]) -> String {
    let Ok(mut call) = serde_json::from_slice::<Json>(text) else { return "(not JSON)".into() };
    if let Some(params) = call.get_mut("params").and_then(Json::as_object_mut) {
        for name in SECRETS {
            if let Some(secret) = params.get_mut(name) {
                *secret = "(not shown)".into();
            }
        }
    }
    call.to_string()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tap_keeps_few_frames_and_no_secret() {
        let tap = Tap::default();
        tap.note(Way::Sent, b"before");
        tap.set(true);
        tap.note(Way::Received, br#"{"id":1,"method":"authenticate","params":{"token":"s3cret"}}"#);
        tap.note(Way::Received, br#"{"id":2,"method":"subscribe","params":{"grant":"s3cret"}}"#);
        tap.note(Way::Received, b"s3cret");
        tap.note(Way::Sent, "ö".repeat(SHOWN + 1).as_bytes());
        (0..MOST).for_each(|_| tap.note(Way::Sent, b"{}"));
        let taken = tap.take();
        assert_eq!(taken.len(), MOST);
        assert!(taken.iter().all(|f| !f.text.contains("s3cret") && f.text != "before"), "{taken:?}");
        assert_eq!((taken[3].bytes, taken[3].text.chars().count()), (2 * (SHOWN + 1), SHOWN + 1));
        tap.note(Way::Sent, b"{}");
        assert_eq!(tap.take()[0].left_out, 4);
        tap.note(Way::Sent, b"{}");
        tap.set(false);
        tap.set(true);
        assert!(tap.take().is_empty());
    }
}
