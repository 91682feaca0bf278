//! What a run learns from an exchange beside its checks.

use super::Run;
use yieldtray_http::{Exchange, Failure, FailureKind};
use yieldtray_source::names::is_value_name;
use yieldtray_workspace::CellId;
use yieldtray_workspace::scope::{Lookup, Memo, Origin};

impl Run<'_> {
    /// Where the address comes from that nobody answers at.
    pub(super) fn unreachable(&self, cell: CellId, step: usize, failure: &Failure) -> Option<String> {
        if !matches!(failure.kind, FailureKind::Refused | FailureKind::NoSuchHost) {
            return None;
        }
        let target = self.workspace.cell(cell).request.as_ref()?.target;
        let name = base_name(target.of(&self.workspace.source(cell.source).text))?;
        let mut memo = Memo::default();
        let lookup = Lookup::new(self.reach(), cell, &self.plan.steps[step].needs, &mut memo);
        let origin = Origin::of(&lookup.places(name).next()?, self.workspace);
        Some(format!("the address comes from `{name}`, {}", origin.words(self.workspace)))
    }

    /// Cookies are credentials too.
    pub(super) fn learn_cookies(&mut self, exchange: &Exchange) {
        let mut learn = |pair: &str| {
            if let Some((_, value)) = pair.split_once('=') {
                self.masker.add_unless_short(value.trim());
            }
        };
        exchange.sent.header("cookie").into_iter().flat_map(|line| line.split(';')).for_each(&mut learn);
        for (_, line) in exchange.headers.iter().filter(|(name, _)| name.eq_ignore_ascii_case("set-cookie")) {
            String::from_utf8_lossy(line).split(';').take(1).for_each(&mut learn);
        }
    }
}

/// The value a target gets its address from: `base` for a path, or the one in a mark at its start.
fn base_name(target: &str) -> Option<&str> {
    if target.starts_with('/') {
        return Some("base");
    }
    let (name, _) = target.strip_prefix("{{")?.split_once("}}")?;
    Some(name.trim()).filter(|name| is_value_name(name))
}
