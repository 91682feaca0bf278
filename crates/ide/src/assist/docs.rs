//! Help texts for the words of the language. The reference is docs/language.md; a test compares the two.

/// An instruction with its help.
pub(super) struct Instruction {
    pub(super) word: &'static str,
    /// How it is written.
    pub(super) form: &'static str,
    /// Its meaning, in a line.
    pub(super) help: &'static str,
    pub(super) example: &'static str,
    /// The snippet that is inserted; `${1:…}` is a tab stop.
    pub(super) snippet: &'static str,
    pub(super) place: Place,
}

/// The places where an instruction is allowed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Place {
    /// Before the first cell.
    Preamble,
    /// In a cell.
    Cell,
    /// In a cell, below the request line.
    Tail,
    /// Anywhere.
    Any,
}

macro_rules! instructions {
    ($($word:literal $place:ident $form:literal $help:literal $example:literal $snippet:literal;)+) => {
        pub(super) static INSTRUCTIONS: &[Instruction] = &[$(Instruction {
            word: $word, form: $form, help: $help, example: $example, snippet: $snippet, place: Place::$place,
        },)+];
    };
}

instructions! {
    "name" Cell "name NAME" "the name of the request" "% name sign-in" "name ${1:name}";
    "tag" Any "tag NAME, …" "tags for selecting requests" "% tag smoke, slow" "tag ${1:smoke}";
    "needs" Cell "needs NAME, …" "requests that must run first: `name` or `other.http#name`" "% needs sign-in" "needs ${1:name}";
    "let" Any "let NAME = EXPR" "a value" "% let season = 2026" "let ${1:name} = ${2:value}";
    "ask" Cell "ask NAME \"question\" [secret] [default EXPR] [from LIST]" "a value prompted for when sending" "% ask bins \"How many bins?\" default 24" "ask ${1:name} \"${2:question}\"";
    "header" Preamble "header Name: value" "a header for every request that does not set it" "% header Accept: application/json" "header ${1:Accept}: ${2:application/json}";
    "query" Cell "query NAME = TEXT" "a query parameter" "% query state = open" "query ${1:name} = ${2:text}";
    "field" Cell "field NAME = TEXT" "a form field" "% field grower = G-11" "field ${1:name} = ${2:text}";
    "part" Cell "part NAME = TEXT [type MEDIA] | part NAME from PATH [type MEDIA] [as FILENAME]" "a part of a multipart body" "% part photo from crate.png type image/png" "part ${1:name} = ${2:text}";
    "body" Cell "body from PATH [verbatim]" "reads the body from a file" "% body from lot.json" "body from ${1:path}";
    "auth" Any "auth basic USER PASS | bearer TOKEN | digest USER PASS | oauth2 PROFILE | key header|query|cookie NAME VALUE | none" "credentials" "% auth bearer {{token}}" "auth ${1|basic,bearer,digest,oauth2,key,none|} $2";
    "sign" Any "sign PROFILE | sign off" "signs the request by `[signing.PROFILE]` (RFC 9421)" "% sign gate" "sign ${1:profile}";
    "timeout" Any "timeout DURATION" "time limit for the response" "% timeout 5s" "timeout ${1:5s}";
    "retry" Any "retry after DURATION | retry off" "waits as a busy server asks (429, 503), at most DURATION, and sends again" "% retry after 30s" "retry after ${1:30s}";
    "redirects" Any "redirects N" "maximum number of redirects to follow" "% redirects 0" "redirects ${1:0}";
    "cookies" Any "cookies on|off" "whether cookies are sent and stored" "% cookies off" "cookies ${1|off,on|}";
    "insecure" Any "insecure [off]" "disables verification of the server's certificate" "% insecure" "insecure";
    "path" Any "path verbatim" "sends the path as written, including `..`" "% path verbatim" "path verbatim";
    "yield" Tail "yield NAME = EXPR [secret]" "captures a value of the response on the tray" "% yield lot_id = body.id" "yield ${1:name} = ${2:body.id}";
    "check" Any "check [LABEL:] EXPR [else \"hint\"]" "must be true for the response" "% check status == 200" "check ${1:status == 200}";
    "waive" Cell "waive LABEL, …" "skips a shared check for this request" "% waive ok" "waive ${1:label}";
    "save" Tail "save PATH" "writes the response body to a file" "% save labels/{{lot_id}}.png" "save ${1:path}";
    "skip" Cell "skip when EXPR [\"reason\"]" "skips the request if true" "% skip when environment == 'live' \"writes\"" "skip when ${1:condition}";
    "wait" Tail "wait until EXPR every D for D" "sends again until true" "% wait until body.state == 'graded' every 2s for 1m" "wait until ${1:condition} every ${2:2s} for ${3:1m}";
    "each" Cell "each row in \"FILE\"" "sends the request once per row" "% each row in \"lots.csv\"" "each row in \"${1:lots.csv}\"";
    "play" Cell "play NAME [with NAME = EXPR, …] [times N]" "runs other requests in this order" "% play book-lot with bins = 24" "play ${1:name}";
    "until" Tail "until EXPR" "ends a stream of events when true" "% until event.data.state == 'done'" "until ${1:event.data.done}";
    "take" Cell "take N events" "ends a stream after N events" "% take 3 events" "take ${1:3} events";
    "reconnect" Cell "reconnect [N times]" "connects a stream again after its last event" "% reconnect 3 times" "reconnect ${1:3} times";
    "say" Cell "say TEXT | say from PATH" "sends a message over a WebSocket" "% say {\"want\": \"readings\"}" "say ${1:text}";
    "expect" Cell "expect EXPR within D [as NAME]" "waits for a message" "% expect message.kg > 0 within 2s as reading" "expect ${1:condition} within ${2:2s}";
    "follow" Cell "follow next [EXPR] [for N pages]" "requests the pages that follow" "% follow next for 5 pages" "follow next for ${1:10} pages";
    "contract" Any "contract [NAME]" "validates the response against the description of the API" "% contract" "contract";
    "graphql" Cell "graphql" "the body is a GraphQL document" "% graphql" "graphql";
    "variable" Cell "variable NAME = EXPR" "a variable of the GraphQL operation" "% variable id = lot_id" "variable ${1:name} = ${2:value}";
    "operation" Cell "operation NAME" "selects an operation of the GraphQL document" "% operation OpenLots" "operation ${1:Name}";
    "fragments" Cell "fragments from PATH" "appends GraphQL fragments from a file" "% fragments from lots.graphql" "fragments from ${1:path}";
    "afterwards" Cell "afterwards" "runs at the end of the file, even after a failure" "% afterwards" "afterwards";
}

