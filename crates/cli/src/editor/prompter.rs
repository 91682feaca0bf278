//! Prompts through the editor.

use crate::error::CommandError;
use crate::interrupt::Interrupts;
use crate::prompt::Prompter;
use std::io;
use yieldtray_engine::Question;
use yieldtray_expression::Value;
use yieldtray_lsp::JobUi;

/// Somebody who is asked through the editor, and ends what is under way there.
pub(super) struct EditorPrompter<'t>(pub(super) &'t dyn JobUi);

impl Prompter for EditorPrompter<'_> {
    fn is_there(&self) -> bool {
        true
    }

    fn ask(&self, question: &Question) -> Result<Value, CommandError> {
        let typed = self.0.ask(question).ok_or(CommandError::Interrupted)?;
        let shown = |value: &Value| value.as_text().map_or_else(|| value.show(), str::to_owned);
        let chosen = question.choices.iter().flatten().find(|choice| shown(choice) == typed);
        Ok(chosen.cloned().unwrap_or_else(|| question.read(&typed)))
    }

    fn confirm(&self, text: &str, yes: &str, _default: bool) -> Result<bool, CommandError> {
        Ok(self.0.confirm(text, yes))
    }

    fn confirm_after(&self, lines: &[String], text: &str, yes: &str) -> Result<bool, CommandError> {
        Ok(self.0.confirm(&format!("{}\n{text}", lines.join("\n")), yes))
    }

    fn interrupts(&self) -> io::Result<Interrupts> {
        Ok(Interrupts::wished(self.0.cancelled()))
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

    fn interrupts(&self) -> io::Result<Interrupts> {
        Interrupts::watch()
    }
}
