//! Changing a configuration's text: comments and layout stay as they are.

use toml_edit::{DocumentMut, Formatted, InlineTable, Item, Table, Value};

/// Why a configuration cannot be changed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum EditError {
    /// It is not TOML.
    NotToml(String),
    /// The environment is there already.
    Exists,
    /// It does not describe the environment to be like.
    NoSuch,
}

/// `text` with a new environment that has the names of `like`, each with nothing in it yet: what is
/// declared secret stays so, a guard stays too, since it is safer to have one.
pub fn add_environment_like(text: &str, name: &str, like: &str) -> Result<String, EditError> {
    let mut document: DocumentMut =
        text.parse().map_err(|error: toml_edit::TomlError| EditError::NotToml(error.message().to_owned()))?;
    let environments = document.get("environments").and_then(Item::as_table_like).ok_or(EditError::NoSuch)?;
    if environments.contains_key(name) {
        return Err(EditError::Exists);
    }
    let model = environments.get(like).and_then(Item::as_table_like).ok_or(EditError::NoSuch)?;
    let guard = model.get("guard").and_then(Item::as_bool);
    let mut values = Table::new();
    for (key, item) in model.get("values").and_then(Item::as_table_like).into_iter().flat_map(|values| values.iter()) {
        let secret = item.as_table_like().and_then(|source| source.get("secret")).and_then(Item::as_bool);
        let empty = Value::String(Formatted::new(String::new()));
        let value = match secret {
            Some(true) => {
                let mut source = InlineTable::new();
                source.insert("value", empty);
                source.insert("secret", true.into());
                Value::InlineTable(source)
            }
            _ => empty,
        };
        values.insert(key, Item::Value(value));
    }
    values.decor_mut().set_prefix("\n");
    let mut fresh = Table::new();
    fresh.set_implicit(guard.is_none());
    if let Some(guard) = guard {
        fresh.decor_mut().set_prefix("\n");
        fresh.insert("guard", guard.into());
    }
    fresh.insert("values", Item::Table(values));
    let environments = document.get_mut("environments").and_then(Item::as_table_like_mut).ok_or(EditError::NoSuch)?;
    environments.insert(name, Item::Table(fresh));
    Ok(document.to_string())
}

/// Additions to a configuration from an API description.
#[derive(Clone, Debug, Default)]
pub struct ConfigAdditions {
    /// Environments, and the `base` of each.
    pub environments: Vec<(String, String)>,
    /// Values of every environment that come from variables, and whether each is secret.
    pub values: Vec<(String, bool)>,
    /// The prefix of those variables, so that a description cannot choose which it gets.
    pub prefix: String,
    /// Tables of `oauth2`: the name, the keys and their texts.
    pub profiles: Vec<(String, Vec<(&'static str, String)>)>,
}

/// `text` with what is not in it yet; what is there stays as it is. A configuration that was empty chooses the
/// first environment.
///
/// # Errors
/// If it is not TOML, or has something other than tables in these places.
pub fn add_imported(text: &str, additions: &ConfigAdditions) -> Result<String, EditError> {
    let mut document: DocumentMut =
        text.parse().map_err(|error: toml_edit::TomlError| EditError::NotToml(error.message().to_owned()))?;
    if document.is_empty()
        && let Some((first, _)) = additions.environments.first()
    {
        table(document.as_table_mut(), "workspace")?.insert("environment", toml_edit::value(first));
    }
    for (name, secret) in &additions.values {
        let values = table(document.as_table_mut(), "values")?;
        if values.get(name).is_none() {
            let mut source = InlineTable::new();
            source.insert("from", format!("env:{}_{}", additions.prefix, name.to_uppercase()).into());
            source.insert("secret", (*secret).into());
            values.insert(name, Item::Value(Value::InlineTable(source)));
        }
    }
    for (name, base) in &additions.environments {
        let environments = implicit(document.as_table_mut(), "environments")?;
        if environments.get(name).is_none() {
            let values = table(implicit(environments, name)?, "values")?;
            values.insert("base", toml_edit::value(base));
        }
    }
    for (name, keys) in &additions.profiles {
        let profiles = implicit(document.as_table_mut(), "oauth2")?;
        if profiles.get(name).is_none() {
            let profile = table(profiles, name)?;
            for (key, text) in keys {
                profile.insert(key, toml_edit::value(text));
            }
        }
    }
    Ok(document.to_string())
}

/// A subtable, created after a blank line if it does not exist.
fn table<'t>(of: &'t mut Table, name: &str) -> Result<&'t mut Table, EditError> {
    let item = of.entry(name).or_insert_with(|| Item::Table(Table::new()));
    item.as_table_mut().ok_or(EditError::NoSuch)
}

