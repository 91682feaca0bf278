//! Bodies that are a stream of events: `text/event-stream` (WHATWG HTML 9.2.6), JSON lines, and JSON text sequences (RFC 7464).

use memchr::memchr2;
use std::time::Duration;

/// The longest event, in bytes: a stream that never ends one must not be held for ever.
pub const MAX_EVENT_BYTES: usize = 16 << 20;

/// How the events of a body are written.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum StreamFormat {
    /// Server-sent events.
    ServerSent,
    /// A JSON text in each line.
    JsonLines,
    /// JSON texts, each after a record separator.
    JsonSequence,
}

impl StreamFormat {
    /// The format of a media type without parameters, in lower case.
    pub fn of(media_type: &str) -> Option<Self> {
        match media_type {
            "text/event-stream" => Some(Self::ServerSent),
            "application/jsonl" | "application/x-ndjson" | "application/x-jsonlines" | "application/jsonlines" => {
                Some(Self::JsonLines)
            }
            "application/json-seq" => Some(Self::JsonSequence),
            _ => None,
        }
    }
}

/// One event of a stream.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct StreamEvent {
    /// The last event ID at that time; empty if there is none.
    pub id: String,
    /// Its type; `message` if nothing else is said. Empty for JSON texts.
    pub name: String,
    /// Its data.
    pub data: String,
    /// When it arrived, after the exchange began; `None` if that is not known.
    pub at: Option<Duration>,
    /// Where it ends in the body, in bytes.
    pub end: u64,
}

/// An event is longer than [`MAX_EVENT_BYTES`].
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TooLong;

/// Reads events from pieces of a body, wherever these are cut.
#[derive(Debug)]
pub struct EventReader {
    format: StreamFormat,
    /// The bytes of a line, or of a text, that is not complete.
    rest: Vec<u8>,
    /// How many bytes were read.
    position: u64,
    /// Whether the last piece ended with a carriage return, to which a line feed may belong.
    after_return: bool,
    is_first_line: bool,
    id: String,
    name: String,
    data: String,
    has_data: bool,
    /// How long to wait before connecting again, if the server said so.
    retry: Option<Duration>,
}

impl EventReader {
    /// A reader of this format.
    pub fn new(format: StreamFormat) -> Self {
        Self {
            format,
            rest: Vec::new(),
            position: 0,
            after_return: false,
            is_first_line: true,
            id: String::new(),
            name: String::new(),
            data: String::new(),
            has_data: false,
            retry: None,
        }
    }

    /// Another one, for the stream that is connected again: the last event ID stays.
    #[must_use]
    pub fn reconnected(&self) -> Self {
        Self { id: self.id.clone(), retry: self.retry, ..Self::new(self.format) }
    }

    /// The last event ID.
    pub fn last_id(&self) -> &str {
        &self.id
    }

    /// How long the server wants a client to wait before it connects again.
    pub fn retry(&self) -> Option<Duration> {
        self.retry
    }

    /// Takes the next bytes and appends the events that they complete.
    ///
    /// # Errors
    /// If an event is too long.
    pub fn read(&mut self, bytes: &[u8], at: Option<Duration>, events: &mut Vec<StreamEvent>) -> Result<(), TooLong> {
        match self.format {
            StreamFormat::JsonSequence => self.read_sequence(bytes, at, events),
            StreamFormat::ServerSent | StreamFormat::JsonLines => self.read_lines(bytes, at, events),
        }
        let held = self.rest.len() + self.data.len();
        if held > MAX_EVENT_BYTES { Err(TooLong) } else { Ok(()) }
    }

    /// The event that the end of the body completes: a JSON text without a line end. An incomplete server-sent event is
    /// discarded (WHATWG HTML 9.2.6).
    pub fn finish(&mut self, at: Option<Duration>) -> Option<StreamEvent> {
        let rest = std::mem::take(&mut self.rest);
        match self.format {
            StreamFormat::ServerSent => None,
            StreamFormat::JsonLines | StreamFormat::JsonSequence => json_event(&rest, at, self.position),
        }
    }

