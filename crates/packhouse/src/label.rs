//! Labels as images.

use crate::answer::Problem;
use crate::lots;
use crate::state::Shared;
use axum::extract::{Path, State};
use axum::http::{StatusCode, header};
use axum::response::IntoResponse;
use std::sync::Arc;

const WIDTH: u32 = 160;
const HEIGHT: u32 = 48;

/// The lot's label: its id as bars, one bit of each letter a bar.
pub(crate) async fn image(
    State(shared): State<Arc<Shared>>,
    Path(id): Path<String>,
) -> Result<impl IntoResponse, Problem> {
    lots::find(&shared.stock(), &id)?;
    let bits: Vec<bool> = id.bytes().flat_map(|byte| (0..8).rev().map(move |bit| byte >> bit & 1 == 1)).collect();
    let row = (0..WIDTH).map(|x| {
        let bar = (x as usize).checked_sub(8).map(|x| x * bits.len() / (WIDTH as usize - 16));
        if bar.and_then(|bar| bits.get(bar)).is_some_and(|bar| *bar) { 0 } else { 255 }
    });
    let row: Vec<u8> = row.collect();
    let pixels = row.repeat(HEIGHT as usize);
    let mut file = Vec::new();
    let mut encoder = png::Encoder::new(&mut file, WIDTH, HEIGHT);
    encoder.set_color(png::ColorType::Grayscale);
    encoder.set_depth(png::BitDepth::Eight);
    let written = encoder.write_header().and_then(|mut writer| writer.write_image_data(&pixels));
    written.map_err(|error| Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "no label", error.to_string()))?;
    Ok(([(header::CONTENT_TYPE, "image/png")], file))
}
