//! The record of refusals and of looking: who was refused what, and what operators looked at, in the log.
//!
//! Never with values of rows or tokens, and never more than so many lines a second, whatever clients do.

use std::net::SocketAddr;

use gossip_core::position::Timestamp;
use gossip_core::rule::Claims;
use gossip_protocol::{RpcError, code};
use parking_lot::Mutex;

use crate::now;

/// Lines in a second; what comes beyond is counted.
const MOST: u32 = 20;

/// Longest text of a field, in characters.
const LONGEST: usize = 200;

/// The client of a record.
#[derive(Debug)]
pub struct Caller<'a> {
    /// Where it comes from.
    pub address: &'a SocketAddr,
    /// Who it is.
    pub claims: &'a Claims,
}

/// Tells the log, within its limit.
#[derive(Debug, Default)]
pub struct AuditLog {
    /// The second that is counted, its lines, and how many were left out.
    second: Mutex<(Timestamp, u32, u64)>,
}

impl AuditLog {
    /// Somebody may not do something, or may not any more.
    pub fn refused(&self, who: &Caller<'_>, what: &str, e: &RpcError) {
        if matches!(e.code, code::NOT_AUTHENTICATED | code::NOT_KNOWN) && self.has_room() {
            let (subject, roles) = about(who.claims);
            let reason = cut(&e.message);
            tracing::warn!(target: "gossip_server::audit_log", address = %who.address, %subject, %roles, "refused {what}: {reason}");
        }
    }

    /// An operator looks at what others do.
    pub fn looked(&self, who: &Caller<'_>, at: &str) {
        if self.has_room() {
            let (subject, roles) = about(who.claims);
            tracing::info!(target: "gossip_server::audit_log", address = %who.address, %subject, %roles, "called {}", cut(at));
        }
    }

    fn has_room(&self) -> bool {
        let mut second = self.second.lock();
        let (of, lines, left_out) = &mut *second;
        if now() / 1_000_000 != *of {
            if *left_out > 0 {
                tracing::warn!(target: "gossip_server::audit_log", "{left_out} more like these in a second, not logged one by one");
            }
            (*of, *lines, *left_out) = (now() / 1_000_000, 0, 0);
        }
        let room = *lines < MOST;
        *lines += u32::from(room);
        *left_out += u64::from(!room);
        room
    }
}

fn about(claims: &Claims) -> (String, String) {
    (cut(claims.subject().unwrap_or("unauthenticated")), cut(&claims.roles.join(", ")))
}

/// Short, and without what would break a line.
fn cut(text: &str) -> String {
    text.chars().take(LONGEST).map(|c| if c.is_control() { ' ' } else { c }).collect()
}

#[cfg(test)]
mod tests {
    use std::io;
    use std::sync::Arc;

    use super::*;

    #[derive(Clone, Default)]
    struct Lines(Arc<Mutex<Vec<u8>>>);

    impl io::Write for Lines {
        fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
            self.0.lock().extend_from_slice(bytes);
            Ok(bytes.len())
        }

        fn flush(&mut self) -> io::Result<()> {
            Ok(())
        }
    }

    #[test]
    fn who_and_what_are_told_on_one_line_and_not_without_end() {
        let lines = Lines::default();
        let to = lines.clone();
        let log = tracing_subscriber::fmt().with_ansi(false).with_writer(move || to.clone()).finish();
        let address = SocketAddr::from(([127, 0, 0, 1], 4750));
        let facts = serde_json::json!({"sub": "ada\nforged", "secret": "s3cret"}).as_object().unwrap().clone();
        let claims = Claims { roles: vec!["agent".into()], facts, operator: false };
        let who = Caller { address: &address, claims: &claims };
        let refused = |code| RpcError::new(code, "table crews is not known or not permitted");
        tracing::subscriber::with_default(log, || {
            let record = AuditLog::default();
            record.refused(&who, "the call subscribe", &refused(code::LIMIT));
            record.looked(&who, "why s:7 did or did not reach subscription 3");
            (0..1_000).for_each(|_| record.refused(&who, "the call subscribe", &refused(code::NOT_KNOWN)));
        });
        let text = String::from_utf8(lines.0.lock().clone()).unwrap();
        let told: Vec<&str> = text.lines().collect();
        // At most two seconds were begun.
        assert!((1..=2 * MOST as usize + 1).contains(&told.len()), "{} lines", told.len());
        assert!(told[0].contains("called why s:7") && told[0].contains("ada forged"), "{}", told[0]);
        assert!(
            told[1].contains("refused the call subscribe: table crews") && told[1].contains("agent"),
            "{}",
            told[1]
        );
        assert!(!text.contains("s3cret"));
    }
}
