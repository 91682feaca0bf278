//! The settings of a command, resolved in one step from the arguments, the configuration, the choice of the checkout and
//! the facts about the host. Nothing is read here.

use crate::args::{Color, Common};
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::styles::Styles;
use yieldtray_expression::Value;
use yieldtray_http::parse_origin;
use yieldtray_source::names::is_value_name;
use yieldtray_syntax::is_language_name;
use yieldtray_workspace::config::Config;

/// Everything that settings are resolved from.
pub(crate) struct SettingsInput<'a> {
    /// The options that every command has.
    pub(crate) common: &'a Common,
    /// The facts about the host.
    pub(crate) host: &'a HostFacts,
    /// The configuration of the workspace.
    pub(crate) config: &'a Config,
    /// The environment that `yieldtray env` chose for this checkout.
    pub(crate) checkout: Option<String>,
    /// The seed to take where none is given.
    pub(crate) fresh_seed: u64,
}

/// The resolved settings.
#[derive(Debug)]
pub(crate) struct Settings {
    /// The environment, if one is chosen.
    pub(crate) environment: Option<ChosenEnvironment>,
    /// The values of `--set`, in order.
    pub(crate) set: Vec<(String, Value)>,
    /// The origins of `--secrets-to`.
    pub(crate) secrets_to: Vec<String>,
    /// Whether somebody can be asked.
    pub(crate) can_ask: bool,
    /// The seed of random values.
    pub(crate) seed: u64,
}

impl Settings {
    /// Resolves them.
    ///
    /// # Errors
    /// For a value of `--set` or an origin of `--secrets-to` that cannot be read.
    pub(crate) fn resolve(input: SettingsInput<'_>) -> Result<Self, CommandError> {
        let SettingsInput { common, host, config, checkout, fresh_seed } = input;
        Ok(Self {
            environment: choose_environment(common, host, config, checkout),
            set: common.set.iter().map(|text| set_value(text)).collect::<Result<_, _>>()?,
            secrets_to: common.secrets_to.iter().map(|text| origin(text)).collect::<Result<_, _>>()?,
            can_ask: host.can_ask,
            seed: common.seed.unwrap_or(fresh_seed),
        })
    }
}

/// How results and messages are written.
#[derive(Clone, Copy, Debug)]
pub(crate) struct OutputSettings {
    /// Colours of standard output.
    pub(crate) styles: Styles,
    /// Colours of standard error.
    pub(crate) error_styles: Styles,
    /// The terminal's width in columns; `None` if standard output is not a terminal.
    pub(crate) width: Option<usize>,
    /// Whether the result is printed as JSON.
    pub(crate) json: bool,
    /// Whether only failures are printed.
    pub(crate) quiet: bool,
    /// Whether standard output is a terminal.
    pub(crate) terminal: bool,
    /// Whether standard error is a terminal.
    pub(crate) error_terminal: bool,
}

impl OutputSettings {
    /// Resolves them.
    pub(crate) fn resolve(common: &Common, host: &HostFacts) -> Self {
        let styles = |terminal: bool| match common.color {
            Some(Color::Always) => Styles::new(true),
            Some(Color::Never) => Styles::new(false),
            None | Some(Color::Auto) => Styles::new(terminal && !host.no_color),
        };
        Self {
            styles: styles(host.out_is_terminal),
            error_styles: styles(host.errors_are_terminal),
            width: host.width,
            json: common.json,
            quiet: common.quiet,
            terminal: host.out_is_terminal,
            error_terminal: host.errors_are_terminal,
        }
    }
}

/// An environment, and who chose it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct ChosenEnvironment {
    /// Its name, which the configuration may not have.
    pub(crate) name: String,
    /// The source of the choice.
    pub(crate) chosen_by: ChosenBy,
}

/// The source of the chosen environment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum ChosenBy {
    /// `--env`
    Option,
    /// `YIELDTRAY_ENV`
    Variable,
    /// `yieldtray env NAME`
    Checkout,
    /// `[workspace] environment`
    Configuration,
}

