//! From an HTTP request to a WebSocket (RFC 6455): the handshake, and the socket behind the HTTP server.
//!
//! Reading is the WebSocket crate's, frame by frame. What it answers by itself (pongs, the echo of a close) goes into
//! the client's outbox, because that alone writes: see [`crate::outbox`].

use std::io;
use std::pin::Pin;
use std::sync::Arc;
use std::task::{Context, Poll, ready};

use axum::body::Body;
use axum::extract::Request;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use bytes::Bytes;
use gossip_protocol::SUBPROTOCOL;
use hyper_util::rt::TokioIo;
use tokio::io::{AsyncRead, AsyncWrite, ReadBuf};
use tokio::net::TcpStream;
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::handshake::server::create_response_with_body;
use tokio_tungstenite::tungstenite::protocol::{Role, WebSocketConfig};

use crate::node::Client;

/// Longest message that is read, in bytes. A longer one ends the connection with 1009.
pub const MAX_MESSAGE: usize = 256 * 1024;

/// What a client sends.
pub type Calls = WebSocketStream<ReadSide>;

/// A client's socket to read from. What is written to it is queued in the client's outbox.
pub struct ReadSide {
    /// The socket.
    pub tcp: Arc<TcpStream>,
    client: Arc<Client>,
}

impl AsyncRead for ReadSide {
    fn poll_read(self: Pin<&mut Self>, cx: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        loop {
            ready!(self.tcp.poll_read_ready(cx))?;
            match self.tcp.try_read(buffer.initialize_unfilled()) {
                Ok(n) => {
                    buffer.advance(n);
                    return Poll::Ready(Ok(()));
                }
                Err(e) if e.kind() == io::ErrorKind::WouldBlock => {}
                Err(e) => return Poll::Ready(Err(e)),
            }
        }
    }
}

impl AsyncWrite for ReadSide {
    fn poll_write(self: Pin<&mut Self>, _: &mut Context<'_>, bytes: &[u8]) -> Poll<io::Result<usize>> {
        // The crate hands over whole frames, and everything is taken.
        self.client.outbox.push(Bytes::copy_from_slice(bytes));
        Poll::Ready(Ok(bytes.len()))
    }

    fn poll_flush(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }

    fn poll_shutdown(self: Pin<&mut Self>, _: &mut Context<'_>) -> Poll<io::Result<()>> {
        Poll::Ready(Ok(()))
    }
}

/// Answers a handshake. `serve` gets the socket once the answer is on its way.
pub fn upgrade<F>(
    mut request: Request,
    client: Arc<Client>,
    serve: impl FnOnce(Calls) -> F + Send + 'static,
) -> Response
where
    F: Future<Output = ()> + Send + 'static,
{
    let mut response = match create_response_with_body(&request, Body::empty) {
        Ok(response) => response,
        Err(e) => {
            return (StatusCode::BAD_REQUEST, format!("a WebSocket (RFC 6455) is expected here: {e}\n"))
                .into_response();
        }
    };
    let offered = request.headers().get_all(header::SEC_WEBSOCKET_PROTOCOL).iter();
    let mut offered = offered.filter_map(|v| v.to_str().ok()).flat_map(|v| v.split(','));
    if offered.any(|name| name.trim() == SUBPROTOCOL) {
        let chosen = HeaderValue::from_static(SUBPROTOCOL);
        response.headers_mut().insert(header::SEC_WEBSOCKET_PROTOCOL, chosen);
    }
    let upgraded = hyper::upgrade::on(&mut request);
    tokio::spawn(async move {
        let Ok(upgraded) = upgraded.await else { return };
        // Over anything but plain TCP, this would need to know how to write to it.
        let Ok(parts) = upgraded.downcast::<TokioIo<TcpStream>>() else {
            tracing::error!("a socket that is not TCP cannot be served");
            return;
        };
        let tcp = Arc::new(parts.io.into_inner());
        client.outbox.open(tcp.clone());
        let config = WebSocketConfig::default()
            .max_message_size(Some(MAX_MESSAGE))
            .max_frame_size(Some(MAX_MESSAGE))
            // The crate clears this much before every attempt to read; calls are short.
            .read_buffer_size(4 * 1024)
            // Nothing but control frames is written through it.
            .write_buffer_size(0);
        let read_side = ReadSide { tcp, client };
        let begun = parts.read_buf.to_vec();
        serve(WebSocketStream::from_partially_read(read_side, begun, Role::Server, Some(config)).await).await;
    });
    response
}
