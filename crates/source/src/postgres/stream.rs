//! A streaming replication connection: frames of the PostgreSQL protocol over a socket that is read by one thread.
//!
//! Authentication and framing are `postgres-protocol`'s; the replication messages inside of `CopyBoth` are read here
//! (PostgreSQL documentation, "Streaming Replication Protocol"). Reading goes through one large buffer, so that under
//! load many messages cost one system call.

use std::io::{ErrorKind, Read, Write};
use std::net::{TcpStream, ToSocketAddrs};
use std::os::unix::net::UnixStream;
use std::sync::Arc;
use std::time::{Duration, Instant};

use bytes::{Buf, Bytes, BytesMut};
use fallible_iterator::FallibleIterator;
use postgres_protocol::authentication::{md5_hash, sasl};
use postgres_protocol::message::backend::{ErrorResponseBody, Message};
use postgres_protocol::message::frontend;
use rustls::{ClientConnection, StreamOwned};
use socket2::{SockRef, TcpKeepalive};

use super::address::{Address, SslMode};
use super::connect::{GONE, KEEPALIVE, PINNED};
use super::pgoutput::Lsn;
use super::tls;
use crate::{Result, SourceError};

/// Bytes that are read at a time, at most.
const READ: usize = 256 << 10;

/// A frame beyond this is refused: no row can be larger, however many columns.
const MAX_FRAME: usize = 1 << 30;

/// The server ends the connection if it hears nothing from us for so long.
const WAL_SENDER_TIMEOUT: Duration = Duration::from_secs(30);

/// A server that is silent for so long, although a reply is requested twice a second, counts as lost.
const SILENCE: Duration = Duration::from_secs(10);

/// Microseconds from 1970 to 2000, where the server's clock begins.
pub const EPOCH: i64 = 946_684_800_000_000;

enum Io {
    Tcp(TcpStream),
    Unix(UnixStream),
    Tls(Box<StreamOwned<ClientConnection, TcpStream>>),
}

impl Io {
    fn set_read_timeout(&self, timeout: Duration) -> std::io::Result<()> {
        // Zero would mean for ever.
        let timeout = Some(timeout.max(Duration::from_millis(1)));
        match self {
            Io::Tcp(s) => s.set_read_timeout(timeout),
            Io::Unix(s) => s.set_read_timeout(timeout),
            Io::Tls(s) => s.sock.set_read_timeout(timeout),
        }
    }
}

impl Read for Io {
    fn read(&mut self, buf: &mut [u8]) -> std::io::Result<usize> {
        match self {
            Io::Tcp(s) => s.read(buf),
            Io::Unix(s) => s.read(buf),
            Io::Tls(s) => s.read(buf),
        }
    }
}

impl Write for Io {
    fn write(&mut self, buf: &[u8]) -> std::io::Result<usize> {
        match self {
            Io::Tcp(s) => s.write(buf),
            Io::Unix(s) => s.write(buf),
            Io::Tls(s) => s.write(buf),
        }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        match self {
            Io::Tcp(s) => s.flush(),
            Io::Unix(s) => s.flush(),
            Io::Tls(s) => s.flush(),
        }
    }
}

/// What the server says while it streams.
#[derive(Clone, Debug)]
pub enum Event {
    /// A message of the output plugin.
    Data(Bytes),
    /// Everything up to here has been sent.
    Keepalive {
        /// The place in the log.
        sent: Lsn,
        /// Whether the server wants an answer at once.
        answer: bool,
    },
}

/// What the server says it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct System {
    /// The cluster's number, given when it was made.
    pub id: u64,
    /// Its line of history; a new one begins when a standby takes over.
    pub timeline: u32,
    /// Where its log ends.
    pub end: Lsn,
    /// The database.
    pub database: String,
}

/// Why the server refused.
#[derive(Clone, Debug)]
pub struct Refused {
    /// SQLSTATE.
    pub code: String,
    /// The server's words.
    pub message: String,
}

/// A connection that streams changes.
pub struct Stream {
    io: Io,
    buffer: BytesMut,
    chunk: Box<[u8]>,
    timeout: Duration,
    place: String,
    /// The server's version, as `150004`; 0 if it is not known.
    pub version: u32,
    /// For how long nothing has come although it was waited for.
    silent: Duration,
}

