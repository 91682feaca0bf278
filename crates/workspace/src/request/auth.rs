//! The credentials of a request.

use super::write::TemplateRenderer;
use crate::AuthLine;
use crate::secret::{Destinations, UsedSecret};
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use std::sync::Arc;
use yieldtray_expression::Value;
use yieldtray_http::{HeaderFields, Login, MASK};
use yieldtray_source::{Code, Problem, SourceId, Span};
use yieldtray_syntax::Auth;

/// How a request proves who sends it.
pub(super) enum Credentials {
    /// By this header value.
    Header(String),
    /// In response to the server's challenge.
    Digest(Arc<Login>),
}

impl TemplateRenderer<'_, '_> {
    /// The credentials of an `% auth` line. `token` is that of an OAuth 2.0 profile; without one, a placeholder is
    /// used.
    pub(super) fn auth(&mut self, line: Option<&AuthLine<'_>>, token: Option<&str>) -> Option<Credentials> {
        let AuthLine { origin, auth, .. } = *line?;
        Some(match auth {
            Auth::None => return None,
            Auth::Basic { user, password } => Credentials::Header(basic(&self.login(origin, user, password, "basic"))),
            Auth::Digest { user, password } => {
                Credentials::Digest(Arc::new(self.login(origin, user, password, "digest")))
            }
            Auth::Bearer(token) => {
                let written = self.credential(origin, token);
                if let Some(odd) = written.chars().find(|c| c.is_whitespace() || c.is_control()) {
                    let message = format!("a bearer token cannot contain U+{:04X}", odd as u32);
                    let problem = Problem::error(Code::InvalidValue, token, message);
                    self.problems.push(problem.with_hint("use `trim(…)`").in_source(origin));
                }
                Credentials::Header(format!("Bearer {written}"))
            }
            Auth::OAuth2(_) => Credentials::Header(format!("Bearer {}", token.unwrap_or(MASK))),
        })
    }

    fn login(&mut self, origin: SourceId, user: Span, password: Span, scheme: &str) -> Login {
        let login = Login { user: self.text(origin, user), password: self.credential(origin, password) };
        // RFC 7617 2 and RFC 7616 4: the colon ends the name.
        if login.user.contains(':') || login.user.contains(|c: char| c.is_control()) {
            let message = format!("the user name of `{scheme}` cannot contain a colon or control characters");
            self.problems.push(Problem::error(Code::InvalidValue, user, message).in_source(origin));
        }
        login
    }

    /// A text that is hidden from now on.
    fn credential(&mut self, origin: SourceId, span: Span) -> String {
        let written = self.text(origin, span);
        // A secret in it was looked up, and is held to its own origins; what is written here is for this request.
        let value = Value::text(written.as_str());
        self.resolver.cache.secrets.push(UsedSecret::new(value, "this password", Destinations::Any, (origin, span)));
        written
    }
}

/// The header value of basic credentials (RFC 7617).
pub(super) fn basic(login: &Login) -> String {
    format!("Basic {}", STANDARD.encode(format!("{}:{}", login.user, login.password)))
}

/// Adds a proof, unless a field gives one already.
pub(super) fn add(headers: &mut HeaderFields, proof: Option<Credentials>) -> Option<Arc<Login>> {
    let given = headers.iter().any(|(name, _)| name.eq_ignore_ascii_case("authorization"));
    match proof.filter(|_| !given)? {
        Credentials::Digest(login) => Some(login),
        Credentials::Header(value) => {
            headers.push(("Authorization".into(), value.into()));
            None
        }
    }
}
