//! Reads the log.

use super::{ExchangePayload, ExchangeRow, NumberedExchange};
use crate::{Error, Store};
use rusqlite::{OptionalExtension, Row, Statement, params};
use std::collections::HashMap;

/// A cell by its file and its name, and a row of it.
pub type CellRef = (String, String, Option<i64>);

/// Which exchanges. What is not said holds for all.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Filter {
    /// Cells of this name; `*` matches any characters.
    pub name: Option<String>,
    /// Of this file.
    pub file: Option<String>,
    /// Statuses from the first to the second; exchanges without a response have none.
    pub status: Option<(u16, u16)>,
    /// Sent then or later, in milliseconds since 1970.
    pub since: Option<i64>,
    /// In this environment.
    pub environment: Option<String>,
    /// Only those that did not pass.
    pub failed: bool,
}

/// The columns of a [`NumberedExchange`], of a table called `exchange`.
pub(super) const COLUMNS: &str =
    "number, at, environment, file, name, row, played_by, method, url, status, micros, size,
    outcome, checks, failed, revision";

impl Filter {
    /// The condition, of what is asked for alone: what is not there need not be understood by SQLite.
    /// [`Self::bind`] gives the parameters.
    pub(super) fn condition(&self) -> String {
        let parts = [
            (self.name.is_some(), "name GLOB ?1"),
            (self.file.is_some(), "file = ?2"),
            (self.status.is_some(), "status BETWEEN ?3 AND ?4"),
            (self.since.is_some(), "at >= ?5"),
            (self.environment.is_some(), "environment = ?6"),
            (self.failed, "outcome <> 'passed'"),
        ];
        let asked: Vec<&str> = parts.into_iter().filter_map(|(asked, part)| asked.then_some(part)).collect();
        if asked.is_empty() { "TRUE".to_owned() } else { asked.join(" AND ") }
    }

    /// Gives the condition its parameters.
    pub(super) fn bind(&self, query: &mut Statement<'_>) -> Result<(), rusqlite::Error> {
        if let Some(name) = &self.name {
            // In a pattern of SQLite these have a meaning that they do not have here.
            query.raw_bind_parameter(1, name.replace('[', "[[]").replace('?', "[?]"))?;
        }
        if let Some(file) = &self.file {
            query.raw_bind_parameter(2, file)?;
        }
        if let Some((first, last)) = self.status {
            query.raw_bind_parameter(3, first)?;
            query.raw_bind_parameter(4, last)?;
        }
        if let Some(since) = self.since {
            query.raw_bind_parameter(5, since)?;
        }
        if let Some(environment) = &self.environment {
            query.raw_bind_parameter(6, environment)?;
        }
        Ok(())
    }
}

impl Store {
    /// Goes through exchanges, the newest first, until `take` says that it has enough.
    pub fn exchanges(&self, filter: &Filter, mut take: impl FnMut(NumberedExchange) -> bool) -> Result<(), Error> {
        let sql = format!("SELECT {COLUMNS} FROM exchange WHERE {} ORDER BY number DESC", filter.condition());
        let mut query = self.database.prepare(&sql)?;
        filter.bind(&mut query)?;
        let mut rows = query.raw_query();
        while let Some(row) = rows.next()? {
            if !take(listed(row)?) {
                break;
            }
        }
        Ok(())
    }

    /// The exchange of that number.
    pub fn exchange(&self, number: i64) -> Result<Option<(NumberedExchange, ExchangePayload)>, Error> {
        self.one("number = ?1", params![number])
    }

    /// The number of the last response to each cell in an environment, by file, name and row.
    pub fn last_answers(&self, environment: &str) -> Result<HashMap<CellRef, i64>, Error> {
        let mut query = self.database.prepare(
            "SELECT file, name, row, number FROM exchange WHERE environment = ?1 AND status IS NOT NULL ORDER BY number",
        )?;
        let rows = query.query_map([environment], |row| Ok(((row.get(0)?, row.get(1)?, row.get(2)?), row.get(3)?)))?;
        Ok(rows.collect::<Result<_, _>>()?)
    }

    /// The last exchange there is.
    pub fn last_exchange(&self) -> Result<Option<i64>, Error> {
        Ok(self.database.query_row("SELECT max(number) FROM exchange", [], |row| row.get(0))?)
    }

    /// The last response to a cell in an environment before the exchange `before`; for the same row, if one is given.
    /// Exchanges without a response are skipped.
    pub fn answer_before(
        &self,
        before: i64,
        environment: &str,
        (file, name): (&str, &str),
        row: Option<i64>,
    ) -> Result<Option<(NumberedExchange, ExchangePayload)>, Error> {
        self.one(
            "name = ?1 AND file = ?2 AND environment = ?3 AND row IS ?4 AND number < ?5 AND status IS NOT NULL",
            params![name, file, environment, row, before],
        )
    }

    fn one(
        &self,
        condition: &str,
        parameters: impl rusqlite::Params,
    ) -> Result<Option<(NumberedExchange, ExchangePayload)>, Error> {
        let mut query = self.database.prepare(&format!(
            "SELECT {COLUMNS}, head, fields, sent, came FROM exchange
             WHERE {condition} ORDER BY number DESC LIMIT 1"
        ))?;
        let found = query.query_row(parameters, |row| {
            Ok((
                listed(row)?,
                ExchangePayload {
                    head: row.get(16)?,
                    fields: row.get(17)?,
                    sent: row.get(18)?,
                    received: row.get(19)?,
                },
            ))
        });
        Ok(found.optional()?)
    }

    /// How many exchanges there are, and how many bytes the state takes on the disk.
    pub fn log_size(&self) -> Result<(i64, i64), Error> {
        let count = self.database.query_row("SELECT count(*) FROM exchange", [], |row| row.get(0))?;
        let pages: i64 = self.database.pragma_query_value(None, "page_count", |row| row.get(0))?;
        let page: i64 = self.database.pragma_query_value(None, "page_size", |row| row.get(0))?;
        Ok((count, pages * page))
    }
}

pub(super) fn listed(row: &Row<'_>) -> Result<NumberedExchange, rusqlite::Error> {
    Ok(NumberedExchange {
        number: row.get(0)?,
        summary: ExchangeRow {
            at: row.get(1)?,
            environment: row.get(2)?,
            file: row.get(3)?,
            name: row.get(4)?,
            row: row.get(5)?,
            played_by: row.get(6)?,
            method: row.get(7)?,
            url: row.get(8)?,
            status: row.get(9)?,
            micros: row.get(10)?,
            size: row.get(11)?,
            outcome: row.get(12)?,
            checks: row.get(13)?,
            failed: row.get(14)?,
            revision: row.get(15)?,
        },
    })
}
