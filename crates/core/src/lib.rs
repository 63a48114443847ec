//! What Gossip decides: which rows a live query shows to whom, and what changes in it when the data changes.
//!
//! A pure state machine. Inputs go in, outputs come out; there is no I/O, no clock, no thread and no global state here,
//! so a whole cluster runs in one thread from one seed (`tests/cluster`). Sockets, databases and brokers belong to
//! the crates around it, which only move bytes.
//!
//! Where to start reading: [`engine`] is the state machine; a subscription's way through it is described there. Then,
//! in the order of a change's travel: [`position`] (order, gaps), [`index`] (which feeds), [`plan`] (what a query does with
//! a row: its operators; [`rule`] says who may see what, [`subquery`] and [`mask`] what rules ask and show, [`query`] what
//! the text of a query means), [`feed`] (what it changes for its readers),
//! [`seam`] (how it meets a snapshot), [`wire`] (how it is said), [`send_queue`] (how it waits). [`explain`] and
//! [`what_if`] answer developers: why somebody did not hear, and what other rules would have changed. [`topic`] makes rows
//! of events, [`cluster`] knows the other instances and who is where; [`local_source`] turns their changes into
//! a source like any other. [`column_pruning`] says what of a row is worth the way to other instances,
//! [`canonical`] in which bytes identities are compared, [`budget`] what anybody's subscriptions may cost.

pub mod audience;
pub mod budget;
pub mod canonical;
pub mod cluster;
pub mod coalesce;
pub mod column_pruning;
pub mod datetime;
pub mod engine;
pub mod explain;
pub mod feed;
pub mod index;
pub mod local_source;
pub mod mask;
pub mod plan;
pub mod position;
pub mod query;
pub mod rule;
pub mod schema;
pub mod seal;
pub mod seam;
pub mod send_queue;
pub mod subquery;
pub mod topic;
pub mod types;
pub mod value;
pub mod what_if;
pub mod wire;
