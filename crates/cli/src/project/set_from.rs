//! `--set-from NAME=FILE`: secrets from files, so that they are in no list of processes and in no shell history.

use crate::error::CommandError;
use crate::settings::variable_name;
use std::fs::File;
use std::io::{self, Read};
use std::path::Path;
use std::sync::OnceLock;
use yieldtray_expression::Value;

/// The largest secret, in bytes.
const MAX_SECRET_BYTES: u64 = 1 << 20;

/// Reads the values: texts without the line ends that end them. Paths count from `here`; `-` is standard input, once.
///
/// # Errors
/// For a name that cannot be one, and for a file that cannot be read as text.
pub(crate) fn read(given: &[String], here: &Path) -> Result<Vec<(String, Value)>, CommandError> {
    let mut reads_input = false;
    let mut values = Vec::with_capacity(given.len());
    for text in given {
        let Some((name, file)) = text.split_once('=').filter(|(_, file)| !file.is_empty()) else {
            let hint = "for example `--set-from api_key=key.txt`, or `--set-from api_key=-` for standard input";
            return Err(CommandError::refused_with(format!("`--set-from {text}` is missing a file"), hint));
        };
        variable_name(name)?;
        if file == "-" && std::mem::replace(&mut reads_input, true) {
            return Err(CommandError::refused("`--set-from` can read standard input only once"));
        }
        let value = read_text(file, here).map_err(|error| {
            let place = if file == "-" { "standard input".to_owned() } else { format!("`{file}`") };
            CommandError::refused(format!("cannot read the value of `{name}` from {place}: {error}"))
        })?;
        values.push((name.to_owned(), Value::text(value.trim_end_matches(['\r', '\n']))));
    }
    Ok(values)
}

/// The text of a file, which the user named: a pipe will do.
pub(crate) fn read_text(file: &str, here: &Path) -> io::Result<String> {
    // A command may open the workspace twice, for two environments; what was read from standard input is gone by then.
    static INPUT: OnceLock<String> = OnceLock::new();
    if file != "-" {
        return read_all(File::open(here.join(file)).map_err(crate::files::plain)?);
    }
    match INPUT.get() {
        Some(text) => Ok(text.clone()),
        None => {
            let text = read_all(io::stdin().lock())?;
            Ok(INPUT.get_or_init(|| text).clone())
        }
    }
}

fn read_all(source: impl Read) -> io::Result<String> {
    let mut bytes = Vec::new();
    if source.take(MAX_SECRET_BYTES + 1).read_to_end(&mut bytes)? as u64 > MAX_SECRET_BYTES {
        return Err(io::Error::other(format!("it is larger than {MAX_SECRET_BYTES} bytes")));
    }
    String::from_utf8(bytes).map_err(|_| io::Error::other("it is not UTF-8 text"))
}
