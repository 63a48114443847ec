//! Charts of a cluster over time: what is counted each second ([`series`]), which charts are made of it ([`panel`]), and
//! how they stand on a page ([`page`]).

pub mod page;
pub mod panel;
pub mod series;
