//! Which options there are, and which of them shape the request.

/// What an option does to the request.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Does {
    Method,
    Url,
    Header,
    Data,
    DataRaw,
    DataBinary,
    DataUrlencode,
    Json,
    Form,
    FormString,
    Upload,
    Get,
    UrlQuery,
    User,
    Bearer,
    Digest,
    Basic,
    Cookie,
    Agent,
    Referer,
    Head,
    Insecure,
    Follow,
    MostRedirects,
    MaxTime,
    Http11,
    Http2,
    /// Next request.
    Next,
    /// Nothing that shapes the request: where output goes, how much is said.
    Output,
    /// Something that a cell cannot say; the words say where it goes instead.
    Elsewhere(&'static str),
    /// What we do anyway.
    Usual,
}

/// An option: its long name, its letter, whether a value follows, and what it does.
pub(super) struct Known(pub(super) &'static str, pub(super) Option<char>, pub(super) bool, pub(super) Does);

const PROXY: &str = "a proxy is named in `[send]` of `yieldtray.toml`";
const CERTIFICATES: &str = "certificates are named in `[send]` of `yieldtray.toml`";
const PLACE: &str = "another place for a name has no line in a cell; give the address itself, and a `Host` field";
const LIMIT: &str = "limits of time are one: `% timeout`";

pub(super) const OPTIONS: &[Known] = &[
    Known("request", Some('X'), true, Does::Method),
    Known("url", None, true, Does::Url),
    Known("header", Some('H'), true, Does::Header),
    Known("data", Some('d'), true, Does::Data),
    Known("data-ascii", None, true, Does::Data),
    Known("data-raw", None, true, Does::DataRaw),
    Known("data-binary", None, true, Does::DataBinary),
    Known("data-urlencode", None, true, Does::DataUrlencode),
    Known("json", None, true, Does::Json),
    Known("form", Some('F'), true, Does::Form),
    Known("form-string", None, true, Does::FormString),
    Known("upload-file", Some('T'), true, Does::Upload),
    Known("get", Some('G'), false, Does::Get),
    Known("url-query", None, true, Does::UrlQuery),
    Known("user", Some('u'), true, Does::User),
    Known("oauth2-bearer", None, true, Does::Bearer),
    Known("digest", None, false, Does::Digest),
    Known("basic", None, false, Does::Basic),
    Known("cookie", Some('b'), true, Does::Cookie),
    Known("user-agent", Some('A'), true, Does::Agent),
    Known("referer", Some('e'), true, Does::Referer),
    Known("head", Some('I'), false, Does::Head),
    Known("insecure", Some('k'), false, Does::Insecure),
    Known("location", Some('L'), false, Does::Follow),
    Known("location-trusted", None, false, Does::Follow),
    Known("max-redirs", None, true, Does::MostRedirects),
    Known("max-time", Some('m'), true, Does::MaxTime),
    Known("http1.1", None, false, Does::Http11),
    Known("http2", None, false, Does::Http2),
    Known("next", Some(':'), false, Does::Next),
    Known("compressed", None, false, Does::Usual),
    Known("globoff", Some('g'), false, Does::Usual),
    Known("path-as-is", None, false, Does::Usual),
    Known("connect-timeout", None, true, Does::Elsewhere(LIMIT)),
    Known("proxy", Some('x'), true, Does::Elsewhere(PROXY)),
    Known("noproxy", None, true, Does::Elsewhere(PROXY)),
    Known("cacert", None, true, Does::Elsewhere(CERTIFICATES)),
    Known("cert", Some('E'), true, Does::Elsewhere(CERTIFICATES)),
    Known("key", None, true, Does::Elsewhere(CERTIFICATES)),
    Known("resolve", None, true, Does::Elsewhere(PLACE)),
    Known("connect-to", None, true, Does::Elsewhere(PLACE)),
    Known("unix-socket", None, true, Does::Elsewhere("a socket is named in `[send]` of `yieldtray.toml`")),
    Known("cookie-jar", Some('c'), true, Does::Elsewhere("cookies are kept by themselves")),
    Known("retry", None, true, Does::Elsewhere("`% wait until … every … for …` sends again")),
    Known("output", Some('o'), true, Does::Output),
    Known("remote-name", Some('O'), false, Does::Output),
    Known("remote-header-name", Some('J'), false, Does::Output),
    Known("output-dir", None, true, Does::Output),
    Known("create-dirs", None, false, Does::Output),
    Known("silent", Some('s'), false, Does::Output),
    Known("show-error", Some('S'), false, Does::Output),
    Known("verbose", Some('v'), false, Does::Output),
    Known("include", Some('i'), false, Does::Output),
    Known("show-headers", None, false, Does::Output),
    Known("no-progress-meter", None, false, Does::Output),
    Known("progress-bar", Some('#'), false, Does::Output),
    Known("no-buffer", Some('N'), false, Does::Output),
    Known("write-out", Some('w'), true, Does::Output),
    Known("dump-header", Some('D'), true, Does::Output),
    Known("stderr", None, true, Does::Output),
    Known("trace", None, true, Does::Output),
    Known("trace-ascii", None, true, Does::Output),
    Known("fail", Some('f'), false, Does::Output),
    Known("fail-with-body", None, false, Does::Output),
];

/// The option of that long name. One may be shortened to what no other begins with, and switched off by `no-`.
pub(super) fn long(name: &str) -> Option<&'static Known> {
    OPTIONS.iter().find(|known| known.0 == name).or_else(|| {
        let mut alike = OPTIONS.iter().filter(|known| known.0.starts_with(name));
        let first = alike.next()?;
        alike.next().is_none().then_some(first)
    })
}

/// The option of that letter.
pub(super) fn short(letter: char) -> Option<&'static Known> {
    OPTIONS.iter().find(|known| known.1 == Some(letter))
}
