//! Messages to the client, and the responses that the server waits for.

use crate::capabilities::ClientCapabilities;
use crate::uri::address_of;
use crate::wire;
use crate::wire::{ResponseError, notification, request, response};
use serde_json::{Value, json};
use std::collections::HashMap;
use std::path::Path;
use std::sync::mpsc::Sender;

/// A callback for the client's response to a request of the server `S`.
pub(crate) type OnReply<S> = Box<dyn FnOnce(&mut S, Option<Value>) + Send>;

/// The kinds of a `window/showMessage`.
#[derive(Clone, Copy)]
pub(crate) enum MessageKind {
    Error = 1,
    Warning = 2,
    Info = 3,
}

/// The way to the client.
pub(crate) struct Connection<S> {
    out: Sender<String>,
    last_id: i64,
    waiting: HashMap<i64, OnReply<S>>,
}

impl<S> Connection<S> {
    pub(crate) fn new(out: Sender<String>) -> Self {
        Self { out, last_id: 0, waiting: HashMap::new() }
    }

    /// Answers a request of the client.
    pub(crate) fn respond(&self, id: &Value, outcome: Result<wire::Reply, ResponseError>) {
        self.send(response(id, outcome));
    }

    /// Sends a request to the client.
    pub(crate) fn ask(
        &mut self,
        method: &str,
        params: Value,
        reply: impl FnOnce(&mut S, Option<Value>) + Send + 'static,
    ) {
        self.last_id += 1;
        self.waiting.insert(self.last_id, Box::new(reply));
        self.send(request(self.last_id, method, params).to_string());
    }

    /// Removes the callback for a response to a request of the server.
    pub(crate) fn take_reply(&mut self, id: &Value) -> Option<OnReply<S>> {
        id.as_i64().and_then(|id| self.waiting.remove(&id))
    }

    /// Notifies the client.
    pub(crate) fn notify(&self, method: &str, params: Value) {
        self.send(notification(method, params).to_string());
    }

    /// Shows a message to the user.
    pub(crate) fn show_message(&self, kind: MessageKind, message: &str) {
        self.notify("window/showMessage", json!({ "type": kind as u8, "message": message }));
    }

    /// Shows a file beside the one that is edited; a client that cannot is given a message that begins with `otherwise`.
    pub(crate) fn show_file(&mut self, client: ClientCapabilities, file: &Path, focus: bool, otherwise: &str) {
        let uri = address_of(file);
        match client.shows_documents {
            true => self.ask("window/showDocument", json!({ "uri": uri, "takeFocus": focus }), |_, _| {}),
            false => self.show_message(MessageKind::Info, &format!("{otherwise}: {}", file.display())),
        }
    }

    /// Opens a web page in the browser, if the client can.
    pub(crate) fn open_page(&mut self, client: ClientCapabilities, url: &str) {
        if client.shows_documents {
            self.ask("window/showDocument", json!({ "uri": url, "external": true }), |_, _| {});
        }
    }

    fn send(&self, message: String) {
        // A client that is gone is noticed where its messages are read.
        let _ = self.out.send(message);
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::mpsc::channel;

    #[test]
    fn a_reply_goes_to_the_request_it_is_for_and_only_once() {
        let (out, sent) = channel();
        let mut connection = Connection::<Vec<String>>::new(out);
        for name in ["first", "second"] {
            connection.ask("yieldtray/ask", json!({ "name": name }), move |answers, reply| {
                answers.push(format!("{name}: {}", reply.unwrap_or_default()));
            });
        }
        let requests: Vec<Value> = sent.try_iter().map(|text| serde_json::from_str(&text).expect("JSON")).collect();
        assert_eq!(requests[1]["params"], json!({ "name": "second" }));
        let mut answers = Vec::new();
        for (id, reply) in [(&requests[1]["id"], Some(json!("L-1"))), (&requests[0]["id"], None)] {
            connection.take_reply(id).expect("it is awaited")(&mut answers, reply);
            assert!(connection.take_reply(id).is_none(), "a second reply is ignored");
        }
        assert_eq!(answers, ["second: \"L-1\"", "first: null"]);
        for unknown in [json!(99), json!("1"), Value::Null] {
            assert!(connection.take_reply(&unknown).is_none(), "{unknown}");
        }
    }

    #[test]
    fn a_client_that_shows_no_documents_is_told_where_the_file_is() {
        let (out, sent) = channel();
        let mut connection = Connection::<()>::new(out);
        let file = Path::new("/w/answer.http");
        for shows_documents in [true, false] {
            let client = ClientCapabilities { shows_documents, ..ClientCapabilities::default() };
            connection.show_file(client, file, false, "the response is in this file");
        }
        let messages: Vec<Value> = sent.try_iter().map(|text| serde_json::from_str(&text).expect("JSON")).collect();
        assert_eq!(messages[0]["method"], "window/showDocument");
        assert_eq!(messages[0]["params"], json!({ "uri": "file:///w/answer.http", "takeFocus": false }));
        let message = "the response is in this file: /w/answer.http";
        assert_eq!(messages[1]["params"], json!({ "type": 3, "message": message }));
    }

    #[test]
    fn messages_to_a_client_that_is_gone_are_dropped() {
        let (out, sent) = channel();
        drop(sent);
        let mut connection = Connection::<()>::new(out);
        connection.show_message(MessageKind::Error, "nobody reads this");
        connection.ask("workspace/applyEdit", json!({}), |(), _| {});
    }
}
