//! Asking a person. Questions go to standard error, so that a result can be piped away all the same.

use crate::error::CommandError;
use crate::host::HostFacts;
use crate::interrupt::Interrupts;
use dialoguer::console::Term;
use dialoguer::theme::Theme;
use dialoguer::{Confirm, Input, Password};
use std::sync::atomic::{AtomicBool, Ordering};
use std::{fmt, io};
use url::Url;
use yieldtray_engine::Question;
use yieldtray_expression::Value;
use yieldtray_http::MASK;
use yieldtray_source::escape::escape_line;

/// Asks a person, and receives their interrupts.
pub(crate) trait Prompter {
    /// Whether somebody is there.
    fn is_there(&self) -> bool;

    /// A question of `% ask`.
    fn ask(&self, question: &Question) -> Result<Value, CommandError>;

    /// A question for yes or no; `yes` says what the yes does.
    fn confirm(&self, text: &str, yes: &str, default: bool) -> Result<bool, CommandError>;

    /// The same, after lines that the question is about.
    fn confirm_after(&self, lines: &[String], text: &str, yes: &str) -> Result<bool, CommandError>;

    /// Shows where to sign in, and opens the page if the user allows the workspace to.
    fn sign_in(&self, sign_in: &SignIn) -> Result<(), CommandError>;

    /// How they end what is under way.
    fn interrupts(&self) -> io::Result<Interrupts>;
}

/// Where a person signs in for a token.
pub(crate) struct SignIn {
    /// The profile.
    pub(crate) profile: String,
    /// The page.
    pub(crate) page: Url,
    /// The code to enter there; without one, the page is opened.
    pub(crate) code: Option<String>,
}

/// The person at the terminal, if there is one.
pub(crate) struct Terminal {
    can_ask: bool,
    opens_pages: bool,
}

impl Terminal {
    pub(crate) fn of(host: &HostFacts) -> Self {
        Self { can_ask: host.can_ask, opens_pages: false }
    }

    /// The same, for a workspace that may open pages.
    pub(crate) fn opening_pages(host: &HostFacts, opens_pages: bool) -> Self {
        Self { opens_pages, ..Self::of(host) }
    }
}

impl Prompter for Terminal {
    fn is_there(&self) -> bool {
        self.can_ask
    }

    fn ask(&self, asked: &Question) -> Result<Value, CommandError> {
        question(asked)
    }

    fn confirm(&self, text: &str, _yes: &str, default: bool) -> Result<bool, CommandError> {
        confirm(text, default)
    }

    fn confirm_after(&self, lines: &[String], text: &str, _yes: &str) -> Result<bool, CommandError> {
        let terminal = Term::stderr();
        lines.iter().try_for_each(|line| terminal.write_line(&escape_line(line)))?;
        confirm(text, false)
    }

    fn sign_in(&self, sign_in: &SignIn) -> Result<(), CommandError> {
        let terminal = Term::stderr();
        let SignIn { profile, page, code } = sign_in;
        let say = |line: String| terminal.write_line(&escape_line(&line)).map_err(CommandError::from);
        match code {
            Some(code) => say(format!("sign in for `{profile}`: open {page} and enter the code {code}")),
            None if self.opens_pages && webbrowser::open(page.as_str()).is_ok() => {
                say(format!("sign in for `{profile}` in the browser; if no page opened, open {page}"))
            }
            None => say(format!("sign in for `{profile}`: open {page}")),
        }
    }

    fn interrupts(&self) -> io::Result<Interrupts> {
        Interrupts::watch()
    }
}

/// Questions as they are written here: many end in a question mark, so no colon follows.
struct Plain;

impl Theme for Plain {
    fn format_input_prompt(&self, f: &mut dyn fmt::Write, prompt: &str, _: Option<&str>) -> fmt::Result {
        write!(f, "{prompt} ")
    }

    fn format_input_prompt_selection(&self, f: &mut dyn fmt::Write, prompt: &str, answer: &str) -> fmt::Result {
        write!(f, "{prompt} {answer}")
    }
}

/// A question for yes or no.
pub(crate) fn confirm(text: &str, default: bool) -> Result<bool, CommandError> {
    Confirm::with_theme(&Plain).with_prompt(escape_line(text)).default(default).interact().map_err(command_error)
}

