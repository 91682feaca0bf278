//! The state database.

use crate::folder::{STATE_FOLDER, StateFolder};
use crate::tables::{MIGRATIONS, SCHEMA_VERSION, TABLES};
use crate::{Error, Key};
use rusqlite::config::DbConfig;
use rusqlite::{Connection, OpenFlags, TransactionBehavior, params};
use std::path::{Path, PathBuf};
use std::time::Duration;

/// The SQLite file in the state folder.
pub(crate) const FILE: &str = "state.db";

/// How long to wait for another process that writes.
const BUSY_TIMEOUT: Duration = Duration::from_secs(20);

/// The log that SQLite writes before the file itself may grow to this many bytes before it is written
/// back at the end of a process. Writing it back each time costs two waits for the disk; leaving it
/// costs the next process the reading of it.
const CHECKPOINT_BYTES: u64 = 256 * 1024;

/// A value a response yielded, as it is kept.
#[derive(Clone, PartialEq, Eq)]
pub struct CapturedRow {
    /// Its name.
    pub name: String,
    /// The request file whose cell yielded it, relative to the root.
    pub file: String,
    /// That cell's name.
    pub cell: String,
    /// The value as JSON; `None` for a secret that cannot be opened here.
    pub value: Option<String>,
    /// True if it is a secret.
    pub secret: bool,
    /// The origin of the response that a secret was captured from.
    pub origin: Option<String>,
    /// Seconds since 1970.
    pub at: i64,
}

impl std::fmt::Debug for CapturedRow {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        // The value may be a secret.
        write!(f, "Kept({} of {}#{})", self.name, self.file, self.cell)
    }
}

/// The state of one workspace.
#[derive(Debug)]
pub struct Store {
    pub(crate) database: Connection,
    folder: PathBuf,
    /// The id that every secret is sealed with, beside the key.
    pub(crate) id: String,
    pub(crate) key_file: Option<PathBuf>,
}

impl Store {
    /// Opens the state of the workspace at `root`, if there is any yet. `key_file` holds the key that
    /// seals secrets.
    pub fn open(root: &Path, key_file: Option<PathBuf>) -> Result<Option<Self>, Error> {
        let Some(folder) = StateFolder::open(root, key_file.as_deref())? else { return Ok(None) };
        if !folder.path().join(FILE).is_file() {
            return Ok(None);
        }
        Self::connect(&folder, key_file).map(Some)
    }

    /// Opens the state of the workspace at `root`, making it if there is none.
    pub fn open_or_make(root: &Path, key_file: Option<PathBuf>) -> Result<Self, Error> {
        Self::connect(&StateFolder::open_or_make(root, key_file.as_deref())?, key_file)
    }

    fn connect(folder: &StateFolder, key_file: Option<PathBuf>) -> Result<Self, Error> {
        let flags = OpenFlags::SQLITE_OPEN_READ_WRITE
            | OpenFlags::SQLITE_OPEN_CREATE
            | OpenFlags::SQLITE_OPEN_NO_MUTEX
            | OpenFlags::SQLITE_OPEN_NOFOLLOW
            | OpenFlags::SQLITE_OPEN_EXRESCODE;
        let file = folder.path().join(FILE);
        make_private(&file).map_err(|error| Error::file(format!("cannot create `{STATE_FOLDER}/{FILE}`"), error))?;
        let database = Connection::open_with_flags(file, flags)?;
        database.busy_timeout(BUSY_TIMEOUT)?;
        database.set_db_config(DbConfig::SQLITE_DBCONFIG_DEFENSIVE, true)?;
        database.set_db_config(DbConfig::SQLITE_DBCONFIG_TRUSTED_SCHEMA, false)?;
        let (id, folder) = (folder.id().to_owned(), folder.path().to_owned());
        let mut store = Self { database, folder, id, key_file };
        match store.form()? {
            SCHEMA_VERSION => {}
            0 => store.migrate()?,
            form @ 1..SCHEMA_VERSION => {
                store.back_up(form)?;
                store.migrate()?;
            }
            found => {
                // A newer version may have other tables, which are not an error.
                return Err(Error::Newer { file: format!("{STATE_FOLDER}/{FILE}"), found, known: SCHEMA_VERSION });
            }
        }
        store.check_tables()?;
        store.database.pragma_update(None, "synchronous", "NORMAL")?;
        if store.log_is_small() {
            store.database.set_db_config(DbConfig::SQLITE_DBCONFIG_NO_CKPT_ON_CLOSE, true)?;
        }
        Ok(store)
    }

    /// The user's key, if there is one.
    pub(crate) fn key(&self) -> Result<Option<Key>, Error> {
        self.key_file.as_deref().map_or(Ok(None), Key::read)
    }