impl std::fmt::Debug for Stream {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Stream").field("place", &self.place).finish_non_exhaustive()
    }
}

fn parse_lsn(text: &str) -> Option<Lsn> {
    let (high, low) = text.split_once('/')?;
    Some(u64::from_str_radix(high, 16).ok()? << 32 | u64::from_str_radix(low, 16).ok()?)
}

/// A place in the log as the server writes it.
pub fn show_lsn(lsn: Lsn) -> String {
    format!("{:X}/{:X}", lsn >> 32, lsn & 0xffff_ffff)
}

impl Stream {
    /// Connects and authenticates.
    ///
    /// # Errors
    /// The server cannot be reached in time, or refuses.
    pub fn connect(address: &Address) -> Result<Stream> {
        match address.ssl {
            SslMode::Allow => {
                Stream::attempt(address, false).or_else(|first| Stream::attempt(address, true).map_err(|_| first))
            }
            SslMode::Disable => Stream::attempt(address, false),
            _ => Stream::attempt(address, !address.is_unix()),
        }
    }

    fn attempt(address: &Address, secure: bool) -> Result<Stream> {
        let fail = |problem: String| SourceError::Open { path: address.place(), problem };
        let io = if address.is_unix() {
            Io::Unix(UnixStream::connect(address.socket()).map_err(|e| fail(e.to_string()))?)
        } else {
            let tcp = connect_tcp(address).map_err(|e| fail(e.to_string()))?;
            if secure { secured(address, tcp)? } else { Io::Tcp(tcp) }
        };
        let mut stream = Stream {
            io,
            buffer: BytesMut::new(),
            chunk: vec![0; READ].into(),
            timeout: Duration::ZERO,
            place: address.place(),
            version: 0,
            silent: Duration::ZERO,
        };
        stream.wait_up_to(address.connect_timeout)?;
        stream.authenticate(address)?;
        Ok(stream)
    }

    fn lost(&self, problem: impl ToString) -> SourceError {
        SourceError::Lost { place: self.place.clone(), problem: problem.to_string() }
    }

    fn refused(&self, refused: Refused) -> SourceError {
        SourceError::Open { path: self.place.clone(), problem: refused.message }
    }

    fn start_up(&mut self, address: &Address) -> Result<()> {
        let timeout = WAL_SENDER_TIMEOUT.as_millis().to_string();
        let mut parameters = vec![
            ("user", address.user.as_str()),
            ("database", &address.database),
            ("replication", "database"),
            ("application_name", &address.application_name),
            ("wal_sender_timeout", &timeout),
        ];
        parameters.extend(PINNED);
        let mut out = BytesMut::new();
        frontend::startup_message(parameters, &mut out).map_err(|e| self.lost(e))?;
        self.send(&out)
    }

