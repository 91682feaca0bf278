//! `token`.

use super::expect_known;
use crate::args::{Common, LazyArgs, Token as TokenArgs, TokenAction};
use crate::clock;
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::cell::token_line;
use crate::output::table::Cell;
use crate::output::{Out, data};
use crate::project::{Project, state};
use crate::prompt::{Prompter, Terminal};
use crate::run::authorization::{Advance, Authorization};
use crate::run::client_options::options;
use anyhow::Context;
use serde_json::json;
use std::io::Write;
use std::sync::Arc;
use yieldtray_credentials::oauth::{RevocationFlow, Token, TokenFlow, TokenKind, TokenParams};
use yieldtray_engine::{ExitCode, ObtainedToken, TokenReport};
use yieldtray_http::Failure;
use yieldtray_source::escape::escape_line;
use yieldtray_store::Kind;
use yieldtray_transport::Client;
use yieldtray_workspace::request::token_params;
use yieldtray_workspace::scope::{EvalCache, EvalContext, PromptAnswers, Resolver, Tray};
use yieldtray_workspace::secret::Masker;

/// Shows the tokens that are kept for the chosen environment, obtains one, or drops some.
pub(crate) fn token(
    common: &Common,
    args: TokenArgs,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    match args.action {
        None => show(&Project::open(common, host, out, &[])?, out),
        Some(TokenAction::Get(LazyArgs(args))) => {
            let mut project = Project::open_to_evaluate(common, host, out, &[])?;
            expect_profiles(&project, &args.profiles)?;
            args.profiles.iter().try_for_each(|profile| get(&mut project, profile, host, out))?;
            Ok(ExitCode::Success)
        }
        Some(TokenAction::Drop(LazyArgs(args))) => {
            let project = Project::open(common, host, out, &[])?;
            expect_stored(&stored(&project, out)?, &args.profiles)?;
            forget(&project, &args.profiles, out)?;
            out.dropped(&project.heading(), args.profiles.len(), "token", "tokens")?;
            Ok(ExitCode::Success)
        }
        Some(TokenAction::Revoke(LazyArgs(args))) => {
            let mut project = Project::open_to_evaluate(common, host, out, &[])?;
            let tokens = stored(&project, out)?;
            expect_stored(&tokens, &args.profiles)?;
            for token in tokens.iter().filter(|token| args.profiles.contains(&token.profile)) {
                revoke(&mut project, token, out)?;
            }
            out.dropped(&project.heading(), args.profiles.len(), "token revoked and", "tokens revoked and")?;
            Ok(ExitCode::Success)
        }
        Some(TokenAction::Clear(_)) => {
            let project = Project::open(common, host, out, &[])?;
            let environment = state::environment(&project.settings).to_owned();
            let mut store = state::open_or_set_aside(&project, out)?;
            let cleared = store.as_mut().map(|store| store.clear_credentials(&environment, Kind::Token)).transpose()?;
            out.dropped(&project.heading(), cleared.unwrap_or(0), "token", "tokens")?;
            Ok(ExitCode::Success)
        }
    }
}

/// The tokens of the environment.
fn stored(project: &Project, out: &mut Out) -> Result<Vec<Token>, CommandError> {
    let store = state::open_or_set_aside(project, out)?;
    let environment = state::environment(&project.settings);
    Ok(store.as_ref().map(|store| state::tokens(store, environment)).transpose()?.unwrap_or_default())
}

fn expect_stored(tokens: &[Token], profiles: &[String]) -> Result<(), CommandError> {
    let known: Vec<&str> = tokens.iter().map(|token| token.profile.as_str()).collect();
    expect_known(profiles, &known, |name| format!("no token of `{name}` is stored"), "yieldtray token")
}

fn expect_profiles(project: &Project, profiles: &[String]) -> Result<(), CommandError> {
    let known: Vec<&str> = project.workspace.config.profiles.iter().map(|profile| profile.name.as_str()).collect();
    expect_known(profiles, &known, |name| format!("no OAuth 2.0 profile `{name}`"), "yieldtray help config")
}

fn forget(project: &Project, profiles: &[String], out: &mut Out) -> Result<(), CommandError> {
    let mut store = state::open_or_set_aside(project, out)?;
    if let Some(store) = &mut store {
        let environment = state::environment(&project.settings);
        store.change_credentials(environment, Kind::Token, &[], profiles, clock::now())?;
    }
    Ok(())
}

