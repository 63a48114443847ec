//! The keys that tokens are checked with: a JWK set (RFC 7517) from a file or an address, or one shared secret.

use std::path::{Path, PathBuf};
use std::time::Duration;

use jsonwebtoken::jwk::{AlgorithmParameters, EllipticCurve, Jwk, JwkSet, KeyAlgorithm, PublicKeyUse};
use jsonwebtoken::{Algorithm, DecodingKey};
use sha2::{Digest as _, Sha256};

/// Longest JWK set that is read, in bytes.
const MAX_SET: usize = 256 * 1024;

/// How long an address may take to answer.
const TIMEOUT: Duration = Duration::from_secs(5);

/// Where a JWK set is.
pub enum Place {
    File(PathBuf),
    Address(String),
}

impl Place {
    /// How often it is looked whether the set is another one.
    pub fn refresh_interval(&self) -> Duration {
        match self {
            Place::File(_) => Duration::from_secs(1),
            Place::Address(_) => Duration::from_secs(30),
        }
    }

    /// An address if it is `http:` or `https:`, else a file, relative to `base`.
    pub fn new(at: &str, base: &Path) -> Place {
        match at.split_once("://") {
            Some(("http" | "https", _)) => Place::Address(at.into()),
            _ => Place::File(base.join(at)),
        }
    }

    /// Reads the set. The error says what failed.
    ///
    /// # Errors
    /// The set cannot be read in time, or is too large.
    pub async fn fetch(&self) -> Result<Vec<u8>, String> {
        match self {
            Place::File(path) => read(path),
            Place::Address(url) => fetch(url).await,
        }
    }
}

/// Reads a file of bounded size.
///
/// # Errors
/// The file cannot be read, or is no set of keys.
pub fn read(path: &Path) -> Result<Vec<u8>, String> {
    let bytes = std::fs::read(path).map_err(|e| format!("auth.jwks: {}: {e}", path.display()))?;
    if bytes.len() > MAX_SET { Err(too_long()) } else { Ok(bytes) }
}

fn too_long() -> String {
    format!("the key set has more than {MAX_SET} bytes")
}

async fn fetch(url: &str) -> Result<Vec<u8>, String> {
    // An address may hold a password; errors of the client name it.
    let plain = |e: reqwest::Error| format!("auth.jwks: {}", e.without_url());
    let client = crate::http_client(TIMEOUT).map_err(|e| format!("auth.jwks: {e}"))?;
    let mut answer = client.get(url).send().await.and_then(|a| a.error_for_status()).map_err(plain)?;
    let mut bytes = Vec::new();
    while let Some(piece) = answer.chunk().await.map_err(plain)? {
        bytes.extend_from_slice(&piece);
        if bytes.len() > MAX_SET {
            return Err(too_long());
        }
    }
    Ok(bytes)
}

/// Tells keys apart: a hash of all that the set says of one.
pub type KeyId = [u8; 32];

/// One key and the only algorithm that it is for.
pub struct Key {
    pub id: KeyId,
    pub kid: Option<String>,
    pub algorithm: Algorithm,
    pub decoding: DecodingKey,
}

impl Key {
    /// A shared secret.
    pub fn of_secret(secret: &[u8]) -> Key {
        let id = Sha256::digest([b"shared secret", secret].concat()).into();
        Key { id, kid: None, algorithm: Algorithm::HS256, decoding: DecodingKey::from_secret(secret) }
    }

    fn of_jwk(jwk: &Jwk) -> Result<Option<Key>, String> {
        if jwk.common.public_key_use.as_ref().is_some_and(|u| *u != PublicKeyUse::Signature) {
            return Ok(None);
        }
        let Some(algorithm) = algorithm(jwk) else { return Ok(None) };
        let decoding = DecodingKey::from_jwk(jwk).map_err(|e| e.to_string())?;
        let said = serde_json::to_vec(jwk).map_err(|e| e.to_string())?;
        let id = Sha256::digest(said).into();
        Ok(Some(Key { id, kid: jwk.common.key_id.clone(), algorithm, decoding }))
    }
}

