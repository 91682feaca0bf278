use crate::problem::SourceId;
use crate::syntax::{Auth, Instruction, Kind};
use crate::workspace::{CellId, SendSettings, Workspace};
use std::time::Duration;

/// How a request is sent: by its cell, the preambles over it, the configuration, or as usual.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Sending {
    /// How long the exchange may take, redirects included.
    pub timeout: Duration,
    /// How many redirects are followed.
    pub redirects: u8,
    /// Whether cookies are sent and taken.
    pub cookies: bool,
    /// Whether any certificate will do.
    pub insecure: bool,
    /// Whether the client's certificate may be shown: to the origin of `base` alone.
    pub certificate: bool,
    /// Whether the path goes out as it is written, steps (`.`, `..`) and all.
    pub verbatim_path: bool,
}

impl Default for Sending {
    fn default() -> Self {
        Self {
            timeout: Duration::from_secs(30),
            redirects: 10,
            cookies: true,
            insecure: false,
            certificate: true,
            verbatim_path: false,
        }
    }
}

impl Sending {
    /// What the configuration says, and as usual where it says nothing.
    pub fn configured(settings: &SendSettings) -> Self {
        let usual = Self::default();
        Self {
            timeout: settings.timeout.unwrap_or(usual.timeout),
            redirects: settings.redirects.unwrap_or(usual.redirects),
            cookies: settings.cookies.unwrap_or(usual.cookies),
            insecure: settings.insecure.as_ref().map_or(usual.insecure, |setting| setting.value),
            certificate: usual.certificate,
            verbatim_path: usual.verbatim_path,
        }
    }

    /// This with what the lines over a cell and its own say, the nearest winning.
    pub(super) fn of_cell(mut self, workspace: &Workspace, cell: CellId) -> Self {
        for (_, line) in lines_over(workspace, cell) {
            match line.kind {
                Kind::Timeout(timeout) => self.timeout = timeout,
                Kind::Redirects(redirects) => self.redirects = redirects,
                Kind::Cookies(cookies) => self.cookies = cookies,
                Kind::Insecure(insecure) => self.insecure = insecure,
                Kind::VerbatimPath => self.verbatim_path = true,
                _ => {}
            }
        }
        self
    }
}

/// Whether a cell, or a preamble over it, says `% insecure`.
pub fn says_insecure(workspace: &Workspace, cell: CellId) -> bool {
    let lines = lines_over(workspace, cell).filter_map(|(_, line)| match line.kind {
        Kind::Insecure(insecure) => Some(insecure),
        _ => None,
    });
    lines.last() == Some(true)
}

/// The `% auth` line by which a cell goes out.
pub(crate) struct AuthLine<'w> {
    /// The text it stands in.
    pub(crate) home: SourceId,
    /// The line itself.
    pub(crate) line: &'w Instruction,
    /// What it asks for.
    pub(crate) auth: Auth,
    /// Whether it is the cell's own.
    pub(crate) own: bool,
}

/// The line that says by which credentials a cell goes out: the nearest.
pub(crate) fn auth_of(workspace: &Workspace, cell: CellId) -> Option<AuthLine<'_>> {
    let lines = lines_over(workspace, cell).filter_map(|(home, line)| match line.kind {
        Kind::Auth(auth) => Some((home, line, auth)),
        _ => None,
    });
    let (home, line, auth) = lines.last()?;
    let own = home == cell.source && workspace.cell(cell).span.contains(line.span);
    Some(AuthLine { home, line, auth, own })
}

/// Whether a cell goes out with a token of an OAuth 2.0 profile.
pub fn uses_oauth2(workspace: &Workspace, cell: CellId) -> bool {
    auth_of(workspace, cell).is_some_and(|line| matches!(line.auth, Auth::OAuth2(_)))
}

/// The instructions that hold for a cell, the outermost first, its own last.
fn lines_over(workspace: &Workspace, cell: CellId) -> impl Iterator<Item = (SourceId, &Instruction)> {
    let own = workspace.cell(cell).instructions().map(move |line| (cell.source, line));
    workspace.preambles(cell.source).chain(own)
}
