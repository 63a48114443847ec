//! What may happen to one table: who asks what of it, and when.

use gossip_core::rule::{RuleSet, RuleText};
use gossip_core::schema::TableName;
use proptest::prelude::*;

use super::others;
use super::queries::{KINDS, Kind, Query, Texts, query, texts};

/// A change of one row.
#[derive(Clone, Debug)]
pub enum Step {
    Write(i64, Texts),
    Delete(i64),
    /// Whether the rule that asks for it admits rows with this `g`.
    Member(i64, bool),
    /// A row of `o`, or that it is not there.
    Other(i64, Option<others::Texts>),
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
    /// The same of `o`.
    pub on_others: Rights,
    pub old_values: bool,
    /// Microseconds between two deltas.
    pub every: i64,
    pub transactions: Vec<Vec<Step>>,
    /// The rows of `o` to begin with.
    pub others: Vec<others::Texts>,
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
        2 => (1..4_i64, any::<bool>()).prop_map(|(g, is)| Step::Member(g, is)),
        3 => (1..5_i64, prop::option::weighted(0.8, others::texts())).prop_map(|(id, texts)| Step::Other(id, texts)),
    ]
}

/// Any case.
pub fn case() -> impl Strategy<Value = Case> {
    let query = prop::sample::select(KINDS.to_vec()).prop_flat_map(query);
    let transactions = prop::collection::vec(prop::collection::vec(step(), 1..5), 1..14);
    let transactions = (transactions, prop::collection::vec(others::texts(), 0..4));
    let delays = prop::collection::vec((0..3_usize, 0..3_usize), 6);
    let when = (prop::array::uniform2(0..8_usize), 0..20_usize, prop::option::weighted(0.1, 0..12_usize));
    let any_rights = || prop::sample::select(RIGHTS.to_vec());
    let rights = (any_rights(), any_rights());
    let feed = (any::<bool>(), prop_oneof![3 => Just(0), 1 => Just(2_500_i64)]);
    (query, rights, feed, transactions, when, delays).prop_map(|(query, rights, feed, transactions, when, delays)| {
        let ((old_values, every), (comes, catches_up, truncated)) = (feed, when);
        let ((rights, on_others), (transactions, others)) = (rights, transactions);
        Case { query, rights, on_others, old_values, every, transactions, others, comes, catches_up, truncated, delays }
    })
}

