//! Tokens: JWT (RFC 7519), signed (JWS, RFC 7515) with a shared secret or with keys from a JWK set (RFC 7517).
//!
//! Every key has one algorithm, and a token's header only says which key it means: what it claims about the algorithm
//! must be what the key is for. Whatever is ambiguous about a token is refused: names that stand twice in an object,
//! critical headers (RFC 7515, 4.1.11), claims of the wrong type.

pub(crate) mod json;
mod keys;

use std::path::Path;
use std::sync::Arc;
use std::time::{Duration, Instant};

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use gossip_core::rule::Claims;
use jsonwebtoken::{Algorithm, EncodingKey, Header, Validation, decode, encode};
use parking_lot::Mutex;
use serde_json::{Map, Value as Json};
use tokio::sync::watch;

use crate::config::Auth;
pub use keys::KeyId;
use keys::{Key, KeySet, Place};

/// Longest token, in bytes.
const MAX_TOKEN: usize = 16 * 1024;

/// Shortest secret, in bytes: HS256 needs one of the length of its hash (RFC 7518, 3.2).
pub const MIN_SECRET: usize = 32;

/// The claim of a grant.
const GRANT: &str = "grant";

/// Keys are looked for again at most this often, however many tokens name unknown ones.
const REFRESH_EVERY: Duration = Duration::from_secs(10);

/// Checks tokens, and mints them for development. Does not show its keys in `Debug`.
pub struct Tokens {
    keys: Mutex<Arc<KeySet>>,
    /// The shared secret, if there is one: it signs and it is what the cluster's keys are derived from.
    secret: Option<Vec<u8>>,
    place: Option<Place>,
    /// When keys were looked for last.
    refreshed: tokio::sync::Mutex<Option<Instant>>,
    /// Rises when keys have come or gone.
    changed: watch::Sender<u64>,
    auth: Auth,
}

impl std::fmt::Debug for Tokens {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "Tokens({:?})", self.auth)
    }
}

/// A token that was accepted.
#[derive(Clone, Debug)]
pub struct Accepted {
    /// What it says.
    pub claims: Claims,
    /// When it ends, in seconds since 1970.
    pub expires: i64,
    /// The key that it is signed with.
    pub key: KeyId,
}

/// A query that the application's backend has signed.
#[derive(Clone, Debug)]
pub struct Granted {
    /// The query.
    pub query: String,
    /// Its parameters.
    pub params: Map<String, Json>,
}

/// Why a token is refused.
enum Refused {
    /// It names a key that is not known, or not yet.
    UnknownKey,
    For(String),
}

impl<T: Into<String>> From<T> for Refused {
    fn from(text: T) -> Self {
        Refused::For(text.into())
    }
}

impl Tokens {
    /// Takes a secret itself, beside whatever keys `auth` names. The error says what is wrong, never what the secret
    /// is.
    ///
    /// # Errors
    /// The secret is too short, or the keys cannot be read.
    pub fn new(auth: Auth, secret: &[u8]) -> Result<Tokens, String> {
        Tokens::with(auth, Some(secret.to_vec()), Path::new(""))
    }

    /// Takes the secret from the environment and keys from where the configuration says; files relative to `base`.
    ///
    /// # Errors
    /// A variable is not set, its secret is too short, or the keys cannot be read.
    pub fn from_env(auth: Auth, base: &Path) -> Result<Tokens, String> {
        let secret = match &auth.secret_env {
            None => None,
            Some(name) => match std::env::var(name) {
                Ok(secret) => Some(secret.into_bytes()),
                Err(_) => return Err(format!("auth.secret_env: the environment variable {name} is not set")),
            },
        };
        Tokens::with(auth, secret, base)
    }

