//! `import`: requests in the forms in which people hand them over become cells.

mod curl;
mod har;
mod openapi;

use crate::args::{Common, Import, ImportFrom, LazyArgs};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::Out;
use yieldtray_engine::ExitCode;

/// Takes requests in.
pub(crate) fn import(
    common: &Common,
    args: &Import,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    match &args.from {
        ImportFrom::Curl(LazyArgs(args)) => curl::curl(common, args, host, out),
        ImportFrom::Har(LazyArgs(args)) => har::har(common, args, host, out),
        ImportFrom::Openapi(LazyArgs(args)) => openapi::openapi(common, args, host, out),
    }
}
