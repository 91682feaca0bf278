//! The digest that a user allows: of the private configuration, and of each shared setting that reaches outside.

use yieldtray_workspace::Workspace;

/// The BLAKE3 digest of it, in hexadecimal digits. Any change of it has to be allowed anew.
pub(crate) fn digest_of(workspace: &Workspace) -> String {
    let mut hasher = blake3::Hasher::new();
    let mut add = |text: &str| {
        // The length goes first, so that two texts cannot pass for one.
        hasher.update(&(text.len() as u64).to_le_bytes());
        hasher.update(text.as_bytes());
    };
    add("yieldtray allow 1");
    add(workspace.private_configuration().unwrap_or_default());
    for setting in workspace.config.outside_settings().iter().filter(|setting| !setting.private) {
        add(setting.kind.describe());
        add(&setting.names);
    }
    hasher.finalize().to_hex().to_string()
}