    fn authenticate(&mut self, address: &Address) -> Result<()> {
        self.start_up(address)?;
        let need_password = || SourceError::Open {
            path: address.place(),
            problem: "the server asks for a password; give it with PGPASSWORD or a password file".into(),
        };
        let mut scram: Option<sasl::ScramSha256> = None;
        loop {
            let mut out = BytesMut::new();
            let password = address.password.as_deref();
            match self.message()? {
                Message::AuthenticationOk | Message::NoticeResponse(_) | Message::BackendKeyData(_) => {}
                Message::AuthenticationCleartextPassword => {
                    frontend::password_message(password.ok_or_else(need_password)?.as_bytes(), &mut out)
                        .map_err(|e| self.lost(e))?;
                }
                Message::AuthenticationMd5Password(body) => {
                    let password = password.ok_or_else(need_password)?;
                    let hash = md5_hash(address.user.as_bytes(), password.as_bytes(), body.salt());
                    frontend::password_message(hash.as_bytes(), &mut out).map_err(|e| self.lost(e))?;
                }
                Message::AuthenticationSasl(body) => {
                    let password = password.ok_or_else(need_password)?;
                    let offered: Vec<String> =
                        body.mechanisms().map(|m| Ok(m.to_string())).collect().map_err(|e| self.lost(e))?;
                    if !offered.iter().any(|m| m == sasl::SCRAM_SHA_256) {
                        let problem = format!("the server offers only {} to authenticate", offered.join(", "));
                        return Err(SourceError::Open { path: self.place.clone(), problem });
                    }
                    let begun = sasl::ScramSha256::new(password.as_bytes(), sasl::ChannelBinding::unsupported());
                    frontend::sasl_initial_response(sasl::SCRAM_SHA_256, begun.message(), &mut out)
                        .map_err(|e| self.lost(e))?;
                    scram = Some(begun);
                }
                Message::AuthenticationSaslContinue(body) => {
                    let scram = scram.as_mut().ok_or_else(|| self.lost("an unexpected answer"))?;
                    scram.update(body.data()).map_err(|e| self.lost(e))?;
                    frontend::sasl_response(scram.message(), &mut out).map_err(|e| self.lost(e))?;
                }
                Message::AuthenticationSaslFinal(body) => {
                    let scram = scram.as_mut().ok_or_else(|| self.lost("an unexpected answer"))?;
                    scram.finish(body.data()).map_err(|e| self.lost(e))?;
                }
                Message::ParameterStatus(body) => {
                    if body.name().is_ok_and(|n| n == "server_version") {
                        self.version = body.value().ok().map_or(0, version_number);
                    }
                }
                Message::ReadyForQuery(_) => return Ok(()),
                Message::ErrorResponse(body) => return Err(self.refused(error_of(&body))),
                _ => return Err(self.lost("a way to authenticate that is not supported; use scram-sha-256")),
            }
            if !out.is_empty() {
                self.send(&out)?;
            }
        }
    }

    fn send(&mut self, bytes: &[u8]) -> Result<()> {
        self.io.write_all(bytes).and_then(|()| self.io.flush()).map_err(|e| self.lost(e))
    }

    fn wait_up_to(&mut self, timeout: Duration) -> Result<()> {
        if timeout != self.timeout {
            self.io.set_read_timeout(timeout).map_err(|e| self.lost(e))?;
            self.timeout = timeout;
        }
        Ok(())
    }

    /// Reads what is there; `false` if nothing came in time.
    fn fill(&mut self) -> Result<bool> {
        match self.io.read(&mut self.chunk) {
            Ok(0) => Err(self.lost("the server has closed it")),
            Ok(n) => {
                self.buffer.extend_from_slice(&self.chunk[..n]);
                Ok(true)
            }
            Err(e) if matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => Ok(false),
            Err(e) if e.kind() == ErrorKind::Interrupted => Ok(false),
            Err(e) => Err(self.lost(e)),
        }
    }

    /// The next message before streaming begins.
    fn message(&mut self) -> Result<Message> {
        loop {
            if let Some(message) = Message::parse(&mut self.buffer).map_err(|e| self.lost(e))? {
                return Ok(message);
            }
            if !self.fill()? {
                return Err(self.lost("no answer in time"));
            }
        }
    }

    /// Runs one replication command and returns its rows.
    fn query(&mut self, sql: &str) -> Result<std::result::Result<Vec<Vec<Option<String>>>, Refused>> {
        let mut out = BytesMut::new();
        frontend::query(sql, &mut out).map_err(|e| self.lost(e))?;
        self.send(&out)?;
        let (mut rows, mut refused) = (Vec::new(), None);
        loop {
            match self.message()? {
                Message::DataRow(body) => {
                    let text = |r: Option<std::ops::Range<usize>>| {
                        Ok(r.map(|r| String::from_utf8_lossy(&body.buffer()[r]).into_owned()))
                    };
                    rows.push(body.ranges().map(text).collect().map_err(|e| self.lost(e))?);
                }
                Message::ErrorResponse(body) => refused = Some(error_of(&body)),
                Message::ReadyForQuery(_) => return Ok(refused.map_or(Ok(rows), Err)),
                _ => {}
            }
        }
    }

