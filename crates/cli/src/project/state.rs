//! The tray between two processes: what the store keeps, as values of the files that are loaded.

use crate::clock::now;
use crate::error::CommandError;
use crate::output::Out;
use crate::project::Project;
use serde_json::json;
use std::io;
use std::path::Path;
use yieldtray_credentials::ProofKey;
use yieldtray_credentials::oauth::{Token, TokenKind};
use yieldtray_engine::Run;
use yieldtray_expression::Value;
use yieldtray_store::{Error, Kind, Store, quarantine, user_key_file};
use yieldtray_transport::{Jar, StoredCookie};
use yieldtray_workspace::Workspace;
use yieldtray_workspace::request::Tokens;
use yieldtray_workspace::scope::{CapturedValue, EvalSettings, Tray};

/// Opens the state of the session's workspace, if there is any.
pub(crate) fn open(project: &Project) -> Result<Option<Store>, Error> {
    Store::open(&project.root, key_file())
}

/// `store`, opened and made if it was not there yet.
pub(crate) fn made<'s>(store: &'s mut Option<Store>, root: &Path) -> Result<&'s mut Store, Error> {
    Ok(match store {
        Some(store) => store,
        None => store.insert(Store::open_or_make(root, key_file())?),
    })
}

/// Says what does not work for the sake of the state. A damaged one is set aside: the next command begins anew.
pub(crate) fn report_state_error(root: &Path, what: &str, error: &Error, out: &mut Out) -> io::Result<()> {
    let mut message = format!("{what}: {error}");
    if error.is_damage() {
        match quarantine(root) {
            Ok(Some(aside)) => message.push_str(&format!(
                "\nthe state file is damaged: it was renamed to `{}` and a new one was created",
                aside.display()
            )),
            Ok(None) => {}
            Err(error) => message.push_str(&format!("\n{error}")),
        }
    }
    message.lines().try_for_each(|line| out.say(&out.settings.error_styles.warn(line)))
}

/// Opens the state for a command that is only about it; a damaged one is renamed, with a warning.
pub(crate) fn open_or_set_aside(project: &Project, out: &mut Out) -> Result<Option<Store>, CommandError> {
    match open(project) {
        Err(error) if error.is_damage() => {
            report_state_error(&project.root, "cannot read the state", &error, out)?;
            Ok(None)
        }
        opened => Ok(opened?),
    }
}

/// The state for the chosen environment, as far as its files are loaded, with the store it was read from, so that it
/// is opened once for reading and writing.
#[derive(Default)]
pub(crate) struct PersistedState {
    /// The captured values.
    pub(crate) tray: Tray,
    /// Tokens of OAuth 2.0 profiles.
    pub(crate) tokens: Tokens,
    /// Cookies.
    pub(crate) jar: Jar,
    /// The state, if there is any yet.
    pub(crate) store: Option<Store>,
}

/// Reads it. Where it cannot be read there is nothing, and a word about it: no request is stopped by it.
pub(crate) fn read(project: &Project, out: &mut Out) -> io::Result<PersistedState> {
    try_read(project).or_else(|error| {
        report_state_error(&project.root, "cannot read the state", &error, out)?;
        Ok(PersistedState::default())
    })
}

fn try_read(project: &Project) -> Result<PersistedState, Error> {
    let store = match open(project) {
        Ok(Some(store)) => store,
        // A folder that is not this user's own was reported when the project was opened.
        Ok(None) | Err(Error::Untrusted(_) | Error::NoKey) => return Ok(PersistedState::default()),
        Err(error) => return Err(error),
    };
    let environment = environment(&project.settings);
    let tray = tray(&store, &project.workspace, environment)?;
    let cookies = store.credentials(environment, Kind::Cookie)?;
    let jar = Jar::load(cookies.iter().filter_map(|row| row.value.as_deref()));
    let mut tokens = Tokens::default();
    self::tokens(&store, environment)?.into_iter().for_each(|token| tokens.put(token));
    Ok(PersistedState { tray, tokens, jar, store: Some(store) })
}

/// The tray of an environment, as far as its files are loaded.
pub(crate) fn tray(store: &Store, workspace: &Workspace, environment: &str) -> Result<Tray, Error> {
    let mut tray = Tray::default();
    for kept in store.captured(environment)? {
        let Some(source) = workspace.find_loaded(&kept.file) else { continue };
        let Some(value) = value(&kept) else { continue };
        let cell = workspace.cell_named(source, &kept.cell);
        tray.put(
            &kept.name,
            CapturedValue { value, source, cell, secret: kept.secret, origin: kept.origin, kept_at: Some(kept.at) },
        );
    }
    Ok(tray)
}

/// The tokens of an environment.
pub(crate) fn tokens(store: &Store, environment: &str) -> Result<Vec<Token>, Error> {
    let rows = store.credentials(environment, Kind::Token)?.into_iter();
    Ok(rows.filter_map(|row| token(&row.place, &row.value?)).collect())
}

