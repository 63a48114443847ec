//! The right to read a database, and what the last one who had it remembered.
//!
//! A lock on a file beside the database decides who reads. In that file the reader notes where it stands: outside of the
//! database, so that a database that is put back to an earlier state, or replaced by another, cannot make us forget how far
//! we had read. Positions of such a database mean something else than before, although they look the same.

use std::fs::{File, OpenOptions};
use std::os::unix::fs::{FileExt, MetadataExt};
use std::path::{Path, PathBuf};

use gossip_core::position::Position;

use super::SqliteSource;
use crate::{Last, Result, SourceError};

/// The right to read a source; given up when it is dropped or the process ends.
#[derive(Debug)]
pub struct ReaderLock {
    file: File,
    path: PathBuf,
}

/// Takes the reader's lock, if it is free.
///
/// # Errors
/// The file beside the database cannot be written.
pub fn try_lock(source: &SqliteSource) -> Result<Option<ReaderLock>> {
    let mut path = source.path.clone().into_os_string();
    path.push("-gossip-reader");
    let path = PathBuf::from(path);
    let fail = |e: std::io::Error| SourceError::Open {
        path: path.display().to_string(),
        problem: format!("{e}; the reader's lock file must be writable"),
    };
    let file = OpenOptions::new().create(true).truncate(false).read(true).write(true).open(&path).map_err(fail)?;
    match file.try_lock() {
        Ok(()) => Ok(Some(ReaderLock { file, path })),
        Err(std::fs::TryLockError::WouldBlock) => Ok(None),
        Err(std::fs::TryLockError::Error(e)) => Err(fail(e)),
    }
}

/// One line of fixed length, so that a newer one takes its place whole.
const LINE: usize = 7 + 4 * 21;

impl ReaderLock {
    /// Where the last reader stood; `None` if there was none, or if what it noted cannot be read.
    pub fn remembered(&self) -> Option<Last> {
        let mut line = [0; LINE];
        self.file.read_exact_at(&mut line, 0).ok()?;
        let text = std::str::from_utf8(&line).ok()?.strip_prefix("gossip1")?;
        let numbers: Vec<u64> = text.split_whitespace().map(|n| n.parse().ok()).collect::<Option<_>>()?;
        let [epoch, timeline, commit, mark] = numbers[..] else { return None };
        Some(Last { epoch, timeline, position: Position::at(commit), mark })
    }

    /// Notes where the reader stands.
    ///
    /// # Errors
    /// The file cannot be written any more.
    pub fn remember(&self, last: &Last) -> Result<()> {
        let Last { epoch, timeline, position, mark } = last;
        let line = format!("gossip1 {epoch:020} {timeline:020} {:020} {mark:020}", position.commit);
        self.file.write_all_at(line.as_bytes(), 0).map_err(|e| SourceError::Open {
            path: self.path.display().to_string(),
            problem: format!("{e}; where the reader stands cannot be noted"),
        })
    }
}

/// The file at a path: another one after it was replaced.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct FileIdentity {
    device: u64,
    inode: u64,
}

impl FileIdentity {
    /// Of the file that stands there now; `None` if there is none.
    pub fn of(path: &Path) -> Option<FileIdentity> {
        let meta = std::fs::metadata(path).ok()?;
        Some(FileIdentity { device: meta.dev(), inode: meta.ino() })
    }
}
