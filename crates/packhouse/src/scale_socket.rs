//! The scale over a WebSocket (RFC 6455): it answers what it is asked, and sends its readings.

use crate::readings::reading;
use axum::body::{Body, Bytes};
use axum::extract::Query;
use axum::extract::ws::{CloseFrame, Message, WebSocket, WebSocketUpgrade};
use axum::http::Response;
use serde::Deserialize;
use serde_json::{Value, json};

/// How a test wants it to behave.
#[derive(Debug, Default, Deserialize)]
#[serde(default)]
pub(crate) struct Wanted {
    /// Whether it sends back what it is sent, and nothing else.
    echo: bool,
}

/// Opens the conversation.
pub(crate) async fn open(Query(wanted): Query<Wanted>, upgrade: WebSocketUpgrade) -> Response<Body> {
    upgrade.protocols(["scale.v1"]).on_upgrade(move |socket| async move {
        // Whoever hangs up has nothing more to say.
        let _ = if wanted.echo { echo(socket).await } else { talk(socket).await };
    })
}

async fn echo(mut socket: WebSocket) -> Result<(), axum::Error> {
    while let Some(Ok(message)) = socket.recv().await {
        if matches!(message, Message::Text(_) | Message::Binary(_)) {
            socket.send(message).await?;
        }
    }
    Ok(())
}

/// `{"want": "readings", "count": N}` is answered by so many readings, `{"want": "tare"}` by the new zero, `{"want": "photo"}` by bytes,
/// `{"want": "end"}` by the end.
async fn talk(mut socket: WebSocket) -> Result<(), axum::Error> {
    socket.send(text(&json!({ "scale": 3, "ready": true }))).await?;
    while let Some(Ok(message)) = socket.recv().await {
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
                return socket.send(Message::Close(Some(CloseFrame { code: 1001, reason }))).await;
            }
            _ => socket.send(text(&json!({ "error": "unknown" }))).await?,
        }
    }
    Ok(())
}

fn text(value: &Value) -> Message {
    Message::Text(value.to_string().into())
}
