//! Files of encrypted values that can be committed: whom they are encrypted for, and each value by itself under its name, so
//! that a review shows which of them change.

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use thiserror::Error;
use toml_edit::{Array, DocumentMut, Item, Table, value};

/// A new file.
const TEMPLATE: &str = "# Values that are encrypted for the recipients (age). `yieldtray secret seal NAME` writes one,
# `yieldtray secret reseal` encrypts all again after the recipients have changed.
recipients = []

[secrets]
";

/// Why a file of encrypted values cannot be used.
#[derive(Clone, Debug, PartialEq, Eq, Error)]
pub enum SealedFileError {
    /// It is not TOML.
    #[error("it is not valid TOML: {0}")]
    NotToml(String),
    /// It has not the form of such a file.
    #[error("it has no {0}")]
    Missing(&'static str),
    /// A value is not base64.
    #[error("the value of `{0}` is not base64")]
    NotBase64(String),
}

/// Such a file. Comments and layout stay as they are.
#[derive(Clone, Debug)]
pub struct SealedFile(DocumentMut);

impl Default for SealedFile {
    fn default() -> Self {
        Self(TEMPLATE.parse().unwrap_or_default())
    }
}

impl SealedFile {
    /// Reads it.
    ///
    /// # Errors
    /// If it is not TOML, or has not the two parts.
    pub fn parse(text: &str) -> Result<Self, SealedFileError> {
        let document: DocumentMut =
            text.parse().map_err(|error: toml_edit::TomlError| SealedFileError::NotToml(error.message().to_owned()))?;
        if document.get("recipients").and_then(Item::as_array).is_none() {
            return Err(SealedFileError::Missing("list `recipients`"));
        }
        if document.get("secrets").and_then(Item::as_table).is_none() {
            return Err(SealedFileError::Missing("table `[secrets]`"));
        }
        Ok(Self(document))
    }

    /// Whom the values are encrypted for.
    pub fn recipients(&self) -> Vec<String> {
        let list = self.0.get("recipients").and_then(Item::as_array);
        list.into_iter().flatten().filter_map(|member| member.as_str().map(str::to_owned)).collect()
    }

    /// Adds somebody.
    pub fn add_recipient(&mut self, recipient: &str) {
        let list = self.0.entry("recipients").or_insert(value(Array::new()));
        if let Some(list) = list.as_array_mut() {
            list.push_formatted(toml_edit::Value::from(recipient).decorated("\n    ", ""));
            list.set_trailing("\n");
            list.set_trailing_comma(true);
        }
    }

    /// The names of the values.
    pub fn names(&self) -> Vec<String> {
        let secrets = self.0.get("secrets").and_then(Item::as_table);
        secrets.into_iter().flat_map(Table::iter).map(|(name, _)| name.to_owned()).collect()
    }

    /// An encrypted value.
    ///
    /// # Errors
    /// If there is none of that name, or it is not base64.
    pub fn get(&self, name: &str) -> Result<Vec<u8>, SealedFileError> {
        let secrets = self.0.get("secrets").and_then(Item::as_table);
        let text = secrets.and_then(|secrets| secrets.get(name)).and_then(Item::as_str);
        let text = text.ok_or(SealedFileError::Missing("value of that name in `[secrets]`"))?;
        STANDARD.decode(text).map_err(|_| SealedFileError::NotBase64(name.to_owned()))
    }

    /// Puts an encrypted value in.
    pub fn put(&mut self, name: &str, encrypted: &[u8]) {
        let secrets = self.0.entry("secrets").or_insert(Item::Table(Table::new()));
        if let Some(secrets) = secrets.as_table_mut() {
            secrets.insert(name, value(STANDARD.encode(encrypted)));
        }
    }

    /// Its text.
    pub fn to_text(&self) -> String {
        self.0.to_string()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_value_changes_one_line() {
        let mut file = SealedFile::default();
        file.add_recipient("age1mara");
        file.put("pin", b"one");
        file.put("clerk_password", b"two");
        let before = file.to_text();
        assert_eq!(
            before.lines().skip(2).collect::<Vec<_>>().join("\n"),
            "recipients = [\n    \"age1mara\",\n]\n\n[secrets]\npin = \"b25l\"\nclerk_password = \"dHdv\""
        );
        let mut file = SealedFile::parse(&before.replace("age1mara\",", "age1mara\", # Mara")).expect("it is valid");
        file.put("pin", b"three");
        assert_eq!(file.to_text(), before.replace("age1mara\",", "age1mara\", # Mara").replace("b25l", "dGhyZWU="));
        assert_eq!((file.get("clerk_password"), file.recipients()), (Ok(b"two".to_vec()), vec!["age1mara".to_owned()]));
        assert_eq!(file.names(), ["pin", "clerk_password"]);
    }

    #[test]
    fn what_is_no_such_file_is_told() {
        let error = |text: &str| {
            SealedFile::parse(text).and_then(|file| file.get("pin")).expect_err("it is refused").to_string()
        };
        assert!(error("= 1").contains("not valid TOML"));
        assert!(error("[secrets]").contains("no list `recipients`"));
        assert!(error("recipients = []").contains("no table `[secrets]`"));
        assert!(error("recipients = []\n[secrets]").contains("no value of that name"));
        assert!(error("recipients = []\n[secrets]\npin = '!'").contains("not base64"));
    }
}
