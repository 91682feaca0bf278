//! Completion in lines: instructions and their arguments, header fields, request lines.

use super::{CompletionKind, Writer};
use crate::assist::docs::{INSTRUCTIONS, Place};
use yieldtray_http::{FIELDS, METHODS, field};
use yieldtray_source::Span;
use yieldtray_syntax::InstructionKind;
use yieldtray_workspace::CONTRACT_LABEL;

impl Writer<'_> {
    pub(super) fn instructions(&mut self, word: Span, cell: bool, tail: bool) {
        let text = self.view.text(self.source);
        // A space is between the sign and the word.
        let blank = if text[..word.start()].ends_with('%') { " " } else { "" };
        for known in INSTRUCTIONS {
            let fits = match known.place {
                Place::Any => true,
                Place::Preamble => !cell,
                Place::Cell => cell,
                Place::Tail => tail,
            };
            if fits {
                self.add(
                    word,
                    CompletionKind::Instruction,
                    known.word,
                    known.help,
                    Some(format!("{blank}{}", known.snippet)),
                );
            }
        }
    }

    pub(super) fn argument(&mut self, word: &str, rest: Span, files: &dyn Fn(&str) -> Vec<String>) {
        let text = self.view.text(self.source);
        let written = rest.of(text);
        let workspace = self.view.workspace();
        // The last member of a list.
        let from = written.rfind(',').map_or(0, |comma| comma + 1);
        let from = from + written[from..].len() - written[from..].trim_start().len();
        let last = rest.part(from, rest.len());
        match word {
            "needs" | "play" => {
                let own = self.cell;
                for cell in workspace.cells(self.source).filter(|cell| Some(*cell) != own) {
                    self.add(last, CompletionKind::Cell, &workspace.cell(cell).name, workspace.title(cell), None);
                }
                let others = workspace.loaded().filter(|file| *file != self.source);
                for cell in others.flat_map(|file| workspace.cells(file)).collect::<Vec<_>>() {
                    let path = relative(&workspace.shown_path(self.source), &workspace.shown_path(cell.source));
                    let name = format!("{path}#{}", workspace.cell(cell).name);
                    self.add(last, CompletionKind::Cell, &name, workspace.title(cell), None);
                }
            }
            "waive" => {
                let shared = workspace.preambles(self.source).filter_map(|(origin, line)| match line.kind {
                    InstructionKind::Check { label: Some(label), expression, .. } => {
                        let text = &workspace.source(origin).text;
                        Some((label.of(text), expression.of(text)))
                    }
                    _ => None,
                });
                self.add(last, CompletionKind::Label, CONTRACT_LABEL, "validation by the description of the API", None);
                shared
                    .collect::<Vec<_>>()
                    .iter()
                    .for_each(|(label, check)| self.add(last, CompletionKind::Label, label, check, None));
            }
            "tag" => {
                let tags =
                    workspace.loaded().flat_map(|file| workspace.cells(file)).flat_map(|cell| workspace.tags(cell));
                tags.collect::<Vec<_>>()
                    .iter()
                    .for_each(|tag| self.add(last, CompletionKind::Label, tag, "a tag", None));
            }
            "auth" => match written.split_once(char::is_whitespace) {
                None => {
                    for (name, insert) in [
                        ("basic", "basic {{${1:user}\\}\\} {{${2:password}\\}\\}"),
                        ("bearer", "bearer {{${1:token}\\}\\}"),
                        ("digest", "digest {{${1:user}\\}\\} {{${2:password}\\}\\}"),
                        ("oauth2", "oauth2 ${1:profile}"),
                        ("key", "key ${1|header,query,cookie|} ${2:X-Api-Key} {{${3:api_key}\\}\\}"),
                        ("none", "none"),
                    ] {
                        self.add(rest, CompletionKind::Text, name, "credentials", Some(insert.to_owned()));
                    }
                }
                Some(("oauth2", profile)) => {
                    let span = rest.part(rest.len() - profile.len(), rest.len());
                    for profile in &workspace.config.profiles {
                        self.add(span, CompletionKind::Label, &profile.name, "a profile of OAuth 2.0", None);
                    }
                }
                Some(_) => {}
            },
            "sign" => {
                for profile in &workspace.config.signing {
                    self.add(rest, CompletionKind::Label, &profile.name, "a profile of `[signing]`", None);
                }
                self.add(rest, CompletionKind::Text, "off", "no signature", None);
            }
            "header" => match written.find(':') {
                None => self.headers(rest, ": "),
                Some(colon) => {
                    let value = rest.part(colon + 1, rest.len());
                    let blanks = value.len() - value.of(text).trim_start().len();
                    self.header_values(&written[..colon], value.part(blanks, value.len()));
                }
            },
            "cookies" => ["off", "on"].iter().for_each(|word| self.add(rest, CompletionKind::Text, word, "", None)),
            "insecure" => self.add(rest, CompletionKind::Text, "off", "", None),
            "path" => self.add(rest, CompletionKind::Text, "verbatim", "", None),
            "timeout" => {
                ["5s", "500ms", "2m"].iter().for_each(|word| self.add(rest, CompletionKind::Text, word, "", None))
            }
            "skip" => self.add(rest, CompletionKind::Text, "when", "a condition follows", Some("when ".to_owned())),
            "wait" => self.add(rest, CompletionKind::Text, "until", "a condition follows", Some("until ".to_owned())),
            "query" => self.described_query(rest),
            "variable" | "operation" => self.graphql_argument(word, rest),
            "contract" => {
                for api in workspace.apis() {
                    self.add(rest, CompletionKind::Label, &api.name, "a description of the API", None);
                }
            }
            "body" | "part" | "each" | "fragments" => self.files(word, rest, files),
            _ => {}
        }
    }

    /// The files that a path so far may become.
    fn files(&mut self, word: &str, rest: Span, files: &dyn Fn(&str) -> Vec<String>) {
        let written = rest.of(self.view.text(self.source));
        let start = match word {
            "each" => written.find('"').map(|quote| quote + 1),
            _ => written.find("from ").map(|from| from + "from ".len()),
        };
        let Some(start) = start else {
            let insert = if word == "each" { "row in \"$1\"" } else { "from $1" };
            if !written.contains(' ') && word != "part" {
                self.add(
                    rest,
                    CompletionKind::Text,
                    insert.trim_end_matches(['$', '1', '"']).trim_end(),
                    "a file follows",
                    Some(insert.to_owned()),
                );
            }
            return;
        };
        let path = &written[start..];
        let folder = path.rfind('/').map_or("", |slash| &path[..=slash]);
        let span = rest.part(start + folder.len(), rest.len());
        for name in files(folder) {
            self.add(span, CompletionKind::File, &name, "", None);
        }
    }

    pub(super) fn headers(&mut self, span: Span, after: &str) {
        self.described_headers(span, after);
        for field in FIELDS {
            self.add(span, CompletionKind::Header, field.name, field.meaning, Some(format!("{}{after}", field.name)));
        }
    }

    pub(super) fn header_values(&mut self, name: &str, span: Span) {
        let usual = field(name.trim()).map(|field| field.usual).unwrap_or_default();
        for value in usual {
            self.add(span, CompletionKind::Text, value, "", None);
        }
    }

    pub(super) fn request(&mut self, line: Span) {
        let text = self.view.text(self.source);
        let written = line.of(text);
        let workspace = self.view.workspace();
        match written.rfind(' ') {
            None if !written.starts_with('/') => {
                for (name, help) in METHODS {
                    self.add(line, CompletionKind::Method, name, help, Some(format!("{name} ")));
                }
            }
            at => {
                let span = line.part(at.map_or(0, |at| at + 1), line.len());
                let method = at.map(|at| &written[..at]);
                self.described_targets(span, method);
                let cells = workspace.loaded().flat_map(|file| workspace.cells(file));
                let targets = cells.filter(|cell| Some(*cell) != self.cell).filter_map(|cell| {
                    let target = workspace.cell(cell).request.as_ref()?.target;
                    Some(target.of(&workspace.source(cell.source).text))
                });
                for target in targets.collect::<Vec<_>>() {
                    self.add(span, CompletionKind::Text, target, "another request's target", None);
                }
            }
        }
    }
}

/// The path of a file as another one names it.
pub(in crate::assist) fn relative(from: &str, to: &str) -> String {
    let folder: Vec<&str> = from.split('/').rev().skip(1).collect::<Vec<_>>().into_iter().rev().collect();
    let target: Vec<&str> = to.split('/').collect();
    let shared = folder.iter().zip(&target).take_while(|(a, b)| a == b).count().min(target.len() - 1);
    let up = std::iter::repeat_n("..", folder.len() - shared);
    up.chain(target[shared..].iter().copied()).collect::<Vec<_>>().join("/")
}
