//! The codes and tokens of the authorization server.

use std::collections::{HashMap, HashSet};

/// The grant of a token.
#[derive(Clone, Debug, Default)]
pub(crate) struct Granted {
    pub(crate) client: String,
    /// The clerk who agreed, or for whom a machine acts.
    pub(crate) user: Option<String>,
    pub(crate) scope: String,
    pub(crate) audience: Vec<String>,
    /// The thumbprint of the key that a token is bound to (RFC 9449).
    pub(crate) bound_to: Option<String>,
}

/// An authorization code (RFC 6749 4.1.2).
#[derive(Clone, Debug)]
pub(crate) struct Code {
    pub(crate) granted: Granted,
    pub(crate) redirect_uri: String,
    pub(crate) challenge: String,
    pub(crate) nonce: Option<String>,
}

/// A device code (RFC 8628 3.2).
#[derive(Clone, Debug)]
pub(crate) struct DeviceCode {
    pub(crate) user_code: String,
    pub(crate) granted: Granted,
    /// The decision of the clerk, once made.
    pub(crate) decided: Option<bool>,
    /// How often the device asked.
    pub(crate) asked: u32,
}

/// All that was given.
#[derive(Debug, Default)]
pub(crate) struct Grants {
    pub(crate) given: u64,
    pub(crate) access: HashMap<String, Granted>,
    pub(crate) refresh: HashMap<String, Granted>,
    pub(crate) codes: HashMap<String, Code>,
    pub(crate) devices: HashMap<String, DeviceCode>,
    /// The identifiers of assertions and proofs, none of which is accepted twice.
    pub(crate) seen: HashSet<String>,
}
