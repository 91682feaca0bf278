//! Asking a person. Questions go to standard error, so that a result can be piped away all the same.

use crate::failure::Stop;
use dialoguer::{Confirm, Input, Password, Select};
use yieldtray_core::expression::Value;
use yieldtray_core::replay::Question;

/// A question for yes or no.
pub(crate) fn confirm(text: &str, default: bool) -> Result<bool, Stop> {
    Confirm::new().with_prompt(text).default(default).interact().map_err(stop)
}

/// A question of `% ask`: a choice, a secret, or a line.
pub(crate) fn question(question: &Question) -> Result<Value, Stop> {
    if let Some(choices) = &question.choices {
        let shown: Vec<String> = choices.iter().map(bare).collect();
        let first = question.default.as_ref().and_then(|default| choices.iter().position(|choice| choice == default));
        let chosen = Select::new().with_prompt(&question.text).items(&shown).default(first.unwrap_or(0)).interact_opt();
        return match chosen.map_err(stop)? {
            Some(index) => Ok(choices[index].clone()),
            None => Err(Stop::Interrupted),
        };
    }
    loop {
        let typed = if question.secret {
            let prompt = match question.default {
                Some(_) => format!("{} [as always]", question.text),
                None => question.text.clone(),
            };
            Password::new().with_prompt(prompt).allow_empty_password(question.default.is_some()).interact()
        } else {
            let mut input = Input::<String>::new().with_prompt(&question.text).allow_empty(true);
            if let Some(default) = &question.default {
                input = input.default(bare(default));
            }
            input.interact_text()
        };
        if let Some(value) = question.read(&typed.map_err(stop)?) {
            return Ok(value);
        }
    }
}

/// A value as somebody would type it: text without quotes.
fn bare(value: &Value) -> String {
    value.as_text().map_or_else(|| value.show(), str::to_owned)
}

/// Ctrl-C and a closed terminal end the command; the terminal is left as it was.
fn stop(error: dialoguer::Error) -> Stop {
    let dialoguer::Error::IO(error) = error;
    // A choice hides the cursor while it waits.
    let _ = dialoguer::console::Term::stderr().show_cursor();
    match error.kind() {
        std::io::ErrorKind::Interrupted | std::io::ErrorKind::UnexpectedEof => Stop::Interrupted,
        _ => Stop::System(error.into()),
    }
}
