//! The state file on a real disk: kept, sealed, shared, refused.

use std::path::Path;
use yieldtray_store::{Error, Kept, Store, choose_environment, chosen_environment};

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
    assert!(error.to_string().contains("newer version of yieldtray (its form is 7, this version knows 2)"), "{error}");
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