    fn with(auth: Auth, secret: Option<Vec<u8>>, base: &Path) -> Result<Tokens, String> {
        if let Some(secret) = &secret
            && secret.len() < MIN_SECRET
        {
            let from = auth.secret_env.as_deref().unwrap_or("the environment");
            let n = secret.len();
            return Err(format!("the secret in {from} has {n} bytes; HS256 needs at least {MIN_SECRET}"));
        }
        let place = auth.jwks.as_ref().map(|at| Place::new(at, base));
        let mut keys = KeySet::default();
        // Read a file at once, so that an error in it is reported at the start.
        if let Some(Place::File(path)) = &place {
            keys = KeySet::parse(&keys::read(path)?).map_err(|e| format!("{}: {e}", path.display()))?;
        }
        keys.keys.extend(secret.as_deref().map(Key::of_secret));
        Ok(Tokens {
            keys: Mutex::new(Arc::new(keys)),
            secret,
            place,
            refreshed: Default::default(),
            changed: watch::channel(0).0,
            auth,
        })
    }

    /// The shared secret, from which the cluster's keys are derived.
    pub fn secret(&self) -> Option<&[u8]> {
        self.secret.as_deref()
    }

    /// The role that may operate.
    pub fn operators(&self) -> Option<&str> {
        self.auth.operators.as_deref()
    }

    /// How long subscriptions go on after their token has ended.
    pub fn grace(&self) -> Duration {
        self.auth.grace
    }

    /// Checks a token, and looks for new keys if it names one that is not known. The error says why it is refused,
    /// without repeating it.
    ///
    /// # Errors
    /// Why the token is refused, without any of it.
    pub async fn accept(&self, token: &str) -> Result<Accepted, String> {
        let accepted = self.verify(token).await?;
        match accepted.claims.facts.contains_key(GRANT) {
            true => Err("this token only grants a query; pass it to subscribe as grant".into()),
            false => Ok(accepted),
        }
    }

    async fn verify(&self, token: &str) -> Result<Accepted, String> {
        match self.check(token) {
            Ok(accepted) => Ok(accepted),
            Err(Refused::For(why)) => Err(why),
            Err(Refused::UnknownKey) => {
                self.refresh().await?;
                self.check(token).map_err(|e| match e {
                    Refused::UnknownKey => "the token is signed with a key that is not known here".into(),
                    Refused::For(why) => why,
                })
            }
        }
    }

    /// Checks a grant: a token of the application's that carries one query with its parameters. The error says why it
    /// is refused, without repeating it.
    ///
    /// # Errors
    /// Why the grant is refused, without any of it.
    pub async fn grant(&self, token: &str, claims: &Claims) -> Result<Granted, String> {
        let accepted = self.verify(token).await?;
        let facts = accepted.claims.facts;
        let subject = facts.get("sub").and_then(Json::as_str);
        if subject.is_some_and(|s| claims.subject() != Some(s)) {
            return Err("the grant is for another subject".into());
        }
        let Some(Json::Object(grant)) = facts.get(GRANT) else { return Err("the token grants no query".into()) };
        let (query, params) = (grant.get("query").and_then(Json::as_str), grant.get("params"));
        let known = grant.keys().all(|name| name == "query" || name == "params");
        match (query, params) {
            (Some(query), None) if known => Ok(Granted { query: query.into(), params: Map::new() }),
            (Some(query), Some(Json::Object(params))) if known => {
                Ok(Granted { query: query.into(), params: params.clone() })
            }
            _ => Err("the grant is not {\"query\": text, \"params\": object}".into()),
        }
    }

    async fn refresh(&self) -> Result<(), String> {
        let Some(place) = &self.place else { return Ok(()) };
        // Who comes meanwhile waits for the answer instead of asking too.
        let mut refreshed = self.refreshed.lock().await;
        if refreshed.is_some_and(|at| at.elapsed() < REFRESH_EVERY) {
            return Ok(());
        }
        *refreshed = Some(Instant::now());
        self.read_again(place).await
    }

