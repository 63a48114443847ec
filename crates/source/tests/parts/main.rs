//! Which part of a table is read for a query, on real databases: pages in order, and the rows that its condition may hold on.
#![allow(clippy::unwrap_used)]

mod conditions;
mod pages;
mod table;
