//! Changing a body in the user's editor, for one sending.

use crate::error::CommandError;
use anyhow::Context;
use std::process::Command;

/// The text after the user has edited it. `extension` is that of its type.
pub(crate) fn edit(text: &str, extension: &str) -> Result<String, CommandError> {
    let chosen =
        ["VISUAL", "EDITOR"].iter().find_map(|name| std::env::var(name).ok().filter(|it| !it.trim().is_empty()));
    let Some(editor) = chosen else {
        return Err(CommandError::refused_with(
            "no editor is configured",
            "set VISUAL or EDITOR, for example `EDITOR=vi`",
        ));
    };
    let mut file = tempfile::Builder::new();
    let file = file.prefix("yieldtray-").suffix(extension).tempfile().context("cannot write a file to edit")?;
    std::fs::write(file.path(), text).context("cannot write a file to edit")?;
    // A shell splits it into words, as it does for every program that honours the variable.
    let status = match cfg!(windows) {
        true => Command::new("cmd").arg("/C").arg(&editor).arg(file.path()).status(),
        false => Command::new("sh").arg("-c").arg(format!("{editor} \"$1\"")).arg("sh").arg(file.path()).status(),
    };
    let status = status.with_context(|| format!("cannot start `{editor}`"))?;
    if !status.success() {
        return Err(CommandError::refused(format!("nothing was sent: `{editor}` ended with {status}")));
    }
    let edited = std::fs::read_to_string(file.path());
    edited.map_err(|error| CommandError::refused(format!("nothing was sent: the edited body cannot be read: {error}")))
}