/// What a key is for: as it says, else what is usual for its kind. `None`: nothing that is accepted here.
fn algorithm(jwk: &Jwk) -> Option<Algorithm> {
    let said = match jwk.common.key_algorithm {
        None => None,
        Some(said) => Some(match said {
            KeyAlgorithm::HS256 => Algorithm::HS256,
            KeyAlgorithm::HS384 => Algorithm::HS384,
            KeyAlgorithm::HS512 => Algorithm::HS512,
            KeyAlgorithm::ES256 => Algorithm::ES256,
            KeyAlgorithm::ES384 => Algorithm::ES384,
            KeyAlgorithm::RS256 => Algorithm::RS256,
            KeyAlgorithm::RS384 => Algorithm::RS384,
            KeyAlgorithm::RS512 => Algorithm::RS512,
            KeyAlgorithm::PS256 => Algorithm::PS256,
            KeyAlgorithm::PS384 => Algorithm::PS384,
            KeyAlgorithm::PS512 => Algorithm::PS512,
            KeyAlgorithm::EdDSA => Algorithm::EdDSA,
            _ => return None,
        }),
    };
    let (usual, fits): (Algorithm, &[Algorithm]) = match &jwk.algorithm {
        AlgorithmParameters::OctetKey(_) => (Algorithm::HS256, &[Algorithm::HS256, Algorithm::HS384, Algorithm::HS512]),
        AlgorithmParameters::RSA(_) => (
            Algorithm::RS256,
            &[
                Algorithm::RS256,
                Algorithm::RS384,
                Algorithm::RS512,
                Algorithm::PS256,
                Algorithm::PS384,
                Algorithm::PS512,
            ],
        ),
        AlgorithmParameters::EllipticCurve(p) if p.curve == EllipticCurve::P256 => {
            (Algorithm::ES256, &[Algorithm::ES256])
        }
        AlgorithmParameters::EllipticCurve(p) if p.curve == EllipticCurve::P384 => {
            (Algorithm::ES384, &[Algorithm::ES384])
        }
        AlgorithmParameters::OctetKeyPair(p) if p.curve == EllipticCurve::Ed25519 => {
            (Algorithm::EdDSA, &[Algorithm::EdDSA])
        }
        _ => return None,
    };
    Some(said.unwrap_or(usual)).filter(|a| fits.contains(a))
}

/// All keys that are accepted.
#[derive(Default)]
pub struct KeySet {
    pub keys: Vec<Key>,
}

impl KeySet {
    /// Reads a JWK set. Keys of kinds that are not accepted, or not for signatures, are left out.
    ///
    /// # Errors
    /// It is no set of keys, or has none that can be used.
    pub fn parse(bytes: &[u8]) -> Result<KeySet, String> {
        let set: JwkSet = serde_json::from_slice(bytes).map_err(|e| {
            // The reader's own words may repeat a key.
            format!("line {}, column {}: not a JWK set (RFC 7517)", e.line(), e.column())
        })?;
        let mut keys = Vec::new();
        for (i, jwk) in set.keys.iter().enumerate() {
            let key = Key::of_jwk(jwk).map_err(|e| format!("key {}: {e}", i + 1))?;
            keys.extend(key);
        }
        if keys.is_empty() {
            return Err("the JWK set has no key that tokens of an accepted algorithm can be signed with".into());
        }
        Ok(KeySet { keys })
    }

    /// The key that a token means: by name or, if it names none, the only one for its algorithm.
    pub fn find(&self, kid: Option<&str>, algorithm: Algorithm) -> Option<&Key> {
        match kid {
            // Who signs with the one shared secret may call it what they like.
            Some(kid) if self.keys.iter().any(|k| k.kid.is_some()) => {
                self.keys.iter().find(|k| k.kid.as_deref() == Some(kid))
            }
            _ => {
                let mut fitting = self.keys.iter().filter(|k| k.algorithm == algorithm);
                let only = fitting.next()?;
                fitting.next().is_none().then_some(only)
            }
        }
    }
}
