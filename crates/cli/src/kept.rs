//! The tray between two processes: what the store keeps, as values of the files that are loaded.

use crate::session::Session;
use std::time::{SystemTime, UNIX_EPOCH};
use yieldtray_core::expression::Value;
use yieldtray_core::workspace::{Settings, Tray, Workspace, Yielded};
use yieldtray_store::{Error, Kept, Store, user_key_file};

/// Opens the state of the session's workspace, if there is any.
pub(crate) fn open(session: &Session) -> Result<Option<Store>, Error> {
    Store::open(&session.root, key_file())
}

/// The values kept for the chosen environment, as far as their files are loaded.
pub(crate) fn tray(session: &Session) -> Result<Tray, Error> {
    let mut tray = Tray::default();
    let Some(store) = open(session)? else { return Ok(tray) };
    for kept in store.kept(environment(&session.settings))? {
        let Some(source) = session.workspace.find_loaded(&kept.file) else { continue };
        let Some(value) = kept.value.as_deref().and_then(|text| Value::parse_json(text.as_bytes()).ok()) else {
            continue;
        };
        let cell = session.workspace.cell_named(source, &kept.cell);
        tray.put(&kept.name, Yielded { value, source, cell, secret: kept.secret, kept_at: Some(kept.at) });
    }
    Ok(tray)
}

/// Keeps what a run yielded. What stands in no file has no place to be seen from, and is not kept.
pub(crate) fn keep(
    root: &std::path::Path,
    workspace: &Workspace,
    settings: &Settings,
    tray: &Tray,
) -> Result<(), Error> {
    let at = now();
    let fresh = tray.iter().filter(|(_, yielded)| yielded.kept_at.is_none());
    let values: Vec<Kept> = fresh
        .filter_map(|(name, yielded)| {
            let file = workspace.shown_path(yielded.source);
            workspace.find_loaded(&file)?;
            let cell = workspace.cell(yielded.cell?).name.to_string();
            let value = Some(yielded.value.to_json().to_string());
            Some(Kept { name: name.to_owned(), file, cell, value, secret: yielded.secret, at })
        })
        .collect();
    if values.is_empty() {
        return Ok(());
    }
    Store::open_or_make(root, key_file())?.keep(environment(settings), &values)
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
