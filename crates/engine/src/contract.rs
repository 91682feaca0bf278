//! Validates a response against the descriptions of the API.

use crate::event::CheckFailure;
use yieldtray_http::Exchange;
use yieldtray_workspace::secret::Masker;
use yieldtray_workspace::{CONTRACT_LABEL, CellId, ContractCheck, Workspace, contract_checks};

/// How many checks were made, and those that failed.
#[derive(Default)]
pub(crate) struct ContractResults {
    pub(crate) checks: usize,
    pub(crate) failures: Vec<CheckFailure>,
}

/// Validates the response to a cell, if the configuration or an instruction asks for it.
pub(crate) fn contract_results(
    workspace: &Workspace,
    cell: CellId,
    exchange: &Exchange,
    masker: &Masker,
) -> ContractResults {
    let mut results = ContractResults::default();
    for check in contract_checks(workspace, cell) {
        let notes = match &check.api.contract {
            Ok(contract) => match contract.check(exchange) {
                Some(violations) => violations.into_iter().map(|violation| violation.message).collect(),
                // A request to another server is none of this API.
                None if !check.is_explicit => continue,
                None => vec!["this request goes to another server than the described one".to_owned()],
            },
            Err(why) => vec![why.clone()],
        };
        results.checks += 1;
        if !notes.is_empty() {
            let notes = notes.iter().map(|note: &String| masker.mask(note).into_owned()).collect();
            results.failures.push(failure(workspace, &check, notes));
        }
    }
    results
}

fn failure(workspace: &Workspace, check: &ContractCheck<'_>, notes: Vec<String>) -> CheckFailure {
    let (source, span) = check.place;
    CheckFailure {
        source,
        span,
        label: Some(CONTRACT_LABEL.to_owned()),
        expression: span.of(&workspace.source(source).text).to_owned(),
        parts: Vec::new(),
        difference: None,
        notes,
        hint: None,
    }
}
