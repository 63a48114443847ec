//! Who listens under fire, and holds every state against what every committed one fulfils.

use std::collections::BTreeMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use gossip_client::{ClientError, Incoming, ResultSet, Session, result_set::Applied};
use gossip_protocol::Notification;
use parking_lot::Mutex;
use serde_json::{Map, Value as Json};

use super::writer::Written;

/// What is asked.
#[derive(Clone, Copy, Debug, PartialEq)]
pub(super) enum Asked {
    All,
    /// The rows of one group.
    Group(i32),
    /// What each group adds up to, its version, and how many rows it has.
    Sums,
    /// The groups with the highest versions, in this order.
    Top,
    /// The rows of one group or of all, with their owner and their group's version.
    Joined(Option<i32>),
    /// What each group adds up to, beside its version.
    JoinedSums,
    /// The groups with the highest versions, as the other table has them.
    JoinedTop,
}

impl Asked {
    fn query(self) -> String {
        const JOINED: &str = "SELECT a.id, a.grp, a.amount, a.v, g.version, o.grp AS of_owner FROM acct a \
                              JOIN groups g ON g.grp = a.grp LEFT JOIN owners o ON o.id = a.owner";
        match self {
            Asked::Group(g) => format!("SELECT * FROM acct WHERE grp = {g}"),
            Asked::All => "SELECT * FROM acct".into(),
            Asked::Sums => {
                "SELECT grp, sum(amount) AS amount, sum(v) AS v, count(*) AS n FROM acct GROUP BY grp".into()
            }
            Asked::Top => format!("SELECT id, grp, v FROM acct WHERE id < 0 ORDER BY v DESC, id LIMIT {TOP}"),
            Asked::Joined(None) => JOINED.into(),
            Asked::Joined(Some(g)) => format!("{JOINED} WHERE a.grp = {g}"),
            Asked::JoinedSums => {
                "SELECT g.grp, sum(a.amount) AS amount, sum(a.v) AS v, count(*) AS n, g.version FROM groups g \
                 JOIN acct a ON a.grp = g.grp GROUP BY g.grp, g.version"
                    .into()
            }
            Asked::JoinedTop => {
                format!(
                    "SELECT a.id, g.grp, a.v, g.version FROM acct a JOIN groups g ON g.grp = a.grp WHERE a.id < 0 \
                     ORDER BY g.version DESC, a.id LIMIT {TOP}"
                )
            }
        }
    }

    /// Whether what is told with one delta may be several transactions: while rows of another table are read.
    fn may_skip(self) -> bool {
        matches!(self, Asked::Top | Asked::Joined(_) | Asked::JoinedSums | Asked::JoinedTop)
    }

    fn is_window(self) -> bool {
        matches!(self, Asked::Top | Asked::JoinedTop)
    }
}

/// Rows of a window.
const TOP: usize = 5;

/// What the database says: by key, group, amount and version.
pub(super) type Truth = BTreeMap<String, (i64, i64, i64)>;

/// Who listens, and what it has seen.
pub(super) struct Listener {
    query: String,
    asked: Asked,
    live: ResultSet,
    /// Whether `live` holds a result.
    begun: bool,
    /// The versions of groups that it has seen last.
    versions: BTreeMap<i64, i64>,
    pub(super) deltas: u64,
    pub(super) wholes: u64,
    written: Written,
    /// For how long, at most, a version of a group had been committed and was not seen here.
    pub(super) oldest: Duration,
}

fn int(row: &Map<String, Json>, name: &str) -> i64 {
    row.get(name)
        .and_then(|v| v.as_i64().or_else(|| v.as_str()?.parse().ok()))
        .unwrap_or_else(|| panic!("{name} in {row:?}"))
}

impl Listener {
    pub(super) fn new(asked: Asked, written: Written) -> Listener {
        let query = asked.query();
        let (live, versions) = (ResultSet::default(), BTreeMap::new());
        Listener { query, asked, live, begun: false, versions, deltas: 0, wholes: 0, written, oldest: Duration::ZERO }
    }

