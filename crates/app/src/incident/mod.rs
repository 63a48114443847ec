//! What went wrong while something was recorded, and why: [`findings`] are read from operators' events, [`report`] puts
//! them on pages, and [`rehearsal`] holds what was recorded against other rules.

pub mod findings;
pub mod rehearsal;
pub mod report;
