//! Tokens of every kind that is accepted, and of every kind that is not. The keys beside this file are for nothing else.
#![allow(clippy::unwrap_used)]

use std::path::Path;
use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use gossip_server::auth::Tokens;
use gossip_server::config::Auth;
use jsonwebtoken::{Algorithm, EncodingKey, Header, encode};
use parking_lot::Mutex;
use rand::rngs::StdRng;
use rand::{Rng, SeedableRng};
use serde_json::{Value as Json, json};

const KEYS: &str = include_str!("keys.json");
const HS512: &[u8] = b"a key of at least sixty-four bytes, which is what HS512 asks for, see RFC 7518";
const RSA: &[u8] = include_bytes!("rsa.pem");

fn tokens(jwks: &str) -> Tokens {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/tokens");
    let auth = Auth {
        jwks: Some(jwks.into()),
        issuer: Some("the harbour office".into()),
        audience: Some("harbour".into()),
        roles: "realm.roles".into(),
        operators: Some("ops".into()),
        ..Auth::default()
    };
    Tokens::from_env(auth, &folder).unwrap()
}

fn now() -> i64 {
    gossip_server::now() / 1_000_000
}

fn claims() -> Json {
    let roles = json!({"roles": ["agent", "ops"]});
    json!({"sub": "ada", "iss": "the harbour office", "aud": "harbour", "exp": now() + 60, "realm": roles})
}

fn key(algorithm: Algorithm) -> (EncodingKey, String) {
    match algorithm {
        Algorithm::ES256 => (EncodingKey::from_ec_pem(include_bytes!("es256.pem")).unwrap(), "ES256".into()),
        Algorithm::ES384 => (EncodingKey::from_ec_pem(include_bytes!("es384.pem")).unwrap(), "ES384".into()),
        Algorithm::EdDSA => (EncodingKey::from_ed_pem(include_bytes!("ed25519.pem")).unwrap(), "ed".into()),
        Algorithm::HS512 => (EncodingKey::from_secret(HS512), "hs512".into()),
        rsa => (EncodingKey::from_rsa_pem(RSA).unwrap(), format!("rsa-{rsa:?}")),
    }
}

fn signed(algorithm: Algorithm, claims: &Json) -> String {
    let (key, kid) = key(algorithm);
    encode(&Header { kid: Some(kid), ..Header::new(algorithm) }, claims, &key).unwrap()
}

/// A token put together by hand, signed with the key for HS512.
fn by_hand(head: &str, body: &str) -> String {
    let b64 = |s: &str| URL_SAFE_NO_PAD.encode(s);
    let text = format!("{}.{}", b64(head), b64(body));
    let signature = jsonwebtoken::crypto::sign(text.as_bytes(), &EncodingKey::from_secret(HS512), Algorithm::HS512);
    format!("{text}.{}", signature.unwrap())
}

#[tokio::test]
async fn every_algorithm_is_accepted_with_its_own_key() {
    use Algorithm::*;
    let tokens = tokens("keys.json");
    for algorithm in [RS256, RS384, RS512, PS256, PS384, PS512, ES256, ES384, EdDSA, HS512] {
        let accepted = tokens.accept(&signed(algorithm, &claims())).await;
        let accepted = accepted.unwrap_or_else(|e| panic!("{algorithm:?}: {e}")).claims;
        assert_eq!((accepted.subject(), accepted.operator), (Some("ada"), true), "{algorithm:?}");
        assert_eq!(accepted.roles, ["agent", "ops"]);
    }
}

