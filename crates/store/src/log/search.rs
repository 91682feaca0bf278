//! The search index of the log.

use super::NumberedExchange;
use super::read::{COLUMNS, Filter, listed};
use crate::{Error, Store};
use rusqlite::{Connection, OptionalExtension, Row, TransactionBehavior, params};

/// Exchanges that are indexed in one transaction, so that others can write in between.
const INDEX_BATCH_ROWS: i64 = 2_000;

/// Pages of the index that are written at once while it is merged.
const MERGE_PAGES: i64 = 500;

impl Store {
    /// Indexes all exchanges; `left` is called with the number of remaining ones after each batch.
    pub fn make_searchable(&mut self, mut left: impl FnMut(i64)) -> Result<(), Error> {
        let mut pieces = 0;
        // Nearly always there is nothing to do: that is seen without keeping others from writing.
        while unindexed(&self.database)?.is_some() {
            let change = self.database.transaction_with_behavior(TransactionBehavior::Immediate)?;
            let Some((done, last)) = unindexed(&change)? else { break };
            let end = "SELECT number FROM exchange WHERE number > ?1 ORDER BY number LIMIT 1 OFFSET ?2";
            let end = change.query_row(end, params![done, INDEX_BATCH_ROWS - 1], |row| row.get(0));
            let up_to = end.optional()?.unwrap_or(last);
            {
                let mut exchanges = change.prepare(
                    "SELECT number, url, sent, came FROM exchange
                     WHERE number > ?1 AND number <= ?2",
                )?;
                let mut add = change.prepare("INSERT INTO word (rowid, text) VALUES (?1, ?2)")?;
                let mut rows = exchanges.query(params![done, up_to])?;
                let mut text = String::new();
                while let Some(row) = rows.next()? {
                    text.clear();
                    text.push_str(row.get_ref(1)?.as_str().unwrap_or_default());
                    for body in [row.get_ref(2)?, row.get_ref(3)?] {
                        let body = body.as_blob_or_null().ok().flatten().unwrap_or_default();
                        text.push('\n');
                        text.push_str(&String::from_utf8_lossy(body));
                    }
                    add.execute(params![row.get::<_, i64>(0)?, text])?;
                }
            }
            change.execute("UPDATE numbered SET searchable = ?1", [up_to])?;
            change.commit()?;
            pieces += 1;
            left(last - up_to);
        }
        if pieces > 1 { self.optimize_index() } else { Ok(()) }
    }

    /// Makes one piece of those that the index is in: a search looks into each of them.
    fn optimize_index(&self) -> Result<(), Error> {
        let mut merge = self.database.prepare("INSERT INTO word (word, rank) VALUES ('merge', ?1)")?;
        // The first `merge` command of FTS5 includes all segments, whatever their sizes.
        let mut pages = -MERGE_PAGES;
        loop {
            let before = self.database.total_changes();
            merge.execute([pages])?;
            if self.database.total_changes() - before < 2 {
                return Ok(());
            }
            pages = MERGE_PAGES;
        }
    }

    /// Visits the exchanges that have `text` in their URL or a body, ignoring case, the newest first, until `take`
    /// returns that it has enough. `text` is found at the start of words. Only indexed exchanges are found.
    pub fn search(
        &self,
        text: &str,
        filter: &Filter,
        mut take: impl FnMut(NumberedExchange) -> bool,
    ) -> Result<(), Error> {
        let wanted = text.to_lowercase();
        let sql = format!("SELECT {COLUMNS}, sent, came FROM exchange WHERE {} AND number = ?7", filter.condition());
        let mut exchange = self.database.prepare(&sql)?;
        filter.bind(&mut exchange)?;
        let words = words(text);
        let numbers = match &words {
            Some(_) => "SELECT rowid FROM word WHERE word MATCH ?1 ORDER BY rowid DESC",
            // Nothing in it is a word: all are looked at.
            None => "SELECT number FROM exchange WHERE ?1 IS NULL ORDER BY number DESC",
        };
        let mut numbers = self.database.prepare(numbers)?;
        let mut numbers = numbers.query(params![words])?;
        while let Some(row) = numbers.next()? {
            exchange.raw_bind_parameter(7, row.get::<_, i64>(0)?)?;
            let found = exchange.raw_query().mapped(|row| {
                let has = |column: usize| -> Result<bool, rusqlite::Error> {
                    let body = row.get_ref(column)?.as_blob_or_null().ok().flatten().unwrap_or_default();
                    Ok(String::from_utf8_lossy(body).to_lowercase().contains(&wanted))
                };
                let own = listed(row)?;
                let holds = own.summary.url.to_lowercase().contains(&wanted) || has(16)? || has(17)?;
                Ok(holds.then_some(own))
            });
            let found = found.into_iter().next().transpose()?.flatten();
            if found.is_some_and(|found| !take(found)) {
                break;
            }
        }
        Ok(())
    }
}

/// The last exchange that is searchable, and the last one there was, if those are not the same.
fn unindexed(database: &Connection) -> Result<Option<(i64, i64)>, Error> {
    let both = |row: &Row<'_>| Ok((row.get(0)?, row.get(1)?));
    let (done, last) = database.query_row("SELECT searchable, last FROM numbered", [], both)?;
    Ok((done < last).then_some((done, last)))
}

/// Shorter words are nearly everywhere: visiting all those places takes longer than what it saves.
const MIN_TERM_CHARS: usize = 3;

/// The query of the index: the words of the text, and all words that begin with the last one. Short ones are left out
/// if there are others, since matches are verified anyway. `None` if it has no word.
fn words(text: &str) -> Option<String> {
    // Splits a text like the index does: separate accents are a part of their word.
    let is_word = |c: char| c.is_alphanumeric() || ('\u{300}'..'\u{370}').contains(&c);
    let words: Vec<&str> = text.split(|c| !is_word(c)).filter(|word| !word.is_empty()).collect();
    let is_long = |word: &str| word.chars().count() >= MIN_TERM_CHARS;
    let any_long = words.iter().any(|word| is_long(word));
    let last = words.len().saturating_sub(1);
    let kept = words.iter().enumerate().filter(|(_, word)| !any_long || is_long(word));
    let quoted = kept.map(|(at, word)| {
        let begins = if at == last && text.ends_with(is_word) { "*" } else { "" };
        format!("\"{word}\"{begins}")
    });
    (!words.is_empty()).then(|| quoted.collect::<Vec<_>>().join(" AND "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_is_looked_for_by_its_words() {
        assert_eq!(words("L-2043").as_deref(), Some("\"2043\"*"));
        assert_eq!(words("L-4").as_deref(), Some("\"L\" AND \"4\"*"));
        assert_eq!(words("\"bins\": ").as_deref(), Some("\"bins\""));
        assert_eq!(words("cafe\u{301}").as_deref(), Some("\"cafe\u{301}\"*"));
        assert_eq!(words("AND OR* NEAR(").as_deref(), Some("\"AND\" AND \"NEAR\""));
        assert_eq!(words("{}"), None);
    }
}