/// Cases that chance finds once in 100,000 or less: what is withdrawn of a row that a client knows, while it was not told yet what became
/// of the row before.
pub fn known() -> [Case; 11] {
    let write = |id, v: &'static str, b: &'static str, open: &'static str| {
        Step::Write(id, vec!["1", v, "1.0", "0.5", "a", b, open])
    };
    let case = Case {
        query: Query { kind: Kind::Ordered, text: "SELECT g FROM t WHERE b ORDER BY s, id".into() },
        rights: Rights::Open,
        on_others: Rights::All,
        old_values: false,
        every: 2_500,
        transactions: Vec::new(),
        others: Vec::new(),
        comes: [1, 20],
        catches_up: 20,
        truncated: None,
        delays: vec![(0, 0), (2, 2)],
    };
    // It left, and is fetched, as it may have come back.
    let fetched = Case {
        transactions: ["t", "", "t"]
            .map(|b| vec![write(2, "1", b, "t")])
            .into_iter()
            .chain([vec![write(2, "1", "", "f")]])
            .collect(),
        ..case.clone()
    };
    // It went behind what its window holds, which reads on.
    let behind = Case {
        query: Query { kind: Kind::Window, text: "SELECT g FROM t ORDER BY v, id LIMIT 1".into() },
        every: 0,
        transactions: vec![
            vec![write(1, "-4", "t", "t"), write(2, "0", "t", "t"), write(3, "1", "t", "t"), write(4, "1", "t", "t")],
            vec![write(1, "2", "t", "t"), write(2, "2", "t", "t")],
            vec![write(1, "2", "t", "f")],
        ],
        ..case.clone()
    };
    // So it did, while enough were held, and now it has not the value either by which the query's rows are found.
    let row = |id, [g, v, s, open]: [&'static str; 4]| Step::Write(id, vec![g, v, "1.0", "0.5", s, "t", open]);
    let elsewhere = Case {
        query: Query { kind: Kind::Window, text: "SELECT g FROM t WHERE g = 1 ORDER BY v, id LIMIT 1".into() },
        transactions: vec![
            ["-4", "0", "1"].iter().zip(1..).map(|(v, id)| row(id, ["1", v, "a", "t"])).collect(),
            vec![row(1, ["1", "2", "a", "t"])],
            vec![row(1, ["3", "2", "b", "f"])],
        ],
        delays: vec![(0, 0)],
        ..case.clone()
    };
    // So it did in the transaction that withdraws it.
    // A rule on a table that is joined asks another one, which lets its row go.
    let member = Case {
        query: Query { kind: Kind::Ordered, text: "SELECT v, o.ow FROM t LEFT JOIN o ON o.oid = v ORDER BY id".into() },
        rights: Rights::All,
        on_others: Rights::Asked,
        every: 0,
        others: vec![["", "", "t"], ["", "1", "t"]],
        transactions: vec![vec![write(1, "2", "t", "t")], vec![], vec![], vec![], vec![Step::Member(2, false)]],
        delays: vec![(0, 0)],
        ..case.clone()
    };
    // It lets that row go and come again, whose own partner nobody knows any more then.
    let again = Case {
        query: Query {
            kind: Kind::Ordered,
            text: "SELECT v FROM t LEFT JOIN o ON o.oid = v LEFT JOIN o q ON q.oid = o.og WHERE o.og = 1 ORDER BY id"
                .into(),
        },
        others: vec![["", "", "t"], ["1", "", "t"]],
        transactions: [vec![vec![write(1, "2", "t", "t")]], vec![vec![]; 3]]
            .concat()
            .into_iter()
            .chain([vec![Step::Member(1, false)], vec![Step::Member(2, false)], vec![Step::Member(2, true)]])
            .collect(),
        ..member.clone()
    };
    // It lets a row come on which the query fails.
    let failing = Case {
        query: Query {
            kind: Kind::Computed,
            text: "SELECT v, o.ow FROM t LEFT JOIN o ON o.oid = v AND 2 / o.ow > 0 WHERE o.ow > 0".into(),
        },
        others: vec![["", "", "t"], ["", "", "t"], ["", "0", "t"]],
        transactions: vec![vec![write(1, "3", "t", "t")], vec![], vec![], vec![], vec![Step::Member(3, true)]],
        ..member.clone()
    };
    // A sub-select's set lets a row go, while another one that it lets in is read; by its value nobody looks for the first any more.
    let unheard = Case {
        query: Query { kind: Kind::Ordered, text: "SELECT v FROM t WHERE g IN (SELECT og FROM o) ORDER BY id".into() },
        rights: Rights::Open,
        on_others: Rights::All,
        old_values: true,
        others: vec![["1", "", "t"]],
        transactions: vec![
            vec![row(1, ["1", "0", "a", "t"])],
            vec![],
            vec![],
            vec![],
            vec![Step::Other(1, Some(["2", "", "t"]))],
            vec![row(1, ["1", "0", "a", "f"])],
        ],
        delays: vec![(0, 0), (0, 0), (2, 2)],
        ..member.clone()
    };
    // It fails with the set of before its transaction, and changes when nobody looks for it.
    let zero = |g| Step::Write(0, vec![g, "", "", "", "", "", "t"]);
    let six = |g, v| Step::Write(6, vec![g, v, "", "", "", "", "t"]);
    let aside = Case {
        query: Query {
            kind: Kind::Computed,
            text: "SELECT v FROM t WHERE g IN (SELECT og FROM o WHERE ow > 0) AND 10 / v < 9".into(),
        },
        rights: Rights::Asked,
        on_others: Rights::All,
        old_values: true,
        others: vec![["1", "", "t"], ["1", "", "t"], ["", "1", "t"]],
        transactions: vec![
            vec![zero("")],
            vec![zero("3")],
            vec![zero("")],
            vec![zero("")],
            vec![Step::Other(3, None), six("2", "0")],
            vec![zero("")],
            vec![Step::Other(2, None)],
            vec![six("", "")],
            vec![Step::Other(1, Some(["2", "1", "t"]))],
        ],
        comes: [0, 0],
        catches_up: 0,
        delays: vec![(0, 0), (0, 0), (2, 2), (0, 0), (0, 0), (0, 0)],
        ..member.clone()
    };
    // A row waits for its partner as of an earlier commit; what it joins by that one is withdrawn when nobody asks for it.
    let mine = |id, v| Step::Write(id, vec!["", v, "", "", "", "", "t"]);
    let unasked = Case {
        query: Query {
            kind: Kind::Ordered,
            text: "SELECT v, q.ow FROM t LEFT JOIN o ON o.oid = v LEFT JOIN o q ON q.oid = o.og ORDER BY id".into(),
        },
        on_others: Rights::Open,
        old_values: true,
        transactions: vec![
            vec![Step::Other(1, Some(["", "", "t"]))],
            vec![],
            vec![mine(0, "0")],
            vec![],
            vec![mine(2, "1")],
            vec![Step::Other(2, Some(["1", "1", "t"]))],
            vec![mine(2, "2")],
            vec![],
            vec![],
            vec![],
            vec![Step::Other(1, Some(["", "", "f"]))],
        ],
        comes: [0, 0],
        catches_up: 0,
        delays: vec![(0, 0), (2, 1), (0, 0), (2, 1), (0, 0), (0, 0)],
        ..member.clone()
    };
    // The same, and it is gone when the row's own partner is known.
    let hidden_and_gone = Case {
        query: Query {
            kind: Kind::Ordered,
            text: "SELECT v, q.ow FROM t JOIN o ON o.oid = g JOIN o q ON q.oid = o.og AND q.oopen ORDER BY id".into(),
        },
        on_others: Rights::Open,
        old_values: true,
        others: vec![],
        transactions: vec![
            vec![Step::Other(3, Some(["", "", "t"]))],
            vec![Step::Other(1, Some(["3", "", "t"]))],
            vec![zero("")],
            vec![zero("1")],
            vec![mine(1, "")],
            vec![mine(1, "")],
            vec![],
            vec![Step::Other(3, Some(["", "", "f"])), Step::Write(1, vec!["1", "", "", "", "", "", "t"])],
            vec![Step::Other(3, None)],
        ],
        comes: [1, 1],
        catches_up: 0,
        delays: vec![(2, 1), (2, 2), (0, 0), (0, 0), (0, 0), (0, 0)],
        ..member.clone()
    };
    let at_once = Case {
        query: behind.query.clone(),
        rights: Rights::Asked,
        every: 0,
        transactions: vec![
            ["1", "2", "2"].iter().zip(1..).map(|(g, id)| row(id, [g, "0", "a", "t"])).collect(),
            vec![],
            vec![Step::Member(1, false), row(1, ["1", "2", "a", "t"])],
        ],
        ..elsewhere.clone()
    };
    [fetched, behind, elsewhere, at_once, member, again, failing, unheard, aside, unasked, hidden_and_gone]
}

