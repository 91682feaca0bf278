//! `import`: requests in the forms in which people hand them over become cells.

mod curl;
mod har;
mod openapi;

use crate::args::{Common, Import, ImportFrom, Later};
use crate::error::Stop;
use crate::host::Host;
use crate::output::Out;

/// Takes requests in.
pub(crate) fn import(common: &Common, args: &Import, host: &Host, out: &mut Out) -> Result<u8, Stop> {
    match &args.from {
        ImportFrom::Curl(Later(args)) => curl::curl(common, args, host, out),
        ImportFrom::Har(Later(args)) => har::har(common, args, host, out),
        ImportFrom::Openapi(Later(args)) => openapi::openapi(common, args, host, out),
    }
}
