//! The scale over a WebSocket (RFC 6455): it answers what it is asked, and sends its readings.

use crate::readings::reading;
use axum::body::{Body, Bytes};
use axum::extract::{Query, Request};
use axum::http::header::{
    CONNECTION, HeaderName, SEC_WEBSOCKET_ACCEPT, SEC_WEBSOCKET_KEY, SEC_WEBSOCKET_PROTOCOL, SEC_WEBSOCKET_VERSION,
    UPGRADE,
};
use axum::http::{HeaderValue, Response, StatusCode};
use axum::response::IntoResponse;
use futures_util::{SinkExt, StreamExt};
use hyper::upgrade::Upgraded;
use hyper_util::rt::TokioIo;
use serde::Deserialize;
use serde_json::{Value, json};
use tokio_tungstenite::WebSocketStream;
use tokio_tungstenite::tungstenite::handshake::derive_accept_key;
use tokio_tungstenite::tungstenite::protocol::{CloseFrame, Role};
use tokio_tungstenite::tungstenite::{Error, Message};

/// A conversation that is open.
type WebSocket = WebSocketStream<TokioIo<Upgraded>>;

/// The protocol of its messages.
const PROTOCOL: &str = "scale.v1";

/// How a test wants it to behave.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct Wanted {
    /// Whether it sends back what it is sent, and nothing else.
    echo: bool,
}

/// Opens the conversation (RFC 6455 4.2).
pub(crate) async fn open(Query(wanted): Query<Wanted>, mut request: Request) -> Response<Body> {
    let field =
        |name: HeaderName| request.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let is_upgrade = field(UPGRADE).eq_ignore_ascii_case("websocket")
        && field(CONNECTION).to_ascii_lowercase().contains("upgrade")
        && field(SEC_WEBSOCKET_VERSION) == "13";
    let accepted = HeaderValue::from_str(&derive_accept_key(field(SEC_WEBSOCKET_KEY).as_bytes()));
    let speaks = field(SEC_WEBSOCKET_PROTOCOL).split(',').any(|known| known.trim() == PROTOCOL);
    let (true, Ok(accepted)) = (is_upgrade, accepted) else {
        return (StatusCode::UPGRADE_REQUIRED, [(UPGRADE, "websocket")]).into_response();
    };
    let upgrade = hyper::upgrade::on(&mut request);
    tokio::spawn(async move {
        let Ok(upgraded) = upgrade.await else { return };
        let socket = WebSocketStream::from_raw_socket(TokioIo::new(upgraded), Role::Server, None).await;
        // Whoever hangs up has nothing more to say.
        let _ = if wanted.echo { echo(socket).await } else { talk(socket).await };
    });
    let mut response = StatusCode::SWITCHING_PROTOCOLS.into_response();
    let headers = response.headers_mut();
    headers.insert(CONNECTION, HeaderValue::from_static("upgrade"));
    headers.insert(UPGRADE, HeaderValue::from_static("websocket"));
    headers.insert(SEC_WEBSOCKET_ACCEPT, accepted);
    if speaks {
        headers.insert(SEC_WEBSOCKET_PROTOCOL, HeaderValue::from_static(PROTOCOL));
    }
    response
}

async fn echo(mut socket: WebSocket) -> Result<(), Error> {
    while let Some(Ok(message)) = socket.next().await {
        if matches!(message, Message::Text(_) | Message::Binary(_)) {
            socket.send(message).await?;
        }
    }
    Ok(())
}

/// `{"want": "readings", "count": N}` is answered by so many readings, `{"want": "tare"}` by the new zero, `{"want": "photo"}` by bytes,
/// `{"want": "end"}` by the end.
async fn talk(mut socket: WebSocket) -> Result<(), Error> {
    socket.send(text(&json!({ "scale": 3, "ready": true }))).await?;
    while let Some(Ok(message)) = socket.next().await {
        let asked = match &message {
            Message::Text(text) => serde_json::from_str::<Value>(text).unwrap_or_default(),
            Message::Binary(bytes) => {
                socket.send(text(&json!({ "received": bytes.len() }))).await?;
                continue;
            }
            _ => continue,
        };
        match asked["want"].as_str() {
            Some("readings") => {
                for number in 1..=asked["count"].as_u64().unwrap_or(3).min(100_000) {
                    socket.send(text(&reading(number))).await?;
                }
            }
            Some("tare") => socket.send(text(&json!({ "zero": asked["kg"], "of": asked["of"] }))).await?,
            Some("photo") => socket.send(Message::Binary(Bytes::from_static(&[0x89, b'P', 0, 1]))).await?,
            Some("end") => {
                let reason = "the shift is over".into();
                return socket.send(Message::Close(Some(CloseFrame { code: 1001.into(), reason }))).await;
            }
            _ => socket.send(text(&json!({ "error": "unknown" }))).await?,
        }
    }
    Ok(())
}

fn text(value: &Value) -> Message {
    Message::Text(value.to_string().into())
}
