//! The tables of the SQLite file, and what makes each version of them out of the one before.

/// The migration of each version of the file to the next.
pub(crate) const MIGRATIONS: &[&str] = &[
    "CREATE TABLE tray (
        environment TEXT NOT NULL,
        file TEXT NOT NULL,
        name TEXT NOT NULL,
        cell TEXT NOT NULL,
        value BLOB NOT NULL,
        sealed INTEGER NOT NULL,
        at INTEGER NOT NULL,
        PRIMARY KEY (environment, file, name)
    ) STRICT, WITHOUT ROWID;",
    "CREATE TABLE credential (
        environment TEXT NOT NULL,
        kind TEXT NOT NULL,
        place TEXT NOT NULL,
        value BLOB NOT NULL,
        at INTEGER NOT NULL,
        PRIMARY KEY (environment, kind, place)
    ) STRICT, WITHOUT ROWID;",
    LOG_TABLES,
    "ALTER TABLE tray ADD COLUMN origin TEXT;",
];

/// The tables of the file, and nothing else. A view or a trigger could change the meaning of a query.
pub(crate) const TABLES: &[&str] = &["tray", "credential", "exchange", "numbered", "word"];

/// The form of the file that this version writes.
pub(crate) const SCHEMA_VERSION: i64 = MIGRATIONS.len() as i64;

/// The tables of the log.
const LOG_TABLES: &str = "
    CREATE TABLE exchange (
        number INTEGER PRIMARY KEY,
        at INTEGER NOT NULL,
        environment TEXT NOT NULL,
        file TEXT NOT NULL,
        name TEXT NOT NULL,
        row INTEGER,
        played_by TEXT,
        method TEXT NOT NULL,
        url TEXT NOT NULL,
        status INTEGER,
        micros INTEGER NOT NULL,
        size INTEGER NOT NULL,
        outcome TEXT NOT NULL,
        checks INTEGER NOT NULL,
        failed INTEGER NOT NULL,
        revision TEXT,
        head TEXT NOT NULL,
        fields TEXT NOT NULL,
        sent BLOB,
        came BLOB
    ) STRICT;
    CREATE VIRTUAL TABLE word USING fts5 (
        text, content = '', contentless_delete = 1, detail = none, tokenize = 'unicode61'
    );
    CREATE TABLE numbered (last INTEGER NOT NULL, searchable INTEGER NOT NULL) STRICT;
    INSERT INTO numbered VALUES (0, 0);";
