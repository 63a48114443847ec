//! The decision service: an application that has memberships elsewhere is called over HTTP, and its answer adds
//! claims.
//!
//! `POST url` with the key in `X-API-Key` and a JSON body `{"subject", "roles", "claims", "table", "params"}`; the
//! answer is `{"claims": {…}}`. What it says holds for a stated time. A status from 400 to 499 is a no to this one question.
//! Without an answer there are no rights: slow, dead and lying servers are all the same, and after a few failures in a row
//! they are left alone for a while.

use std::collections::BTreeSet;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};
use std::time::{Duration, Instant};

use gossip_core::position::Timestamp;
use gossip_core::rule::Claims;
use gossip_protocol::timestamp::rfc3339;
use moka::sync::Cache;
use parking_lot::Mutex;
use serde_json::{Map, Value as Json, json};
use sha2::{Digest, Sha256};
use tokio::sync::Semaphore;

use crate::auth::json::object;
use crate::now;

/// Cached answers; the least used are evicted first.
const MAX_CACHED: u64 = 50_000;

/// Questions under way at the same time.
const MAX_REQUESTS: usize = 64;

/// Waiting requests; further ones are refused.
const MAX_WAITING: usize = 10_000;

/// Longest answer, in bytes.
const MAX_ANSWER: usize = 64 * 1024;

/// Failures in a row after which the server is left alone.
const FAILURES: u32 = 5;

/// For how long it is left alone; then one question tries it again.
const REST: Duration = Duration::from_secs(2);

/// Claims that differ from token to token of the same person.
const OF_THE_TOKEN: [&str; 5] = ["exp", "iat", "nbf", "jti", "auth_time"];

/// Whom to ask and about what.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Settings {
    /// The service's address.
    pub url: String,
    /// The environment variable that holds the key.
    pub key_env: Option<String>,
    /// The tables whose rights it decides.
    pub tables: BTreeSet<String>,
    /// How long an answer may take.
    pub timeout: Duration,
    /// How long an answer holds.
    pub cache: Duration,
}

/// Why there is no decision.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Undecided {
    /// The answer is no: a status from 400 to 499. It is about this one question and says nothing about others.
    Refused,
    /// There is no answer, or none that can be used.
    Failed(String),
}

impl From<String> for Undecided {
    fn from(why: String) -> Undecided {
        Undecided::Failed(why)
    }
}

/// What was decided, and until when it holds.
#[derive(Clone, Debug)]
pub struct Decided {
    /// The claims that it adds.
    pub facts: Arc<Map<String, Json>>,
    /// Until then it holds.
    pub until: Instant,
}

/// Asks, remembers, and knows when not to ask.
pub struct Decisions {
    settings: Settings,
    key: String,
    client: reqwest::Client,
    cached: Cache<Question, Slot>,
    asking: Semaphore,
    /// Places of those who ask again, so that many who come do not keep out those who are there.
    renewing: Semaphore,
    waiting: AtomicUsize,
    breaker: Mutex<Breaker>,
}

type Question = [u8; 32];

/// One question: those who ask the same wait for the first.
type Slot = Arc<tokio::sync::Mutex<Option<Decided>>>;

#[derive(Default)]
struct Breaker {
    failures: u32,
    /// Why the last one failed, and since when there was no answer.
    trouble: Option<(String, Timestamp)>,
    /// Until then no request is made.
    rests_until: Option<Instant>,
}

impl Decisions {
    /// Ready to ask. `key` is sent with every question.
    ///
    /// # Errors
    /// Connections of this kind cannot be made here.
    pub fn new(settings: Settings, key: String) -> Result<Decisions, String> {
        let client = crate::http_client(settings.timeout).map_err(|e| format!("decisions: {e}"))?;
        // What nobody has asked for since its answer ended is forgotten.
        let cached = Cache::builder().max_capacity(MAX_CACHED).time_to_idle(settings.cache * 2).build();
        Ok(Decisions {
            settings,
            key,
            client,
            cached,
            asking: Semaphore::new(MAX_REQUESTS),
            renewing: Semaphore::new(MAX_REQUESTS / 2),
            waiting: AtomicUsize::new(0),
            breaker: Mutex::default(),
        })
    }

    /// Whether a table's rights are decided outside.
    pub fn concern(&self, table: &str) -> bool {
        self.settings.tables.contains(table)
    }

    /// What the service adds to a client's claims for a table. `again`: it decided before.
    ///
    /// # Errors
    /// That the answer is no, or why there is none, without anything that was sent.
    pub async fn decide(
        &self,
        claims: &Claims,
        table: &str,
        params: &Map<String, Json>,
        again: bool,
    ) -> Result<Decided, Undecided> {
        let body = json!({
            "subject": claims.subject(),
            "roles": claims.roles,
            "claims": claims.facts,
            "table": table,
            "params": params,
        });
        let slot = self.slot(&body);
        if self.waiting.fetch_add(1, Relaxed) >= MAX_WAITING && !again {
            self.waiting.fetch_sub(1, Relaxed);
            return Err(format!("more than {MAX_WAITING} questions wait").into());
        }
        let _seat = Seat(&self.waiting);
        let mut decided = slot.lock().await;
        // Half of its time is for asking again.
        if let Some(d) = decided.as_ref().filter(|d| d.until > Instant::now() + self.settings.cache / 2) {
            return Ok(d.clone());
        }
        let places = if again { &self.renewing } else { &self.asking };
        let _turn = places.acquire().await.map_err(|_| "the instance stops".to_string())?;
        let answer = match self.may_ask() {
            Err(e) => Err(Undecided::Failed(e)),
            Ok(()) => {
                let answer = self.ask(&body, claims).await;
                self.note(match &answer {
                    Err(Undecided::Failed(why)) => Some(why),
                    // A no is an answer too.
                    Ok(_) | Err(Undecided::Refused) => None,
                });
                answer
            }
        };
        let facts = match (answer, decided.as_ref()) {
            (Ok(facts), _) => Arc::new(facts),
            // What was said before holds for its time.
            (Err(Undecided::Failed(_)), Some(d)) if d.until > Instant::now() => return Ok(d.clone()),
            (Err(e), _) => {
                *decided = None;
                return Err(e);
            }
        };
        let found = Decided { facts, until: Instant::now() + self.settings.cache };
        *decided = Some(found.clone());
        Ok(found)
    }

