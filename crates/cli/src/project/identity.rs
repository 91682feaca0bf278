//! The identity (age) by which this user decrypts values of a team: a file of the user's own, or a variable in a build job.

use crate::files;
use age::secrecy::ExposeSecret;
use age::x25519::{Identity, Recipient};
use std::io::{self, Read, Write};
use std::path::PathBuf;
use yieldtray_store::user_state_folder;

/// The variable that has the identity, or the path of its file.
const VARIABLE: &str = "YIELDTRAY_IDENTITY";

/// The beginning of an identity.
const PREFIX: &str = "AGE-SECRET-KEY-";

/// The longest value, in bytes.
const MAX_VALUE_BYTES: u64 = 1 << 20;

/// The file of the identity.
pub(crate) fn file() -> Option<PathBuf> {
    let named = std::env::var_os(VARIABLE).filter(|value| !value.is_empty()).map(PathBuf::from);
    named.or_else(|| user_state_folder(|name| std::env::var(name).ok()).map(|folder| folder.join("identity.txt")))
}

/// The identity, if there is one.
///
/// # Errors
/// If its file cannot be read, or has none.
pub(crate) fn read() -> Result<Option<Identity>, String> {
    if let Ok(text) = std::env::var(VARIABLE)
        && text.trim_start().starts_with(PREFIX)
    {
        return parse(&text).map(Some).ok_or_else(|| format!("`{VARIABLE}` has no valid identity"));
    }
    let Some(file) = file() else { return Ok(None) };
    match files::read_text(&file) {
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(format!("cannot read the identity `{}`: {error}", file.display())),
        Ok(text) => {
            let found = parse(&text).ok_or_else(|| format!("`{}` has no valid identity", file.display()));
            found.map(Some)
        }
    }
}

/// The identity, which is made if there is none.
///
/// # Errors
/// If it cannot be read or written.
pub(crate) fn read_or_make() -> Result<Identity, String> {
    if let Some(identity) = read()? {
        return Ok(identity);
    }
    let file = file().ok_or("there is no folder for it: set `HOME`")?;
    let identity = Identity::generate();
    let text = format!("# public key: {}\n{}\n", identity.to_public(), identity.to_string().expose_secret());
    let folder = file.parent().map(std::fs::create_dir_all).transpose();
    let written = folder.and_then(|_| files::replace_private(&file, text.as_bytes()));
    written.map_err(|error| format!("cannot write the identity `{}`: {error}", file.display()))?;
    Ok(identity)
}

fn parse(text: &str) -> Option<Identity> {
    text.lines().find(|line| line.trim_start().starts_with(PREFIX))?.trim().parse().ok()
}

/// Decrypts a value with the user's identity.
///
/// # Errors
/// If there is no identity, or the value is not encrypted for it; in words that go on after a name.
pub(crate) fn decrypt(encrypted: &[u8]) -> Result<Vec<u8>, String> {
    let identity = read()?.ok_or("you have no identity: `yieldtray secret identity` makes one")?;
    let refused = |error: &dyn std::fmt::Display| format!("it cannot be decrypted: {error}");
    let decryptor = age::Decryptor::new(encrypted).map_err(|error| refused(&error))?;
    let reader = decryptor.decrypt(std::iter::once(&identity as &dyn age::Identity)).map_err(|error| match error {
        age::DecryptError::NoMatchingKeys => {
            format!("it is not encrypted for you: ask somebody who can read it to add {}", identity.to_public())
        }
        other => refused(&other),
    })?;
    let mut value = Vec::new();
    reader.take(MAX_VALUE_BYTES + 1).read_to_end(&mut value).map_err(|error| refused(&error))?;
    if value.len() as u64 > MAX_VALUE_BYTES {
        return Err(format!("it is longer than {} MiB", MAX_VALUE_BYTES >> 20));
    }
    Ok(value)
}

/// Encrypts a value for all of these recipients.
///
/// # Errors
/// If one of them is not valid.
pub(crate) fn encrypt(recipients: &[String], value: &[u8]) -> Result<Vec<u8>, String> {
    let parsed = recipients.iter().map(|recipient| {
        recipient.parse::<Recipient>().map_err(|why| format!("`{recipient}` is not a recipient: {why}"))
    });
    let parsed = parsed.collect::<Result<Vec<Recipient>, _>>()?;
    let all = parsed.iter().map(|recipient| recipient as &dyn age::Recipient);
    let mut encrypted = Vec::new();
    let encryptor = age::Encryptor::with_recipients(all).map_err(|error| error.to_string())?;
    let written = encryptor.wrap_output(&mut encrypted).and_then(|mut writer| {
        writer.write_all(value)?;
        writer.finish().map(drop)
    });
    written.map_err(|error| error.to_string())?;
    Ok(encrypted)
}
