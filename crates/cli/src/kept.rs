//! The tray between two processes: what the store keeps, as values of the files that are loaded.

use crate::session::Session;
use crate::show::Out;
use std::io;
use std::time::{SystemTime, UNIX_EPOCH};
use yieldtray_core::expression::Value;
use yieldtray_core::replay::Run;
use yieldtray_core::workspace::{Settings, Tray, Yielded};
use yieldtray_store::{Error, Kept, Store, user_key_file};

/// Opens the state of the session's workspace, if there is any.
pub(crate) fn open(session: &Session) -> Result<Option<Store>, Error> {
    Store::open(&session.root, key_file())
}

/// What is kept for the chosen environment, as far as the files are loaded, and the state it came from, so
/// that this is opened once for reading and writing. Where it cannot be read there is nothing, and a word
/// about it: no request is stopped by it.
pub(crate) fn read(session: &Session, out: &mut Out) -> io::Result<(Tray, Option<Store>)> {
    try_read(session).or_else(|error| {
        out.say(&out.error_look.odd(&format!("what was kept cannot be read: {error}")))?;
        Ok((Tray::default(), None))
    })
}

fn try_read(session: &Session) -> Result<(Tray, Option<Store>), Error> {
    let mut tray = Tray::default();
    let Some(store) = open(session)? else { return Ok((tray, None)) };
    for kept in store.kept(environment(&session.settings))? {
        let Some(source) = session.workspace.find_loaded(&kept.file) else { continue };
        let Some(value) = value(&kept) else { continue };
        let cell = session.workspace.cell_named(source, &kept.cell);
        tray.put(&kept.name, Yielded { value, source, cell, secret: kept.secret, kept_at: Some(kept.at) });
    }
    Ok((tray, Some(store)))
}

/// The value of a row, if it can be opened here.
pub(crate) fn value(kept: &Kept) -> Option<Value> {
    Value::parse_json(kept.value.as_deref()?.as_bytes()).ok()
}

/// Keeps what a run yielded, in `store` if it is open already; where that fails, a word about it. What
/// stands in no file has no place to be seen from, and is not kept.
pub(crate) fn keep(session: &Session, store: Option<Store>, run: &Run<'_>, out: &mut Out) -> io::Result<()> {
    match try_keep(session, store, run) {
        Ok(()) => Ok(()),
        Err(error) => out.say(&out.error_look.odd(&format!("what was yielded is not kept: {error}"))),
    }
}

fn try_keep(session: &Session, store: Option<Store>, run: &Run<'_>) -> Result<(), Error> {
    let (workspace, at) = (&session.workspace, now());
    let fresh = run.tray().iter().filter(|(_, yielded)| yielded.kept_at.is_none());
    let values: Vec<Kept> = fresh
        .filter_map(|(name, yielded)| {
            let file = workspace.shown_path(yielded.source);
            workspace.find_loaded(&file)?;
            let cell = workspace.cell(yielded.cell?).name.to_string();
            let value = yielded.value.to_json().to_string();
            // A value that holds a secret, a whole body for instance, is one too.
            let secret = yielded.secret || run.masker().finds_in(&value);
            Some(Kept { name: name.to_owned(), file, cell, value: Some(value), secret, at })
        })
        .collect();
    if values.is_empty() {
        return Ok(());
    }
    let mut store = match store {
        Some(store) => store,
        None => Store::open_or_make(&session.root, key_file())?,
    };
    store.keep(environment(&session.settings), &values)
}

/// Seconds since 1970.
pub(crate) fn now() -> i64 {
    SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |time| time.as_secs() as i64)
}

/// The name by which the store knows the chosen environment; values of none have a place too.
pub(crate) fn environment(settings: &Settings) -> &str {
    settings.environment.as_deref().unwrap_or_default()
}

fn key_file() -> Option<std::path::PathBuf> {
    user_key_file(|name| std::env::var(name).ok())
}
