//! Files as parts of a request: `operations` is the request, `map` says which variable each file is.

use axum::body::{Body, Bytes};
use axum::extract::{FromRequest, Multipart};
use axum::http::{Request, header};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::collections::BTreeMap;

/// The request with what is known of each file in the place of its variable.
pub(super) async fn request(media: &str, body: &Bytes) -> Result<Value, String> {
    let request = Request::builder().header(header::CONTENT_TYPE, media).body(Body::from(body.clone()));
    let request = request.map_err(|error| error.to_string())?;
    let mut parts = Multipart::from_request(request, &()).await.map_err(|error| error.body_text())?;
    let mut texts: BTreeMap<String, Vec<u8>> = BTreeMap::new();
    let mut files: BTreeMap<String, Value> = BTreeMap::new();
    while let Some(part) = parts.next_field().await.map_err(|error| error.body_text())? {
        let name = part.name().unwrap_or_default().to_owned();
        let filename = part.file_name().map(str::to_owned);
        let bytes = part.bytes().await.map_err(|error| error.body_text())?;
        match filename {
            Some(filename) => {
                let sha256: String = Sha256::digest(&bytes).iter().map(|byte| format!("{byte:02x}")).collect();
                files.insert(name, json!({ "filename": filename, "bytes": bytes.len(), "sha256": sha256 }));
            }
            None => drop(texts.insert(name, bytes.to_vec())),
        }
    }
    let json = |name: &str| {
        let text = texts.get(name).ok_or(format!("the part `{name}` is missing"))?;
        serde_json::from_slice::<Value>(text).map_err(|error| format!("the part `{name}` is not JSON: {error}"))
    };
    let (mut operations, map) = (json("operations")?, json("map")?);
    for (name, file) in files {
        for path in map[&name].as_array().into_iter().flatten().filter_map(Value::as_str) {
            let pointer = format!("/{}", path.replace('.', "/"));
            match operations.pointer_mut(&pointer) {
                Some(place) => *place = file.clone(),
                None => return Err(format!("`map` names `{path}`, which is not in `operations`")),
            }
        }
    }
    Ok(operations)
}
