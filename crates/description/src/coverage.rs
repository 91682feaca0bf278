//! What of a description is exercised: by request files, and by exchanges of the log.

use crate::api::{Api, Matched};
use crate::drift::Observation;
use crate::index::IndexError;
use crate::model::{Operation, OperationSummary};
use crate::schema_walk::value_members;
use serde::{Deserialize, Serialize};
use serde_json::Value;
use std::collections::{BTreeMap, BTreeSet};

/// A request of a file, as far as its operation shows before it is sent.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Exercise {
    /// The request, as it is shown: `requests/intake.http#book-lot`.
    pub request: String,
    /// Its method.
    pub method: String,
    /// The path of its operation.
    pub path: String,
    /// The names of the query parameters that it has.
    pub query: Vec<String>,
    /// The names of the headers that it sets, in lower case.
    pub headers: Vec<String>,
}

/// So many of so many.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Ratio {
    /// Those that are exercised.
    pub covered: usize,
    /// All of them.
    pub total: usize,
}

impl Ratio {
    fn of(items: impl Iterator<Item = bool>) -> Self {
        items.fold(Self::default(), |sum, covered| Self {
            covered: sum.covered + usize::from(covered),
            total: sum.total + 1,
        })
    }

    fn plus(self, other: Self) -> Self {
        Self { covered: self.covered + other.covered, total: self.total + other.total }
    }

    /// The percentage, rounded down: 100 only if all are exercised. 100 of nothing.
    pub fn percent(self) -> usize {
        (self.covered * 100).checked_div(self.total).unwrap_or(100)
    }
}

/// How an operation is exercised.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OperationCoverage {
    /// The operation.
    #[serde(flatten)]
    pub operation: OperationSummary,
    /// The requests of files that are this operation.
    pub requests: Vec<String>,
    /// How many exchanges of the log were this operation.
    pub exchanges: usize,
    /// The documented statuses, and whether each was received.
    pub statuses: BTreeMap<String, bool>,
    /// The documented parameters (`query per_page`), and whether each was sent.
    pub parameters: BTreeMap<String, bool>,
    /// The documented members of request bodies, and whether each was sent.
    pub request_members: BTreeMap<String, bool>,
    /// The documented members of response bodies, and whether each was received.
    pub response_members: BTreeMap<String, bool>,
}

impl OperationCoverage {
    /// Whether a file has it, or the log.
    pub fn is_covered(&self) -> bool {
        !self.requests.is_empty() || self.exchanges > 0
    }

    /// Its statuses.
    pub fn status_ratio(&self) -> Ratio {
        Ratio::of(self.statuses.values().copied())
    }

    /// Its parameters.
    pub fn parameter_ratio(&self) -> Ratio {
        Ratio::of(self.parameters.values().copied())
    }

    /// The members of its bodies.
    pub fn member_ratio(&self) -> Ratio {
        Ratio::of(self.request_members.values().chain(self.response_members.values()).copied())
    }
}

/// How a description is exercised.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Coverage {
    /// The title of the description.
    pub title: String,
    /// Each operation, in the order of the description.
    pub operations: Vec<OperationCoverage>,
    /// Operations with a request or an exchange.
    pub operation_ratio: Ratio,
    /// Statuses that were received.
    pub status_ratio: Ratio,
    /// Parameters that were sent.
    pub parameter_ratio: Ratio,
    /// Members of bodies that were sent or received.
    pub member_ratio: Ratio,
    /// Requests that are none of its operations.
    pub unknown: Vec<String>,
}