/// Obtains a token, whether one is stored or not, and stores it.
fn get(project: &mut Project, profile: &str, host: &HostFacts, out: &mut Out) -> Result<(), CommandError> {
    let (params, masker) = params(project, profile, out)?;
    let flow = TokenFlow::new(params, None).map_err(CommandError::refused)?;
    let prompter = Terminal::opening_pages(host, project.trust.allows());
    let client = Arc::new(Client::new(options(project)?));
    let mut authorization = Authorization::new(Box::new(flow), client);
    let runtime = runtime()?;
    let outcome = loop {
        match runtime.block_on(authorization.advance(prompter.is_there())) {
            Advance::Show(sign_in) => prompter.sign_in(&sign_in)?,
            Advance::Done(outcome) => break outcome,
        }
    };
    let ObtainedToken { token, url, elapsed, renewed } =
        outcome.map_err(|failure| refused(profile, failure, &masker))?;
    let mut store = state::open_or_set_aside(project, out)?;
    let store = state::made(&mut store, &project.root)?;
    let environment = state::environment(&project.settings);
    store.change_credentials(environment, Kind::Token, &[state::token_row(&token)], &[], clock::now())?;
    let seconds = token.expires_at.map(|expires_at| expires_at - clock::now());
    let url = masker.mask(&url).into_owned();
    let report = TokenReport { profile: profile.to_owned(), url, elapsed, seconds, renewed };
    if out.settings.json {
        writeln!(out.result(), "{}", data::token(&report))?;
    } else if !out.settings.quiet {
        let line = token_line(&report, &report.url, out.settings.styles);
        out.print_header(&project.heading())?;
        writeln!(out.result(), "{line}")?;
    }
    Ok(())
}

/// Revokes a token at its server (RFC 7009), and forgets it.
fn revoke(project: &mut Project, token: &Token, out: &mut Out) -> Result<(), CommandError> {
    let (params, masker) = params(project, &token.profile, out)?;
    let mut flow = RevocationFlow::new(params, token);
    let client = Client::new(options(project)?);
    let runtime = runtime()?;
    let hint = "`yieldtray token drop` removes it without telling the server";
    let failed = |error: String| {
        let message = format!("the token of `{}` is not revoked: {}", token.profile, masker.mask(&error));
        CommandError::refused_with(message, hint)
    };
    while let Some(request) = flow.next(clock::now()).map_err(|error| failed(error.to_string()))? {
        let answer = runtime.block_on(client.send(&request)).map_err(|failure| failed(failure.message))?;
        flow.received(&answer).map_err(|error| failed(error.to_string()))?;
    }
    forget(project, std::slice::from_ref(&token.profile), out)
}

/// The parameters of a token request for the profile, and the masker of its secrets.
fn params(project: &mut Project, profile: &str, out: &mut Out) -> Result<(TokenParams, Masker), CommandError> {
    // A request of no file, so that the profile sees the values that every request sees.
    let cell = project.take_text("<command line>", format!("% auth oauth2 \"{profile}\"\nGET {{{{base}}}}\n"))?;
    let (tray, answers, mut cache) = (Tray::default(), PromptAnswers::default(), EvalCache::default());
    let Project { workspace, engine, random, settings, .. } = &*project;
    let context = EvalContext { workspace, engine, random, settings, tray: &tray, answers: &answers };
    let found = token_params(&mut Resolver::new(context, cell, &[], &mut cache));
    let mut masker = Masker::default();
    masker.learn(cache.secrets.iter().map(|secret| secret.value.clone()));
    match found {
        Ok(Some(params)) => Ok((params, masker)),
        Ok(None) => Err(CommandError::Mistakes),
        Err(found) => {
            out.problems(&project.workspace, &found)?;
            Err(CommandError::Mistakes)
        }
    }
}

fn refused(profile: &str, failure: Failure, masker: &Masker) -> CommandError {
    let message = masker.mask(&format!("no token for `{profile}`: {}", failure.message)).into_owned();
    match failure.hint {
        Some(hint) => CommandError::refused_with(message, hint),
        None => CommandError::refused(message),
    }
}

fn runtime() -> Result<tokio::runtime::Runtime, CommandError> {
    Ok(tokio::runtime::Builder::new_current_thread().enable_all().build().context("cannot start")?)
}

fn show(project: &Project, out: &mut Out) -> Result<ExitCode, CommandError> {
    let tokens = stored(project, out)?;
    let kind = |token: &Token| if matches!(token.kind, TokenKind::Bearer) { "Bearer" } else { "DPoP" };
    if out.settings.json {
        let rows = tokens.iter().map(|token| {
            json!({
                "profile": token.profile, "type": kind(token), "scope": token.scope, "expires": token.expires_at,
                "renewable": token.refresh.is_some(),
            })
        });
        let document = json!({ "environment": project.settings.environment, "tokens": rows.collect::<Vec<_>>() });
        writeln!(out.result(), "{document}")?;
        return Ok(ExitCode::Success);
    }
    out.print_header(&project.heading())?;
    let styles = out.settings.styles;
    let now = clock::now();
    let lines: Vec<Vec<Cell>> = tokens
        .iter()
        .map(|token| {
            let ends = match token.expires_at {
                None => "no expiry known".to_owned(),
                Some(ends) if ends <= now => "expired".to_owned(),
                Some(ends) => data::ahead(ends - now),
            };
            let ends = if token.refresh.is_some() { format!("{ends}, renewed by itself") } else { ends };
            let name = escape_line(&token.profile);
            vec![
                Cell::new(name.clone()).painted(styles.name(&name)),
                Cell::new(kind(token)),
                Cell::new(escape_line(token.scope.as_deref().unwrap_or("no scope"))).shrinkable(),
                Cell::new(ends),
            ]
        })
        .collect();
    out.table(&lines)?;
    if tokens.is_empty() && !out.settings.quiet {
        out.say("no tokens; requests with `% auth oauth2` store theirs here, and `yieldtray token get` obtains one")?;
    }
    Ok(ExitCode::Success)
}
