//! Tokens: JWT (RFC 7519), signed with HS256 and nothing else.

use gossip_core::rule::Claims;
use jsonwebtoken::{Algorithm, DecodingKey, EncodingKey, Header, Validation, decode, encode};
use serde_json::{Map, Value as Json};

use crate::config::Auth;

/// Longest token, in bytes.
const MAX_TOKEN: usize = 16 * 1024;

/// Shortest secret, in bytes: HS256 needs one of the length of its hash (RFC 7518, 3.2).
pub const MIN_SECRET: usize = 32;

/// Clocks may differ by this many seconds.
const LEEWAY: u64 = 5;

/// Checks tokens, and mints them for development. Does not show its secret in `Debug`.
#[derive(Clone)]
pub struct Tokens {
    decoding: DecodingKey,
    encoding: EncodingKey,
    secret: Vec<u8>,
    validation: Validation,
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
}

impl Tokens {
    /// Takes the secret itself. The error says what is wrong with it, never what it is.
    pub fn new(auth: Auth, secret: &[u8]) -> Result<Tokens, String> {
        if secret.len() < MIN_SECRET {
            return Err(format!(
                "the secret in {} has {} bytes; HS256 needs at least {MIN_SECRET}",
                auth.secret_env,
                secret.len()
            ));
        }
        let mut validation = Validation::new(Algorithm::HS256);
        validation.leeway = LEEWAY;
        validation.validate_nbf = true;
        validation.set_required_spec_claims(&["exp"]);
        match &auth.audience {
            Some(audience) => {
                validation.set_audience(&[audience]);
                validation.set_required_spec_claims(&["exp", "aud"]);
            }
            None => validation.validate_aud = false,
        }
        Ok(Tokens {
            decoding: DecodingKey::from_secret(secret),
            encoding: EncodingKey::from_secret(secret),
            secret: secret.to_vec(),
            validation,
            auth,
        })
    }

    /// Takes the secret from the environment.
    pub fn from_env(auth: Auth) -> Result<Tokens, String> {
        match std::env::var(&auth.secret_env) {
            Ok(secret) => Tokens::new(auth, secret.as_bytes()),
            Err(_) => Err(format!("auth.secret_env: the environment variable {} is not set", auth.secret_env)),
        }
    }

    /// The secret, from which the cluster's keys are derived.
    pub fn secret(&self) -> &[u8] {
        &self.secret
    }

    /// The role that may operate.
    pub fn operators(&self) -> Option<&str> {
        self.auth.operators.as_deref()
    }

    /// Checks a token. The error says why it is refused, without repeating it.
    pub fn check(&self, token: &str) -> Result<Accepted, String> {
        use jsonwebtoken::errors::ErrorKind;
        if token.len() > MAX_TOKEN {
            return Err(format!("the token has {} bytes, at most {MAX_TOKEN} are read", token.len()));
        }
        let data =
            decode::<Map<String, Json>>(token, &self.decoding, &self.validation).map_err(|e| match e.kind() {
                ErrorKind::ExpiredSignature => "the token has expired".to_string(),
                ErrorKind::ImmatureSignature => "the token is not valid yet".into(),
                ErrorKind::InvalidSignature => "the token's signature does not fit".into(),
                ErrorKind::InvalidAudience => "the token is for another audience".into(),
                ErrorKind::InvalidAlgorithm | ErrorKind::InvalidAlgorithmName => {
                    "the token's algorithm is not HS256".into()
                }
                ErrorKind::MissingRequiredClaim(name) => format!("the token has no claim {name}"),
                // A header that names an unknown algorithm, `none` among them, does not parse.
                _ => "the token is not a JSON Web Token signed with HS256".into(),
            })?;
        let facts = data.claims;
        let roles: Vec<String> = match at_path(&facts, &self.auth.roles) {
            Some(Json::String(role)) => vec![role.clone()],
            Some(Json::Array(roles)) => roles.iter().filter_map(|r| r.as_str().map(String::from)).collect(),
            _ => Vec::new(),
        };
        let operator = self.auth.operators.as_ref().is_some_and(|o| roles.contains(o));
        let expires = facts.get("exp").and_then(Json::as_f64).unwrap_or(0.0) as i64;
        Ok(Accepted { claims: Claims { roles, facts, operator }, expires })
    }

    /// Signs claims. What `exp` and `aud` need is added where it is missing; the token ends after `seconds`.
    pub fn mint(&self, mut facts: Map<String, Json>, now: i64, seconds: i64) -> Result<String, String> {
        facts.entry("exp").or_insert_with(|| Json::from(now + seconds));
        if let Some(audience) = &self.auth.audience {
            facts.entry("aud").or_insert_with(|| Json::from(audience.as_str()));
        }
        encode(&Header::new(Algorithm::HS256), &facts, &self.encoding).map_err(|e| e.to_string())
    }

    /// Signs a token for roles and further claims, under the claim that lists the roles.
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

fn at_path<'a>(facts: &'a Map<String, Json>, path: &str) -> Option<&'a Json> {
    let mut parts = path.split('.');
    let first = parts.next().and_then(|p| facts.get(p))?;
    parts.try_fold(first, |at, p| at.get(p))
}
