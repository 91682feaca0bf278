//! `help`: of a command as with `--help`, and of topics, which are pages of the documentation.

use crate::args::{Args, Help};
use crate::error::CommandError;
use crate::output::Out;
use crate::output::markdown;
use crate::topics::{page, topics};
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_source::{Code, closest};

/// Prints the help of a command, of a topic or of a diagnostic code; without arguments, of the program.
pub(crate) fn help(args: &Help, out: &mut Out) -> Result<ExitCode, CommandError> {
    let mut command = Args::grouped();
    command.build();
    let Some((first, rest)) = args.about.split_first() else {
        write!(out.result(), "{}", command.render_help())?;
        return Ok(ExitCode::Success);
    };
    if rest.is_empty() {
        if let Some(page) = page(first) {
            return print(page, out);
        }
        if let Some(code) = Code::named(first) {
            return explain(code, out);
        }
    }
    let mut found = Some(&mut command);
    for name in &args.about {
        found = found.and_then(|command| command.find_subcommand_mut(name));
    }
    let Some(found) = found else {
        let command = Args::grouped();
        let names = command.get_subcommands().map(clap::Command::get_name).chain(topics().map(|(name, _)| name));
        let hint = match closest(first, names.chain(Code::ALL.iter().map(|code| code.as_str()))) {
            Some(meant) => format!("did you mean `{meant}`?"),
            None => "see `yieldtray help` for the commands, and `yieldtray help help` for the topics".to_owned(),
        };
        return Err(CommandError::refused_with(format!("no command or topic `{}`", args.about.join(" ")), hint));
    };
    write!(out.result(), "{}", found.render_help())?;
    Ok(ExitCode::Success)
}

/// The row of the page of diagnostics about one code.
fn explain(code: Code, out: &mut Out) -> Result<ExitCode, CommandError> {
    let page = page("diagnostics").unwrap_or_default();
    let own = format!("`{}`", code.as_str());
    let row = page.lines().find(|line| line.starts_with("| ") && line.contains(&own));
    let about = row.and_then(|row| row.trim_matches(['|', ' ']).rsplit(" | ").next()).unwrap_or("not documented");
    writeln!(out.result(), "{}: {}", code.as_str(), about.replace('`', ""))?;
    Ok(ExitCode::Success)
}

fn print(page: &str, out: &mut Out) -> Result<ExitCode, CommandError> {
    let settings = out.settings;
    write!(out.result(), "{}", markdown::to_text(page, settings.width.unwrap_or(100).clamp(40, 120), settings.styles))?;
    Ok(ExitCode::Success)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_code_is_documented() {
        let page = page("diagnostics").expect("a topic");
        let missing: Vec<&str> =
            Code::ALL.iter().map(|code| code.as_str()).filter(|code| !page.contains(&format!("`{code}`"))).collect();
        assert_eq!(missing, [""; 0]);
    }
}