    /// Asks the server what it is.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn identify(&mut self) -> Result<System> {
        let rows = self.query("IDENTIFY_SYSTEM")?.map_err(|e| self.refused(e))?;
        let field = |i: usize| rows.first().and_then(|r| r.get(i)).and_then(Option::as_deref);
        let system = || {
            Some(System {
                id: field(0)?.parse().ok()?,
                timeline: field(1)?.parse().ok()?,
                end: parse_lsn(field(2)?)?,
                database: field(3)?.to_string(),
            })
        };
        system().ok_or_else(|| SourceError::Protocol("an answer to IDENTIFY_SYSTEM that says too little".into()))
    }

    /// Begins to stream from the slot's own position. The inner error is the server's refusal.
    ///
    /// # Errors
    /// The slot cannot be read from.
    pub fn start(&mut self, slot: &str, publications: &[&str]) -> Result<std::result::Result<(), Refused>> {
        let names: Vec<String> = publications.iter().map(|p| super::connect::quote(p)).collect();
        // Applications' own messages are wanted for the ones that we write to get past a place in the log.
        let messages = if self.version >= 140_000 { ", messages 'true'" } else { "" };
        let sql = format!(
            "START_REPLICATION SLOT {} LOGICAL 0/0 (proto_version '1', publication_names {}{messages})",
            super::connect::quote(slot),
            super::connect::literal(&names.join(",")),
        );
        let mut out = BytesMut::new();
        frontend::query(&sql, &mut out).map_err(|e| self.lost(e))?;
        self.send(&out)?;
        let mut refused = None;
        loop {
            // The driver's crate does not know the answer that begins a stream.
            match self.frame()? {
                Some((b'W', _)) => return Ok(Ok(())),
                Some((b'E', body)) => refused = Some(error_fields(&body)),
                Some((b'Z', _)) => {
                    let none = || Refused { code: String::new(), message: "the server did not begin to stream".into() };
                    return Ok(Err(refused.unwrap_or_else(none)));
                }
                Some(_) => {}
                None => {
                    if !self.fill()? {
                        return Err(self.lost("no answer in time"));
                    }
                }
            }
        }
    }

    /// Takes a whole frame out of the buffer, if one is there.
    fn frame(&mut self) -> Result<Option<(u8, Bytes)>> {
        let Some(head) = self.buffer.get(..5) else { return Ok(None) };
        let tag = head[0];
        let length = u32::from_be_bytes([head[1], head[2], head[3], head[4]]) as usize;
        if !(4..=MAX_FRAME).contains(&length) {
            return Err(SourceError::Protocol(format!("a frame of {length} bytes")));
        }
        if self.buffer.len() < length + 1 {
            self.buffer.reserve(length + 1 - self.buffer.len());
            return Ok(None);
        }
        let mut frame = self.buffer.split_to(length + 1).freeze();
        frame.advance(5);
        Ok(Some((tag, frame)))
    }

    /// The next event, if one is in the buffer already.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn buffered(&mut self) -> Result<Option<Event>> {
        loop {
            let Some((tag, mut body)) = self.frame()? else { return Ok(None) };
            let short = || SourceError::Protocol("a replication message that is cut short".into());
            match tag {
                b'd' => match body.first() {
                    Some(b'w') if body.len() >= 25 => {
                        body.advance(25);
                        return Ok(Some(Event::Data(body)));
                    }
                    Some(b'k') if body.len() >= 18 => {
                        body.advance(1);
                        let sent = body.get_u64();
                        body.advance(8);
                        return Ok(Some(Event::Keepalive { sent, answer: body.get_u8() == 1 }));
                    }
                    _ => return Err(short()),
                },
                b'E' => return Err(self.lost(error_fields(&body).message)),
                b'c' => return Err(self.lost("the server has ended the stream")),
                _ => {}
            }
        }
    }

    /// The next event; `None` if none comes within about `longest`.
    ///
    /// # Errors
    /// The connection is lost, or what the server says.
    pub fn next(&mut self, longest: Duration) -> Result<Option<Event>> {
        let end = Instant::now() + longest;
        loop {
            if let Some(event) = self.buffered()? {
                return Ok(Some(event));
            }

            let left = end.saturating_duration_since(Instant::now());
            if left.is_zero() {
                return Ok(None);
            }
            self.wait_up_to(left.max(Duration::from_millis(1)))?;
            let begun = Instant::now();
            if self.fill()? {
                self.silent = Duration::ZERO;
                continue;
            }
            // Only while it is listened to: meanwhile it is asked again and again to say something.
            self.silent += begun.elapsed();
            if self.silent > SILENCE {
                return Err(self.lost(format!("the server has said nothing for {} s", SILENCE.as_secs())));
            }
        }
    }

    /// Tells the server up to where its log is no longer needed by us, and whether we want an answer.
    ///
    /// # Errors
    /// The connection is lost.
    pub fn status(&mut self, done: Lsn, answer: bool) -> Result<()> {
        let mut body = Vec::with_capacity(39);
        body.push(b'd');
        body.extend(38u32.to_be_bytes());
        body.push(b'r');
        (0..3).for_each(|_| body.extend(done.to_be_bytes()));
        body.extend((crate::now() - EPOCH).to_be_bytes());
        body.push(u8::from(answer));
        self.send(&body)
    }
}

