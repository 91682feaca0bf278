//! Credentials, without input and output: the grants of OAuth 2.0 as a sequence of steps, private keys, JSON Web Tokens, proofs of
//! possession (DPoP) and HTTP message signatures. Time comes as an argument, in seconds since 1970. Keys, nonces and verifiers come from the
//! secure random source of the system and never from the seed of a run.

mod jwt;
pub mod key;
pub mod oauth;
mod proof;
mod random;
pub mod signature;

pub use proof::{BoundToken, ProofKey};
