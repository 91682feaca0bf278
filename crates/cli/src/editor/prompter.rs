//! Whoever sits at the editor.

use crate::error::Stop;
use crate::interrupt::Interrupts;
use crate::prompt::Person;
use std::io;
use yieldtray_engine::Question;
use yieldtray_expression::Value;
use yieldtray_lsp::Talk;

/// Somebody who is asked through the editor, and ends what is under way there.
pub(super) struct Editor<'t>(pub(super) &'t dyn Talk);

impl Person for Editor<'_> {
    fn is_there(&self) -> bool {
        true
    }

    fn ask(&self, question: &Question) -> Result<Value, Stop> {
        let typed = self.0.ask(question).ok_or(Stop::Interrupted)?;
        let shown = |value: &Value| value.as_text().map_or_else(|| value.show(), str::to_owned);
        let chosen = question.choices.iter().flatten().find(|choice| shown(choice) == typed);
        Ok(chosen.cloned().unwrap_or_else(|| question.read(&typed)))
    }

    fn confirm(&self, text: &str, yes: &str, _default: bool) -> Result<bool, Stop> {
        Ok(self.0.confirm(text, yes))
    }

    fn confirm_after(&self, lines: &[String], text: &str, yes: &str) -> Result<bool, Stop> {
        Ok(self.0.confirm(&format!("{}\n{text}", lines.join("\n")), yes))
    }

    fn interrupts(&self) -> io::Result<Interrupts> {
        Ok(Interrupts::wished(self.0.cancelled()))
    }
}
