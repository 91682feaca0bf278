//! Unguessable texts.

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use ring::rand::{SecureRandom, SystemRandom};
use thiserror::Error;

/// The system has no random bytes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Error)]
#[error("the system provides no random bytes")]
pub struct NoRandom;

/// 256 random bits as 43 characters of base64url: letters, digits, `-` and `_`.
pub(crate) fn unguessable() -> Result<String, NoRandom> {
    let mut bytes = [0; 32];
    SystemRandom::new().fill(&mut bytes).map_err(|_| NoRandom)?;
    Ok(URL_SAFE_NO_PAD.encode(bytes))
}
