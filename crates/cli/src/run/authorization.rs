//! Obtaining a token: the steps of a [`TokenFlow`] over the network, with a person where one is needed.

use crate::clock::now;
use crate::prompt::SignIn;
use std::sync::Arc;
use std::time::Duration;
use url::Url;
use yieldtray_credentials::oauth::{RedirectOutcome, Step, TokenError, TokenFlow};
use yieldtray_engine::ObtainedToken;
use yieldtray_http::{Failure, FailureKind};
use yieldtray_transport::{Client, RedirectListener, RedirectPage};

const ACCEPTED: &str = "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>Signed in</title>\
    <style>:root{color-scheme:light dark}body{font:1.1rem system-ui;margin:4rem auto;max-width:32rem}</style>\
    <h1>Signed in</h1><p>You can close this page and go back to Yield Tray.</p>";
const REFUSED: &str = "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><title>Not signed in</title>\
    <style>:root{color-scheme:light dark}body{font:1.1rem system-ui;margin:4rem auto;max-width:32rem}</style>\
    <h1>Not signed in</h1><p>Yield Tray shows why. You can close this page.</p>";

/// A token on its way.
pub(crate) struct Authorization {
    flow: Box<TokenFlow>,
    client: Arc<Client>,
    listener: Option<RedirectListener>,
    /// Whether the page of the browser was shown.
    is_shown: bool,
    /// The time that the server took.
    elapsed: Duration,
}

/// The progress of an authorization.
pub(crate) enum Advance {
    /// A person must see this; then it goes on.
    Show(SignIn),
    /// It is over.
    Done(Result<ObtainedToken, Failure>),
}

impl Authorization {
    pub(crate) fn new(flow: Box<TokenFlow>, client: Arc<Client>) -> Self {
        Self { flow, client, listener: None, is_shown: false, elapsed: Duration::ZERO }
    }

    /// The profile.
    pub(crate) fn profile(&self) -> &str {
        self.flow.profile()
    }

    /// Goes on until a person is needed, or there is a token or a reason why not. `anybody` if somebody can sign in.
    pub(crate) async fn advance(&mut self, anybody: bool) -> Advance {
        loop {
            match self.step(anybody).await {
                Ok(None) => {}
                Ok(Some(advance)) => return advance,
                Err(failure) => return Advance::Done(Err(failure)),
            }
        }
    }

    async fn step(&mut self, anybody: bool) -> Result<Option<Advance>, Failure> {
        match self.flow.next(now()).map_err(|error| self.refused(&error))? {
            Step::Send(request) => {
                let answer = self.client.send(&request).await?;
                self.elapsed += answer.timings.total;
                self.flow.received(&answer, now()).map_err(|error| self.refused(&error))?;
            }
            Step::Listen if !anybody => return Err(self.nobody()),
            Step::Listen => {
                let addresses = self.flow.redirect_address().listen_at();
                let listener = RedirectListener::bind(&addresses).await.map_err(|error| self.port_in_use(&error))?;
                self.flow.listening(listener.port()).map_err(|error| self.refused(&error))?;
                self.listener = Some(listener);
            }
            Step::Browse(page) if !self.is_shown => {
                self.is_shown = true;
                let profile = self.flow.profile().to_owned();
                return Ok(Some(Advance::Show(SignIn { profile, page: page.page, code: None })));
            }
            Step::Browse(_) => self.redirected().await?,
            Step::ShowCode(_) if !anybody => return Err(self.nobody()),
            Step::ShowCode(shown) => {
                let profile = self.flow.profile().to_owned();
                return Ok(Some(Advance::Show(SignIn { profile, page: shown.page, code: Some(shown.code) })));
            }
            Step::Pause(time) => tokio::time::sleep(time).await,
            Step::Done(token) => {
                let url = self.flow.endpoint().map(Url::to_string).unwrap_or_default();
                let (elapsed, renewed) = (self.elapsed, self.flow.renewed());
                return Ok(Some(Advance::Done(Ok(ObtainedToken { token: *token, url, elapsed, renewed }))));
            }
        }
        Ok(None)
    }

    /// Waits for the browser to come back.
    async fn redirected(&mut self) -> Result<(), Failure> {
        let Some(listener) = self.listener.take() else { return Ok(()) };
        let flow = &mut self.flow;
        let limit = flow.sign_in_timeout();
        let path = flow.redirect_address().path().to_owned();
        let waiting = listener.wait(&path, |query| match flow.redirected(query) {
            RedirectOutcome::Accepted => RedirectPage { accepted: true, html: ACCEPTED },
            RedirectOutcome::Refused => RedirectPage { accepted: false, html: REFUSED },
        });
        match tokio::time::timeout(limit, waiting).await {
            Ok(()) => Ok(()),
            Err(_) => Err(self.refused(&TokenError::SignInTimedOut(limit))),
        }
    }

    fn refused(&self, error: &TokenError) -> Failure {
        let hint = match error {
            TokenError::SignInTimedOut(_) => "send again to sign in anew, or set `sign_in_timeout` in the profile",
            TokenError::CodeExpired => "send again to sign in anew",
            TokenError::State | TokenError::Issuer { .. } | TokenError::IdToken(_) => {
                "send again; if it happens again, somebody may be interfering with the sign-in"
            }
            _ if error.is_temporary() => "send again later",
            _ => "check the profile in `[oauth2]`",
        };
        let failure = self.failure(error.to_string(), hint.to_owned());
        // A refusal drops the stored token; a busy server does not.
        let kind = if error.is_temporary() { FailureKind::Other } else { failure.kind };
        Failure { kind, ..failure }
    }

    fn nobody(&self) -> Failure {
        let hint = format!(
            "run `yieldtray token get {}` in a terminal first; in CI, use a grant for machines such as `client_credentials` or \
             `jwt_bearer`",
            self.flow.profile()
        );
        self.failure("signing in needs a terminal or an editor".to_owned(), hint)
    }

    fn port_in_use(&self, error: &std::io::Error) -> Failure {
        let addresses = self.flow.redirect_address().listen_at().join(", ");
        let message = format!("cannot listen at {addresses} for the browser to come back: {error}");
        self.failure(message, "end the program that uses the port, or change `redirect_url` in the profile".to_owned())
    }

    fn failure(&self, message: String, hint: String) -> Failure {
        Failure { kind: FailureKind::NotAuthorized, message, hint: Some(hint), elapsed: self.elapsed }
    }
}