impl ChosenBy {
    /// The source, as a person would look for it.
    pub(crate) fn describe(self) -> &'static str {
        match self {
            ChosenBy::Option => "--env",
            ChosenBy::Variable => "YIELDTRAY_ENV",
            ChosenBy::Checkout => "`yieldtray env`",
            ChosenBy::Configuration => "yieldtray.toml",
        }
    }
}

/// The chosen environment: that of the command line, else of the process, else of the checkout, else of the
/// configuration.
pub(crate) fn choose_environment(
    common: &Common,
    host: &HostFacts,
    config: &Config,
    checkout: Option<String>,
) -> Option<ChosenEnvironment> {
    let configured = config.environment.as_ref().map(|(name, ..)| name.clone());
    let candidates = [
        (common.env.last().cloned(), ChosenBy::Option),
        (host.environment.clone(), ChosenBy::Variable),
        (checkout, ChosenBy::Checkout),
        (configured, ChosenBy::Configuration),
    ];
    candidates.into_iter().find_map(|(name, chosen_by)| Some(ChosenEnvironment { name: name?, chosen_by }))
}

/// An origin of `--secrets-to`.
fn origin(text: &str) -> Result<String, CommandError> {
    parse_origin(text).ok_or_else(|| {
        let hint = "expected scheme, host and port, for example `--secrets-to https://scale.example`";
        CommandError::refused_with(format!("`--secrets-to {text}` is not an origin"), hint)
    })
}

/// `NAME=VALUE`, the value as [`Value::infer`] reads it.
pub(crate) fn set_value(text: &str) -> Result<(String, Value), CommandError> {
    let Some((name, value)) = text.split_once('=') else {
        return Err(CommandError::refused_with(
            format!("`--set {text}` is missing a value"),
            format!("write `--set {text}=…`"),
        ));
    };
    variable_name(name)?;
    Ok((name.to_owned(), Value::infer(value)))
}

