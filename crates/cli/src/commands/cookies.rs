//! `cookies`.

use super::expect_known;
use crate::args::{Common, Cookies, CookiesAction, LazyArgs, Names};
use crate::clock;
use crate::error::CommandError;
use crate::host::HostFacts;
use crate::output::table::Cell;
use crate::output::{Out, data};
use crate::project::{Project, state};
use serde_json::json;
use std::io::Write;
use yieldtray_engine::ExitCode;
use yieldtray_http::MASK;
use yieldtray_source::escape::escape_line;
use yieldtray_store::Kind;
use yieldtray_transport::{Jar, StoredCookie};

/// Shows the cookies that are kept for the chosen environment, or drops some of them.
pub(crate) fn cookies(
    common: &Common,
    args: Cookies,
    host: &HostFacts,
    out: &mut Out,
) -> Result<ExitCode, CommandError> {
    let project = Project::open(common, host, out, &[])?;
    let environment = state::environment(&project.settings).to_owned();
    let mut store = state::open_or_set_aside(&project, out)?;
    let rows = store.as_ref().map(|store| store.credentials(&environment, Kind::Cookie)).transpose()?;
    let rows = rows.unwrap_or_default();
    let jar = Jar::load(rows.iter().filter_map(|row| row.value.as_deref()));
    let cookies = jar.stored();
    let dropped = match args.action {
        None => return show(&project, &cookies, out),
        Some(CookiesAction::Clear(_)) => {
            store.as_mut().map(|store| store.clear_credentials(&environment, Kind::Cookie)).transpose()?.unwrap_or(0)
        }
        Some(CookiesAction::Drop(LazyArgs(Names { names }))) => {
            let known: Vec<&str> = cookies.iter().map(|cookie| cookie.name.as_str()).collect();
            expect_known(&names, &known, |name| format!("no cookie named `{name}`"), "yieldtray cookies")?;
            let gone = cookies.iter().filter(|cookie| names.contains(&cookie.name));
            let places: Vec<String> = gone.map(state::cookie_place).collect();
            if let Some(store) = &mut store {
                store.change_credentials(&environment, Kind::Cookie, &[], &places, clock::now())?;
            }
            places.len()
        }
    };
    out.dropped(&project.heading(), dropped, "cookie", "cookies")?;
    Ok(ExitCode::Success)
}

fn show(project: &Project, cookies: &[StoredCookie], out: &mut Out) -> Result<ExitCode, CommandError> {
    let value = |cookie: &StoredCookie| if project.reveal { cookie.value.clone() } else { MASK.to_owned() };
    if out.settings.json {
        let rows = cookies.iter().map(|cookie| {
            json!({
                "name": cookie.name,
                "value": value(cookie),
                "domain": cookie.domain,
                "path": cookie.path,
                "expires": cookie.ends,
                "attributes": cookie.attributes,
            })
        });
        let document = json!({ "environment": project.settings.environment, "cookies": rows.collect::<Vec<_>>() });
        writeln!(out.result(), "{document}")?;
        return Ok(ExitCode::Success);
    }
    out.print_header(&project.heading())?;
    let styles = out.settings.styles;
    let now = clock::now();
    let lines: Vec<Vec<Cell>> = cookies
        .iter()
        .map(|cookie| {
            let ends = cookie.ends.map_or_else(|| "session".to_owned(), |ends| data::ahead(ends - now));
            vec![
                Cell::new(escape_line(&cookie.name)).painted(styles.name(&escape_line(&cookie.name))),
                Cell::new(escape_line(&value(cookie))).shrinkable(),
                Cell::new(escape_line(&format!("{}{}", cookie.domain, cookie.path))),
                Cell::new(ends),
                Cell::new(cookie.attributes.join(", ")),
            ]
        })
        .collect();
    out.table(&lines)?;
    if cookies.is_empty() && !out.settings.quiet {
        out.say("no cookies; responses to `send` with `Set-Cookie` are stored here")?;
    }
    Ok(ExitCode::Success)
}