    /// How long an answer holds.
    pub fn cache(&self) -> Duration {
        self.settings.cache
    }

    /// How it stands: `answering`, or why not and since when.
    pub fn state(&self) -> String {
        match &self.breaker.lock().trouble {
            None => "answering".into(),
            Some((why, since)) => format!("failing since {}: {why}", rfc3339(*since)),
        }
    }

    fn slot(&self, body: &Json) -> Slot {
        let mut same = body.clone();
        if let Some(claims) = same["claims"].as_object_mut() {
            OF_THE_TOKEN.iter().for_each(|name| drop(claims.remove(*name)));
        }
        let question: Question = Sha256::digest(same.to_string()).into();
        self.cached.get_with(question, Slot::default)
    }

    /// While it is paused no request is made; the first one afterwards tries it, and holds the others back meanwhile.
    fn may_ask(&self) -> Result<(), String> {
        let mut b = self.breaker.lock();
        if b.failures < FAILURES {
            return Ok(());
        }
        let now = Instant::now();
        if b.rests_until.is_some_and(|until| now < until) {
            let why = b.trouble.as_ref().map_or("", |(why, _)| why.as_str());
            return Err(format!("{why}; trying again shortly"));
        }
        b.rests_until = Some(now + REST);
        Ok(())
    }

    fn note(&self, failed: Option<&String>) {
        let mut b = self.breaker.lock();
        match failed {
            None => {
                if let Some((_, since)) = &b.trouble {
                    tracing::info!("decisions: answered again, after {} ms", (now() - since) / 1_000);
                }
                *b = Breaker::default();
            }
            Some(why) => {
                if b.trouble.is_none() {
                    tracing::warn!("decisions: {why}; clients get no rights on these tables meanwhile");
                }
                b.failures = b.failures.saturating_add(1);
                let since = b.trouble.as_ref().map_or_else(now, |(_, since)| *since);
                b.trouble = Some((why.clone(), since));
                if b.failures >= FAILURES {
                    b.rests_until = Some(Instant::now() + REST);
                }
            }
        }
    }

    async fn ask(&self, body: &Json, claims: &Claims) -> Result<Map<String, Json>, Undecided> {
        // An address may hold a password; errors of the client name it.
        let plain = |e: reqwest::Error| match e.is_timeout() {
            true => format!("no answer within {} ms", self.settings.timeout.as_millis()),
            false if e.is_connect() => "it cannot be connected to".to_string(),
            false => e.without_url().to_string(),
        };
        let request = self.client.post(&self.settings.url).header("content-type", "application/json");
        let request = if self.key.is_empty() { request } else { request.header("x-api-key", &self.key) };
        let mut answer = request.body(body.to_string()).send().await.map_err(plain)?;
        if answer.status().is_client_error() {
            return Err(Undecided::Refused);
        }
        if answer.status() != reqwest::StatusCode::OK {
            return Err(format!("it answered {}", answer.status()).into());
        }
        let mut bytes = Vec::new();
        while let Some(piece) = answer.chunk().await.map_err(plain)? {
            bytes.extend_from_slice(&piece);
            if bytes.len() > MAX_ANSWER {
                return Err(format!("it answered more than {MAX_ANSWER} bytes").into());
            }
        }
        let mut said = object(&bytes).map_err(|e| format!("its answer is not as it should be: {e}"))?;
        let Some(Json::Object(facts)) = said.remove("claims") else {
            return Err(String::from("its answer has no object claims").into());
        };
        if !said.is_empty() {
            return Err(String::from("its answer has more than claims").into());
        }
        // Roles and subject are the token's to say.
        match facts.keys().find(|name| claims.facts.contains_key(*name)) {
            Some(_) => Err(String::from("it answered a claim that the token has").into()),
            None => Ok(facts),
        }
    }
}

impl std::fmt::Debug for Decisions {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Decisions").field("tables", &self.settings.tables).finish_non_exhaustive()
    }
}

struct Seat<'a>(&'a AtomicUsize);

impl Drop for Seat<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Relaxed);
    }
}

/// A client's claims with what was decided about it.
pub fn with(claims: &Claims, facts: &Map<String, Json>) -> Arc<Claims> {
    let mut all = claims.facts.clone();
    for (name, fact) in facts {
        all.entry(name).or_insert_with(|| fact.clone());
    }
    Arc::new(Claims { facts: all, ..claims.clone() })
}
