//! How a configuration gives a value: itself, or by where it comes from.

use super::variables::how_to_read;
use crate::SealedFile;
use crate::config::Variables;
use std::borrow::Cow;
use std::collections::HashMap;
use std::path::Path;
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use yieldtray_expression::Value;
use yieldtray_source::files::{CommandError, FileSystem};
use yieldtray_source::{SourceId, Span};

/// `NAME = …` of a configuration.
#[derive(Clone)]
pub struct ValueEntry {
    /// The name.
    pub name: String,
    /// How its value is given.
    pub source_kind: ValueSource,
    /// True if it must never be shown.
    pub secret: bool,
    /// The origins that a secret may be sent to; without any, that of `base`.
    pub origins: Vec<String>,
    /// True if it is in the private configuration.
    pub private: bool,
    /// The configuration it is in.
    pub source: SourceId,
    /// The span of the name.
    pub span: Span,
}

/// The ways to give a value.
#[derive(Clone, Debug, PartialEq)]
pub enum ValueSource {
    /// The value itself.
    Value(Value),
    /// `env:NAME`: a variable of the process environment or of `.env`.
    Variable(String),
    /// `file:PATH`: the text of a file, without the line ends that end it.
    File(String),
    /// The output of a command, without the line ends that end it.
    Command(Vec<String>),
    /// `keyring:NAME`: a secret of the system's keyring.
    Keyring(String),
    /// `sealed:PATH`: the value of the same name in a file of encrypted values.
    Sealed(String),
}

impl ValueSource {
    /// Whether a program outside this one gives it: it is asked only when the value is needed.
    pub fn asks_a_program(&self) -> bool {
        matches!(self, ValueSource::Command(_) | ValueSource::Keyring(_))
    }

    /// Whether it gives nothing but secrets.
    pub(super) fn is_secret(&self) -> bool {
        matches!(self, ValueSource::Variable(_) | ValueSource::Keyring(_) | ValueSource::Sealed(_))
    }

    /// The source as text; `None` for a literal value.
    pub fn describe(&self) -> Option<String> {
        match self {
            ValueSource::Value(_) => None,
            ValueSource::Variable(name) => Some(format!("variable {name}")),
            ValueSource::File(path) => Some(format!("file {path}")),
            ValueSource::Command(command) => Some(format!("command {}", command.join(" "))),
            ValueSource::Keyring(name) => Some(format!("keyring {name}")),
            ValueSource::Sealed(path) => Some(format!("sealed {path}")),
        }
    }
}

/// The parts of an entry that its value describes.
pub(super) struct Described {
    pub(super) given: ValueSource,
    pub(super) secret: bool,
    pub(super) origins: Vec<String>,
}

impl std::fmt::Debug for ValueEntry {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The value may be a secret.
        write!(f, "Entry({}{})", self.name, if self.secret { ", secret" } else { "" })
    }
}

/// Why a source has no value.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SourceError {
    /// The message.
    pub message: String,
    /// How to correct it.
    pub hint: String,
}

/// The way out where a workspace must be allowed first.
const NOT_ALLOWED: &str = "review the configuration, then run `yieldtray allow`";

/// Where values can come from beside the texts of the workspace.
#[derive(Clone, Copy)]
pub struct ExternalSources<'o> {
    /// Environment variables.
    pub variables: &'o Variables,
    /// Files and commands.
    pub files: &'o dyn FileSystem,
    /// The values that they returned before.
    pub cache: &'o SourceCache,
}

/// Where an entry is described: the configuration, and the span of its name.
type EntryPlace = (SourceId, Span);

/// The result of a source, once it was asked.
type LoadedOnce = OnceLock<Result<Value, SourceError>>;

/// The results of files, variables and commands. Each is asked once for each entry of the configuration.
#[derive(Default)]
pub struct SourceCache {
    loaded: Mutex<HashMap<EntryPlace, Arc<LoadedOnce>>>,
}

