//! Whose files these are. As git and ssh do, a configuration is not followed if someone else could have put it
//! there: in a directory that all can write to, any user can leave one.

use crate::error::CommandError;
use std::fs::Metadata;
use std::path::Path;
use yieldtray_source::access::{CONFIG_FILE, LOCAL_FILE};

/// Refuses a workspace whose configurations, `.env` or root are not this user's own, unless `allowed` says that
/// the user allowed it all the same.
pub(crate) fn refuse_foreign(root: &Path, allowed: impl FnOnce() -> bool) -> Result<(), CommandError> {
    match complaint(root) {
        Some(message) if !allowed() => {
            let hint = format!("if you trust it, run `yieldtray allow {}`", root.display());
            Err(CommandError::refused_with(message, hint))
        }
        _ => Ok(()),
    }
}

fn complaint(root: &Path) -> Option<String> {
    let files = [CONFIG_FILE, LOCAL_FILE, ".env"];
    let found: Vec<(&str, Metadata)> =
        files.iter().filter_map(|name| Some((*name, root.join(name).symlink_metadata().ok()?))).collect();
    for (name, about) in &found {
        let mut about = about.clone();
        if about.is_symlink() {
            let Ok(target) = root.join(name).canonicalize() else { continue };
            if !target.starts_with(root) {
                return Some(format!("`{name}` links to a file outside the workspace `{}`", root.display()));
            }
            about = target.metadata().ok()?;
        }
        if let Some(why) = not_own(&about, false) {
            return Some(format!("`{}` {why}", root.join(name).display()));
        }
    }
    if found.is_empty() {
        // Without a configuration the folder is only where requests are found.
        return None;
    }
    let why = not_own(&root.metadata().ok()?, true)?;
    Some(format!("the workspace `{}` {why}", root.display()))
}

#[cfg(unix)]
fn not_own(about: &Metadata, is_root: bool) -> Option<&'static str> {
    use std::os::unix::fs::MetadataExt;
    const STICKY: u32 = 0o1000;
    let own = rustix::process::geteuid().as_raw();
    // Root needs no configuration to do harm; and with sudo the user stays the user.
    let sudo = || std::env::var("SUDO_UID").ok().and_then(|uid| uid.parse().ok());
    let owned = about.uid() == own || about.uid() == 0 || (own == 0 && sudo() == Some(about.uid()));
    if !owned {
        return Some("belongs to another user");
    }
    let sticky = is_root && about.mode() & STICKY != 0;
    (about.mode() & 0o002 != 0 && !sticky).then_some("can be written by every user")
}

#[cfg(not(unix))]
fn not_own(_about: &Metadata, _is_root: bool) -> Option<&'static str> {
    None
}

#[cfg(all(test, unix))]
mod tests {
    use super::*;
    use std::os::unix::fs::{PermissionsExt, symlink};

    #[test]
    fn what_others_can_write_or_what_links_outside_is_refused() {
        let root = tempfile::tempdir().expect("a folder");
        let root = root.path().canonicalize().expect("a path");
        let mode = |name: &str, mode| {
            std::fs::set_permissions(root.join(name), std::fs::Permissions::from_mode(mode)).expect("a mode");
        };
        assert_eq!(complaint(&root), None);
        std::fs::write(root.join(CONFIG_FILE), "").expect("a file");
        assert_eq!(complaint(&root), None);
        mode(CONFIG_FILE, 0o664);
        assert_eq!(complaint(&root), None, "a group of one's own is common");
        mode(CONFIG_FILE, 0o666);
        assert!(complaint(&root).is_some_and(|why| why.ends_with("can be written by every user")));
        mode(CONFIG_FILE, 0o644);
        mode("", 0o777);
        assert!(complaint(&root).is_some_and(|why| why.starts_with("the workspace ")));
        mode("", 0o1777);
        assert_eq!(complaint(&root), None);
        symlink("/etc/hostname", root.join(".env")).expect("a link");
        let refused = refuse_foreign(&root, || false);
        assert!(matches!(refused, Err(CommandError::Refused { message, .. }) if message.starts_with("`.env` links")));
        assert!(refuse_foreign(&root, || true).is_ok());
    }
}
