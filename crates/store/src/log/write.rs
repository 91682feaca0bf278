//! Writes and erases exchanges.

use super::{ExchangePayload, ExchangeRow, Retention};
use crate::{Error, Store};
use rusqlite::{Transaction, TransactionBehavior, params, params_from_iter};
use std::borrow::Borrow;

/// Numbers in one statement; SQLite takes some thousands.
const BATCH_ROWS: usize = 500;

impl Store {
    /// Adds exchanges to the log, all or none, and drops those that are not to be kept any more. Gives the
    /// number of the last one that was ever logged. Each may be made as it is taken: none is held longer.
    pub fn log(
        &mut self,
        exchanges: impl IntoIterator<Item = impl Borrow<(ExchangeRow, ExchangePayload)>>,
        keeping: Retention,
    ) -> Result<i64, Error> {
        let change = self.database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let (mut last, searchable): (i64, i64) = change
            .prepare_cached("SELECT last, searchable FROM numbered")?
            .query_row([], |row| Ok((row.get(0)?, row.get(1)?)))?;
        {
            let mut insert = change.prepare_cached(
                "INSERT INTO exchange (number, at, environment, file, name, row, played_by, method, url, status,
                    micros, size, outcome, checks, failed, revision, head, fields, sent, came)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, ?18, ?19, ?20)",
            )?;
            for exchange in exchanges {
                let (own, message) = exchange.borrow();
                last += 1;
                insert.execute(params![
                    last,
                    own.at,
                    own.environment,
                    own.file,
                    own.name,
                    own.row,
                    own.played_by,
                    own.method,
                    own.url,
                    own.status,
                    own.micros,
                    own.size,
                    own.outcome,
                    own.checks,
                    own.failed,
                    own.revision,
                    message.head,
                    message.fields,
                    message.sent,
                    message.received,
                ])?;
            }
        }
        // Numbers of exchanges that are gone are not given again.
        change.prepare_cached("UPDATE numbered SET last = ?1")?.execute([last])?;
        trim(&change, last, searchable, keeping)?;
        change.commit()?;
        Ok(last)
    }

    /// Drops exchanges by number; how many there were. Nothing of them is left in the file.
    pub fn drop_exchanges(&mut self, numbers: &[i64]) -> Result<usize, Error> {
        self.erase(|change| {
            let mut dropped = 0;
            for numbers in numbers.chunks(BATCH_ROWS) {
                let marks = vec!["?"; numbers.len()].join(", ");
                let sql = format!("DELETE FROM exchange WHERE number IN ({marks})");
                dropped += change.execute(&sql, params_from_iter(numbers))?;
            }
            Ok(dropped)
        })
    }

    /// Drops all exchanges from before a time, in milliseconds since 1970, or all there are; of one environment,
    /// if one is named. Gives how many.
    pub fn clear_log(&mut self, before: Option<i64>, environment: Option<&str>) -> Result<usize, Error> {
        let dropped = self.erase(|change| {
            change.execute(
                "DELETE FROM exchange WHERE (?1 IS NULL OR at < ?1) AND (?2 IS NULL OR environment = ?2)",
                params![before, environment],
            )
        })?;
        // The file becomes as small as what is left.
        self.database.execute_batch("VACUUM")?;
        Ok(dropped)
    }

    /// Carries a change out that leaves nothing of what it deletes behind, in free pages neither.
    fn erase<T>(&mut self, change: impl FnOnce(&Transaction<'_>) -> Result<T, rusqlite::Error>) -> Result<T, Error> {
        self.database.pragma_update(None, "secure_delete", true)?;
        let transaction = self.database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let done = change(&transaction)?;
        // The search index keeps words of what is gone until it is made anew.
        transaction
            .execute_batch("INSERT INTO word (word) VALUES ('delete-all'); UPDATE numbered SET searchable = 0;")?;
        transaction.commit()?;
        // Earlier data is also in the write-ahead log, until that is checkpointed and truncated.
        self.database.query_row("PRAGMA wal_checkpoint(TRUNCATE)", [], |_| Ok(()))?;
        Ok(done)
    }
}

/// The share of what is kept that is dropped beyond what is too much: to make room for each exchange by itself takes
/// longer than to log it.
const RETENTION_SLACK: i64 = 128;

/// Drops what is too much or too old. In the usual case it only looks at the first exchange.
fn trim(change: &Transaction<'_>, last: i64, searchable: i64, keeping: Retention) -> Result<(), rusqlite::Error> {
    let most = i64::from(keeping.exchanges);
    let first = change
        .prepare_cached("SELECT number, at FROM exchange ORDER BY number LIMIT 1")?
        .query_row([], |row| Ok((row.get::<_, i64>(0)?, row.get::<_, i64>(1)?)));
    let (number, at) = match first {
        Err(rusqlite::Error::QueryReturnedNoRows) => return Ok(()),
        other => other?,
    };
    let too_many = number <= last - most;
    if !too_many && at >= keeping.since {
        return Ok(());
    }
    let beyond = if too_many { last - most + most / RETENTION_SLACK } else { 0 };
    // Numbers are in the order of writing, which is that of time but for what was under way together: so the
    // first one that is young enough ends the search.
    let young = "SELECT coalesce(min(number), ?2 + 1) FROM exchange WHERE at >= ?1";
    let young: i64 = change.query_row(young, params![keeping.since, last], |row| row.get(0))?;
    let up_to = beyond.max(young - 1);
    change.execute("DELETE FROM exchange WHERE number <= ?1", [up_to])?;
    if searchable >= number {
        change.execute("DELETE FROM word WHERE rowid <= ?1", [up_to])?;
    }
    Ok(())
}