impl Coverage {
    /// Works out what the requests of files and the exchanges of the log exercise.
    ///
    /// # Errors
    /// If the index cannot be read.
    pub fn of(api: &Api, exercises: &[Exercise], observations: &[Observation]) -> Result<Self, IndexError> {
        let mut by_title: BTreeMap<String, (Vec<&Exercise>, Vec<&Observation>)> = BTreeMap::new();
        let mut unknown = BTreeSet::new();
        for exercise in exercises {
            match api.matched(&exercise.method, &exercise.path)? {
                Matched::Operation(path) => {
                    by_title.entry(format!("{} {path}", exercise.method)).or_default().0.push(exercise);
                }
                _ => drop(unknown.insert(exercise.request.clone())),
            }
        }
        for observation in observations {
            if let Matched::Operation(path) = api.matched(&observation.method, &observation.path)? {
                by_title.entry(format!("{} {path}", observation.method)).or_default().1.push(observation);
            }
        }
        let mut coverage =
            Self { title: api.info().title.clone(), unknown: unknown.into_iter().collect(), ..Self::default() };
        for summary in api.operations()? {
            let Some(operation) = api.operation(&summary.method, &summary.path)? else { continue };
            let (exercises, observations) = by_title.remove(&summary.title()).unwrap_or_default();
            coverage.operations.push(operation_coverage(api, &operation, &exercises, &observations));
        }
        let all = &coverage.operations;
        coverage.operation_ratio = Ratio::of(all.iter().map(OperationCoverage::is_covered));
        let sum = |ratio: fn(&OperationCoverage) -> Ratio| all.iter().map(ratio).fold(Ratio::default(), Ratio::plus);
        (coverage.status_ratio, coverage.parameter_ratio, coverage.member_ratio) = (
            sum(OperationCoverage::status_ratio),
            sum(OperationCoverage::parameter_ratio),
            sum(OperationCoverage::member_ratio),
        );
        Ok(coverage)
    }
}

fn operation_coverage(
    api: &Api,
    operation: &Operation,
    exercises: &[&Exercise],
    observations: &[&Observation],
) -> OperationCoverage {
    let statuses = operation.responses.iter().map(|response| {
        let is_own = |status: u16| operation.response(status).is_some_and(|own| own.status == response.status);
        (response.status.clone(), observations.iter().any(|seen| is_own(seen.status)))
    });
    let parameters = operation.parameters.iter().map(|parameter| {
        let name = &parameter.name;
        let sent = match parameter.place.as_str() {
            // Without its path parameters a request would be none of this operation.
            "path" => !exercises.is_empty() || !observations.is_empty(),
            "query" => {
                let has = |query: &[String]| query.contains(name);
                exercises.iter().any(|own| has(&own.query)) || observations.iter().any(|own| has(&own.query))
            }
            _ => {
                let has = |headers: &[String]| headers.iter().any(|own| own.eq_ignore_ascii_case(name));
                exercises.iter().any(|own| has(&own.headers)) || observations.iter().any(|own| has(&own.headers))
            }
        };
        (format!("{} {name}", parameter.place), sent)
    });
    let members = |schemas: Vec<&Value>, bodies: &mut dyn Iterator<Item = &Value>| {
        let seen: BTreeSet<String> = bodies.flat_map(|body| value_members(body).into_keys()).collect();
        let documented = schemas.into_iter().flat_map(|schema| api.members(schema));
        documented.map(|member| (member.path.clone(), seen.contains(&member.path))).collect::<BTreeMap<_, _>>()
    };
    let sent = operation.body.iter().flat_map(|body| &body.content).filter_map(|content| content.schema.as_ref());
    let received = operation.responses.iter().flat_map(|response| &response.content);
    let received = received.filter(|content| content.is_json()).filter_map(|content| content.schema.as_ref());
    OperationCoverage {
        requests: exercises.iter().map(|exercise| exercise.request.clone()).collect(),
        exchanges: observations.len(),
        statuses: statuses.collect(),
        parameters: parameters.collect(),
        request_members: members(
            sent.collect(),
            &mut observations.iter().filter_map(|seen| seen.request_body.as_ref()),
        ),
        response_members: members(
            received.collect(),
            &mut observations.iter().filter_map(|seen| seen.response_body.as_ref()),
        ),
        operation: operation.summary.clone(),
    }
}
