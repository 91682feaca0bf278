use crate::args::{Common, Prove};
use crate::ask::Terminal;
use crate::choice::choose;
use crate::failure::Stop;
use crate::guard::guard;
use crate::host::Host;
use crate::options::options;
use crate::sending::{Audience, Saving, Senders, drive};
use crate::show::Out;
use crate::show::progress::ProgressLine;
use crate::show::proof::{Proved, Proven};
use std::io;
use std::time::Instant;
use yieldtray_engine::{CellReport, Event, Run};
use yieldtray_transport::{Client, Options};
use yieldtray_workspace::plan::Plan;

/// Sends each request once and says what its checks would not notice.
pub(crate) fn prove(common: &Common, args: &Prove, host: &Host, out: &mut Out) -> Result<u8, Stop> {
    let (mut session, chosen) = choose(common, &args.choice, host, out)?;
    let plan = Plan::new(&mut session.workspace, &chosen, true);
    let person = Terminal::of(host);
    guard(&session, &plan.changing(&session.workspace), args.yes, &person)?;
    let heading = session.heading_of(plan.steps.iter().map(|step| step.cell));
    let workspace = &session.workspace;
    let mut run = Run::new(workspace, &session.engine, session.settings.clone(), plan, false).one_row().proving();
    if session.reveal {
        run = run.revealing();
    }
    let client = Client::new(Options { time_connecting: false, ..options(&session)? });
    let saving = Saving::of(&session);
    let progress = (out.terminal && !out.json).then(|| ProgressLine::new(Instant::now()));
    let mut listening = Listening { out, progress, failed: 0, reports: Vec::new() };
    drive(&mut run, &mut Senders::each(client), &saving, 1, &person, &mut listening)?;
    let reports = std::mem::take(&mut listening.reports);
    let proven = Proven::new(workspace, &reports, args.least);
    let environment = session.settings.environment.as_deref();
    proven.show(&Proved { heading, environment, interrupted: run.summary().interrupted }, out)?;
    out.seed(session.seed_to_tell(run.summary()))?;
    Ok(match run.summary().exit_code() {
        0 => u8::from(!proven.is_enough()),
        code => code,
    }
    .max(session.unreadable_code()))
}

/// Gathers how each cell came out.
struct Listening<'o> {
    out: &'o mut Out,
    progress: Option<ProgressLine>,
    failed: usize,
    reports: Vec<CellReport>,
}

impl Audience for Listening<'_> {
    fn happened(&mut self, run: &Run<'_>, event: Event) -> io::Result<()> {
        match event {
            Event::Cell(report) => {
                self.failed += usize::from(report.proof.is_none());
                self.reports.push(*report);
                self.waits(run)
            }
            Event::Ended(_) => self.gives_way(),
            Event::Began { .. } | Event::Token(_) => Ok(()),
        }
    }

    fn is_waiting(&self) -> bool {
        self.progress.is_some()
    }

    fn waits(&mut self, run: &Run<'_>) -> io::Result<()> {
        match &mut self.progress {
            Some(progress) => progress.draw(self.out, run, self.failed),
            None => Ok(()),
        }
    }

    fn gives_way(&mut self) -> io::Result<()> {
        match &mut self.progress {
            Some(progress) => progress.clear(self.out),
            None => Ok(()),
        }
    }
}