/// Refuses what cannot be the name of a variable.
pub(crate) fn variable_name(name: &str) -> Result<(), CommandError> {
    if !is_value_name(name) {
        let hint = "use letters, digits and `_`, not starting with a digit";
        return Err(CommandError::refused_with(format!("`{name}` is not a valid variable name"), hint));
    }
    if is_language_name(name) {
        let message = format!("`{name}` is reserved and cannot be a variable name");
        return Err(CommandError::refused(message));
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    use yieldtray_source::SourceId;

    fn common() -> Common {
        Common {
            directory: None,
            env: Vec::new(),
            set: Vec::new(),
            set_from: Vec::new(),
            seed: None,
            allow: false,
            read_env: Vec::new(),
            secrets_to: Vec::new(),
            reveal: false,
            json: false,
            color: None,
            quiet: false,
            verbose: false,
        }
    }

    fn host() -> HostFacts {
        HostFacts {
            out_is_terminal: false,
            errors_are_terminal: false,
            width: None,
            height: None,
            pager: None,
            no_color: false,
            can_ask: false,
            environment: None,
            allow: None,
        }
    }

    fn config(text: &str) -> Config {
        Config::parse(text, SourceId(0), false).0
    }

    #[test]
    fn the_nearest_source_chooses_the_environment() {
        let configured = config("[workspace]\nenvironment = \"local\"\n[environments.local]\n");
        let mut common = common();
        let mut host = host();
        let chosen = |common: &Common, host: &HostFacts, config: &Config, checkout: Option<&str>| {
            let chosen = choose_environment(common, host, config, checkout.map(str::to_owned))?;
            Some((chosen.name, chosen.chosen_by))
        };
        let by = |name: &str, by| Some((name.to_owned(), by));
        assert_eq!(chosen(&common, &host, &config(""), None), None);
        assert_eq!(chosen(&common, &host, &configured, None), by("local", ChosenBy::Configuration));
        assert_eq!(chosen(&common, &host, &configured, Some("dock")), by("dock", ChosenBy::Checkout));
        host.environment = Some("live".to_owned());
        assert_eq!(chosen(&common, &host, &configured, Some("dock")), by("live", ChosenBy::Variable));
        common.env = vec!["yard".to_owned()];
        assert_eq!(chosen(&common, &host, &configured, Some("dock")), by("yard", ChosenBy::Option));
    }

    #[test]
    fn settings_come_from_the_arguments_or_tell_what_is_wrong_with_them() {
        let resolve = |set: &[&str], secrets_to: &[&str], seed: Option<u64>| {
            let list = |texts: &[&str]| texts.iter().map(|text| (*text).to_owned()).collect();
            let common = Common { set: list(set), secrets_to: list(secrets_to), seed, ..common() };
            let (config, host) = (config(""), HostFacts { can_ask: true, ..host() });
            let input = SettingsInput { common: &common, host: &host, config: &config, checkout: None, fresh_seed: 7 };
            Settings::resolve(input).map_err(|error| match error {
                CommandError::Refused { message, hint, .. } => format!("{message} | {}", hint.unwrap_or_default()),
                other => format!("{other:?}"),
            })
        };
        let settings = resolve(&["bins=24"], &["HTTPS://Scale.example:443"], None).expect("they are right");
        assert_eq!(settings.set, [("bins".to_owned(), Value::infer("24"))]);
        assert_eq!(settings.secrets_to, ["https://scale.example"]);
        assert_eq!((settings.seed, settings.can_ask), (7, true));
        assert_eq!(resolve(&[], &[], Some(4616)).expect("they are right").seed, 4616);
        let wrong = |set: &[&str], secrets_to: &[&str]| resolve(set, secrets_to, None).map(drop);
        assert_eq!(wrong(&["bins"], &[]), Err("`--set bins` is missing a value | write `--set bins=…`".to_owned()));
        assert_eq!(
            wrong(&["4bins=1"], &[]),
            Err("`4bins` is not a valid variable name | use letters, digits and `_`, not starting with a digit"
                .to_owned())
        );
        assert_eq!(wrong(&["status=1"], &[]), Err("`status` is reserved and cannot be a variable name | ".to_owned()));
        assert_eq!(
            wrong(&[], &["scale.example"]),
            Err("`--secrets-to scale.example` is not an origin | expected scheme, host and port, for example \
                 `--secrets-to https://scale.example`"
                .to_owned())
        );
    }

    #[test]
    fn colours_follow_the_option_else_each_stream() {
        let coloured = |color: Option<Color>, terminals: (bool, bool), no_color: bool| {
            let common = Common { color, ..common() };
            let (out_is_terminal, errors_are_terminal) = terminals;
            let host = HostFacts { out_is_terminal, errors_are_terminal, no_color, ..host() };
            let settings = OutputSettings::resolve(&common, &host);
            (settings.styles.has_color(), settings.error_styles.has_color())
        };
        for color in [None, Some(Color::Auto)] {
            assert_eq!(coloured(color, (true, true), false), (true, true));
            assert_eq!(coloured(color, (false, true), false), (false, true));
            assert_eq!(coloured(color, (true, false), false), (true, false));
            assert_eq!(coloured(color, (true, true), true), (false, false));
        }
        assert_eq!(coloured(Some(Color::Always), (false, false), true), (true, true));
        assert_eq!(coloured(Some(Color::Never), (true, true), false), (false, false));
    }

    #[test]
    fn a_set_value_is_what_it_looks_like() {
        let shown = |text| set_value(text).map(|(name, value)| format!("{name} {}", value.show())).ok();
        assert_eq!(shown("bins=24").as_deref(), Some("bins 24"));
        assert_eq!(shown("grower=G-11").as_deref(), Some("grower \"G-11\""));
        assert_eq!(shown("code=007").as_deref(), Some("code \"007\""));
        assert_eq!(shown("code=\"24\"").as_deref(), Some("code \"24\""));
        assert_eq!(shown("note=a=b").as_deref(), Some("note \"a=b\""));
        assert_eq!(shown("empty=").as_deref(), Some("empty \"\""));
        assert_eq!(shown("bins"), None);
        assert_eq!(shown("4bins=1"), None);
        assert_eq!(shown("status=1"), None);
    }
}
