//! The state file on a real disk: stored, encrypted, shared, refused.

use std::path::Path;
use yieldtray_store::{CapturedRow, Error, Kind, StateFolder, Store};

fn kept(name: &str, value: &str, secret: bool) -> CapturedRow {
    let (file, cell) = ("intake.http".to_owned(), "book-lot".to_owned());
    CapturedRow {
        name: name.to_owned(),
        file,
        cell,
        value: Some(value.to_owned()),
        secret,
        origin: None,
        at: 1_790_000_000,
    }
}

fn all_bytes(folder: &Path) -> Vec<u8> {
    let mut bytes = Vec::new();
    for entry in std::fs::read_dir(folder).expect("a folder") {
        let path = entry.expect("an entry").path();
        bytes.extend(if path.is_dir() { all_bytes(&path) } else { std::fs::read(path).expect("a file") });
    }
    bytes
}

#[test]
fn values_are_kept_by_environment_and_secrets_are_sealed() {
    let (root, home) = (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
    let key = home.path().join("state/key");
    assert!(Store::open(root.path(), Some(key.clone())).expect("nothing is wrong").is_none());
    let mut store = Store::open_or_make(root.path(), Some(key.clone())).expect("a store");
    let values = [kept("lot_id", "\"L-2043\"", false), kept("token", "\"canary-7f\"", true)];
    store.keep("local", &values).expect("they are kept");
    store.keep("live", &[kept("lot_id", "\"L-9\"", false)]).expect("it is kept");
    drop(store);

    let text = String::from_utf8_lossy(&all_bytes(root.path())).into_owned();
    assert!(text.contains("L-2043") && !text.contains("canary"));

    let mut store = Store::open(root.path(), Some(key)).expect("a store").expect("it is there");
    assert_eq!(store.captured("local").expect("rows"), values);
    assert_eq!(store.captured("live").expect("rows").len(), 1);
    store.keep("local", &[kept("lot_id", "\"L-2044\"", false)]).expect("it is kept");
    assert_eq!(store.captured("local").expect("rows")[0].value.as_deref(), Some("\"L-2044\""));
    assert_eq!(store.drop_value("local", "lot_id").expect("a number"), 1);
    assert_eq!(store.clear("local").expect("a number"), 1);
    assert_eq!(store.captured("live").expect("rows").len(), 1);

    // With another key, or none, the state is somebody else's.
    for other in [Some(home.path().join("other")), None] {
        let error = Store::open(root.path(), other.clone()).expect_err("it is not theirs");
        assert!(matches!(error, Error::Untrusted(_) | Error::NoKey), "{error}");
        assert!(Store::open_or_make(root.path(), other).is_err());
    }
}

#[test]
fn a_newer_file_is_refused_and_left_alone() {
    let (root, home) = (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
    let key = Some(home.path().join("key"));
    drop(Store::open_or_make(root.path(), key.clone()).expect("a store"));
    let file = root.path().join(".yieldtray/state.db");
    let database = rusqlite::Connection::open(&file).expect("a database");
    database.pragma_update(None, "user_version", 7).expect("it is set");
    drop(database);
    let before = std::fs::read(&file).expect("a file");
    let error = Store::open(root.path(), key).expect_err("it is newer");
    assert!(error.to_string().contains("newer version of yieldtray (format 7, this version supports 4)"), "{error}");
    assert_eq!(std::fs::read(&file).expect("a file"), before);
}

#[test]
fn many_writers_lose_nothing() {
    let (root, home) = (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
    let key = home.path().join("key");
    std::thread::scope(|scope| {
        for writer in 0..4 {
            let (root, key) = (root.path(), &key);
            scope.spawn(move || {
                for number in 0..100 {
                    let mut store = Store::open_or_make(root, Some(key.clone())).expect("a store");
                    let name = format!("w{writer}_{number}");
                    store.keep("local", &[kept(&name, "1", number % 2 == 0)]).expect("it is kept");
                }
            });
        }
    });
    let store = Store::open(root.path(), Some(key)).expect("a store").expect("it is there");
    let rows = store.captured("local").expect("rows");
    assert_eq!(rows.iter().filter(|row| row.value.as_deref() == Some("1")).count(), 400, "all open with one id");
    drop(store);
    // The journal beside the file stays small: it is written back when it grows.
    let log = std::fs::metadata(root.path().join(".yieldtray/state.db-wal")).map_or(0, |data| data.len());
    assert!(log < 1024 * 1024, "{log}");
}

#[test]
fn the_folder_is_its_owners_and_no_repositorys() {
    let (root, home) = (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
    let key = home.path().join("key");
    assert!(StateFolder::open(root.path(), Some(&key)).expect("nothing is wrong").is_none());
    let made = StateFolder::open_or_make(root.path(), Some(&key)).expect("it is made");
    made.choose_environment("live").expect("it is chosen");
    let again = StateFolder::open(root.path(), Some(&key)).expect("nothing is wrong").expect("it is there");
    assert_eq!(again.chosen_environment().as_deref(), Some("live"));
    drop(Store::open_or_make(root.path(), Some(key)).expect("a store"));
    let folder = root.path().join(".yieldtray");
    assert_eq!(std::fs::read_to_string(folder.join(".gitignore")).expect("a file"), "*\n");
    #[cfg(unix)]
    for (path, expected) in [("", 0o700), ("state.db", 0o600), ("state.db-wal", 0o600)] {
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::metadata(folder.join(path)).map(|data| data.permissions().mode() & 0o777);
        assert!(mode.as_ref().map_or(path.ends_with("wal"), |mode| *mode == expected), "{path}: {mode:?}");
    }
}

/// State from a repository, an archive or a copy is ignored.
#[cfg(unix)]
#[test]
fn a_folder_that_was_not_made_here_is_not_trusted() {
    let home = tempfile::tempdir().expect("a folder");
    let key = Some(home.path().join("key"));
    let open = |root: &Path| Store::open(root, key.clone()).map(|_| ()).map_err(|error| error.to_string());
    let roots: Vec<_> = (0..5).map(|_| tempfile::tempdir().expect("a folder")).collect();
    let [own, copy, link, made_up, changed] = roots.as_slice() else { unreachable!("there are five") };
    let mut store = Store::open_or_make(own.path(), key.clone()).expect("a store");
    store.keep("local", &[kept("token", "\"canary-7f\"", true)]).expect("it is kept");
    drop(store);

    let state = own.path().join(".yieldtray");
    let status = std::process::Command::new("cp").arg("-a").arg(&state).arg(copy.path()).status();
    assert!(status.expect("cp runs").success());
    assert_eq!(open(copy.path()), Err("`.yieldtray` was not created here by this user".to_owned()));
    std::os::unix::fs::symlink(&state, link.path().join(".yieldtray")).expect("a link");
    assert_eq!(open(link.path()), Err("`.yieldtray` is not a directory".to_owned()));
    std::fs::create_dir(made_up.path().join(".yieldtray")).expect("a folder");
    std::fs::write(made_up.path().join(".yieldtray/environment"), "live\n").expect("a file");
    assert_eq!(open(made_up.path()), Err("`.yieldtray` was not created by this user".to_owned()));

    // A copy can be taken over by who made it, with its secrets; what a stranger made cannot.
    assert!(StateFolder::adopt(copy.path(), key.as_deref()).expect("it is taken over"));
    let store = Store::open(copy.path(), key.clone()).expect("a store").expect("it is there");
    assert_eq!(store.captured("local").expect("rows")[0].value.as_deref(), Some("\"canary-7f\""));
    assert!(matches!(StateFolder::adopt(made_up.path(), key.as_deref()), Err(Error::Untrusted(_))));

    // A view would make a query mean something else.
    drop(Store::open_or_make(changed.path(), key.clone()).expect("a store"));
    let database = rusqlite::Connection::open(changed.path().join(".yieldtray/state.db")).expect("a database");
    database.execute_batch("ALTER TABLE tray RENAME TO old; CREATE VIEW tray AS SELECT * FROM old;").expect("a view");
    drop(database);
    let refused = open(changed.path()).expect_err("it has a view");
    assert!(refused.contains("that this program did not create"), "{refused}");
}

#[test]
fn credentials_are_sealed_in_their_place_and_change_together() {
    let (root, home) = (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
    let key = home.path().join("key");
    let pair = |place: &str, value: &str| (place.to_owned(), value.to_owned());
    let mut store = Store::open_or_make(root.path(), Some(key.clone())).expect("a store");
    let cookies = [pair("packhouse.example / session", "canary-1"), pair("packhouse.example / shift", "canary-2")];
    store.change_credentials("local", Kind::Cookie, &cookies, &[], 5).expect("they are kept");
    store.change_credentials("local", Kind::Token, &[pair("desk", "canary-3")], &[], 6).expect("it is kept");
    store.change_credentials("live", Kind::Cookie, &cookies[..1], &[], 7).expect("it is kept");
    assert!(!String::from_utf8_lossy(&all_bytes(root.path())).contains("canary"));

    let values = |store: &Store, environment: &str, kind| -> Vec<Option<String>> {
        store.credentials(environment, kind).expect("rows").into_iter().map(|row| row.value).collect()
    };
    let some = |values: &[&str]| values.iter().map(|value| Some((*value).to_owned())).collect::<Vec<_>>();
    assert_eq!(values(&store, "local", Kind::Cookie), some(&["canary-1", "canary-2"]));
    // One is replaced while another goes.
    let newer = [pair("packhouse.example / session", "canary-4")];
    store.change_credentials("local", Kind::Cookie, &newer, &[cookies[1].0.clone()], 8).expect("it changes");
    assert_eq!(values(&store, "local", Kind::Cookie), some(&["canary-4"]));
    assert_eq!(store.credentials("local", Kind::Cookie).expect("rows")[0].at, 8);

    // State that was moved to another directory, or is opened with another key, cannot be read.
    drop(store);
    let database = rusqlite::Connection::open(root.path().join(".yieldtray/state.db")).expect("a database");
    let moved =
        database.execute("UPDATE credential SET place = 'other' WHERE kind = 'token'", []).expect("it is moved");
    assert_eq!(moved, 1);
    drop(database);
    let store = Store::open(root.path(), Some(key)).expect("a store").expect("it is there");
    assert_eq!(values(&store, "local", Kind::Token), [None]);
    let mut store = store;
    assert_eq!(store.clear_credentials("local", Kind::Cookie).expect("a number"), 1);
    assert_eq!(values(&store, "live", Kind::Cookie).len(), 1);
}

#[test]
fn a_file_of_an_older_form_is_brought_up_to_date() {
    let (root, home) = (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
    let key = home.path().join("key");
    let mut store = Store::open_or_make(root.path(), Some(key.clone())).expect("a store");
    store.keep("local", &[kept("lot_id", "\"L-2043\"", false)]).expect("it is kept");
    drop(store);
    // As the first version left it: with a tray and without credentials.
    let database = rusqlite::Connection::open(root.path().join(".yieldtray/state.db")).expect("a database");
    database.execute_batch("DROP TABLE credential; DROP TABLE exchange; DROP TABLE word; DROP TABLE numbered; ALTER TABLE tray DROP COLUMN origin; PRAGMA user_version = 1;").expect("it is taken back");
    drop(database);
    let mut store = Store::open(root.path(), Some(key)).expect("a store").expect("it is there");
    assert_eq!(store.captured("local").expect("rows").len(), 1);
    store.change_credentials("local", Kind::Token, &[("desk".to_owned(), "t".to_owned())], &[], 1).expect("it is kept");
    assert_eq!(store.credentials("local", Kind::Token).expect("rows").len(), 1);
}
