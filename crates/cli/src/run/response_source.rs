//! Responses of the log, for runs that send nothing.

use crate::project::{Project, state};
use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;
use yieldtray_report::log::{LoggedExchange, LoggedReadError};
use yieldtray_store::log::{CellRef, ExchangePayload, NumberedExchange};
use yieldtray_store::{Error, Store};
use yieldtray_workspace::CellId;

/// An exchange of the log.
pub(crate) struct LoggedResponse {
    /// When it was received, in milliseconds since 1970.
    pub(crate) at: i64,
    /// The exchange.
    pub(crate) exchange: LoggedExchange<'static>,
}

impl LoggedResponse {
    /// A row of the log.
    ///
    /// # Errors
    /// If it cannot be read, as when a later version wrote it.
    pub(crate) fn read(listed: &NumberedExchange, payload: ExchangePayload) -> Result<Self, LoggedReadError> {
        let ExchangePayload { head, fields, sent, received } = payload;
        Ok(Self { at: listed.summary.at, exchange: LoggedExchange::read(&head, fields, sent, received)? })
    }
}

/// Gives the responses of a run that sends nothing.
pub(crate) trait ResponseSource {
    /// The response to a cell, or to one of its rows.
    fn find(&self, cell: CellId, row: Option<usize>) -> Option<Rc<LoggedResponse>>;

    /// Notes that a run takes this response.
    fn note_used(&self, _response: &LoggedResponse) {}
}

/// The same response, whatever is asked for.
pub(crate) struct SingleResponse(pub(crate) Rc<LoggedResponse>);

impl ResponseSource for SingleResponse {
    fn find(&self, _cell: CellId, _row: Option<usize>) -> Option<Rc<LoggedResponse>> {
        Some(Rc::clone(&self.0))
    }
}

/// How many responses of the log were used, and from when they are.
#[derive(Clone, Copy, Debug, Default)]
pub(crate) struct UsedResponses {
    /// How many.
    pub(crate) count: usize,
    /// When the oldest and the newest were received, in milliseconds since 1970.
    pub(crate) times: Option<(i64, i64)>,
}

/// The cell and row that were asked for last, and what was found.
type LastFound = ((CellId, Option<usize>), Option<Rc<LoggedResponse>>);

/// The last response of the log to each cell, for a row if it has rows.
pub(crate) struct LoggedResponses<'p> {
    project: &'p Project,
    store: Store,
    numbers: HashMap<CellRef, i64>,
    /// A cell is asked for several times in a row, so the last response is not read again.
    last: RefCell<Option<LastFound>>,
    used: RefCell<UsedResponses>,
}

impl<'p> LoggedResponses<'p> {
    /// Those of the chosen environment.
    ///
    /// # Errors
    /// If the log cannot be read.
    pub(crate) fn new(project: &'p Project, store: Store) -> Result<Self, Error> {
        let numbers = store.last_answers(state::environment(&project.settings))?;
        Ok(Self { project, store, numbers, last: RefCell::default(), used: RefCell::default() })
    }

    /// The responses that runs have taken so far.
    pub(crate) fn used(&self) -> UsedResponses {
        *self.used.borrow()
    }

    fn read(&self, cell: CellId, row: Option<usize>) -> Option<Rc<LoggedResponse>> {
        let workspace = &self.project.workspace;
        let row = row.and_then(|row| i64::try_from(row).ok());
        let place = (workspace.shown_path(cell.source), workspace.cell(cell).name.to_string(), row);
        // A row of the log that cannot be read counts as missing, and is reported as that.
        let (listed, message) = self.store.exchange(*self.numbers.get(&place)?).ok().flatten()?;
        LoggedResponse::read(&listed, message).ok().map(Rc::new)
    }
}

impl ResponseSource for LoggedResponses<'_> {
    fn find(&self, cell: CellId, row: Option<usize>) -> Option<Rc<LoggedResponse>> {
        let mut last = self.last.borrow_mut();
        if let Some((_, found)) = last.as_ref().filter(|(asked, _)| *asked == (cell, row)) {
            return found.clone();
        }
        let found = self.read(cell, row);
        *last = Some(((cell, row), found.clone()));
        found
    }

    fn note_used(&self, response: &LoggedResponse) {
        let mut used = self.used.borrow_mut();
        let (oldest, newest) = used.times.unwrap_or((response.at, response.at));
        used.count += 1;
        used.times = Some((oldest.min(response.at), newest.max(response.at)));
    }
}
