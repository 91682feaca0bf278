//! The keyring of the system: secrets of this user, by name, which the system protects.

use keyring_core::{CredentialStore, Entry, Error};
use std::sync::Arc;

/// The service under which this program's secrets are kept.
const SERVICE: &str = "yieldtray";

/// The secret of a name.
///
/// # Errors
/// If there is none, or the keyring cannot be reached; in words that go on after a name.
pub(crate) fn read(name: &str) -> Result<String, String> {
    entry(name)?.get_password().map_err(|error| describe(name, &error))
}

/// Keeps a secret, in place of the one of that name.
///
/// # Errors
/// If the keyring cannot be reached.
pub(crate) fn store(name: &str, secret: &str) -> Result<(), String> {
    entry(name)?.set_password(secret).map_err(|error| describe(name, &error))
}

/// Removes a secret.
///
/// # Errors
/// If there is none, or the keyring cannot be reached.
pub(crate) fn remove(name: &str) -> Result<(), String> {
    entry(name)?.delete_credential().map_err(|error| describe(name, &error))
}

fn entry(name: &str) -> Result<Entry, String> {
    let store = system_store().map_err(|error| describe(name, &error))?;
    Entry::new_in_store(&store, SERVICE, name).map_err(|error| describe(name, &error))
}

#[cfg(all(unix, not(target_os = "macos")))]
fn system_store() -> Result<Arc<CredentialStore>, Error> {
    Ok(dbus_secret_service_keyring_store::Store::new()?)
}

#[cfg(target_os = "macos")]
fn system_store() -> Result<Arc<CredentialStore>, Error> {
    Ok(apple_native_keyring_store::keychain::Store::new()?)
}

#[cfg(windows)]
fn system_store() -> Result<Arc<CredentialStore>, Error> {
    Ok(windows_native_keyring_store::Store::new()?)
}

fn describe(name: &str, error: &Error) -> String {
    match error {
        Error::NoEntry => format!("the keyring has no secret `{name}`"),
        Error::PlatformFailure(cause) | Error::NoStorageAccess(cause) => {
            format!("the keyring of this system cannot be used: {cause}")
        }
        other => format!("the keyring cannot give `{name}`: {other}"),
    }
}