    fn read_lines(&mut self, mut bytes: &[u8], at: Option<Duration>, events: &mut Vec<StreamEvent>) {
        while !bytes.is_empty() {
            if std::mem::take(&mut self.after_return) && bytes[0] == b'\n' {
                self.position += 1;
                bytes = &bytes[1..];
                continue;
            }
            let Some(end) = memchr2(b'\n', b'\r', bytes) else {
                self.position += bytes.len() as u64;
                self.rest.extend_from_slice(bytes);
                return;
            };
            self.position += end as u64 + 1;
            self.after_return = bytes[end] == b'\r';
            let line = &bytes[..end];
            bytes = &bytes[end + 1..];
            if self.rest.is_empty() {
                self.line(line, at, events);
            } else {
                self.rest.extend_from_slice(line);
                let whole = std::mem::take(&mut self.rest);
                self.line(&whole, at, events);
                // Its memory serves the next line.
                self.rest = whole;
                self.rest.clear();
            }
        }
    }

    fn line(&mut self, line: &[u8], at: Option<Duration>, events: &mut Vec<StreamEvent>) {
        if self.format == StreamFormat::JsonLines {
            events.extend(json_event(line, at, self.position));
            return;
        }
        let first = std::mem::take(&mut self.is_first_line);
        let line = if first { line.strip_prefix(b"\xef\xbb\xbf").unwrap_or(line) } else { line };
        if line.is_empty() {
            events.extend(self.dispatch(at));
            return;
        }
        let colon = memchr::memchr(b':', line);
        let (field, value) = match colon {
            // A comment, which keeps a connection alive.
            Some(0) => return,
            Some(colon) => (&line[..colon], &line[colon + 1..]),
            None => (line, &b""[..]),
        };
        let value = String::from_utf8_lossy(value.strip_prefix(b" ").unwrap_or(value));
        match field {
            b"data" => {
                if std::mem::replace(&mut self.has_data, true) {
                    self.data.push('\n');
                }
                self.data.push_str(&value);
            }
            b"event" => self.name = value.into_owned(),
            b"id" if !value.contains('\0') => self.id = value.into_owned(),
            b"retry" if !value.is_empty() && value.bytes().all(|b| b.is_ascii_digit()) => {
                self.retry = value.parse().ok().map(Duration::from_millis);
            }
            _ => {}
        }
    }

    /// The event that an empty line completes; none without data.
    fn dispatch(&mut self, at: Option<Duration>) -> Option<StreamEvent> {
        let (name, data) = (std::mem::take(&mut self.name), std::mem::take(&mut self.data));
        std::mem::take(&mut self.has_data).then(|| {
            let name = if name.is_empty() { "message".to_owned() } else { name };
            StreamEvent { id: self.id.clone(), name, data, at, end: self.position }
        })
    }

    fn read_sequence(&mut self, bytes: &[u8], at: Option<Duration>, events: &mut Vec<StreamEvent>) {
        const SEPARATOR: u8 = 0x1e;
        let mut texts = bytes.split(|byte| *byte == SEPARATOR);
        let first = texts.next().unwrap_or_default();
        self.rest.extend_from_slice(first);
        self.position += first.len() as u64;
        for text in texts {
            events.extend(json_event(&std::mem::take(&mut self.rest), at, self.position));
            self.rest.extend_from_slice(text);
            self.position += text.len() as u64 + 1;
        }
        // A text that ends with a line feed is complete (RFC 7464 2.4): the next separator may be long in coming.
        if self.rest.ends_with(b"\n") {
            events.extend(json_event(&std::mem::take(&mut self.rest), at, self.position));
        }
    }
}

fn json_event(text: &[u8], at: Option<Duration>, end: u64) -> Option<StreamEvent> {
    let text = text.trim_ascii();
    let data = || String::from_utf8_lossy(text).into_owned();
    (!text.is_empty()).then(|| StreamEvent { data: data(), at, end, ..StreamEvent::default() })
}

/// The events of a whole body; `times` are those of their arrival, as far as they are known.
pub fn events_of(format: StreamFormat, body: &[u8], times: &[Duration]) -> Vec<StreamEvent> {
    let (mut reader, mut events) = (EventReader::new(format), Vec::new());
    // An event that is too long was refused on arrival.
    let _ = reader.read(body, None, &mut events);
    events.extend(reader.finish(None));
    for (event, at) in events.iter_mut().zip(times) {
        event.at = Some(*at);
    }
    events
}