impl SourceCache {
    fn get_or_load(
        &self,
        entry: EntryPlace,
        load: impl FnOnce() -> Result<Value, SourceError>,
    ) -> Result<Value, SourceError> {
        let slot = Arc::clone(self.loaded.lock().unwrap_or_else(PoisonError::into_inner).entry(entry).or_default());
        // The map is not locked while a command runs.
        slot.get_or_init(load).clone()
    }
}

impl ValueEntry {
    pub(super) fn new(name: &str, described: Described, private: bool, source: SourceId, span: Span) -> Self {
        let Described { given, secret, origins } = described;
        Self { name: name.to_owned(), source_kind: given, secret, origins, private, source, span }
    }

    /// The value. A file is read and a command is run when the value is first needed, and never again.
    ///
    /// # Errors
    /// If the source gives none.
    pub fn value<'v>(&'v self, outside: &ExternalSources<'_>) -> Result<Cow<'v, Value>, SourceError> {
        match &self.source_kind {
            ValueSource::Value(value) => Ok(Cow::Borrowed(value)),
            _ => outside.cache.get_or_load((self.source, self.span), || self.load(outside)).map(Cow::Owned),
        }
    }

    fn load(&self, outside: &ExternalSources<'_>) -> Result<Value, SourceError> {
        match &self.source_kind {
            ValueSource::Value(value) => Ok(value.clone()),
            ValueSource::Variable(name) => {
                if let Some(value) = outside.variables.get(name) {
                    return Ok(Value::text(value));
                }
                if outside.variables.withholds(name) {
                    let message = format!(
                        "`{}` reads the environment variable `{name}`, which this workspace is not allowed to read",
                        self.name
                    );
                    return Err(SourceError { message, hint: how_to_read(name) });
                }
                Err(SourceError {
                    message: format!("`{}` reads the environment variable `{name}`, which is not set", self.name),
                    hint: format!("add `{name}=…` to `.env`, or set it and allow the workspace to read it"),
                })
            }
            ValueSource::File(path) => {
                let read = match self.private {
                    true => outside.files.read_private(Path::new(path)),
                    false => outside.files.read_data(Path::new(path)),
                };
                let bytes = read.map_err(|error| {
                    let message =
                        format!("`{}` reads the file `{path}`, which cannot be read: {error}", self.name);
                    let hint = match error.kind() {
                        std::io::ErrorKind::PermissionDenied if self.private => NOT_ALLOWED,
                        _ => {
                            "the path is relative to the workspace root; only the local configuration may use paths outside it"
                        }
                    };
                    SourceError { message, hint: hint.to_owned() }
                })?;
                self.text(bytes, || format!("the file `{path}`"))
            }
            ValueSource::Keyring(name) => {
                let secret = outside.files.keyring(name).map_err(|why| SourceError {
                    message: format!("`{}` comes from the keyring: {}", self.name, why.describe()),
                    hint: match why {
                        CommandError::NotAllowed(_) => NOT_ALLOWED.to_owned(),
                        CommandError::Failed(_) => format!("`yieldtray secret store {name}` stores it"),
                    },
                })?;
                Ok(Value::text(secret))
            }
            ValueSource::Sealed(path) => self.unseal(path, outside.files),
            ValueSource::Command(command) => {
                let output = outside.files.run(command).map_err(|why| SourceError {
                    message: format!("`{}` runs the command `{}`, {}", self.name, command.join(" "), why.describe()),
                    hint: match why {
                        CommandError::NotAllowed(_) => NOT_ALLOWED.to_owned(),
                        CommandError::Failed(_) => {
                            format!("run it by hand to see why, or pass `--set {}=…`", self.name)
                        }
                    },
                })?;
                self.text(output, || format!("the command `{}`", command.join(" ")))
            }
        }
    }

