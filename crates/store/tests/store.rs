//! The state file on a real disk: kept, sealed, shared, refused.

use std::path::Path;
use yieldtray_store::{Error, Kept, Kind, Store, choose_environment, chosen_environment};

fn kept(name: &str, value: &str, secret: bool) -> Kept {
    let (file, cell) = ("intake.http".to_owned(), "book-lot".to_owned());
    Kept { name: name.to_owned(), file, cell, value: Some(value.to_owned()), secret, at: 1_790_000_000 }
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
    assert!(Store::open(root.path(), None).expect("nothing is wrong").is_none());
    let mut store = Store::open_or_make(root.path(), Some(key.clone())).expect("a store");
    let values = [kept("lot_id", "\"L-2043\"", false), kept("token", "\"canary-7f\"", true)];
    store.keep("bench", &values).expect("they are kept");
    store.keep("live", &[kept("lot_id", "\"L-9\"", false)]).expect("it is kept");
    drop(store);

    let text = String::from_utf8_lossy(&all_bytes(root.path())).into_owned();
    assert!(text.contains("L-2043") && !text.contains("canary"));

    let mut store = Store::open(root.path(), Some(key)).expect("a store").expect("it is there");
    assert_eq!(store.kept("bench").expect("rows"), values);
    assert_eq!(store.kept("live").expect("rows").len(), 1);
    store.keep("bench", &[kept("lot_id", "\"L-2044\"", false)]).expect("it is kept");
    assert_eq!(store.kept("bench").expect("rows")[0].value.as_deref(), Some("\"L-2044\""));
    assert_eq!(store.drop_value("bench", "lot_id").expect("a number"), 1);
    assert_eq!(store.clear("bench").expect("a number"), 1);
    assert_eq!(store.kept("live").expect("rows").len(), 1);

    // Without the key a secret is not there, and cannot be kept either.
    let mut strange = Store::open(root.path(), Some(home.path().join("other"))).expect("a store").expect("it is there");
    store.keep("bench", &values).expect("they are kept");
    assert_eq!(strange.kept("bench").expect("rows")[1].value, None);
    strange.keep("bench", &[kept("pin", "1", false)]).expect("it is kept");
    let mut homeless = Store::open(root.path(), None).expect("a store").expect("it is there");
    assert!(matches!(homeless.keep("bench", &values), Err(Error::NoKey)));
    assert_eq!(homeless.kept("bench").expect("rows").len(), 3, "all or none");
}

#[test]
fn a_newer_file_is_refused_and_left_alone() {
    let root = tempfile::tempdir().expect("a folder");
    drop(Store::open_or_make(root.path(), None).expect("a store"));
    let file = root.path().join(".yieldtray/state.db");
    let database = rusqlite::Connection::open(&file).expect("a database");
    database.pragma_update(None, "user_version", 7).expect("it is set");
    drop(database);
    let before = std::fs::read(&file).expect("a file");
    let error = Store::open(root.path(), None).expect_err("it is newer");
    assert!(error.to_string().contains("newer version of yieldtray (its form is 7, this version knows 3)"), "{error}");
    assert_eq!(std::fs::read(&file).expect("a file"), before);
}

#[test]
fn many_writers_lose_nothing() {
    let root = tempfile::tempdir().expect("a folder");
    std::thread::scope(|scope| {
        for writer in 0..4 {
            let root = root.path();
            scope.spawn(move || {
                for number in 0..100 {
                    let mut store = Store::open_or_make(root, None).expect("a store");
                    let name = format!("w{writer}_{number}");
                    store.keep("bench", &[kept(&name, "1", false)]).expect("it is kept");
                }
            });
        }
    });
    let store = Store::open(root.path(), None).expect("a store").expect("it is there");
    assert_eq!(store.kept("bench").expect("rows").len(), 400);
    drop(store);
    // What is left beside the file stays small: it is written back when it grows.
    let log = std::fs::metadata(root.path().join(".yieldtray/state.db-wal")).map_or(0, |data| data.len());
    assert!(log < 1024 * 1024, "{log}");
}

