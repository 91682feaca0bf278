//! Messages over a WebSocket, one after another, each answered by the same: ours and the bare library's.
//!
//! The bound: 0.7 of the bare library's messages a second.

#![allow(clippy::print_stdout)]

use futures_util::{SinkExt, StreamExt};
use std::sync::Arc;
use std::time::{Duration, Instant};
use tokio::net::TcpStream;
use tokio_tungstenite::tungstenite::Message;
use url::Url;
use yieldtray_http::{MessageData, PreparedRequest};
use yieldtray_packhouse::{Packhouse, Server};
use yieldtray_transport::{Client, NextMessage, Options, Received};

const MESSAGES: usize = 20_000;
const ROUNDS: usize = 7;
const TEXT: &str = "{\"want\":\"readings\",\"count\":3,\"of\":\"T-17\"}";

async fn ours(packhouse: &Packhouse) -> Duration {
    let url = Url::parse(&format!("{}/scale/socket?echo=true", packhouse.base())).expect("a URL");
    let mut request = PreparedRequest::new("GET", url);
    request.conversation = true;
    request.sending.timeout = Duration::from_secs(60);
    let client = Client::new(Options::default());
    let received = client.receive_or_stream(&Arc::new(request), u64::MAX, 0).await.expect("a response");
    let Received::Conversation(mut conversation) = received else { panic!("no conversation") };
    let began = Instant::now();
    for _ in 0..MESSAGES {
        conversation.say(MessageData::Text(TEXT.to_owned())).await.expect("it is sent");
        let next = conversation.next(Some(Duration::from_secs(60))).await.expect("it arrives");
        assert!(matches!(next, NextMessage::Message(_)));
    }
    let took = began.elapsed();
    conversation.finish().await;
    took
}

async fn bare(packhouse: &Packhouse) -> Duration {
    let stream = TcpStream::connect(packhouse.address()).await.expect("a connection");
    stream.set_nodelay(true).expect("an option");
    let url = format!("{}/scale/socket?echo=true", packhouse.base().replace("http", "ws"));
    let (mut socket, _) = tokio_tungstenite::client_async(url, stream).await.expect("a handshake");
    let began = Instant::now();
    for _ in 0..MESSAGES {
        socket.send(Message::text(TEXT)).await.expect("it is sent");
        socket.next().await.expect("it arrives").expect("a message");
    }
    began.elapsed()
}

fn main() {
    let packhouse = Packhouse::start(Server::Local).expect("a packhouse");
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().expect("a runtime");
    let (mut own, mut other) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        own.push(runtime.block_on(ours(&packhouse)));
        other.push(runtime.block_on(bare(&packhouse)));
    }
    own.sort();
    other.sort();
    let (own, other) = (own[ROUNDS / 2], other[ROUNDS / 2]);
    let rate = |took: Duration| MESSAGES as f64 / took.as_secs_f64();
    println!("ours  {:>9.0} messages a second", rate(own));
    println!("bare  {:>9.0} messages a second", rate(other));
    println!("ratio {:>9.2} (bound 0.7)", rate(own) / rate(other));
}
