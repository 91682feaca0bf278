use super::documents::Node;
use crate::syntax::{first_free, slug};

/// The servers of a description as environments: a name, and what stands before paths.
pub(super) fn environments(root: Node<'_>, notes: &mut Vec<String>) -> Vec<(String, String)> {
    let mut environments: Vec<(String, String)> = Vec::new();
    for server in root.get("servers").into_iter().flat_map(Node::list) {
        let Some(written) = server.text("url") else { continue };
        let address = address(server, written, notes);
        let told = server.text("x-name").or_else(|| server.text("name")).or_else(|| server.text("description"));
        let host = address.split_once("://").map_or("", |(_, rest)| rest.split(['/', ':']).next().unwrap_or(rest));
        // A description may be a whole text.
        let short = told.map(slug).filter(|name| !name.is_empty() && name.len() <= 24);
        let wanted = short.unwrap_or_else(|| slug(host.split('.').next().unwrap_or(host)));
        let wanted = if wanted.is_empty() { "server".to_owned() } else { wanted };
        let name = first_free(&wanted, "-", |name| !environments.iter().any(|(known, _)| known == name));
        environments.push((name, address));
    }
    if environments.is_empty() {
        notes.push("no server is named: `base` is `http://127.0.0.1`, for now".to_owned());
        environments.push(("local".to_owned(), "http://127.0.0.1".to_owned()));
    }
    environments
}

/// An address with the values that its variables have by themselves.
fn address(server: Node<'_>, written: &str, notes: &mut Vec<String>) -> String {
    let mut address = written.to_owned();
    for (name, variable) in server.get("variables").into_iter().flat_map(Node::members) {
        if let Some(value) = variable.text("default") {
            address = address.replace(&format!("{{{name}}}"), value);
            notes.push(format!("server `{written}`: `{name}` is `{value}`"));
        }
    }
    if !address.contains("://") {
        notes.push(format!("server `{written}` has no host: it is `http://127.0.0.1`, for now"));
        address = format!("http://127.0.0.1/{}", address.trim_start_matches('/'));
    }
    address.trim_end_matches('/').to_owned()
}