    /// Holds the result against what every committed state fulfils.
    fn check(&mut self, whole: bool) {
        let mut sums: BTreeMap<i64, i64> = BTreeMap::new();
        for row in self.live.rows.values().filter(|_| !self.asked.is_window()) {
            *sums.entry(int(row, "grp")).or_default() += int(row, "amount");
        }
        assert!(sums.values().all(|s| *s == 0), "a state that was never committed: {sums:?} in {}", self.query);
        self.check_joined();
        let versions = self.versions_of_groups();
        for (group, version) in &versions {
            let Some(before) = self.versions.get(group) else { continue };
            // One delta is one transaction. A group may leave a window and come again later.
            let follows = (*version == before + 1 || *version == *before && self.asked != Asked::Group(*group as i32))
                || self.asked.may_skip();
            assert!(version >= before, "{} went back from {before} to {version}", self.query);
            assert!(whole || follows, "a gap or a double in {}: {before}, {version}", self.query);
            if !self.asked.is_window() && version > before {
                // Until now the next version was not seen here.
                let since = self.written.lock().get(&(*group, before + 1)).map(Instant::elapsed);
                self.oldest = self.oldest.max(since.unwrap_or_default());
            }
        }
        self.versions.extend(versions);
    }

    /// What is joined is of the same commit.
    fn check_joined(&self) {
        for row in self.live.rows.values() {
            if row.contains_key("of_owner") {
                assert_eq!(
                    int(row, "of_owner"),
                    int(row, "grp"),
                    "an owner of another commit: {row:?} in {}",
                    self.query
                );
            }
        }
        let heads: BTreeMap<i64, i64> = match self.asked {
            Asked::Joined(_) | Asked::JoinedTop => {
                let heads = self.live.rows.values().filter(|row| int(row, "id") < 0);
                heads.map(|row| (int(row, "grp"), int(row, "v"))).collect()
            }
            Asked::JoinedSums => self.live.rows.values().map(|row| (int(row, "grp"), int(row, "v"))).collect(),
            Asked::All | Asked::Group(_) | Asked::Sums | Asked::Top => return,
        };
        for row in self.live.rows.values() {
            let (head, group) = (heads.get(&int(row, "grp")), int(row, "version"));
            assert_eq!(head, Some(&group), "a group of another commit: {row:?} in {}", self.query);
        }
    }

    fn versions_of_groups(&self) -> BTreeMap<i64, i64> {
        let of = |name: &'static str| move |row: &Map<String, Json>| (int(row, "grp"), int(row, name));
        match self.asked {
            Asked::All => BTreeMap::new(),
            Asked::Group(g) => [(g.into(), int(&self.live.rows[&format!("[{}]", -g - 1)], "v"))].into(),
            Asked::Sums => self.live.rows.values().map(of("v")).collect(),
            Asked::Joined(_) | Asked::JoinedSums => self.live.rows.values().map(of("version")).collect(),
            Asked::Top | Asked::JoinedTop => {
                let rows: Vec<(i64, i64)> = self.live.in_order().map(|row| (-int(row, "v"), int(row, "id"))).collect();
                assert!(rows.is_sorted() && rows.len() == TOP, "not in order: {rows:?}");
                self.live.rows.values().map(of("v")).collect()
            }
        }
    }

