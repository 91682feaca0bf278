//! The commands in groups, as the help shows them.

use clap::Command;
use std::fmt::Write;

/// The groups, each with its commands in order.
const GROUPS: &[(&str, &[&str])] = &[
    ("Start", &["init", "demo"]),
    ("Run", &["send", "replay", "prove"]),
    ("Inspect", &["list", "values", "env", "tray", "cookies", "token", "log", "api"]),
    ("Write", &["lint", "tidy", "import", "export", "secret"]),
    ("Integrate", &["report", "allow", "lsp", "completions", "help"]),
];

/// The command with its subcommands in groups.
pub(super) fn with_groups(command: Command) -> Command {
    let mut groups = String::new();
    for (group, names) in GROUPS {
        let _ = writeln!(groups, "{group}:");
        for name in *names {
            let about = command.find_subcommand(name).and_then(Command::get_about);
            let about = about.map(ToString::to_string).unwrap_or_default();
            let _ = writeln!(groups, "  {name:<12} {about}");
        }
    }
    let head = "{about}\n\n{usage-heading} {usage}\n\n";
    let tail = "\nGlobal options:\n{options}{after-help}";
    let template = format!("{head}{groups}{tail}");
    command.help_template(template).after_help(
        "Start with: yieldtray demo --keep packhouse\nMore help:  yieldtray help COMMAND, yieldtray help language",
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::args::Args;

    #[test]
    fn every_command_is_in_one_group() {
        let command = Args::grouped();
        let mut shown: Vec<&str> = GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        let mut all: Vec<&str> =
            command.get_subcommands().filter(|command| !command.is_hide_set()).map(Command::get_name).collect();
        shown.sort_unstable();
        all.sort_unstable();
        assert_eq!(shown, all);
    }

    #[test]
    fn each_help_fits_a_screen() {
        let mut command = Args::grouped();
        command.build();
        let mut open = vec![command];
        while let Some(mut command) = open.pop() {
            let help = command.render_help().to_string();
            assert!(help.lines().count() <= 50, "{help}");
            open.extend(command.get_subcommands().cloned());
        }
    }
}