    /// Reads the set again.
    async fn read_again(&self, place: &Place) -> Result<(), String> {
        let unavailable = |e: String| {
            tracing::debug!("keys for tokens: {e}");
            "the keys that tokens are checked with cannot be read now".to_string()
        };
        let mut keys = KeySet::parse(&place.fetch().await.map_err(unavailable)?).map_err(unavailable)?;
        keys.keys.extend(self.secret.as_deref().map(Key::of_secret));
        let ids = |keys: &KeySet| keys.keys.iter().map(|k| k.id).collect::<Vec<_>>();
        let mut known = self.keys.lock();
        let same = ids(&known) == ids(&keys);
        *known = Arc::new(keys);
        drop(known);
        if !same {
            tracing::info!("keys for tokens: the set has changed");
            self.changed.send_modify(|n| *n += 1);
        }
        Ok(())
    }

    /// Keeps the set as it is where it comes from, until `stopping`: a key that has left it lets nobody in any more. While
    /// the set cannot be read, the last one counts.
    pub async fn keep_refreshed(&self, mut stopping: watch::Receiver<bool>) {
        let Some(place) = &self.place else { return };
        let mut failing = false;
        loop {
            tokio::select! {
                _ = stopping.wait_for(|s| *s) => return,
                () = tokio::time::sleep(place.refresh_interval()) => {}
            }
            match self.read_again(place).await {
                Ok(()) => failing = false,
                // Said once.
                Err(e) if !std::mem::replace(&mut failing, true) => tracing::warn!("{e}; the last ones count"),
                Err(_) => {}
            }
        }
    }

    /// Whether a key is still in the set.
    pub fn has(&self, key: &KeyId) -> bool {
        self.keys.lock().keys.iter().any(|k| k.id == *key)
    }

    /// Changes when keys come or go, and at once: a key may have left between accepting a token and this.
    pub fn changes(&self) -> watch::Receiver<u64> {
        let mut changes = self.changed.subscribe();
        changes.mark_changed();
        changes
    }

    fn check(&self, token: &str) -> Result<Accepted, Refused> {
        if token.len() > MAX_TOKEN {
            return Err(format!("the token has {} bytes, at most {MAX_TOKEN} are read", token.len()).into());
        }
        let malformed = || Refused::from("the token is not a signed JSON Web Token");
        let parts: Vec<&str> = token.split('.').collect();
        let [head, body, _] = parts[..] else { return Err(malformed()) };
        let object = |part: &str| -> Result<Map<String, Json>, Refused> {
            let bytes = URL_SAFE_NO_PAD.decode(part).map_err(|_| malformed())?;
            json::object(&bytes).map_err(|e| format!("the token is not valid JSON: {e}").into())
        };
        let head = object(head)?;
        if head.contains_key("crit") {
            return Err("the token has critical headers, of which none is known here".into());
        }
        let algorithm: Algorithm = match head.get("alg").and_then(Json::as_str).map(str::parse) {
            Some(Ok(algorithm)) => algorithm,
            _ => return Err("the token's algorithm is not one that is accepted".into()),
        };
        let kid = match head.get("kid") {
            None => None,
            Some(Json::String(kid)) => Some(kid.as_str()),
            Some(_) => return Err("the token's kid is not a text".into()),
        };
        let keys = self.keys.lock().clone();
        let key = keys.find(kid, algorithm).ok_or(Refused::UnknownKey)?;
        if key.algorithm != algorithm {
            return Err("the token's algorithm is not the one that its key is for".into());
        }
        let facts = object(body)?;
        let unfit = facts.iter().find(|(name, v)| match name.as_str() {
            "exp" | "nbf" | "iat" => !v.is_number(),
            "iss" | "sub" | "jti" => !v.is_string(),
            "aud" => !v.is_string() && !v.as_array().is_some_and(|a| a.iter().all(Json::is_string)),
            _ => false,
        });
        if let Some((name, _)) = unfit {
            return Err(format!("the token's claim {name} is of the wrong type").into());
        }
        decode::<Map<String, Json>>(token, &key.decoding, &self.validation(algorithm)).map_err(|e| why(&e))?;
        let roles: Vec<String> = match at_path(&facts, &self.auth.roles) {
            None => Vec::new(),
            Some(Json::String(role)) => vec![role.clone()],
            Some(Json::Array(roles)) if roles.iter().all(Json::is_string) => {
                roles.iter().filter_map(|r| r.as_str().map(String::from)).collect()
            }
            Some(_) => return Err(format!("the token's claim {} is not a list of texts", self.auth.roles).into()),
        };
        let operator = self.auth.operators.as_ref().is_some_and(|o| roles.contains(o));
        let expires = facts.get("exp").and_then(Json::as_f64).unwrap_or(0.0) as i64;
        Ok(Accepted { claims: Claims { roles, facts, operator }, expires, key: key.id })
    }