    /// Whether the result is what the database says at the end: by key, group, amount and version.
    pub(super) fn has_all(&self, truth: &Truth) -> bool {
        match self.asked {
            Asked::All | Asked::Group(_) | Asked::Joined(_) => {
                let rows = |row: &Map<String, Json>| (int(row, "grp"), int(row, "amount"), int(row, "v"));
                let own = |grp: i64| match self.asked {
                    Asked::Group(own) | Asked::Joined(Some(own)) => i64::from(own) == grp,
                    _ => true,
                };
                let count = truth.values().filter(|(grp, ..)| own(*grp)).count();
                self.live.rows.len() == count
                    && self.live.rows.iter().all(|(key, row)| truth.get(key) == Some(&rows(row)))
            }
            Asked::Sums | Asked::JoinedSums => {
                let mut groups: BTreeMap<i64, (i64, i64)> = BTreeMap::new();
                for (grp, _, v) in truth.values() {
                    let (versions, count) = groups.entry(*grp).or_default();
                    (*versions, *count) = (*versions + v, *count + 1);
                }
                let held = self.live.rows.values().map(|row| (int(row, "grp"), (int(row, "v"), int(row, "n"))));
                held.collect::<BTreeMap<_, _>>() == groups
            }
            Asked::Top | Asked::JoinedTop => {
                let heads =
                    truth.values().filter(|(grp, ..)| *grp >= 0).fold(BTreeMap::new(), |mut heads, (grp, _, v)| {
                        let newest: &mut i64 = heads.entry(*grp).or_default();
                        *newest = (*newest).max(*v);
                        heads
                    });
                // Of equal ones the smaller id, which is that of the larger group.
                let mut wanted: Vec<(i64, i64)> = heads.into_iter().map(|(grp, v)| (-v, -grp - 1)).collect();
                wanted.sort_unstable();
                self.live.in_order().map(|row| (-int(row, "v"), int(row, "id"))).eq(wanted.into_iter().take(TOP))
            }
        }
    }

    /// Listens until `done`; comes back with its cursor when the connection ends.
    pub(super) async fn listen(
        mut self,
        urls: Arc<Mutex<Vec<String>>>,
        done: impl Fn(&Listener) -> bool,
        salt: usize,
    ) -> Listener {
        loop {
            let url = {
                let urls = urls.lock();
                urls[salt % urls.len()].clone()
            };
            match self.one_connection(&url, &done).await {
                Ok(()) => return self,
                Err(ClientError::NotUnderstood(e)) => panic!("{}: {e}", self.query),
                Err(ClientError::Refused(e)) if !e.message.contains("not available now") => panic!("{e}"),
                Err(_) => tokio::time::sleep(Duration::from_millis(50)).await,
            }
        }
    }

    async fn one_connection(&mut self, url: &str, done: &impl Fn(&Listener) -> bool) -> Result<(), ClientError> {
        let mut session = Session::connect(url, None).await?;
        let mut params = serde_json::json!({"query": self.query});
        if self.begun {
            params["cursor"] = self.live.cursor.clone().into();
        }
        let answer = session.call("subscribe", params).await?;
        let answer: gossip_protocol::Subscribed = serde_json::from_value(answer).unwrap();
        if answer.resumed {
            self.live.subscription = answer.subscription;
        } else {
            self.live = ResultSet::new(answer);
            self.wholes += 1;
            if !self.live.unfinished {
                self.check(true);
            }
        }
        self.begun = true;
        let mut whole = true;
        loop {
            if !self.live.unfinished && done(self) {
                return Ok(());
            }
            let next = tokio::time::timeout(Duration::from_millis(300), session.next()).await;
            let Ok(next) = next else { continue };
            let (Incoming::Notification(told), text) = next? else { continue };
            let was_unfinished = self.live.unfinished;
            match self.live.apply(&told).map_err(|e| ClientError::NotUnderstood(format!("{e}: {text}")))? {
                Applied::Closed(why) => return Err(ClientError::Ended(why)),
                Applied::NotMine => continue,
                Applied::Whole(_) => {
                    whole = true;
                    self.wholes += 1;
                }
                Applied::Changed if matches!(told, Notification::Delta { .. }) => {
                    whole = false;
                    self.deltas += 1;
                }
                Applied::Changed => whole |= was_unfinished,
            }
            if !self.live.unfinished {
                self.check(whole);
            }
        }
    }
}
