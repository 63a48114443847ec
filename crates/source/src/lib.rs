//! Reads row changes and snapshots out of databases.
//!
//! A source yields whole transactions in commit order, each with a position that is a function of the database's own
//! log, and reads snapshots with the position that they show. Rights are `gossip-core`'s.
//! All calls here block; the server runs them on threads of their own.
//!
//! Start with [`Source`]; then [`sqlite`], the embedded default, or [`postgres`]. [`Database`] is the same database as any
//! other program uses it: for the workbench and the demo.
//!
//! ```no_run
//! use std::path::Path;
//!
//! use gossip_core::plan::SnapshotRequest;
//! use gossip_source::Settings;
//!
//! # fn run() -> gossip_source::Result<()> {
//! let settings = Settings {
//!     name: "app".into(),
//!     url: "sqlite:app.db".into(),
//!     tables: vec!["items".into()],
//!     ..Settings::default()
//! };
//! let source = gossip_source::from_settings(&settings, Path::new("."))?;
//! for table in source.describe()? {
//!     source.snapshot(&SnapshotRequest::whole(&table), &mut |rows| {
//!         println!("{}: {} rows", table.name, rows.len());
//!         true
//!     })?;
//! }
//! # Ok(())
//! # }
//! ```

#![cfg_attr(not(test), warn(clippy::too_many_lines))]

pub mod database;
mod error;
mod finding;
mod kinds;
mod page;
pub mod postgres;
mod row_filter;
mod settings;
mod source;
pub mod sql_name;
pub mod sqlite;

use std::time::{Duration, SystemTime, UNIX_EPOCH};

use gossip_core::position::{Interval, Position, Timestamp};

pub use database::Database;
pub use error::{Result, SourceError};
pub use finding::{Condition, Finding, Plan};
pub use kinds::{check_options, default_schema, from_settings};
pub use settings::{BadOption, Settings};
pub use source::{Kind, Source};

/// Microseconds since 1970, by this machine's clock.
pub fn now() -> Timestamp {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |d| d.as_micros() as Timestamp)
}

/// The reader of a source at work. Dropping it gives the office up.
pub trait ChangeReader: Send {
    /// Its term of office.
    fn epoch(&self) -> u64;

    /// An interval that says only that nothing has happened, as far as is known now.
    fn heartbeat(&mut self) -> Result<Interval>;

    /// What was committed since the last call; waits for it, at most about `longest`. The caller hands the interval on
    /// and then calls [`ChangeReader::acknowledge`].
    fn next(&mut self, longest: Duration) -> Result<Option<Interval>>;

    /// Everything up to here is acknowledged: the source may forget it.
    fn acknowledge(&mut self, to: Position) -> Result<()>;

    /// What keeps it from reading at present, if anything has for a while.
    fn trouble(&self) -> Option<String>;
}

/// Where the last known reader of a source stopped.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Last {
    /// Its term of office.
    pub epoch: u64,
    /// The end of its last interval.
    pub position: Position,
    /// The log that the position counts in.
    pub timeline: u64,
    /// Its mark.
    pub mark: u64,
}

impl Last {
    /// As the reader's last interval says.
    pub fn of(interval: &Interval) -> Last {
        Last { epoch: interval.epoch, position: interval.to, timeline: interval.timeline, mark: interval.mark }
    }
}