    fn validation(&self, algorithm: Algorithm) -> Validation {
        let mut validation = Validation::new(algorithm);
        validation.leeway = self.auth.leeway.as_secs();
        validation.validate_nbf = true;
        let mut required = vec!["exp"];
        match &self.auth.audience {
            Some(audience) => {
                validation.set_audience(&[audience]);
                required.push("aud");
            }
            None => validation.validate_aud = false,
        }
        if let Some(issuer) = &self.auth.issuer {
            validation.set_issuer(&[issuer]);
            required.push("iss");
        }
        validation.set_required_spec_claims(&required);
        validation
    }

    /// Signs claims with the shared secret. What is required is added where it is missing; the token ends after
    /// `seconds`.
    ///
    /// # Errors
    /// There is no secret to sign with.
    pub fn mint(&self, mut facts: Map<String, Json>, now: i64, seconds: i64) -> Result<String, String> {
        let Some(secret) = &self.secret else {
            return Err("there is no secret to sign with: auth.secret_env names none".into());
        };
        facts.entry("exp").or_insert_with(|| Json::from(now + seconds));
        let required = [("aud", &self.auth.audience), ("iss", &self.auth.issuer)];
        for (name, value) in required {
            if let Some(value) = value {
                facts.entry(name).or_insert_with(|| Json::from(value.as_str()));
            }
        }
        encode(&Header::new(Algorithm::HS256), &facts, &EncodingKey::from_secret(secret)).map_err(|e| e.to_string())
    }

    /// Signs a token for roles and further claims, under the claim that lists the roles.
    ///
    /// # Errors
    /// There is no secret to sign with.
    pub fn mint_for(
        &self,
        subject: &str,
        roles: &[String],
        claims: &Map<String, Json>,
        now: i64,
        seconds: i64,
    ) -> Result<String, String> {
        let mut facts = claims.clone();
        facts.entry("sub").or_insert_with(|| Json::from(subject));
        let mut at = &mut facts;
        let mut path: Vec<&str> = self.auth.roles.split('.').collect();
        let last = path.pop().unwrap_or("roles");
        for part in path {
            let inner = at.entry(part).or_insert_with(|| Json::Object(Map::new()));
            match inner.as_object_mut() {
                Some(inner) => at = inner,
                None => return Err(format!("claim {part} is not an object")),
            }
        }
        at.insert(last.into(), Json::from(roles.to_vec()));
        self.mint(facts, now, seconds)
    }
}

fn why(e: &jsonwebtoken::errors::Error) -> Refused {
    use jsonwebtoken::errors::ErrorKind;
    let text = match e.kind() {
        ErrorKind::ExpiredSignature => "the token has expired",
        ErrorKind::ImmatureSignature => "the token is not valid yet",
        ErrorKind::InvalidSignature => "the token's signature does not fit",
        ErrorKind::InvalidAudience => "the token is for another audience",
        ErrorKind::InvalidIssuer => "the token is from another issuer",
        ErrorKind::MissingRequiredClaim(name) => return format!("the token has no claim {name}").into(),
        _ => "the token is not a signed JSON Web Token",
    };
    text.into()
}

fn at_path<'a>(facts: &'a Map<String, Json>, path: &str) -> Option<&'a Json> {
    let mut parts = path.split('.');
    let first = parts.next().and_then(|p| facts.get(p))?;
    parts.try_fold(first, |at, p| at.get(p))
}