/// The same, without a header of its own.
fn implicit<'t>(of: &'t mut Table, name: &str) -> Result<&'t mut Table, EditError> {
    let item = of.entry(name).or_insert_with(|| {
        let mut table = Table::new();
        table.set_implicit(true);
        Item::Table(table)
    });
    item.as_table_mut().ok_or(EditError::NoSuch)
}

/// The private configuration `text` with secrets added to the values of every environment: name, secret, and the
/// origins it may be sent to, if other than that of `base`.
/// # Errors
/// If it is not valid TOML, or its `values` is not a table.
pub fn add_secrets(text: &str, secrets: &[(String, String, Vec<String>)]) -> Result<String, EditError> {
    let mut document: DocumentMut =
        text.parse().map_err(|error: toml_edit::TomlError| EditError::NotToml(error.message().to_owned()))?;
    let values = document.entry("values").or_insert(Item::Table(Table::new()));
    let values = values.as_table_like_mut().ok_or(EditError::NoSuch)?;
    for (name, secret, origins) in secrets {
        let mut source = InlineTable::new();
        source.insert("value", secret.as_str().into());
        source.insert("secret", true.into());
        if !origins.is_empty() {
            source.insert("for", toml_edit::Array::from_iter(origins).into());
        }
        values.insert(name, Item::Value(Value::InlineTable(source)));
    }
    Ok(document.to_string())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_new_environment_has_the_names_of_another() {
        let text = "# ours\n[values]\nseason = 2026 # the year\n\n[environments.local.values]   # a stand-in\nbase = \"http://b\"\npin = { from = \"env:PIN\", secret = true }\n\n[environments.live]\nguard = true\n";
        let changed = add_environment_like(text, "rehearsal", "local").expect("it is TOML");
        assert!(changed.starts_with(text), "{changed}");
        let added = &changed[text.len()..];
        assert_eq!(added, "\n[environments.rehearsal.values]\nbase = \"\"\npin = { value = \"\", secret = true }\n");
        let guarded = add_environment_like(text, "dress", "live").expect("it is TOML");
        assert!(
            guarded.ends_with("\n[environments.dress]\nguard = true\n\n[environments.dress.values]\n"),
            "{guarded}"
        );
        assert_eq!(add_environment_like(text, "live", "local"), Err(EditError::Exists));
        assert_eq!(add_environment_like(text, "x", "loacl"), Err(EditError::NoSuch));
        assert!(matches!(add_environment_like("[a", "x", "b"), Err(EditError::NotToml(_))));
        // Written in one line, it stays valid all the same.
        let inline = add_environment_like("environments = { local = { values = { a = 1 } } }\n", "live", "local");
        assert!(inline.expect("it is TOML").parse::<DocumentMut>().is_ok());
    }

    #[test]
    fn secrets_go_to_the_values_of_every_environment() {
        let secrets = [("pin".to_owned(), "a\"b\n".to_owned(), Vec::new())];
        let added = "[values]\npin = { value = \"\"\"\na\"b\n\"\"\", secret = true }\n";
        assert_eq!(add_secrets("", &secrets).as_deref(), Ok(added));
        let text = "# mine\n[values]\na = 1 # one\n\n[environments.live.values]\nb = 2\n";
        let changed = add_secrets(text, &secrets).expect("it is TOML");
        assert!(changed.starts_with("# mine\n[values]\na = 1 # one\npin = {"), "{changed}");
        assert_eq!(add_secrets("values = 1", &secrets), Err(EditError::NoSuch));
    }

    #[test]
    fn a_description_adds_what_is_missing() {
        let additions = ConfigAdditions {
            environments: vec![("local".to_owned(), "http://b".to_owned()), ("live".to_owned(), "http://l".to_owned())],
            values: vec![("gate_key".to_owned(), true), ("clerk".to_owned(), false)],
            prefix: "PACKHOUSE".to_owned(),
            profiles: vec![("desk".to_owned(), vec![("token_url", "http://b/token".to_owned())])],
        };
        let fresh = add_imported("", &additions).expect("it is TOML");
        assert_eq!(
            fresh,
            "[workspace]\nenvironment = \"local\"\n\n[values]\ngate_key = { from = \"env:PACKHOUSE_GATE_KEY\", secret = true }\n\
             clerk = { from = \"env:PACKHOUSE_CLERK\", secret = false }\n\n[environments.local.values]\nbase = \"http://b\"\n\n\
             [environments.live.values]\nbase = \"http://l\"\n\n[oauth2.desk]\ntoken_url = \"http://b/token\"\n"
        );
        assert_eq!(add_imported(&fresh, &additions).as_deref(), Ok(fresh.as_str()));
        let own = "[environments.local.values]\nbase = \"http://mine\" # mine\n";
        let changed = add_imported(own, &additions).expect("it is TOML");
        assert!(changed.contains(own.trim_end()) && changed.contains("http://l"), "{changed}");
        assert_eq!(add_imported("values = 1", &additions), Err(EditError::NoSuch));
    }
}
