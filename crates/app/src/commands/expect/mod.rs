//! `gossip expect`: tests of the rules: which clients must receive a change, and which must not.
//!
//! The tables are created in a temporary database, an instance with the configuration's rules streams it,
//! and every listener is a client on a real socket. After each change every listener makes one more call: what arrived
//! before that answer is everything the change caused.

mod from_recording;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::sync::Arc;

use gossip_client::{Incoming, Session};
use gossip_core::explain::{Passed, Step};
use gossip_protocol::call::{Explain, QuestionTarget, Subscribe};
use gossip_protocol::{Call, ChangeEntry, Notification};
use gossip_server::auth::Tokens;
use gossip_server::config::{Auth, Config};
use serde::Deserialize;
use serde_json::{Map, Value as Json, json};

use crate::local::{Cluster, source};
use crate::outcome::{Failure, Outcome, print_line};
use crate::personas::{Persona, Personas};

/// The operator's role in the temporary instance; no listener can have it.
const OPERATOR: &str = "gossip-expect";

/// Arguments of `expect`.
#[derive(Debug, clap::Args)]
pub struct Args {
    /// The file with the expectations.
    #[arg(required_unless_present = "from_recording")]
    file: Option<PathBuf>,
    /// Write expectations of what is in a recording instead: who heard each change, and who did not.
    #[arg(long, value_name = "RECORDING", conflicts_with = "file", requires = "output")]
    from_recording: Option<PathBuf>,
    /// The file to write them to; it must not be there yet.
    #[arg(short, long, value_name = "FILE", requires = "from_recording")]
    output: Option<PathBuf>,
    /// The configuration with the rules and personas, for --from-recording.
    #[arg(long, default_value = "gossip.toml")]
    config: PathBuf,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct File {
    /// The configuration with the rules and personas, relative to this file.
    config: PathBuf,
    /// Files with the initial tables and rows, as SQL for SQLite.
    #[serde(default)]
    schema: Vec<PathBuf>,
    /// The same, inline.
    #[serde(default)]
    start: String,
    /// The listeners: a persona and a live query each.
    listen: BTreeMap<String, Listen>,
    /// The steps, in order; each starts from the state that the previous one left.
    expect: Vec<Expect>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Listen {
    persona: Option<String>,
    query: String,
    #[serde(default)]
    params: Map<String, Json>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Expect {
    name: String,
    /// SQL, as one transaction.
    change: String,
    /// Everything that each of these listeners receives.
    #[serde(default)]
    hears: BTreeMap<String, Vec<Hears>>,
    /// Listeners that receive nothing.
    #[serde(default)]
    silent: Vec<String>,
    /// The step at which the change stopped, by listener: `stream`, `rule`, `query` or `change`.
    #[serde(default)]
    why: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Hears {
    /// `add`, `replace` or `remove`.
    op: String,
    key: Option<Json>,
    /// Columns with the values they must have; others may be present.
    #[serde(default)]
    row: Map<String, Json>,
    /// Columns that must be absent.
    #[serde(default)]
    without: Vec<String>,
}

struct Listener {
    persona: Persona,
    query: String,
    params: Map<String, Json>,
    session: Session,
    subscription: u64,
}

/// Runs all steps. Fails if one of them does not hold.
///
/// # Errors
/// The file or a file it names cannot be read, or an expectation does not hold.
pub async fn run(args: Args) -> Outcome {
    if let (Some(recording), Some(output)) = (&args.from_recording, &args.output) {
        return from_recording::write(recording, output, &args.config);
    }
    let Some(path) = args.file else { return Err(Failure::usage("FILE: expected a file with expectations")) };
    let place = path.display().to_string();
    let text = std::fs::read_to_string(&path).map_err(|e| Failure::usage(format!("{place}: {e}")))?;
    let file: File = toml::from_str(&text).map_err(|e| {
        let line = e.span().map_or(1, |s| text[..s.start].matches('\n').count() + 1);
        Failure::usage(format!("{place}:{line}: {}", e.message().trim_end()))
    })?;
    let base = path.parent().unwrap_or(Path::new(""));
    let path = base.join(&file.config);
    let mut config = Config::read(&path).map_err(Failure::usage)?;
    let people = Personas::read(&path).map_err(Failure::usage)?;
    let names = || file.listen.keys().cloned().collect::<Vec<_>>().join(", ");
    for e in &file.expect {
        let named = e.hears.keys().chain(&e.silent).chain(e.why.keys());
        if let Some(stranger) = named.into_iter().find(|n| !file.listen.contains_key(*n)) {
            let text = format!("{place}: expect {:?}: nobody listens as {stranger}; known: {}", e.name, names());
            return Err(Failure::usage(text));
        }
    }
    let dir = tempfile::tempdir().map_err(|e| Failure::usage(format!("temporary directory: {e}")))?;
    let db = begin(&file, base, dir.path()).map_err(|e| Failure::usage(format!("{place}: {e}")))?;

    config.source.url = format!("sqlite:{}", dir.path().join("expect.db").display());
    config.source.options.clear();
    config.listen = std::net::SocketAddr::from(([127, 0, 0, 1], 0));
    config.admission = Default::default();
    // The personas' claims stand in for a decision service.
    config.decisions = None;
    // Tokens of listeners are signed here, whoever signs the real ones.
    let auth = config.auth.take().unwrap_or_default();
    let auth = Auth { secret_env: None, jwks: None, operators: Some(OPERATOR.into()), ..auth };
    let tokens = Arc::new(Tokens::new(auth.clone(), &rand::random::<[u8; 32]>()).map_err(Failure::usage)?);
    config.auth = Some(auth);
    let of = source(&config)?;
    let prepare = move || of.plan().and_then(|plan| of.carry_out(&plan.statements));
    tokio::task::block_in_place(prepare).map_err(|e| Failure::usage(format!("{place}: {e}")))?;

    let cluster = Cluster::start(&config, &["expect".to_string()], Some(tokens.clone())).await?;
    let url = cluster.places()[0].1.to_string();
    let outcome = hold(&file, &people, &place, &url, &tokens, &db).await;
    cluster.stop().await;
    outcome
}

fn begin(file: &File, base: &Path, dir: &Path) -> Result<rusqlite::Connection, String> {
    let db = rusqlite::Connection::open(dir.join("expect.db")).map_err(|e| e.to_string())?;
    db.execute_batch("PRAGMA journal_mode = WAL; PRAGMA synchronous = OFF").map_err(|e| e.to_string())?;
    for path in &file.schema {
        let path = base.join(path);
        let sql = std::fs::read_to_string(&path).map_err(|e| format!("{}: {e}", path.display()))?;
        db.execute_batch(&sql).map_err(|e| format!("{}: {e}", path.display()))?;
    }
    db.execute_batch(&file.start).map_err(|e| format!("start: {e}"))?;
    Ok(db)
}

async fn hold(
    file: &File,
    people: &Personas,
    place: &str,
    url: &str,
    tokens: &Tokens,
    db: &rusqlite::Connection,
) -> Outcome {
    let now = gossip_server::now() / 1_000_000;
    let token = |subject: &str, roles: &[String], claims: &Map<String, Json>| {
        tokens.mint_for(subject, roles, claims, now, 3_600).map_err(Failure::usage)
    };
    let mut operator = Session::connect(url, Some(&token("expect", &[OPERATOR.into()], &Map::new())?)).await?;
    let changes = operator.subscribe("SELECT position FROM gossip.changes").await?.subscription;
    let mut listeners = listeners(file, people, place, url, &token).await?;
    let mut failed = 0;
    for e in &file.expect {
        db.execute_batch(&format!("BEGIN; {}; COMMIT", e.change.trim().trim_end_matches(';')))
            .map_err(|error| Failure::usage(format!("{place}: expect {:?}: change: {error}", e.name)))?;
        let mut problems = Vec::new();
        let position = position(&mut operator, changes).await?;
        for (name, l) in &mut listeners {
            problems.extend(l.judge(name, e, &mut operator, &position).await?);
        }
        let word = if problems.is_empty() { "holds" } else { "FAILS" };
        print_line(&format!("{word}  {}", e.name))?;
        if !problems.is_empty() {
            failed += 1;
            print_line(&format!("       {}", e.change.trim()))?;
            problems.iter().try_for_each(|p| print_line(p))?;
        }
    }
    let all = file.expect.len();
    print_line(&format!("{} of {all} hold", all - failed))?;
    if failed > 0 { Err(Failure::check(format!("{place}: {failed} of {all} do not hold"))) } else { Ok(()) }
}

/// Connects the listeners and subscribes them.
async fn listeners(
    file: &File,
    people: &Personas,
    place: &str,
    url: &str,
    token: &impl Fn(&str, &[String], &Map<String, Json>) -> Result<String, Failure>,
) -> Result<BTreeMap<String, Listener>, Failure> {
    let mut listeners = BTreeMap::new();
    for (name, l) in &file.listen {
        let named = l.persona.as_deref().unwrap_or(name);
        let Some(persona) = people.personas.get(named) else {
            let text = format!("{place}: listen.{name}: there is no [persona.{named}] in {}", file.config.display());
            return Err(Failure::usage(text));
        };
        let token = match persona.roles.is_empty() {
            true => None,
            false => Some(token(named, &persona.roles, &persona.claims)?),
        };
        let mut session = Session::connect(url, token.as_deref()).await?;
        let answer = session.subscribe(asked(&l.query, &l.params)).await;
        let answer = answer.map_err(|e| Failure::usage(format!("{place}: listen.{name}: {e}")))?;
        let (persona, query, params) = (persona.clone(), l.query.clone(), l.params.clone());
        listeners.insert(name.clone(), Listener { persona, query, params, session, subscription: answer.subscription });
    }
    Ok(listeners)
}

/// The position of the newest change, once it has arrived.
async fn position(operator: &mut Session, changes: u64) -> Result<String, Failure> {
    let next = async {
        loop {
            let (incoming, _) = operator.next().await?;
            let Incoming::Notification(Notification::Delta { subscription, changes: rows, .. }) = incoming else {
                continue;
            };
            let added = rows.iter().find_map(|c| match c {
                ChangeEntry::Add { row, .. } => row.get("position").and_then(Json::as_str),
                _ => None,
            });
            if let Some(position) = added.filter(|_| subscription == changes) {
                return Ok::<_, Failure>(position.to_string());
            }
        }
    };
    let missing = || Failure::check("the change touched no row of a streamed table");
    tokio::time::timeout(std::time::Duration::from_secs(10), next).await.map_err(|_| missing())?
}

fn asked(query: &str, params: &Map<String, Json>) -> Subscribe {
    Subscribe { params: params.clone(), ..Subscribe::from(query) }
}

impl Listener {
    /// What a step's expectations and this listener disagree about, as lines.
    async fn judge(
        &mut self,
        name: &str,
        e: &Expect,
        operator: &mut Session,
        position: &str,
    ) -> Result<Vec<String>, Failure> {
        let told = self.told().await?;
        let steps = self.why(operator, position).await?;
        let wrong = match e.hears.get(name) {
            Some(hears) => differs(hears, &told),
            None if e.silent.iter().any(|silent| silent == name) && !told.is_empty() => Some("nothing".to_string()),
            None => None,
        };
        let stopped = steps.iter().find(|s| s.verdict == Passed::No).map(|s| s.step.as_str());
        let at = e.why.get(name).filter(|at| stopped != Some(at.as_str()));
        let expected = match (&wrong, at) {
            (Some(wrong), _) => format!("expected {wrong}"),
            (None, Some(at)) => format!("expected to stop at {at}"),
            (None, None) => return Ok(vec![]),
        };
        let heard = if told.is_empty() { "nothing".into() } else { shown(&told) };
        let mut problems = vec![format!("       {name}  heard {heard}; {expected}")];
        problems.extend(steps.iter().filter(|s| s.verdict != Passed::NotReached).map(|s| {
            let mark = if s.verdict == Passed::Yes { "passed " } else { "stopped" };
            let values = if s.values.is_empty() { String::new() } else { format!("   {}", s.values.join("; ")) };
            format!("         {mark}  {:<6}  {}{values}", s.step, s.text)
        }));
        Ok(problems)
    }

    /// Everything that has arrived so far.
    async fn told(&mut self) -> Result<Vec<ChangeEntry>, Failure> {
        let probe = self.session.send(&Call::Subscribe(Box::new(asked(&self.query, &self.params)))).await?;
        let mut told = Vec::new();
        loop {
            match self.session.next().await?.0 {
                Incoming::Answer(id, answer) if id == probe => {
                    if let Some(number) = answer.ok().and_then(|a| a["subscription"].as_u64()) {
                        self.session.send(&Call::Unsubscribe { subscription: number }).await?;
                    }
                    return Ok(told);
                }
                Incoming::Notification(Notification::Delta { subscription, changes, .. })
                    if subscription == self.subscription =>
                {
                    told.extend(changes);
                }
                _ => {}
            }
        }
    }

    async fn why(&self, operator: &mut Session, position: &str) -> Result<Vec<Step>, Failure> {
        let whom = QuestionTarget::Anybody {
            query: self.query.clone(),
            claims: self.persona.claims.clone(),
            roles: Some(self.persona.roles.clone()).filter(|roles| !roles.is_empty()),
            params: self.params.clone(),
        };
        let question = Explain { instance: None, position: Some(position.into()), whom };
        let answer = operator.make(&Call::Explain(Box::new(question))).await?;
        serde_json::from_value(answer["steps"].clone()).map_err(Failure::check)
    }
}

/// How the expected entries differ from these, if they do.
fn differs(expected: &[Hears], told: &[ChangeEntry]) -> Option<String> {
    let fits = |h: &Hears, c: &ChangeEntry| {
        let (op, key, row) = parts(c);
        let nothing = Map::new();
        let row = row.unwrap_or(&nothing);
        h.op == op
            && h.key.as_ref().is_none_or(|k| k == key)
            && h.row.iter().all(|(name, v)| row.get(name) == Some(v))
            && !h.without.iter().any(|name| row.contains_key(name))
    };
    let all = expected.len() == told.len() && expected.iter().all(|h| told.iter().any(|c| fits(h, c)));
    (!all).then(|| {
        let one = |h: &Hears| {
            let key = h.key.as_ref().map_or(String::new(), |k| format!(" {k}"));
            let row = if h.row.is_empty() { String::new() } else { format!(" {}", json!(h.row)) };
            let without =
                if h.without.is_empty() { String::new() } else { format!(" without {}", h.without.join(", ")) };
            format!("{}{key}{row}{without}", h.op)
        };
        if expected.is_empty() { "nothing".into() } else { expected.iter().map(one).collect::<Vec<_>>().join(", ") }
    })
}

fn parts(c: &ChangeEntry) -> (&'static str, &Json, Option<&Map<String, Json>>) {
    match c {
        ChangeEntry::Add { key, row, .. } => ("add", key, Some(row)),
        ChangeEntry::Replace { key, row, .. } => ("replace", key, Some(row)),
        ChangeEntry::Remove { key, .. } => ("remove", key, None),
    }
}

fn shown(told: &[ChangeEntry]) -> String {
    let one = |c: &ChangeEntry| {
        let (op, key, row) = parts(c);
        format!("{op} {key}{}", row.map_or(String::new(), |r| format!(" {}", json!(r))))
    };
    told.iter().map(one).collect::<Vec<_>>().join(", ")
}
