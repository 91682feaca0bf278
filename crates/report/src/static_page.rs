//! Pages without scripts, which load nothing.

use maud::{DOCTYPE, Markup, PreEscaped, html};

/// A page of its own: its title, its style sheet, and what it shows.
pub(crate) fn static_page(title: &str, style: &str, body: &Markup) -> String {
    html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                meta http-equiv="Content-Security-Policy" content="default-src 'none'; style-src 'unsafe-inline'";
                title { (title) }
                style { (PreEscaped(style)) }
            }
            body { (body) }
        }
    }
    .into_string()
}