#[test]
fn the_folder_is_its_owners_and_no_repositorys() {
    let root = tempfile::tempdir().expect("a folder");
    assert_eq!(chosen_environment(root.path()), None);
    choose_environment(root.path(), "live").expect("it is chosen");
    assert_eq!(chosen_environment(root.path()).as_deref(), Some("live"));
    let folder = root.path().join(".yieldtray");
    assert_eq!(std::fs::read_to_string(folder.join(".gitignore")).expect("a file"), "*\n");
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        let mode = std::fs::metadata(&folder).expect("a folder").permissions().mode();
        assert_eq!(mode & 0o777, 0o700);
    }
}

#[test]
fn credentials_are_sealed_in_their_place_and_change_together() {
    let (root, home) = (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
    let key = home.path().join("key");
    let pair = |place: &str, value: &str| (place.to_owned(), value.to_owned());
    let mut store = Store::open_or_make(root.path(), Some(key.clone())).expect("a store");
    let cookies = [pair("packhouse.example / session", "canary-1"), pair("packhouse.example / shift", "canary-2")];
    store.change_credentials("bench", Kind::Cookie, &cookies, &[], 5).expect("they are kept");
    store.change_credentials("bench", Kind::Token, &[pair("desk", "canary-3")], &[], 6).expect("it is kept");
    store.change_credentials("live", Kind::Cookie, &cookies[..1], &[], 7).expect("it is kept");
    assert!(!String::from_utf8_lossy(&all_bytes(root.path())).contains("canary"));

    let values = |store: &Store, environment: &str, kind| -> Vec<Option<String>> {
        store.credentials(environment, kind).expect("rows").into_iter().map(|row| row.value).collect()
    };
    let some = |values: &[&str]| values.iter().map(|value| Some((*value).to_owned())).collect::<Vec<_>>();
    assert_eq!(values(&store, "bench", Kind::Cookie), some(&["canary-1", "canary-2"]));
    // One is replaced while another goes.
    let newer = [pair("packhouse.example / session", "canary-4")];
    store.change_credentials("bench", Kind::Cookie, &newer, &[cookies[1].0.clone()], 8).expect("it changes");
    assert_eq!(values(&store, "bench", Kind::Cookie), some(&["canary-4"]));
    assert_eq!(store.credentials("bench", Kind::Cookie).expect("rows")[0].at, 8);

    // What is moved to another place, or opened with another key, is not there.
    drop(store);
    let database = rusqlite::Connection::open(root.path().join(".yieldtray/state.db")).expect("a database");
    let moved =
        database.execute("UPDATE credential SET place = 'other' WHERE kind = 'token'", []).expect("it is moved");
    assert_eq!(moved, 1);
    drop(database);
    let store = Store::open(root.path(), Some(key)).expect("a store").expect("it is there");
    assert_eq!(values(&store, "bench", Kind::Token), [None]);
    let mut strange = Store::open(root.path(), Some(home.path().join("other"))).expect("a store").expect("it is there");
    assert_eq!(values(&strange, "bench", Kind::Cookie), [None]);
    assert_eq!(strange.clear_credentials("bench", Kind::Cookie).expect("a number"), 1);
    assert_eq!(values(&strange, "live", Kind::Cookie).len(), 1);
    let mut homeless = Store::open(root.path(), None).expect("a store").expect("it is there");
    assert!(matches!(homeless.change_credentials("bench", Kind::Token, &newer, &[], 9), Err(Error::NoKey)));
}

#[test]
fn a_file_of_an_older_form_is_brought_up_to_date() {
    let (root, home) = (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
    let key = home.path().join("key");
    let mut store = Store::open_or_make(root.path(), Some(key.clone())).expect("a store");
    store.keep("bench", &[kept("lot_id", "\"L-2043\"", false)]).expect("it is kept");
    drop(store);
    // As the first version left it: with a tray and without credentials.
    let database = rusqlite::Connection::open(root.path().join(".yieldtray/state.db")).expect("a database");
    database.execute_batch("DROP TABLE credential; DROP TABLE exchange; DROP TABLE word; DROP TABLE numbered; PRAGMA user_version = 1;").expect("it is taken back");
    drop(database);
    let mut store = Store::open(root.path(), Some(key)).expect("a store").expect("it is there");
    assert_eq!(store.kept("bench").expect("rows").len(), 1);
    store.change_credentials("bench", Kind::Token, &[("desk".to_owned(), "t".to_owned())], &[], 1).expect("it is kept");
    assert_eq!(store.credentials("bench", Kind::Token).expect("rows").len(), 1);
}