fn connect_tcp(address: &Address) -> std::io::Result<TcpStream> {
    let mut last = std::io::Error::new(ErrorKind::NotFound, "the host has no address");
    for at in (address.host.as_str(), address.port).to_socket_addrs()? {
        match TcpStream::connect_timeout(&at, address.connect_timeout) {
            Ok(tcp) => {
                tcp.set_nodelay(true)?;
                let keepalive = TcpKeepalive::new().with_time(KEEPALIVE).with_interval(KEEPALIVE / 2).with_retries(4);
                SockRef::from(&tcp).set_tcp_keepalive(&keepalive)?;
                SockRef::from(&tcp).set_tcp_user_timeout(Some(GONE))?;
                tcp.set_write_timeout(Some(WAL_SENDER_TIMEOUT))?;
                return Ok(tcp);
            }
            Err(e) => last = e,
        }
    }
    Err(last)
}

/// Asks for TLS and begins it, or goes on without where that is allowed.
fn secured(address: &Address, mut tcp: TcpStream) -> Result<Io> {
    let fail = |problem: String| SourceError::Open { path: address.place(), problem };
    let mut out = BytesMut::new();
    frontend::ssl_request(&mut out);
    let mut answer = [0];
    tcp.set_read_timeout(Some(address.connect_timeout)).map_err(|e| fail(e.to_string()))?;
    tcp.write_all(&out).and_then(|()| tcp.read_exact(&mut answer)).map_err(|e| fail(e.to_string()))?;
    match answer[0] {
        b'S' => {}
        _ if matches!(address.ssl, SslMode::Prefer) => return Ok(Io::Tcp(tcp)),
        _ => return Err(fail("the server does not support TLS, which sslmode asks for".into())),
    }
    let name = address.host.clone().try_into().map_err(|_| fail("the host is not a name that TLS knows".into()))?;
    let config = Arc::new(tls::config(address)?);
    let mut connection = ClientConnection::new(config, name).map_err(|e| fail(e.to_string()))?;
    while connection.is_handshaking() {
        connection.complete_io(&mut tcp).map_err(|e| fail(format!("TLS: {e}")))?;
    }
    Ok(Io::Tls(Box::new(StreamOwned::new(connection, tcp))))
}

/// `15.4 (Debian …)` as 150004.
fn version_number(text: &str) -> u32 {
    let digits = text.split(|c: char| !c.is_ascii_digit() && c != '.').next().unwrap_or("");
    let mut parts = digits.split('.').map(|p| p.parse::<u32>().unwrap_or(0));
    parts.next().unwrap_or(0) * 10_000 + parts.next().unwrap_or(0)
}

fn error_of(body: &ErrorResponseBody) -> Refused {
    let (mut code, mut message) = (String::new(), String::new());
    let mut fields = body.fields();
    while let Ok(Some(field)) = fields.next() {
        let text = String::from_utf8_lossy(field.value_bytes()).into_owned();
        match field.type_() {
            b'C' => code = text,
            b'M' => message = text,
            _ => {}
        }
    }
    Refused { code, message }
}

/// The same from the bytes of a frame.
fn error_fields(body: &[u8]) -> Refused {
    let (mut code, mut message) = (String::new(), String::new());
    for field in body.split(|b| *b == 0).filter(|f| f.len() > 1) {
        let text = String::from_utf8_lossy(&field[1..]).into_owned();
        match field[0] {
            b'C' => code = text,
            b'M' => message = text,
            _ => {}
        }
    }
    Refused { code, message }
}
