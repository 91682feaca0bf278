//! Asking a person. Questions go to standard error, so that a result can be piped away all the same.

use crate::failure::Stop;
use crate::show::safe::safe_line;
use dialoguer::console::Term;
use dialoguer::theme::Theme;
use dialoguer::{Confirm, Input, Password};
use std::fmt;
use yieldtray_core::expression::Value;
use yieldtray_core::replay::Question;

/// Questions as they are written here: many end in a question mark, so no colon follows.
struct Plain;

impl Theme for Plain {
    fn format_input_prompt(&self, f: &mut dyn fmt::Write, prompt: &str, default: Option<&str>) -> fmt::Result {
        match default {
            Some(default) => write!(f, "{prompt} [{default}] "),
            None => write!(f, "{prompt} "),
        }
    }

    fn format_input_prompt_selection(&self, f: &mut dyn fmt::Write, prompt: &str, answer: &str) -> fmt::Result {
        write!(f, "{prompt} {answer}")
    }
}

/// A question for yes or no.
pub(crate) fn confirm(text: &str, default: bool) -> Result<bool, Stop> {
    Confirm::with_theme(&Plain).with_prompt(text).default(default).interact().map_err(stop)
}

/// A question of `% ask`: a choice, a secret, or a line.
pub(crate) fn question(question: &Question) -> Result<Value, Stop> {
    if let Some(choices) = &question.choices {
        return choice(question, choices);
    }
    let typed = if question.secret {
        restore_when_interrupted();
        let prompt = match question.default {
            Some(_) => format!("{} [as always]", question.text),
            None => question.text.clone(),
        };
        Password::with_theme(&Plain).with_prompt(prompt).allow_empty_password(question.default.is_some()).interact()
    } else {
        let mut input = Input::<String>::with_theme(&Plain).with_prompt(&question.text).allow_empty(true);
        if let Some(default) = &question.default {
            input = input.default(bare(default));
        }
        input.interact_text()
    };
    typed.map(|typed| question.read(&typed)).map_err(stop)
}

/// While a secret is typed the terminal does not show it, and would go on so if Ctrl-C ended the program
/// there. From here on Ctrl-C puts the terminal right and then ends the program.
fn restore_when_interrupted() {
    #[cfg(unix)]
    {
        static WATCHED: std::sync::Once = std::sync::Once::new();
        let Ok(settings) = rustix::termios::tcgetattr(rustix::stdio::stdin()) else { return };
        WATCHED.call_once(|| {
            let (ready, wait) = std::sync::mpsc::channel();
            std::thread::spawn(move || {
                let Ok(runtime) = tokio::runtime::Builder::new_current_thread().enable_all().build() else { return };
                runtime.block_on(async {
                    let interrupt = tokio::signal::unix::signal(tokio::signal::unix::SignalKind::interrupt());
                    let _ = ready.send(());
                    let Ok(mut interrupt) = interrupt else { return };
                    interrupt.recv().await;
                    let now = rustix::termios::OptionalActions::Now;
                    let _ = rustix::termios::tcsetattr(rustix::stdio::stdin(), now, &settings);
                    std::process::exit(130);
                });
            });
            // The question is not put before somebody watches.
            let _ = wait.recv();
        });
    }
}

/// One of several values: numbered lines, so that nothing has to be drawn anew and the cursor stays.
fn choice(question: &Question, choices: &[Value]) -> Result<Value, Stop> {
    let terminal = Term::stderr();
    let say = |line: &str| terminal.write_line(&safe_line(line)).map_err(Stop::from);
    say(&question.text)?;
    for (index, choice) in choices.iter().enumerate() {
        say(&format!("{:>3}  {}", index + 1, bare(choice)))?;
    }
    let default = question.default.as_ref().and_then(|default| choices.iter().position(|choice| choice == default));
    loop {
        let mut input = Input::<String>::with_theme(&Plain).with_prompt("number or text").allow_empty(true);
        if let Some(index) = default {
            input = input.default((index + 1).to_string());
        }
        let typed = input.interact_text().map_err(stop)?;
        let named = choices.iter().find(|choice| bare(choice) == typed);
        let numbered = || typed.parse::<usize>().ok().and_then(|number| choices.get(number.checked_sub(1)?));
        match named.or_else(numbered) {
            Some(value) => return Ok(value.clone()),
            None => say(&format!("type a number from 1 to {}, or one of them", choices.len()))?,
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
    match error.kind() {
        std::io::ErrorKind::Interrupted | std::io::ErrorKind::UnexpectedEof => Stop::Interrupted,
        _ => Stop::System(error.into()),
    }
}
