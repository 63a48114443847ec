//! Which transactions a snapshot of PostgreSQL shows.

use gossip_core::position::Visibility;

use crate::{Result, SourceError};

/// Reads what `pg_current_snapshot()` says, `xmin:xmax:running,…`, in 64-bit transaction numbers.
///
/// # Errors
/// The text is none.
pub(super) fn visibility(text: &str) -> Result<Visibility> {
    parsed(text).ok_or_else(|| SourceError::Protocol(format!("a snapshot that cannot be read: {text}")))
}

fn parsed(text: &str) -> Option<Visibility> {
    let mut parts = text.trim().splitn(3, ':');
    let mut number = || parts.next()?.parse().ok();
    let (all_below, none_from) = (number()?, number()?);
    let list = parts.next().unwrap_or("").split(',').filter(|n| !n.is_empty());
    let mut running = list.map(|n| n.parse().ok()).collect::<Option<Vec<u64>>>()?;
    running.sort_unstable();
    Some(Visibility { all_below, none_from, running })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_snapshot_shows_what_had_ended_before_it() {
        let seen = visibility("10:20:15,12").unwrap();
        let shown: Vec<u64> = (9..22).filter(|n| seen.shows(*n)).collect();
        assert_eq!(shown, [9, 10, 11, 13, 14, 16, 17, 18, 19]);
        assert!(visibility("7:7:").unwrap().shows(6));
        for text in ["", "1", "1:x:", "1:2:3,y", "-1:2:"] {
            assert!(visibility(text).is_err(), "{text}");
        }
    }
}
