//! Form fields (application/x-www-form-urlencoded): decoded, one a line.

use super::{LayoutPiece, new_line};

pub(super) fn lay_out(form: &str, mut piece: impl FnMut(LayoutPiece, &str)) -> bool {
    let fields: Vec<_> = url::form_urlencoded::parse(form.trim().as_bytes()).collect();
    if fields.is_empty() {
        return false;
    }
    let widest = fields.iter().map(|(name, _)| name.chars().count()).max().unwrap_or_default();
    for (at, (name, value)) in fields.iter().enumerate() {
        if at > 0 {
            new_line(0, &mut piece);
        }
        piece(LayoutPiece::Key, name);
        piece(LayoutPiece::Space, &" ".repeat(widest - name.chars().count()));
        piece(LayoutPiece::Mark, " = ");
        piece(LayoutPiece::Text, value);
    }
    true
}

#[cfg(test)]
mod tests {
    #[test]
    fn a_form_is_decoded_a_field_a_line() {
        let mut out = String::new();
        assert!(super::lay_out("lot=L-2043&grower=K%C3%A4the+Olsen&note=", |_, text| out.push_str(text)));
        assert_eq!(out, "lot    = L-2043\ngrower = Käthe Olsen\nnote   = ");
    }
}
