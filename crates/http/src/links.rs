//! The `Link` fields of a response (RFC 8288).

use crate::Exchange;

/// The targets of the links of a response that have a relation type, in order, as they are written.
pub fn links(exchange: &Exchange, relation: &str) -> Vec<String> {
    let fields = exchange.headers.iter().filter(|(name, _)| name.eq_ignore_ascii_case("link"));
    fields.flat_map(|(_, value)| of_field(&String::from_utf8_lossy(value), relation)).collect()
}

fn of_field(field: &str, relation: &str) -> Vec<String> {
    let (mut found, mut rest) = (Vec::new(), field);
    while let Some((target, after)) = rest.split_once('<').and_then(|(_, link)| link.split_once('>')) {
        let (mut parameters, others) = split_unquoted(after, ',');
        // Only the first `rel` counts (RFC 8288 3.3).
        while !parameters.is_empty() {
            let (parameter, more) = split_unquoted(parameters, ';');
            parameters = more;
            let (name, value) = parameter.split_once('=').unwrap_or_default();
            if name.trim().eq_ignore_ascii_case("rel") {
                let types = value.trim().trim_matches('"');
                if types.split_ascii_whitespace().any(|known| known.eq_ignore_ascii_case(relation)) {
                    found.push(target.to_owned());
                }
                break;
            }
        }
        rest = others;
    }
    found
}

/// What is before and after the first `stop` outside of quoted strings; all and nothing if there is none.
fn split_unquoted(text: &str, stop: char) -> (&str, &str) {
    let (mut is_quoted, mut is_escaped) = (false, false);
    let at = text.find(|c: char| {
        is_quoted ^= c == '"' && !is_escaped;
        is_escaped = is_quoted && c == '\\' && !is_escaped;
        c == stop && !is_quoted
    });
    at.map_or((text, ""), |at| (&text[..at], &text[at + stop.len_utf8()..]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn links_are_found_by_their_relation_among_others() {
        let field = "</lots?page=1>; rel=\"prev first\", </lots?page=3,4>;title=\"a, <b>; rel=next\" ; REL=Next, \
                     </a.yaml>;rel=service-desc;rel=next, </help>; title=\"\\\";rel=next;\\\"\", <cut; rel=next";
        assert_eq!(of_field(field, "next"), ["/lots?page=3,4"]);
        assert_eq!(of_field(field, "first"), ["/lots?page=1"]);
        assert_eq!(of_field(field, "service-desc"), ["/a.yaml"]);
        for nothing in ["", "<<<>>>;;=,,", "</a>", "</a>; rel", "</a>; rel=\"next"] {
            assert_eq!(of_field(nothing, "prev"), [""; 0], "{nothing}");
        }
    }
}