#[cfg(test)]
mod tests {
    use super::*;

    const STREAM: &str = "\u{feff}: scale 3\nretry: 40\nid: 7\nevent: reading\ndata: {\"kg\":\ndata:  12.5}\n\ndata: next\r\n\r\n\
                          event: gone\n\nid\ndata\n\nid: 9\rdata: over\r\revent: cut\ndata: of";

    fn events(bytes: &[u8], cut: usize) -> (Vec<StreamEvent>, Option<Duration>, String) {
        let (mut reader, mut events) = (EventReader::new(StreamFormat::ServerSent), Vec::new());
        reader.read(&bytes[..cut], None, &mut events).expect("it is valid");
        reader.read(&bytes[cut..], None, &mut events).expect("it is valid");
        events.extend(reader.finish(None));
        (events, reader.retry(), reader.last_id().to_owned())
    }

    #[test]
    fn server_sent_events_are_read_wherever_the_bytes_are_cut() {
        let event = |id: &str, name: &str, data: &str| StreamEvent {
            id: id.to_owned(),
            name: name.to_owned(),
            data: data.to_owned(),
            at: None,
            end: 0,
        };
        let expected = vec![
            event("7", "reading", "{\"kg\":\n 12.5}"),
            event("7", "message", "next"),
            event("", "message", ""),
            event("9", "message", "over"),
        ];
        for cut in 0..=STREAM.len() {
            let mut found = events(STREAM.as_bytes(), cut);
            // The body up to the end of an event has the events up to it.
            for (index, event) in found.0.iter_mut().enumerate() {
                let until = usize::try_from(std::mem::take(&mut event.end)).expect("it is valid");
                assert_eq!(events_of(StreamFormat::ServerSent, &STREAM.as_bytes()[..until], &[]).len(), index + 1);
            }
            assert_eq!(found, (expected.clone(), Some(Duration::from_millis(40)), "9".to_owned()), "cut at {cut}");
        }
    }

    #[test]
    fn json_texts_are_read_wherever_the_bytes_are_cut() {
        for (format, body) in [
            (StreamFormat::JsonLines, "{\"kg\": 1}\r\n\n[2]\n3"),
            (StreamFormat::JsonSequence, "\u{1e}{\"kg\": 1}\n\u{1e}[2]\u{1e}\u{1e}3"),
        ] {
            for cut in 0..=body.len() {
                let (mut reader, mut events) = (EventReader::new(format), Vec::new());
                for piece in [&body.as_bytes()[..cut], &body.as_bytes()[cut..]] {
                    reader.read(piece, Some(Duration::from_secs(1)), &mut events).expect("it is valid");
                }
                events.extend(reader.finish(None));
                let second = usize::try_from(events[1].end).expect("it is valid");
                assert_eq!(events_of(format, &body.as_bytes()[..second], &[]).len(), 2, "{format:?} cut at {cut}");
                let data: Vec<&str> = events.iter().map(|event| event.data.as_str()).collect();
                assert_eq!(data, ["{\"kg\": 1}", "[2]", "3"], "{format:?} cut at {cut}");
            }
        }
        let times = [Duration::from_secs(1)];
        let of = events_of(StreamFormat::JsonLines, b"1\n2\n", &times);
        assert_eq!((of[0].at, of[1].at), (Some(times[0]), None));
    }

    #[test]
    fn an_event_without_an_end_is_refused() {
        let (mut reader, mut events) = (EventReader::new(StreamFormat::ServerSent), Vec::new());
        let block = [b'x'; 1 << 20];
        let ended = (0..40).find(|_| reader.read(&block, None, &mut events).is_err());
        assert_eq!(ended, Some(16));
        let mut reader = EventReader::new(StreamFormat::ServerSent);
        let line = [b"data: ".as_slice(), &block, b"\n"].concat();
        assert!((0..40).any(|_| reader.read(&line, None, &mut events).is_err()) && events.is_empty());
    }
}