/// A name that the language itself gives.
pub(super) struct Word {
    pub(super) name: &'static str,
    pub(super) help: &'static str,
    /// True if it exists only after the response.
    pub(super) after: bool,
}

macro_rules! words {
    ($($name:literal $after:literal $help:literal;)+) => {
        pub(super) static LANGUAGE: &[Word] = &[$(Word { name: $name, help: $help, after: $after },)+];
    };
}

words! {
    "env" false "environment variables, then `.env`: `env.NAME`";
    "environment" false "the name of the selected environment";
    "request" false "this request: `name`, `title`, `file`, `tags`";
    "row" false "the current row of `% each`";
    "status" true "the status code, as in `status == 201`";
    "reason" true "the reason phrase";
    "headers" true "the headers by lower-case name: `headers['content-type']`";
    "cookies" true "the cookies by name";
    "body" true "the body: JSON as values, else a string";
    "text" true "the body as a string";
    "size" true "the bytes of the body";
    "elapsed" true "duration of the exchange: `elapsed < duration('2s')`";
    "url" true "the URL of the response, after redirects";
    "hops" true "the redirects";
    "sent" true "the request: `method`, `url`, `headers`, `body`";
    "trailers" true "the trailers by lower-case name";
    "events" true "the events of a stream: `id`, `event`, `data`, `at`";
    "event" true "the last event of a stream";
    "messages" true "the messages of a conversation";
    "message" true "the last message of a conversation";
    "pages" true "the bodies of all pages that were followed";
}

/// The help for an instruction, as Markdown.
pub(super) fn instruction_help(word: &str) -> Option<String> {
    let found = INSTRUCTIONS.iter().find(|instruction| instruction.word == word)?;
    Some(format!("`% {}`\n\n{}\n\n```\n{}\n```", found.form, found.help, found.example))
}

/// The help for a name of the language, as Markdown.
pub(super) fn language_help(name: &str) -> Option<String> {
    let found = LANGUAGE.iter().find(|word| word.name == name)?;
    let when = if found.after { "\n\nAvailable after the response." } else { "" };
    Some(format!("`{name}`: {}{when}", found.help))
}
