//! The environment that was chosen for a checkout.

use super::state;
use crate::error::CommandError;
use crate::output::Out;
use std::path::Path;
use yieldtray_store::StateFolder;

/// The environment that `yieldtray env` chose for the checkout. A state folder that is not this user's own chooses
/// nothing, with a warning.
pub(super) fn checkout_choice(root: &Path, out: &mut Out) -> Result<Option<String>, CommandError> {
    match StateFolder::open(root, state::key_file().as_deref()) {
        Ok(folder) => Ok(folder.and_then(|folder| folder.chosen_environment())),
        Err(error @ yieldtray_store::Error::Untrusted(_)) => {
            if !out.settings.quiet && !out.settings.json {
                let message = format!("{error}: ignored; delete it, or run `yieldtray allow --state` if it is yours");
                out.say(&out.settings.error_styles.warn(&message))?;
            }
            Ok(None)
        }
        // Without a home nothing was ever chosen.
        Err(yieldtray_store::Error::NoKey) => Ok(None),
        Err(error) => Err(error.into()),
    }
}
