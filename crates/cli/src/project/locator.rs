//! WHERE: how a request, a file or a folder is named on the command line.

/// A parsed WHERE argument, which may not exist.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Locator {
    /// `-`
    StandardInput,
    /// A folder or a file.
    Path(String),
    /// `file.http:LINE`
    Line(String, usize),
    /// `file.http#name`
    Cell(String, String),
    /// A bare name.
    Name(String),
}

impl Locator {
    /// Reads a WHERE. What has a `/`, ends in `.http` or is a path that `is_there` is a path; the rest
    /// is a name.
    pub(crate) fn parse(text: &str, is_there: impl Fn(&str) -> bool) -> Self {
        if text == "-" {
            return Locator::StandardInput;
        }
        if let Some((file, name)) = text.rsplit_once('#')
            && !file.is_empty()
        {
            return Locator::Cell(file.to_owned(), name.to_owned());
        }
        if let Some((file, line)) = text.rsplit_once(':')
            && let Ok(line) = line.parse::<usize>()
            && !file.is_empty()
        {
            return Locator::Line(file.to_owned(), line);
        }
        if text.contains(['/', '\\']) || text.ends_with(".http") || is_there(text) {
            return Locator::Path(text.to_owned());
        }
        Locator::Name(text.trim_start_matches('#').to_owned())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_form_is_told_from_the_others() {
        let parse = |text| Locator::parse(text, |path| path == "orchard");
        assert_eq!(parse("-"), Locator::StandardInput);
        assert_eq!(parse("a/b.http#sign-in"), Locator::Cell("a/b.http".into(), "sign-in".into()));
        assert_eq!(parse("b.http:31"), Locator::Line("b.http".into(), 31));
        assert_eq!(parse("b.http"), Locator::Path("b.http".into()));
        assert_eq!(parse("C:\\api\\b.http"), Locator::Path("C:\\api\\b.http".into()));
        assert_eq!(parse("orchard"), Locator::Path("orchard".into()));
        assert_eq!(parse("sign-in"), Locator::Name("sign-in".into()));
    }
}
