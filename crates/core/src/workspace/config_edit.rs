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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_new_environment_has_the_names_of_another() {
        let text = "# ours\n[values]\nseason = 2026 # the year\n\n[environments.bench.values]   # a stand-in\nbase = \"http://b\"\npin = { from = \"env:PIN\", secret = true }\n\n[environments.live]\nguard = true\n";
        let changed = add_environment_like(text, "rehearsal", "bench").expect("it is TOML");
        assert!(changed.starts_with(text), "{changed}");
        let added = &changed[text.len()..];
        assert_eq!(added, "\n[environments.rehearsal.values]\nbase = \"\"\npin = { value = \"\", secret = true }\n");
        let guarded = add_environment_like(text, "dress", "live").expect("it is TOML");
        assert!(
            guarded.ends_with("\n[environments.dress]\nguard = true\n\n[environments.dress.values]\n"),
            "{guarded}"
        );
        assert_eq!(add_environment_like(text, "live", "bench"), Err(EditError::Exists));
        assert_eq!(add_environment_like(text, "x", "bnch"), Err(EditError::NoSuch));
        assert!(matches!(add_environment_like("[a", "x", "b"), Err(EditError::NotToml(_))));
        // Written in one line, it stays valid all the same.
        let inline = add_environment_like("environments = { bench = { values = { a = 1 } } }\n", "live", "bench");
        assert!(inline.expect("it is TOML").parse::<DocumentMut>().is_ok());
    }
}
