//! Requests in other forms: read from shell commands, HTTP archives and OpenAPI descriptions into drafts of cells, and
//! written as code from prepared requests.

pub mod curl;
pub mod draft;
pub mod har;
pub mod openapi;
pub mod snippet;
