//! Arguments that are built only when their command is invoked: building those of all commands took a third of the time
//! of a short command.

use super::common::{Common, hide_unused};
use clap::builder::Resettable;
use clap::error::Error;
use clap::{ArgMatches, Args, Command, FromArgMatches};

/// The arguments `T` of a command, and the global options; each subcommand has a `LazyArgs` of its own.
#[derive(Debug)]
pub(crate) struct LazyArgs<T>(pub(crate) T);

impl<T: Args> Args for LazyArgs<T> {
    fn augment_args(command: Command) -> Command {
        command.defer(|command| hide_unused::<T>(with::<Common>(with::<T>(command))))
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl<T: FromArgMatches> FromArgMatches for LazyArgs<T> {
    fn from_arg_matches(matches: &ArgMatches) -> Result<Self, Error> {
        T::from_arg_matches(matches).map(Self)
    }

    fn from_arg_matches_mut(matches: &mut ArgMatches) -> Result<Self, Error> {
        T::from_arg_matches_mut(matches).map(Self)
    }

    fn update_from_arg_matches(&mut self, matches: &ArgMatches) -> Result<(), Error> {
        self.0.update_from_arg_matches(matches)
    }
}

/// The command with more arguments. What it is about is said by then: their comments do not take its place.
fn with<T: Args>(command: Command) -> Command {
    let (about, long) = (command.get_about().cloned(), command.get_long_about().cloned());
    T::augment_args(command).about(Resettable::from(about)).long_about(Resettable::from(long))
}

#[cfg(test)]
mod tests {
    use crate::args::{Args, Color};
    use clap::CommandFactory;

    fn read(line: &str) -> Args {
        let matches = Args::command().try_get_matches_from(line.split(' ')).expect("it can be read");
        Args::of(matches).expect("it is whole")
    }

    #[test]
    fn all_commands_can_be_laid_out_and_have_the_options_of_every_command() {
        let mut command = Args::command();
        command.build();
        let mut open = vec![&command];
        while let Some(command) = open.pop() {
            let is_there = command.get_arguments().any(|arg| arg.get_id() == "directory");
            assert!(is_there, "{}", command.get_bin_name().unwrap_or_default());
            open.extend(command.get_subcommands().filter(|below| below.get_name() != "help"));
        }
    }

    #[test]
    fn the_help_of_a_command_has_the_global_options_that_it_follows() {
        let mut command = Args::command();
        command.build();
        let mut shows = |path: [&str; 2], option: &str| {
            let command = path.iter().try_fold(&mut command, |command, name| command.find_subcommand_mut(name));
            command.expect("a command").render_help().to_string().contains(option)
        };
        let expected = [
            (["log", "export"], "--env", true),
            (["log", "export"], "--seed", false),
            (["log", "resend"], "--seed", true),
            (["import", "har"], "--env", false),
            (["import", "har"], "--json", true),
            (["cookies", "drop"], "--env", true),
        ];
        for (path, option, is_shown) in expected {
            assert_eq!(shows(path, option), is_shown, "{path:?} {option}");
        }
    }

    #[test]
    fn the_options_of_every_command_stand_before_it_or_behind_it() {
        let places = [
            "yieldtray -C api -e local --json --color never log show 41",
            "yieldtray log show 41 -C api -e local --json --color never",
            "yieldtray -C orchard -e live --color always log show -C api -e local --json --color never 41",
        ];
        for line in places {
            let common = read(line).common;
            assert_eq!(common.directory.as_deref(), Some(std::path::Path::new("api")), "{line}");
            assert_eq!((common.env.as_slice(), common.json), (&["local".to_owned()][..], true), "{line}");
            assert_eq!((common.color, common.quiet), (Some(Color::Never), false), "{line}");
        }
    }

    #[test]
    fn values_that_are_set_in_both_places_are_all_set() {
        let common = read("yieldtray --set bins=24 --set grower=G-11 send intake.http --set bins=18 --seed 7").common;
        assert_eq!(common.set, ["bins=24", "grower=G-11", "bins=18"]);
        assert_eq!((common.seed, common.color, common.verbose), (Some(7), None, false));
    }
}
