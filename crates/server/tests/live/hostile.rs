//! What nobody should send, and who should not be let in.

use futures_util::{SinkExt, StreamExt};
use gossip_client::{ClientError, Incoming, Session};
use gossip_core::send_queue::QueueLimits;
use gossip_server::admission::Admission;
use gossip_server::instance::{Instance, Options};
use serde_json::{Value as Json, json};
use tokio_tungstenite::tungstenite::Message;

use crate::instance::{cluster, subscribe};

/// One raw exchange: sends a text, returns the answer.
async fn exchange(s: &mut Session, text: &str) -> Json {
    s.send_raw(text.into()).await.unwrap();
    loop {
        let (_, text) = s.next().await.unwrap();
        let json: Json = serde_json::from_str(&text).unwrap();
        if json.get("method").is_none() {
            return json;
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn bad_input_gets_its_error_and_the_instance_goes_on() {
    let c = cluster(QueueLimits::default()).await;
    let mut s = c.connect(0, &["agent"], json!({"agency": "Brightwater"})).await;
    let call =
        |method: &str, params: Json| json!({"jsonrpc": "2.0", "id": 1, "method": method, "params": params}).to_string();
    let subscribe = |query: &str| call("subscribe", json!({"query": query}));
    let cases: Vec<(String, i64, &str)> = vec![
        ("{not json".into(), -32700, "line 1"),
        ("[]".into(), -32600, "batches"),
        ("3".into(), -32600, "object"),
        ("{\"id\":{},\"jsonrpc\":\"2.0\",\"method\":\"x\"}".into(), -32600, "id"),
        (call("subscrib", json!({})), -32601, "did you mean subscribe?"),
        (call("subscribe", json!({})), -32602, "query is missing"),
        (call("subscribe", json!({"query": 3})), -32602, "expected a text"),
        (call("subscribe", json!({"query": "SELECT 1", "parms": {}})), -32602, "did you mean params?"),
        (call("subscribe", json!([])), -32602, "expected an object"),
        (subscribe("SELEC id FROM calls"), -32003, "line 1, column 1"),
        (subscribe("SELECT id FROM calls WHERE"), -32003, "the text ends here"),
        (subscribe("SELECT id FROM calls UNION SELECT 1"), -32003, "one SELECT is supported"),
        (subscribe("SELECT id + 1 FROM calls"), -32003, "a column without a name"),
        (subscribe("SELECT id FROM calls, other"), -32003, "JOIN … ON …"),
        (subscribe("SELECT id FROM calls WHERE id = 'x'"), -32003, "not a value of type int8"),
        (subscribe("SELECT id FROM calls WHERE id = (SELECT 1)"), -32003, "SELECT stands after IN"),
        (subscribe(&format!("SELECT id FROM calls WHERE {}id = 1", "NOT ".repeat(500))), -32003, "nested too deeply"),
        (subscribe("SELECT id FROM calls WHERE note = :p"), -32002, "column note is not known or not permitted"),
        (subscribe("SELECT id FROM calls WHERE nothing = 1"), -32002, "column nothing is not known or not permitted"),
        (subscribe("SELECT id FROM other"), -32002, "table other is not known or not permitted"),
        (subscribe("SELECT id FROM nowhere"), -32002, "table nowhere is not known or not permitted"),
        (subscribe("SELECT * FROM gossip.clients"), -32002, "table gossip.clients is not known or not permitted"),
        (subscribe("SELECT id FROM calls WHERE agency = claim.agency"), -32002, "column claim.agency"),
        (subscribe("SELECT id FROM calls WHERE agency = :agency"), -32003, "parameter :agency is missing"),
        (call("subscribe", json!({"query": "SELECT id FROM calls", "params": {"agency": 1}})), -32003, "not used"),
        (
            call("subscribe", json!({"query": "SELECT id FROM calls WHERE id = :a", "params": {"a": "b"}})),
            -32003,
            "expected int8",
        ),
        (call("unsubscribe", json!({"subscription": 77})), -32004, "no subscription 77"),
        (call("authenticate", json!({"token": "x.y.z"})), -32001, "not a signed JSON Web Token"),
    ];
    for (text, code, words) in cases {
        let answer = exchange(&mut s, &text).await;
        let shown = &text[..text.len().min(90)];
        assert_eq!(answer["error"]["code"], code, "{shown}: {answer}");
        assert!(answer["error"]["message"].as_str().unwrap().contains(words), "{shown}: {answer}");
    }
    // A parameter named like a claim is a parameter and nothing else.
    let text = call(
        "subscribe",
        json!({"query": "SELECT id FROM calls WHERE agency = :agency", "params": {"agency": "Northlight"}}),
    );
    assert_eq!(exchange(&mut s, &text).await["result"]["rows"], json!([]));
    // Hidden and unknown columns are told of in the same words.
    let hidden = exchange(&mut s, &subscribe("SELECT note FROM calls")).await["error"].to_string();
    let unknown = exchange(&mut s, &subscribe("SELECT nope FROM calls")).await["error"].to_string();
    assert_eq!(hidden.replace("note", "nope"), unknown);
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn hostile_messages_and_tokens_end_only_their_own_connection() {
    let c = cluster(QueueLimits::default()).await;
    let url = gossip_client::socket_url(&c.url(0)).unwrap();
    for (message, code) in [(Message::binary(vec![0; 8]), 1003), (Message::text("x".repeat(1 << 20)), 1009)] {
        let (mut raw, _) = tokio_tungstenite::connect_async(&url).await.unwrap();
        // The other side may have hung up before all of it is sent.
        let _ = raw.send(message).await;
        let closed = async {
            while let Some(next) = raw.next().await {
                match next {
                    Ok(Message::Close(frame)) => return frame.map(|f| u16::from(f.code)),
                    Ok(_) => {}
                    Err(_) => return None,
                }
            }
            None
        };
        let closed = tokio::time::timeout(testbed::PATIENCE, closed).await.expect("an end");
        assert!(closed == Some(code) || closed.is_none() && code == 1009, "{closed:?}");
    }
    let now = gossip_server::now() / 1_000_000;
    let mint = |facts: Json| c.tokens.mint(facts.as_object().unwrap().clone(), now, 60).unwrap();
    let good = mint(json!({"sub": "x", "roles": ["control"]}));
    let mut parts: Vec<&str> = good.split('.').collect();
    let none = format!("eyJhbGciOiJub25lIiwidHlwIjoiSldUIn0.{}.", parts[1]);
    parts[2] = "AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA";
    let bad_signature = parts.join(".");
    for (token, words) in [
        (bad_signature, "signature does not fit"),
        (none, "algorithm is not one that is accepted"),
        (mint(json!({"exp": now - 600})), "has expired"),
        (mint(json!({"nbf": now + 600})), "not valid yet"),
        (mint(json!({"aud": "elsewhere"})), "another audience"),
        ("y".repeat(20_000), "at most 16384"),
    ] {
        let mut s = Session::connect(&c.url(0), None).await.unwrap();
        match s.call("authenticate", json!({"token": token})).await {
            Err(ClientError::Refused(e)) => assert!(e.code == -32001 && e.message.contains(words), "{words}: {e}"),
            other => panic!("{words}: {other:?}"),
        }
        if token.len() < 8_000 {
            // In the upgrade: an answer that browser code can read, then the end.
            let mut s = Session::connect(&c.url(0), Some(&token)).await.unwrap();
            let (incoming, text) = s.next().await.unwrap();
            assert!(matches!(incoming, Incoming::Answer(_, Err(_))) && text.contains(words), "{text}");
            assert!(matches!(s.next().await, Err(ClientError::Ended(why)) if why.starts_with("1008")));
        }
    }
    // A token that ends after the end of time is good, and is still only a number.
    let forever = mint(json!({"sub": "x", "roles": ["control"], "exp": 1e18}));
    let mut s = Session::connect(&c.url(0), Some(&forever)).await.unwrap();
    assert_eq!(subscribe(&mut s, "SELECT * FROM calls").await.rows.len(), 2);
    let mut s = c.connect(0, &["control"], json!({})).await;
    assert_eq!(subscribe(&mut s, "SELECT * FROM calls").await.rows.len(), 2, "the instance goes on");
    c.stop().await;
}

/// Sends the head of a GET request and returns the head of the answer, in lower case.
async fn http(url: &str, path: &str, head: &str) -> String {
    use tokio::io::{AsyncReadExt, AsyncWriteExt};
    let mut tcp = tokio::net::TcpStream::connect(url).await.unwrap();
    tcp.write_all(format!("GET {path} HTTP/1.1\r\nHost: here\r\n{head}\r\n").as_bytes()).await.unwrap();
    let mut answer = Vec::new();
    while !answer.ends_with(b"\r\n\r\n") {
        answer.push(tcp.read_u8().await.unwrap());
    }
    String::from_utf8(answer).unwrap().to_lowercase()
}

#[tokio::test(flavor = "multi_thread")]
async fn only_stored_queries_and_known_origins_are_let_in_where_that_is_asked_for() {
    let c = cluster(QueueLimits::default()).await;
    let admission =
        Admission { stored_only: true, origins: Some(vec!["https://app.example".into()]), ..Admission::default() };
    let listen = std::net::SocketAddr::from(([127, 0, 0, 1], 0));
    let strict = Instance::start(Options { name: "strict".into(), admission, listen, ..c.options[0].clone() });
    let strict = strict.await.unwrap();
    let url = strict.address().to_string();

    let mut s = Session::connect(&url, Some(&c.token(&["control"], json!({})))).await.unwrap();
    let refused = s.call("subscribe", json!({"query": "SELECT id FROM calls"})).await;
    assert!(matches!(&refused, Err(ClientError::Refused(e)) if e.code == -32002), "{refused:?}");
    let stored = json!({"name": "of_agency", "params": {"a": "Northlight"}});
    assert_eq!(s.call("subscribe", stored).await.unwrap()["rows"].as_array().map(Vec::len), Some(1));
    let mut ops = Session::connect(&url, Some(&c.token(&["ops"], json!({})))).await.unwrap();
    assert!(ops.call("subscribe", json!({"query": "SELECT * FROM gossip.feeds"})).await.is_ok(), "an operator");
    let rows = http(&url, "/v1/rows?query=SELECT%20id%20FROM%20calls", "").await;
    assert!(rows.starts_with("http/1.1 404"), "{rows}");

    let upgrade = "Connection: Upgrade\r\nUpgrade: websocket\r\nSec-WebSocket-Version: 13\r\n\
                   Sec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==\r\n";
    for (origin, status) in [("https://app.example", 101), ("https://evil.example", 403), ("null", 403)] {
        let answer = http(&url, "/v1/socket", &format!("{upgrade}Origin: {origin}\r\n")).await;
        assert!(answer.starts_with(&format!("http/1.1 {status}")), "{origin}: {answer}");
        let answer = http(&url, "/v1/rows", &format!("Origin: {origin}\r\n")).await;
        let told = answer.contains("access-control-allow-origin: https://app.example\r\n");
        assert_eq!(told, status == 101, "{origin}: {answer}");
    }
    strict.stop().await;
    c.stop().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_handshake_that_is_none_is_told_so_and_the_protocol_is_named() {
    let c = cluster(QueueLimits::default()).await;
    let ask = async |head: &str| http(&c.url(0), "/v1/socket", head).await;
    let key = "Sec-WebSocket-Key: AAAAAAAAAAAAAAAAAAAAAA==\r\n";
    let upgrade = "Connection: keep-alive, Upgrade\r\nUpgrade: websocket\r\n";
    for bad in [
        String::new(),
        format!("{upgrade}Sec-WebSocket-Version: 13\r\n"),
        format!("{upgrade}{key}Sec-WebSocket-Version: 8\r\n"),
    ] {
        let answer = ask(&bad).await;
        assert!(answer.starts_with("http/1.1 400"), "{bad}: {answer}");
    }
    let good = format!("{upgrade}{key}Sec-WebSocket-Version: 13\r\nSec-WebSocket-Protocol: other, gossip.v1\r\n");
    let answer = ask(&good).await;
    assert!(answer.starts_with("http/1.1 101") && answer.contains("sec-websocket-protocol: gossip.v1\r\n"), "{answer}");
    c.stop().await;
}
