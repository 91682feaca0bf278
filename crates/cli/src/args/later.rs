//! Arguments that are laid out when their command is the one that was called: to lay out those of all commands, and
//! throw them away again, took a third of the time that a short command takes.

use super::Common;
use clap::builder::Resettable;
use clap::error::Error;
use clap::{ArgMatches, Args, Command, FromArgMatches};

/// The arguments `T` of a command. The options of every command are laid out beside them, and in the commands below.
#[derive(Debug)]
pub(crate) struct Later<T>(pub(crate) T);

impl<T: Args> Args for Later<T> {
    fn augment_args(command: Command) -> Command {
        command.defer(|command| {
            let command = with::<Common>(with::<T>(command));
            command.mut_subcommands(|below| below.defer(with::<Common>))
        })
    }

    fn augment_args_for_update(command: Command) -> Command {
        Self::augment_args(command)
    }
}

impl<T: FromArgMatches> FromArgMatches for Later<T> {
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
