//! Photos of a lot, sent as multipart/form-data (RFC 7578).

use crate::answer::{Problem, json_answer};
use crate::lots;
use crate::state::Shared;
use axum::body::Body;
use axum::extract::{Multipart, Path, State};
use axum::http::{Response, StatusCode};
use serde_json::{Value, json};
use sha2::{Digest, Sha256};
use std::sync::Arc;

/// Takes photos with their descriptions and returns what arrived. Only digests are stored.
pub(crate) async fn add(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
    mut parts: Multipart,
) -> Result<Response<Body>, Problem> {
    lots::find(&shared.stock(), &id)?;
    let broken = |error: axum::extract::multipart::MultipartError| {
        Problem::new(StatusCode::BAD_REQUEST, "the parts cannot be read", error.to_string())
    };
    let mut taken: Vec<Value> = Vec::new();
    while let Some(mut part) = parts.next_field().await.map_err(broken)? {
        let (name, filename) = (part.name().map(str::to_owned), part.file_name().map(str::to_owned));
        let media = part.content_type().map(str::to_owned);
        let (mut size, mut digest) = (0, Sha256::new());
        let mut text = Vec::new();
        while let Some(chunk) = part.chunk().await.map_err(broken)? {
            size += chunk.len();
            digest.update(&chunk);
            if filename.is_none() && text.len() < 4096 {
                text.extend_from_slice(&chunk);
            }
        }
        let sha256: String = digest.finalize().iter().map(|byte| format!("{byte:02x}")).collect();
        let text = filename.is_none().then(|| String::from_utf8_lossy(&text).into_owned());
        taken.push(json!({
            "name": name, "filename": filename, "type": media, "size": size, "sha256": sha256, "text": text,
        }));
    }
    if taken.is_empty() {
        return Err(Problem::fields(vec![("photo".to_owned(), "is missing".to_owned())]));
    }
    Ok(json_answer(StatusCode::CREATED, &json!({ "lot": id, "parts": taken })))
}