/// A stored token.
fn token(profile: &str, kept: &str) -> Option<Token> {
    let kept: serde_json::Value = serde_json::from_str(kept).ok()?;
    let text = |key: &str| kept[key].as_str().map(str::to_owned);
    Some(Token {
        profile: profile.to_owned(),
        fingerprint: text("print")?,
        access: text("access")?,
        refresh: text("refresh"),
        scope: text("scope"),
        kind: match text("key") {
            None => TokenKind::Bearer,
            Some(key) => TokenKind::Bound(ProofKey::from_text(&key)?),
        },
        expires_at: kept["ends"].as_i64(),
        obtained_now: false,
    })
}

pub(crate) fn token_row(token: &Token) -> (String, String) {
    // The names of the fields are those of the stored format.
    let mut value = json!({
        "print": token.fingerprint, "access": token.access, "refresh": token.refresh, "ends": token.expires_at,
        "scope": token.scope,
    });
    if let TokenKind::Bound(key) = &token.kind {
        value["key"] = key.to_text().into();
    }
    (token.profile.clone(), value.to_string())
}

/// The cookies that changed since `before`: what is kept of them, and the places that are dropped.
fn changed_cookies(before: &[StoredCookie], after: &[StoredCookie]) -> Change {
    let keep = after.iter().filter(|cookie| !before.contains(cookie));
    let gone = before.iter().map(cookie_place).filter(|place| !after.iter().any(|other| cookie_place(other) == *place));
    (keep.map(|cookie| (cookie_place(cookie), cookie.whole.clone())).collect(), gone.collect())
}

/// The saved rows, place and value, and the places of deleted ones.
type Change = (Vec<(String, String)>, Vec<String>);

/// The identity of a cookie (RFC 6265 5.3, step 11).
pub(crate) fn cookie_place(cookie: &StoredCookie) -> String {
    format!("{} {} {}", cookie.domain, cookie.path, cookie.name)
}

/// The value of a row, if it can be opened here.
pub(crate) fn value(kept: &yieldtray_store::CapturedRow) -> Option<Value> {
    Value::parse_json(kept.value.as_deref()?.as_bytes()).ok()
}

/// The cookies before and after a run.
pub(crate) struct Cookies<'c> {
    /// Before.
    pub(crate) before: &'c [StoredCookie],
    /// After.
    pub(crate) after: &'c Jar,
}

/// Saves the captured values and credentials of a run, in `store` if it is open already; returns `false` with a
/// warning if that fails. Values of ad-hoc requests are not saved: no file could read them.
pub(crate) fn keep(
    project: &Project,
    store: &mut Option<Store>,
    run: &Run<'_>,
    cookies: Option<&Cookies<'_>>,
    out: &mut Out,
) -> io::Result<bool> {
    match try_keep(project, store, run, cookies) {
        Ok(()) => Ok(true),
        // A folder that is not this user's own was reported when the project was opened.
        Err(Error::Untrusted(_)) => Ok(false),
        Err(error) => report_state_error(&project.root, "cannot store captured values", &error, out).map(|()| false),
    }
}

fn try_keep(
    project: &Project,
    store: &mut Option<Store>,
    run: &Run<'_>,
    cookies: Option<&Cookies<'_>>,
) -> Result<(), Error> {
    let values = values(project, run);
    let fresh = run.tokens().iter().filter(|token| token.obtained_now).map(token_row).collect();
    let tokens: Change = (fresh, run.revoked_tokens().map(str::to_owned).collect());
    let cookies = cookies.map(|jar| changed_cookies(jar.before, &jar.after.stored())).unwrap_or_default();
    let credentials = [(Kind::Token, tokens), (Kind::Cookie, cookies)];
    let changed = credentials.iter().any(|(_, (keep, drop))| !keep.is_empty() || !drop.is_empty());
    if values.is_empty() && !changed {
        return Ok(());
    }
    let store = made(store, &project.root)?;
    let environment = environment(&project.settings);
    store.keep(environment, &values)?;
    for (kind, (keep, drop)) in credentials.iter().filter(|(_, (keep, drop))| !keep.is_empty() || !drop.is_empty()) {
        store.change_credentials(environment, *kind, keep, drop, now())?;
    }
    Ok(())
}

/// Values that a run captured and that were not saved before, as rows.
fn values(project: &Project, run: &Run<'_>) -> Vec<yieldtray_store::CapturedRow> {
    let (workspace, at) = (&project.workspace, now());
    let fresh = run.tray().iter().filter(|(_, yielded)| yielded.kept_at.is_none());
    fresh
        .filter_map(|(name, yielded)| {
            let file = workspace.shown_path(yielded.source);
            workspace.find_loaded(&file)?;
            let cell = workspace.cell(yielded.cell?).name.to_string();
            let value = yielded.value.to_json().to_string();
            // A value that holds a secret, a whole body for instance, is one too.
            let secret = yielded.secret || run.masker().finds_in(&value);
            let origin = yielded.origin.clone();
            Some(yieldtray_store::CapturedRow {
                name: name.to_owned(),
                file,
                cell,
                value: Some(value),
                secret,
                origin,
                at,
            })
        })
        .collect()
}

/// The name by which the store knows the chosen environment; values of none have a place too.
pub(crate) fn environment(settings: &EvalSettings) -> &str {
    settings.environment.as_deref().unwrap_or_default()
}

pub(crate) fn key_file() -> Option<std::path::PathBuf> {
    user_key_file(|name| std::env::var(name).ok())
}
