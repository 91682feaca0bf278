//! Cookies and tokens: kept by environment, all of them sealed.

use crate::{Error, Key, Store};
use rusqlite::{TransactionBehavior, params};

/// The kinds of credentials that are kept.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Kind {
    /// A cookie (RFC 6265).
    Cookie,
    /// A token (RFC 6749).
    Token,
}

impl Kind {
    fn as_str(self) -> &'static str {
        match self {
            Kind::Cookie => "cookie",
            Kind::Token => "token",
        }
    }
}

/// A credential as it is kept.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Credential {
    /// Its identity among others of its kind; not secret.
    pub place: String,
    /// All of it; `None` where it cannot be opened here.
    pub value: Option<String>,
    /// Seconds since 1970.
    pub at: i64,
}

impl Store {
    /// The credentials of a kind that are kept for an environment.
    pub fn credentials(&self, environment: &str, kind: Kind) -> Result<Vec<Credential>, Error> {
        let mut query = self.database.prepare_cached(
            "SELECT place, value, at FROM credential WHERE environment = ?1 AND kind = ?2 ORDER BY place",
        )?;
        let mut rows = query.query(params![environment, kind.as_str()])?;
        let (mut found, mut key) = (Vec::new(), None);
        while let Some(row) = rows.next()? {
            let (place, bytes): (String, Vec<u8>) = (row.get(0)?, row.get(1)?);
            let value = self
                .key_once(&mut key)?
                .and_then(|key| key.open(&bytes, bound_to(&self.id, environment, kind, &place)));
            found.push(Credential { place, value, at: row.get(2)? });
        }
        Ok(found)
    }

    /// Keeps some credentials and drops others, all or none. One at the same place is replaced.
    pub fn change_credentials(
        &mut self,
        environment: &str,
        kind: Kind,
        keep: &[(String, String)],
        drop: &[String],
        at: i64,
    ) -> Result<(), Error> {
        let key = match keep.is_empty() {
            true => None,
            false => Some(Key::read_or_make(self.key_file.as_deref().ok_or(Error::NoKey)?)?),
        };
        let change = self.database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        for (place, value) in keep {
            let Some(key) = &key else { continue };
            let sealed = key.seal(value, bound_to(&self.id, environment, kind, place))?;
            change.execute(
                "INSERT INTO credential (environment, kind, place, value, at) VALUES (?1, ?2, ?3, ?4, ?5)
                 ON CONFLICT DO UPDATE SET value = ?4, at = ?5",
                params![environment, kind.as_str(), place, sealed, at],
            )?;
        }
        for place in drop {
            change.execute(
                "DELETE FROM credential WHERE environment = ?1 AND kind = ?2 AND place = ?3",
                params![environment, kind.as_str(), place],
            )?;
        }
        Ok(change.commit()?)
    }

    /// Drops all credentials of a kind that are kept for an environment; how many there were.
    pub fn clear_credentials(&mut self, environment: &str, kind: Kind) -> Result<usize, Error> {
        Ok(self.database.execute(
            "DELETE FROM credential WHERE environment = ?1 AND kind = ?2",
            params![environment, kind.as_str()],
        )?)
    }
}

/// The row that a sealed credential is bound to: moved to another row, it does not open.
fn bound_to(id: &str, environment: &str, kind: Kind, place: &str) -> String {
    format!("{id}\0{environment}\0{}\0{place}", kind.as_str())
}