    /// The same, read when it is first needed; `read` holds it until then.
    pub(crate) fn key_once<'k>(&self, read: &'k mut Option<Option<Key>>) -> Result<Option<&'k Key>, Error> {
        if read.is_none() {
            *read = Some(self.key()?);
        }
        Ok(read.as_ref().and_then(Option::as_ref))
    }

    fn form(&self) -> Result<i64, Error> {
        Ok(self.database.pragma_query_value(None, "user_version", |row| row.get(0))?)
    }

    fn check_tables(&self) -> Result<(), Error> {
        let mut query = self.database.prepare("SELECT type, name FROM sqlite_schema")?;
        let mut rows = query.query([])?;
        while let Some(row) = rows.next()? {
            let (kind, name): (String, String) = (row.get(0)?, row.get(1)?);
            // The search index keeps tables of its own.
            let known = kind == "table" && (TABLES.contains(&name.as_str()) || name.starts_with("word_"))
                || name.starts_with("sqlite_");
            if !known {
                let message =
                    format!("`{STATE_FOLDER}/{FILE}` contains a {kind} `{name}` that this program did not create");
                return Err(Error::Untrusted(message));
            }
        }
        Ok(())
    }

    fn migrate(&mut self) -> Result<(), Error> {
        // Two processes may begin at once: the change of the mode does not wait by itself.
        let mut tries = 0;
        while let Err(error) = self.database.pragma_update(None, "journal_mode", "WAL") {
            tries += 1;
            if tries == 100 {
                return Err(error.into());
            }
            std::thread::sleep(Duration::from_millis(20));
        }
        let change = self.database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        let form: i64 = change.pragma_query_value(None, "user_version", |row| row.get(0))?;
        for step in MIGRATIONS.iter().skip(usize::try_from(form).unwrap_or_default()) {
            change.execute_batch(step)?;
        }
        change.pragma_update(None, "user_version", SCHEMA_VERSION)?;
        Ok(change.commit()?)
    }

    /// Copies a file of an older form before it is changed, beside it. Another process may do the same: the first
    /// copy stays.
    fn back_up(&self, form: i64) -> Result<(), Error> {
        let copy = self.folder.join(format!("state-form-{form}.db"));
        if copy.exists() {
            return Ok(());
        }
        let failed = |error| Error::file("cannot back up the state before migrating it", error);
        let beside = tempfile::tempdir_in(&self.folder).map_err(failed)?;
        let whole = beside.path().join(FILE);
        self.database.execute("VACUUM INTO ?1", [whole.to_string_lossy()])?;
        std::fs::rename(whole, copy).map_err(failed)
    }

    /// Leaves the state to the end of the process, which is near: the system takes back at once what closing gives back
    /// piece by piece. Where closing writes a large log back, it is closed.
    pub fn close_fast(self) {
        if self.log_is_small() {
            std::mem::forget(self);
        }
    }

    fn log_is_small(&self) -> bool {
        let log = self.folder.join(format!("{FILE}-wal"));
        std::fs::metadata(log).map_or(0, |data| data.len()) < CHECKPOINT_BYTES
    }

    /// The values kept for an environment, by name.
    pub fn captured(&self, environment: &str) -> Result<Vec<CapturedRow>, Error> {
        let mut query = self.database.prepare(
            "SELECT name, file, cell, value, sealed, at, origin FROM tray WHERE environment = ?1 ORDER BY name, file",
        )?;
        let mut rows = query.query(params![environment])?;
        let (mut kept, mut key) = (Vec::new(), None);
        while let Some(row) = rows.next()? {
            let (name, file, secret): (String, String, bool) = (row.get(0)?, row.get(1)?, row.get(4)?);
            let bytes: Vec<u8> = row.get(3)?;
            let value = match secret {
                false => String::from_utf8(bytes).ok(),
                true => {
                    let key = self.key_once(&mut key)?;
                    key.and_then(|key| key.open(&bytes, place(&self.id, environment, &file, &name)))
                }
            };
            kept.push(CapturedRow {
                name,
                file,
                cell: row.get(2)?,
                value,
                secret,
                at: row.get(5)?,
                origin: row.get(6)?,
            });
        }
        Ok(kept)
    }

    /// Keeps values for an environment, all or none. A value of the same name and file is replaced.
    pub fn keep(&mut self, environment: &str, values: &[CapturedRow]) -> Result<(), Error> {
        if values.is_empty() {
            return Ok(());
        }
        let key = match values.iter().any(|kept| kept.secret) {
            true => Some(Key::read_or_make(self.key_file.as_deref().ok_or(Error::NoKey)?)?),
            false => None,
        };
        let change = self.database.transaction_with_behavior(TransactionBehavior::Immediate)?;
        {
            let mut insert = change.prepare(
                "INSERT INTO tray (environment, file, name, cell, value, sealed, at, origin)
                 VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8)
                 ON CONFLICT DO UPDATE SET cell = ?4, value = ?5, sealed = ?6, at = ?7, origin = ?8",
            )?;
            for kept in values {
                let Some(value) = &kept.value else { continue };
                let bytes = match &key {
                    Some(key) if kept.secret => {
                        key.seal(value, place(&self.id, environment, &kept.file, &kept.name))?
                    }
                    _ => value.clone().into_bytes(),
                };
                insert.execute(params![
                    environment,
                    kept.file,
                    kept.name,
                    kept.cell,
                    bytes,
                    kept.secret,
                    kept.at,
                    kept.origin
                ])?;
            }
        }
        Ok(change.commit()?)
    }

    /// Drops the values of a name; how many there were.
    pub fn drop_value(&mut self, environment: &str, name: &str) -> Result<usize, Error> {
        Ok(self
            .database
            .execute("DELETE FROM tray WHERE environment = ?1 AND name = ?2", params![environment, name])?)
    }

    /// Drops all values of an environment; how many there were.
    pub fn clear(&mut self, environment: &str) -> Result<usize, Error> {
        Ok(self.database.execute("DELETE FROM tray WHERE environment = ?1", params![environment])?)
    }
}

/// The row and state that a sealed value is bound to: elsewhere it does not open.
fn place(id: &str, environment: &str, file: &str, name: &str) -> String {
    format!("{id}\0{environment}\0{file}\0{name}")
}

/// Makes an empty file for its owner alone, unless there is one: SQLite gives its own files the same mode.
fn make_private(file: &Path) -> std::io::Result<()> {
    let mut options = std::fs::OpenOptions::new();
    options.write(true).create_new(true);
    #[cfg(unix)]
    std::os::unix::fs::OpenOptionsExt::mode(&mut options, 0o600);
    match options.open(file) {
        Err(error) if error.kind() == std::io::ErrorKind::AlreadyExists => Ok(()),
        made => made.map(drop),
    }
}
