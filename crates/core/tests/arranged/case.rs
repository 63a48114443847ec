//! What may happen to one table: who asks what of it, and when.

use gossip_core::rule::{RuleSet, RuleText};
use gossip_core::schema::TableName;
use proptest::prelude::*;

use super::queries::{KINDS, Query, Texts, query, texts};

/// A change of one row.
#[derive(Clone, Debug)]
pub enum Step {
    Write(i64, Texts),
    Delete(i64),
    /// Whether the rule that asks for it admits rows with this `g`.
    Member(i64, bool),
}

/// Who may see what.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Rights {
    All,
    /// Rows that are open.
    Open,
    /// `v`, `n` and `x` only where `b` is true.
    Partly,
    /// `s` only in part, and no keys.
    Masked,
    /// Rows whose `g` another table has.
    Asked,
}

pub const RIGHTS: [Rights; 5] = [Rights::All, Rights::Open, Rights::Partly, Rights::Masked, Rights::Asked];

/// A query, who asks it, and what happens meanwhile.
#[derive(Clone, Debug)]
pub struct Case {
    pub query: Query,
    pub rights: Rights,
    pub old_values: bool,
    /// Microseconds between two deltas.
    pub every: i64,
    pub transactions: Vec<Vec<Step>>,
    /// When clients come, and when the first one is sent the whole result again.
    pub comes: [usize; 2],
    pub catches_up: usize,
    pub truncated: Option<usize>,
    /// How many transactions pass until a snapshot is read, and until it is handed over.
    pub delays: Vec<(usize, usize)>,
}

fn step() -> impl Strategy<Value = Step> {
    prop_oneof![
        6 => (0..7_i64, texts()).prop_map(|(id, texts)| Step::Write(id, texts)),
        2 => (0..7_i64).prop_map(Step::Delete),
        1 => (1..4_i64, any::<bool>()).prop_map(|(g, is)| Step::Member(g, is)),
    ]
}

/// Any case.
pub fn case() -> impl Strategy<Value = Case> {
    let query = prop::sample::select(KINDS.to_vec()).prop_flat_map(query);
    let transactions = prop::collection::vec(prop::collection::vec(step(), 1..5), 1..14);
    let delays = prop::collection::vec((0..3_usize, 0..3_usize), 6);
    let when = (prop::array::uniform2(0..8_usize), 0..20_usize, prop::option::weighted(0.1, 0..12_usize));
    let rights = prop::sample::select(RIGHTS.to_vec());
    let feed = (any::<bool>(), prop_oneof![3 => Just(0), 1 => Just(2_500_i64)]);
    (query, rights, feed, transactions, when, delays).prop_map(|(query, rights, feed, transactions, when, delays)| {
        let ((old_values, every), (comes, catches_up, truncated)) = (feed, when);
        Case { query, rights, old_values, every, transactions, comes, catches_up, truncated, delays }
    })
}

pub fn rules(rights: Rights) -> RuleSet {
    let rule = |rows: Option<&str>, columns: Option<&[&str]>, masks: &[(&str, &str)]| RuleText {
        role: "anonymous".into(),
        table: TableName::plain("t"),
        rows: rows.map(String::from),
        columns: columns.map(|c| c.iter().map(|c| (*c).to_string()).collect()),
        masks: masks.iter().map(|(c, m)| ((*c).to_string(), (*m).to_string())).collect(),
        ..RuleText::default()
    };
    RuleSet::new(match rights {
        Rights::All => vec![rule(None, None, &[])],
        Rights::Open => vec![rule(Some("open"), None, &[])],
        Rights::Partly => vec![
            rule(None, Some(&["id", "g", "s", "b", "open"]), &[]),
            rule(Some("b"), Some(&["id", "v", "n", "x"]), &[]),
        ],
        Rights::Masked => vec![
            rule(None, Some(&["g", "v", "n", "x", "s", "b"]), &[("s", "left(s, 1)")]),
            rule(Some("open"), Some(&["id", "s"]), &[]),
        ],
        Rights::Asked => vec![rule(Some("g IN (SELECT id FROM members)"), None, &[])],
    })
}