fn on_others(rights: Rights) -> Vec<RuleText> {
    let rule = |rows: Option<&str>, columns: Option<&[&str]>, masks: &[(&str, &str)]| rule("o", rows, columns, masks);
    match rights {
        Rights::All => vec![rule(None, None, &[])],
        Rights::Open => vec![rule(Some("oopen"), None, &[])],
        Rights::Partly => {
            vec![rule(None, Some(&["oid", "ow", "oopen"]), &[]), rule(Some("oopen"), Some(&["og"]), &[])]
        }
        Rights::Masked => vec![rule(None, None, &[("og", "ow")])],
        Rights::Asked => vec![rule(Some("oid IN (SELECT id FROM members)"), None, &[])],
    }
}

fn rule(table: &str, rows: Option<&str>, columns: Option<&[&str]>, masks: &[(&str, &str)]) -> RuleText {
    RuleText {
        role: "anonymous".into(),
        table: TableName::plain(table),
        rows: rows.map(String::from),
        columns: columns.map(|c| c.iter().map(|c| (*c).to_string()).collect()),
        masks: masks.iter().map(|(c, m)| ((*c).to_string(), (*m).to_string())).collect(),
        ..RuleText::default()
    }
}

pub fn rules(rights: Rights, others: Rights) -> RuleSet {
    let rule = |rows: Option<&str>, columns: Option<&[&str]>, masks: &[(&str, &str)]| rule("t", rows, columns, masks);
    let on_t = match rights {
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
    };
    RuleSet::new(on_t.into_iter().chain(on_others(others)).collect())
}