#[tokio::test]
async fn hostile_tokens_are_refused_with_the_reason() {
    let tokens = tokens("keys.json");
    let with = |name: &str, value: Json| {
        let mut c = claims();
        c[name] = value;
        signed(Algorithm::ES256, &c)
    };
    let without = |name: &str| {
        let mut c = claims();
        c.as_object_mut().unwrap().remove(name);
        signed(Algorithm::ES256, &c)
    };
    let head = r#"{"alg":"HS512","kid":"hs512"}"#;
    let body = claims().to_string();
    assert!(tokens.accept(&by_hand(head, &body)).await.is_ok(), "what is put together by hand is well made");
    let good = signed(Algorithm::RS256, &claims());
    let parts: Vec<&str> = good.split('.').collect();
    let public = format!("{KEYS:?}");
    let confused = {
        let head = Header { kid: Some("rsa-RS256".into()), ..Header::new(Algorithm::HS256) };
        encode(&head, &claims(), &EncodingKey::from_secret(public.as_bytes())).unwrap()
    };
    let none = format!("{}.{}.", URL_SAFE_NO_PAD.encode(r#"{"alg":"none"}"#), parts[1]);
    let named = |kid: &str| by_hand(&json!({"alg": "HS512", "kid": kid}).to_string(), &body);
    let other = signed(Algorithm::RS384, &claims());
    let deep = format!("{{\"exp\":{},\"x\":{}{}}}", now() + 60, "[".repeat(5_000), "]".repeat(5_000));
    let cases = [
        (none, "algorithm is not one that is accepted"),
        (confused, "not the one that its key is for"),
        (format!("{}.{}.{}", parts[0], parts[1], other.split('.').nth(2).unwrap()), "signature does not fit"),
        (with("exp", json!(now() - 60)), "has expired"),
        (with("nbf", json!(now() + 60)), "not valid yet"),
        (with("aud", json!("somebody else")), "another audience"),
        (with("iss", json!("somebody else")), "another issuer"),
        (without("exp"), "no claim exp"),
        (without("aud"), "no claim aud"),
        (without("iss"), "no claim iss"),
        (with("exp", json!("tomorrow")), "claim exp is of the wrong type"),
        (with("aud", json!({"harbour": 1})), "claim aud is of the wrong type"),
        (with("sub", json!(["ada"])), "claim sub is of the wrong type"),
        (with("realm", json!({"roles": ["agent", 7]})), "not a list of texts"),
        (named("../../etc/passwd"), "not known here"),
        (named("' OR 1 = 1 --"), "not known here"),
        (named("for-secrets"), "not known here"),
        (by_hand(r#"{"alg":"HS512","kid":["hs512"]}"#, &body), "kid is not a text"),
        (by_hand(r#"{"alg":"HS512","kid":"hs512","crit":["exp"]}"#, &body), "critical headers"),
        (by_hand(head, &body.replacen('{', r#"{"sub":"eve","#, 1)), "a name occurs twice"),
        (by_hand(r#"{"alg":"none","alg":"HS512","kid":"hs512"}"#, &body), "a name occurs twice"),
        (by_hand(head, &deep), "cannot be read"),
        (by_hand(head, "[]"), "an object is expected"),
        (with("filler", json!("x".repeat(20_000))), "at most 16384 are read"),
        ("".into(), "not a signed JSON Web Token"),
        ("a.b".into(), "not a signed JSON Web Token"),
        (format!("{good}.x"), "not a signed JSON Web Token"),
    ];
    for (token, reason) in cases {
        let refused = tokens.accept(&token).await.expect_err(reason);
        assert!(refused.contains(reason), "{refused} is not: {reason}");
        assert!(token.is_empty() || !refused.contains(&token), "a reason repeats the token");
    }
}

#[tokio::test]
async fn no_mutated_token_is_accepted() {
    let tokens = tokens("keys.json");
    let all = [Algorithm::RS256, Algorithm::ES256, Algorithm::EdDSA, Algorithm::HS512];
    let good: Vec<String> = all.iter().map(|a| signed(*a, &claims())).collect();
    let mut rng = StdRng::seed_from_u64(4750);
    for n in 0..10_000 {
        let token = &good[n % good.len()];
        let mut bytes = token.clone().into_bytes();
        for _ in 0..rng.random_range(1..4) {
            if bytes.is_empty() {
                break;
            }
            let at = rng.random_range(0..bytes.len());
            match rng.random_range(0..4) {
                0 => drop(bytes.remove(at)),
                1 => bytes.insert(at, rng.random_range(32..127)),
                2 => bytes[at] = rng.random_range(0..128),
                _ => bytes.truncate(at.max(1)),
            }
        }
        let Ok(mutated) = String::from_utf8(bytes) else { continue };
        // The unused bits at the end of base64 are the only thing that may differ, and even they may not.
        assert!(mutated == *token || tokens.accept(&mutated).await.is_err(), "accepted: {mutated}");
    }
}

#[tokio::test]
async fn keys_at_an_address_are_read_again_for_an_unknown_one_but_not_for_each() {
    let set: Arc<Mutex<Json>> = Arc::new(Mutex::new(json!({"keys": []})));
    let asked = Arc::new(AtomicUsize::new(0));
    let (served, count) = (set.clone(), asked.clone());
    let answer = move || {
        count.fetch_add(1, Relaxed);
        let text = served.lock().to_string();
        async move { text }
    };
    let listener = tokio::net::TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}/keys", listener.local_addr().unwrap());
    let router = axum::Router::new().route("/keys", axum::routing::get(answer));
    tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });

    *set.lock() = serde_json::from_str(KEYS).unwrap();
    let first = tokens(&url);
    let token = signed(Algorithm::ES256, &claims());
    assert!(first.accept(&token).await.is_ok());
    for n in 0..50 {
        let unknown = by_hand(&json!({"alg": "HS512", "kid": n.to_string()}).to_string(), "{}");
        assert!(first.accept(&unknown).await.is_err());
        assert!(first.accept(&token).await.is_ok());
    }
    assert_eq!(asked.load(Relaxed), 1, "once, however many unknown ones come");

    *set.lock() = json!("nothing of the kind");
    let refused = tokens(&url).accept(&token).await.unwrap_err();
    assert!(refused.contains("cannot be read now"), "{refused}");
}

#[test]
fn a_key_set_that_cannot_be_used_is_refused_at_the_start() {
    let dir = tempfile::tempdir().unwrap();
    let auth = |jwks: &str| Auth { jwks: Some(jwks.into()), ..Auth::default() };
    for (text, reason) in [
        ("{\"keys\": [{\"kty\": \"RSA\", \"n\": \"secret\"}]}", "no key"),
        ("{\"keys\":\n secret}", "line 2, column 2: not a JWK set"),
    ] {
        std::fs::write(dir.path().join("keys.json"), text).unwrap();
        let e = Tokens::from_env(auth("keys.json"), dir.path()).unwrap_err();
        assert!(e.contains("keys.json") && e.contains(reason) && !e.contains("secret"), "{e}");
    }
    let e = Tokens::from_env(auth("nowhere.json"), dir.path()).unwrap_err();
    assert!(e.contains("auth.jwks") && e.contains("nowhere.json"), "{e}");
}
