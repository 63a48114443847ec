//! What went wrong while something was recorded, and why: [`findings`] are read from operators' events, [`report`] puts
//! them on pages.

pub mod findings;
pub mod report;