/// A question of `% ask`: a choice, a secret, or a line.
pub(crate) fn question(question: &Question) -> Result<Value, CommandError> {
    if let Some(choices) = &question.choices {
        return choice(question, choices);
    }
    let text = escape_line(&question.text);
    let typed = match &question.default {
        Some(_) if question.secret => hidden(format!("{text} {MASK}"), true),
        None if question.secret => hidden(text.into_owned(), false),
        // A default may come from a response: it is shown like one.
        Some(default) => line(format!("{text} [{}]", escape_line(&bare(default)))),
        None => line(text.into_owned()),
    };
    typed.map(|typed| question.read(&typed)).map_err(command_error)
}

/// A secret that is typed and not shown.
pub(crate) fn secret(prompt: &str) -> Result<String, CommandError> {
    hidden(escape_line(prompt).into_owned(), false).map_err(command_error)
}

fn line(prompt: String) -> dialoguer::Result<String> {
    Input::with_theme(&Plain).with_prompt(prompt).allow_empty(true).interact_text()
}

fn hidden(prompt: String, may_be_empty: bool) -> dialoguer::Result<String> {
    TYPING.store(true, Ordering::Relaxed);
    restore_when_interrupted();
    let typed = Password::with_theme(&Plain).with_prompt(prompt).allow_empty_password(may_be_empty).interact();
    TYPING.store(false, Ordering::Relaxed);
    typed
}

/// Whether a secret is being typed.
static TYPING: AtomicBool = AtomicBool::new(false);

/// While a secret is typed the terminal does not show it, and would go on so if Ctrl-C ended the program
/// there. So Ctrl-C then puts the terminal right and ends the program.
fn restore_when_interrupted() {
    #[cfg(unix)]
    {
        use signal_hook::consts::SIGINT;
        use signal_hook::iterator::Signals;
        use signal_hook::low_level::emulate_default_handler;

        static WATCHED: std::sync::Once = std::sync::Once::new();
        let Ok(settings) = rustix::termios::tcgetattr(rustix::stdio::stdin()) else { return };
        WATCHED.call_once(|| {
            let Ok(mut signals) = Signals::new([SIGINT]) else { return };
            std::thread::spawn(move || {
                for _ in signals.forever() {
                    if TYPING.load(Ordering::Relaxed) {
                        let now = rustix::termios::OptionalActions::Now;
                        let _ = rustix::termios::tcsetattr(rustix::stdio::stdin(), now, &settings);
                        std::process::exit(130);
                    }
                    // Nobody else takes it.
                    if !Interrupts::are_watched() {
                        let _ = emulate_default_handler(SIGINT);
                    }
                }
            });
        });
    }
}

/// One of several values: numbered lines, so that nothing has to be drawn anew and the cursor stays.
fn choice(question: &Question, choices: &[Value]) -> Result<Value, CommandError> {
    let terminal = Term::stderr();
    let say = |line: &str| terminal.write_line(&escape_line(line)).map_err(CommandError::from);
    say(&question.text)?;
    for (index, choice) in choices.iter().enumerate() {
        let shown = if question.secret { MASK.to_owned() } else { bare(choice) };
        say(&format!("{:>3}  {shown}", index + 1))?;
    }
    let default = question.default.as_ref().and_then(|default| choices.iter().position(|choice| choice == default));
    let prompt = match default {
        Some(index) => format!("number or text [{}]", index + 1),
        None => "number or text".to_owned(),
    };
    loop {
        let typed = line(prompt.clone()).map_err(command_error)?;
        if let Some(index) = default.filter(|_| typed.is_empty()) {
            return Ok(choices[index].clone());
        }
        let named = choices.iter().find(|choice| bare(choice) == typed);
        let numbered = || typed.parse::<usize>().ok().and_then(|number| choices.get(number.checked_sub(1)?));
        match named.or_else(numbered) {
            Some(value) => return Ok(value.clone()),
            None => say(&format!("type a number from 1 to {}, or one of the values", choices.len()))?,
        }
    }
}

/// A value as somebody would type it: text without quotes.
fn bare(value: &Value) -> String {
    value.as_text().map_or_else(|| value.show(), str::to_owned)
}

/// Ctrl-C and a closed terminal end the command; the terminal is left as it was.
fn command_error(error: dialoguer::Error) -> CommandError {
    let dialoguer::Error::IO(error) = error;
    match error.kind() {
        io::ErrorKind::Interrupted | io::ErrorKind::UnexpectedEof => CommandError::Interrupted,
        _ => CommandError::System(error.into()),
    }
}
