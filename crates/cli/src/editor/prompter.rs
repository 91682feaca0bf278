//! Prompts through the editor.

use crate::error::CommandError;
use crate::interrupt::Interrupts;
use crate::project::trust::Trust;
use crate::prompt::{Prompter, SignIn};
use std::io;
use yieldtray_engine::Question;
use yieldtray_expression::Value;
use yieldtray_lsp::JobUi;

/// Somebody who is asked through the editor, and ends what is under way there.
pub(super) struct EditorPrompter<'t> {
    pub(super) ui: &'t dyn JobUi,
    /// Whether pages may be opened.
    pub(super) trust: Trust,
}

impl Prompter for EditorPrompter<'_> {
    fn is_there(&self) -> bool {
        true
    }

    fn ask(&self, question: &Question) -> Result<Value, CommandError> {
        let typed = self.ui.ask(question).ok_or(CommandError::Interrupted)?;
        let shown = |value: &Value| value.as_text().map_or_else(|| value.show(), str::to_owned);
        let chosen = question.choices.iter().flatten().find(|choice| shown(choice) == typed);
        Ok(chosen.cloned().unwrap_or_else(|| question.read(&typed)))
    }

    fn confirm(&self, text: &str, yes: &str, _default: bool) -> Result<bool, CommandError> {
        Ok(self.ui.confirm(text, yes))
    }

    fn confirm_after(&self, lines: &[String], text: &str, yes: &str) -> Result<bool, CommandError> {
        Ok(self.ui.confirm(&format!("{}\n{text}", lines.join("\n")), yes))
    }

    fn sign_in(&self, sign_in: &SignIn) -> Result<(), CommandError> {
        let SignIn { profile, page, code } = sign_in;
        let message = match code {
            Some(code) => format!("Sign in for `{profile}`: open {page} and enter the code {code}"),
            None => format!("Sign in for `{profile}`: open {page}"),
        };
        self.ui.show_page(&message, page.as_str(), code.is_none() && self.trust.allows());
        Ok(())
    }

    fn interrupts(&self) -> io::Result<Interrupts> {
        Ok(Interrupts::wished(self.ui.cancelled()))
    }
}

/// Answers each question with its default, or with an empty text, without asking.
pub(super) struct DefaultAnswers;

impl Prompter for DefaultAnswers {
    fn is_there(&self) -> bool {
        false
    }

    fn ask(&self, question: &Question) -> Result<Value, CommandError> {
        Ok(question.default.clone().unwrap_or_else(|| Value::text("")))
    }

    fn confirm(&self, _text: &str, _yes: &str, default: bool) -> Result<bool, CommandError> {
        Ok(default)
    }

    fn confirm_after(&self, _lines: &[String], _text: &str, _yes: &str) -> Result<bool, CommandError> {
        Ok(false)
    }

    fn sign_in(&self, _sign_in: &SignIn) -> Result<(), CommandError> {
        Ok(())
    }

    fn interrupts(&self) -> io::Result<Interrupts> {
        Interrupts::watch()
    }
}