    /// The value of this name in a file of encrypted values.
    fn unseal(&self, path: &str, files: &dyn FileSystem) -> Result<Value, SourceError> {
        let failed = |why: &dyn std::fmt::Display, hint: &str| SourceError {
            message: format!("`{}` is sealed in `{path}`: {why}", self.name),
            hint: hint.to_owned(),
        };
        let seal = format!("`yieldtray secret seal {} --file {path}` writes it", self.name);
        let read = match self.private {
            true => files.read_private(Path::new(path)),
            false => files.read_data(Path::new(path)),
        };
        let bytes = read.map_err(|error| failed(&error, &seal))?;
        let text = String::from_utf8(bytes).map_err(|_| failed(&"it is not UTF-8 text", &seal))?;
        let encrypted = SealedFile::parse(&text).and_then(|file| file.get(&self.name));
        let encrypted = encrypted.map_err(|error| failed(&error, &seal))?;
        let value = files.unseal(&encrypted).map_err(|why| {
            let hint = match why {
                CommandError::NotAllowed(_) => NOT_ALLOWED,
                CommandError::Failed(_) => "a recipient of the file can encrypt it for others",
            };
            failed(&why.describe(), hint)
        })?;
        self.text(value, || format!("the file `{path}`"))
    }

    fn text(&self, bytes: Vec<u8>, whose: impl Fn() -> String) -> Result<Value, SourceError> {
        let text = String::from_utf8(bytes).map_err(|_| SourceError {
            message: format!("`{}` comes from {}, whose output is not UTF-8", self.name, whose()),
            hint: "encode the output, for example as base64".to_owned(),
        })?;
        Ok(Value::text(text.trim_end_matches(['\r', '\n'])))
    }
}

#[cfg(test)]
mod tests {
    use crate::Workspace;
    use crate::config::Variables;
    use std::io;
    use std::path::Path;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};
    use yieldtray_source::files::{CommandError, FileSystem};

    const PRIVATE: &str = "[values]
pin = { command = [\"pin\", \"--now\"] }
gone = { command = [\"gone\"] }
note = { from = \"file:note.txt\" }
shift = { from = \"env:SHIFT\" }
";

    /// Counts the commands and files that are asked.
    struct Counting(Arc<AtomicUsize>);

    impl FileSystem for Counting {
        fn read(&self, path: &Path) -> io::Result<Vec<u8>> {
            match path.to_str() {
                Some("yieldtray.local.toml") => Ok(PRIVATE.into()),
                Some("note.txt") => {
                    self.0.fetch_add(1, Ordering::Relaxed);
                    Ok(b"cold\r\n\n".to_vec())
                }
                _ => Err(io::ErrorKind::NotFound.into()),
            }
        }

        fn run(&self, command: &[String]) -> Result<Vec<u8>, CommandError> {
            self.0.fetch_add(1, Ordering::Relaxed);
            match command {
                [pin, now] if pin == "pin" && now == "--now" => Ok(b"1234\n".to_vec()),
                _ => Err(CommandError::Failed("which is not there".to_owned())),
            }
        }
    }

    #[test]
    fn a_source_is_asked_when_its_value_is_needed_and_only_once() {
        let asked = Arc::new(AtomicUsize::new(0));
        let workspace = Workspace::open(Box::new(Counting(Arc::clone(&asked))));
        assert_eq!(workspace.config_problems().count(), 0, "{:?}", workspace.config_problems().collect::<Vec<_>>());
        let variables = Variables::default();
        let value = |name: &str| {
            let entry = workspace.config.entry(None, name).expect("it is described");
            let value = entry.value(&workspace.outside(&variables));
            value.map(|value| value.show()).map_err(|error| error.message)
        };
        assert_eq!(asked.load(Ordering::Relaxed), 0, "nothing runs before it is needed");
        for _ in 0..2 {
            assert_eq!(value("pin"), Ok("\"1234\"".to_owned()));
            assert_eq!(value("note"), Ok("\"cold\"".to_owned()));
            assert_eq!(value("gone"), Err("`gone` runs the command `gone`, which is not there".to_owned()));
            let unset = "`shift` reads the environment variable `SHIFT`, which is not set";
            assert_eq!(value("shift"), Err(unset.to_owned()));
        }
        assert_eq!(asked.load(Ordering::Relaxed), 3, "failures are not asked again either");
    }
}
