//! The log in a real file: numbers, search, retention, deletion, and failures.

use std::path::Path;
use std::process::Command;
use yieldtray_store::log::{ExchangePayload, ExchangeRow, Filter, NumberedExchange, Retention};
use yieldtray_store::{Store, quarantine};

const ALL: Retention = Retention { exchanges: 1_000_000, since: 0 };

fn exchange(at: i64, name: &str, status: Option<u16>, body: &str) -> (ExchangeRow, ExchangePayload) {
    let summary = ExchangeRow {
        at,
        environment: "local".to_owned(),
        file: "intake.http".to_owned(),
        name: name.to_owned(),
        row: None,
        played_by: None,
        method: "GET".to_owned(),
        url: format!("http://packhouse.example/{name}"),
        status,
        micros: 1_500,
        size: body.len() as i64,
        outcome: if status == Some(200) { "passed" } else { "failed" }.to_owned(),
        checks: 1,
        failed: i64::from(status != Some(200)),
        revision: Some("0a1b2c3d4e5f+".to_owned()),
    };
    let received = status.map(|_| body.as_bytes().to_owned());
    let fields = "accept: */*\n\n".to_owned();
    (
        summary,
        ExchangePayload { head: format!("{{\"name\":\"{name}\"}}"), fields, sent: Some(b"{}".to_vec()), received },
    )
}

/// The key of the tests, beside the state that it is for.
fn key(root: &Path) -> Option<std::path::PathBuf> {
    Some(root.join("key-of-the-test"))
}

fn store(root: &Path) -> Store {
    Store::open_or_make(root, key(root)).expect("a store")
}

fn numbers(store: &Store, filter: &Filter) -> Vec<i64> {
    let mut found = Vec::new();
    let mut take = |listed: NumberedExchange| {
        found.push(listed.number);
        true
    };
    store.exchanges(filter, &mut take).expect("rows");
    found
}

fn search(store: &mut Store, text: &str) -> Vec<i64> {
    store.make_searchable(|_| {}).expect("it is made searchable");
    let mut found = Vec::new();
    store
        .search(text, &Filter::default(), |listed| {
            found.push(listed.number);
            true
        })
        .expect("rows");
    found
}

fn all_bytes(folder: &Path) -> Vec<u8> {
    let files = std::fs::read_dir(folder).expect("a folder").map(|entry| entry.expect("an entry").path());
    files.filter(|path| path.is_file()).flat_map(|path| std::fs::read(path).expect("a file")).collect()
}

#[test]
fn exchanges_are_numbered_and_found_by_what_they_are() {
    let root = tempfile::tempdir().expect("a folder");
    let mut store = store(root.path());
    let mut live = exchange(40, "read-lot", Some(404), "gone");
    live.0.environment = "live".to_owned();
    let rows = [
        exchange(10, "book-lot", Some(200), "{\"id\":\"L-2043\"}"),
        exchange(20, "read-lot", Some(200), "{\"id\":\"L-2043\",\"note\":\"Käthe's\"}"),
        exchange(30, "read[1]", None, ""),
        live,
    ];
    assert_eq!(store.log(&rows, ALL).expect("they are logged"), 4);
    assert_eq!(store.log(&[] as &[(ExchangeRow, ExchangePayload)], ALL).expect("nothing is"), 4);

    let by = |change: fn(&mut Filter)| {
        let mut filter = Filter::default();
        change(&mut filter);
        numbers(&store, &filter)
    };
    assert_eq!(by(|_| {}), [4, 3, 2, 1]);
    assert_eq!(by(|filter| filter.name = Some("read-*".to_owned())), [4, 2]);
    assert_eq!(by(|filter| filter.name = Some("read[1]".to_owned())), [3]);
    assert_eq!(by(|filter| filter.status = Some((400, 499))), [4]);
    assert_eq!(by(|filter| filter.since = Some(20)), [4, 3, 2]);
    assert_eq!(by(|filter| filter.environment = Some("local".to_owned())), [3, 2, 1]);
    assert_eq!(by(|filter| filter.failed = true), [4, 3]);
    assert_eq!(by(|filter| filter.file = Some("other.http".to_owned())), [0; 0]);

    let (listed, message) = store.exchange(2).expect("rows").expect("it is there");
    assert_eq!((&listed.summary, &message), (&rows[1].0, &rows[1].1));
    let before = |number, environment| {
        let found = store.answer_before(number, environment, ("intake.http", "read-lot"), None).expect("rows");
        found.map(|(listed, _)| listed.number)
    };
    assert_eq!([before(9, "local"), before(2, "local"), before(9, "live")], [Some(2), None, Some(4)]);
    assert_eq!(store.last_exchange().expect("a row"), Some(4));
    let last = store.last_answers("local").expect("rows");
    let number = |name: &str| last.get(&("intake.http".to_owned(), name.to_owned(), None)).copied();
    assert_eq!([number("book-lot"), number("read-lot"), number("read[1]")], [Some(1), Some(2), None]);

    // Words and prefixes of words, in any case; all words of the text must match.
    assert_eq!(search(&mut store, "L-2043"), [2, 1]);
    assert_eq!(search(&mut store, "l-204"), [2, 1]);
    assert_eq!(search(&mut store, "note\":\"KÄTHE"), [2]);
    assert_eq!(search(&mut store, "2043 L"), [0; 0]);
    assert_eq!(search(&mut store, "packhouse.example/book"), [1]);
    assert_eq!(search(&mut store, "\":\""), [2, 1], "no word at all");
    store.log(&[exchange(50, "late", Some(200), "a late L-2043")], ALL).expect("it is logged");
    assert_eq!(search(&mut store, "L-2043"), [5, 2, 1], "what came since is searchable too");
}

#[test]
fn what_is_too_much_or_too_old_goes_and_numbers_are_never_given_again() {
    let root = tempfile::tempdir().expect("a folder");
    let mut store = store(root.path());
    let rows: Vec<_> = (1..=20).map(|at| exchange(at, "read-lot", Some(200), "bins bins bins")).collect();
    store.log(&rows, Retention { exchanges: 8, since: 0 }).expect("they are logged");
    assert_eq!(numbers(&store, &Filter::default()), (13..=20).rev().collect::<Vec<_>>());
    assert_eq!(search(&mut store, "bins").len(), 8);
    store.log(&[exchange(21, "read-lot", Some(200), "")], Retention { exchanges: 8, since: 18 }).expect("it is logged");
    assert_eq!(numbers(&store, &Filter::default()), [21, 20, 19, 18]);
    assert_eq!(search(&mut store, "bins"), [20, 19, 18]);
    // All of it too old, the new one as well.
    store.log(&[exchange(2, "read-lot", Some(200), "")], Retention { exchanges: 8, since: 99 }).expect("it is logged");
    assert_eq!(numbers(&store, &Filter::default()), [0; 0]);
    assert_eq!(store.log(&[exchange(1, "read-lot", Some(200), "")], ALL).expect("it is logged"), 23);
    assert_eq!(store.log_size().expect("a size").0, 1);
}

#[test]
fn of_many_exchanges_some_more_go_than_must() {
    let root = tempfile::tempdir().expect("a folder");
    let mut store = store(root.path());
    let keeping = Retention { exchanges: 256, since: 0 };
    let mut log = |count: i64| {
        let rows: Vec<_> = (1..=count).map(|at| exchange(at, "read-lot", Some(200), "")).collect();
        store.log(&rows, keeping).expect("they are logged");
        store.log_size().expect("a size").0
    };
    assert_eq!([log(256), log(1), log(1), log(1), log(1)], [256, 254, 255, 256, 254]);
}

#[test]
fn an_index_that_is_made_in_pieces_becomes_one() {
    let root = tempfile::tempdir().expect("a folder");
    let mut store = store(root.path());
    let rows: Vec<_> = (1..=7_000).map(|at| exchange(at, "read-lot", Some(200), &format!("L-{at}"))).collect();
    store.log(&rows, ALL).expect("they are logged");
    let mut progress = Vec::new();
    store.make_searchable(|left| progress.push(left)).expect("it is made searchable");
    assert_eq!(progress, [5_000, 3_000, 1_000, 0]);
    let index = rusqlite::Connection::open(root.path().join(".yieldtray/state.db")).expect("a database");
    let pieces = || -> i64 {
        let count = "SELECT count(DISTINCT segid) FROM word_idx";
        index.query_row(count, [], |row| row.get(0)).expect("a number")
    };
    assert_eq!(pieces(), 1);
    assert_eq!(search(&mut store, "L-6999"), [6_999]);
    store.log(&[exchange(7_001, "read-lot", Some(200), "L-6999 again")], ALL).expect("it is logged");
    assert_eq!((search(&mut store, "L-6999"), pieces()), (vec![7_001, 6_999], 2));
}

#[test]
fn exchanges_that_are_gone_are_passed_over_when_the_rest_is_made_searchable() {
    let root = tempfile::tempdir().expect("a folder");
    let mut store = store(root.path());
    let rows: Vec<_> = (1..=7_000).map(|at| exchange(at, "read-lot", Some(200), &format!("L-{at}"))).collect();
    store.log(&rows, Retention { exchanges: 2_500, since: 0 }).expect("they are logged");
    store.drop_exchanges(&[6_999, 7_000]).expect("they are dropped");
    let left = |store: &mut Store| {
        let mut progress = Vec::new();
        store.make_searchable(|left| progress.push(left)).expect("it is made searchable");
        progress
    };
    assert_eq!((left(&mut store), left(&mut store)), (vec![481, 0], vec![]));
    assert_eq!((search(&mut store, "L-6998"), search(&mut store, "L-7000")), (vec![6_998], vec![]));
}

#[test]
fn what_was_made_searchable_stays_so_when_the_state_is_left() {
    let root = tempfile::tempdir().expect("a folder");
    let mut left = store(root.path());
    left.log(&[exchange(10, "read-lot", Some(200), "L-2043")], ALL).expect("it is logged");
    assert_eq!(search(&mut left, "L-2043"), [1]);
    left.close_fast();
    let mut store = store(root.path());
    store.make_searchable(|_| panic!("there is nothing left to do")).expect("it is searchable");
    assert_eq!(search(&mut store, "L-2043"), [1]);
    store.log(&[exchange(20, "read-lot", Some(200), "L-2044")], ALL).expect("nobody holds the state");
}

#[test]
fn a_large_log_of_sqlite_is_written_back_when_the_state_is_left() {
    let root = tempfile::tempdir().expect("a folder");
    let ahead = || std::fs::metadata(root.path().join(".yieldtray/state.db-wal")).map_or(0, |data| data.len());
    let body = "L-2043 ".repeat(100_000);
    store(root.path()).log(&[exchange(10, "read-lot", Some(200), &body)], ALL).expect("it is logged");
    assert!(ahead() > 500_000);
    store(root.path()).close_fast();
    assert_eq!(ahead(), 0);
}

#[test]
fn what_is_dropped_is_not_in_the_file_any_more() {
    let root = tempfile::tempdir().expect("a folder");
    let mut store = store(root.path());
    let rows: Vec<_> = (1..=3).map(|at| exchange(at * 10, "read-lot", Some(200), &format!("windfall-{at}"))).collect();
    store.log(&rows, ALL).expect("they are logged");
    store.make_searchable(|_| {}).expect("it is made searchable");
    let tells = |word: &str| {
        let bytes = all_bytes(&root.path().join(".yieldtray")).to_ascii_lowercase();
        bytes.windows(word.len()).any(|window| window == word.as_bytes())
    };
    assert!(tells("windfall-1") && tells("windfall-2"));
    assert_eq!(store.drop_exchanges(&[1, 77]).expect("a number"), 1);
    assert!(!tells("windfall-1") && tells("windfall-2"));
    assert_eq!(store.clear_log(Some(30), None).expect("a number"), 1);
    assert!(!tells("windfall-2") && tells("windfall-3"));
    assert_eq!(store.clear_log(None, Some("live")).expect("a number"), 0);
    assert_eq!(store.clear_log(None, Some("local")).expect("a number"), 1);
    assert!(!tells("windfall"));
    assert_eq!(search(&mut store, "windfall"), [0; 0]);
}

#[test]
fn an_older_form_is_copied_before_it_is_changed() {
    let root = tempfile::tempdir().expect("a folder");
    drop(store(root.path()));
    let folder = root.path().join(".yieldtray");
    let older = rusqlite::Connection::open(folder.join("state.db")).expect("a database");
    older
        .execute_batch(
            "DROP TABLE exchange; DROP TABLE word; DROP TABLE numbered; ALTER TABLE tray DROP COLUMN origin;
             PRAGMA user_version = 2;
             INSERT INTO tray VALUES ('local', 'intake.http', 'lot_id', 'book-lot', x'31', 0, 7);",
        )
        .expect("it is taken back");
    drop(older);
    let mut store = store(root.path());
    assert_eq!(store.captured("local").expect("rows").len(), 1);
    store.log(&[exchange(1, "read-lot", Some(200), "")], ALL).expect("it is logged");
    let copy = rusqlite::Connection::open(folder.join("state-form-2.db")).expect("a database");
    let kept: i64 = copy.query_row("SELECT count(*) FROM tray", [], |row| row.get(0)).expect("a number");
    let form: i64 = copy.pragma_query_value(None, "user_version", |row| row.get(0)).expect("a number");
    assert_eq!((kept, form), (1, 2));
}

#[test]
fn a_damaged_file_is_told_from_other_trouble_and_set_aside() {
    let root = tempfile::tempdir().expect("a folder");
    let folder = root.path().join(".yieldtray");
    let mut first = store(root.path());
    first.log(&[exchange(1, "read-lot", Some(200), "")], ALL).expect("it is logged");
    drop(first);
    // The write-ahead log would replace damaged pages.
    std::fs::remove_file(folder.join("state.db-wal")).expect("a file");
    std::fs::write(folder.join("state.db"), "these are no pages of a database, whoever wrote them").expect("a file");
    let error = Store::open(root.path(), key(root.path())).expect_err("it is damaged");
    assert!(error.is_damage(), "{error}");
    let aside = quarantine(root.path()).expect("it is set aside").expect("there is one");
    assert_eq!(aside, Path::new(".yieldtray/state-damaged-1.db"));
    assert!(root.path().join(&aside).is_file() && !folder.join("state.db").exists());
    assert_eq!(quarantine(root.path()).expect("nothing is wrong"), None);
    let mut fresh = store(root.path());
    assert_eq!(fresh.log(&[exchange(1, "read-lot", Some(200), "")], ALL).expect("it is logged"), 1);
    drop(fresh);
    // A newer file is not damaged, and neither is a directory without write permission.
    let newer = rusqlite::Connection::open(folder.join("state.db")).expect("a database");
    newer.pragma_update(None, "user_version", 77).expect("it is set");
    drop(newer);
    assert!(!Store::open(root.path(), key(root.path())).expect_err("it is newer").is_damage());
}

/// The other half of the next test: a process that writes until it is killed.
#[test]
#[allow(clippy::print_stdout)] // the other half reads it
fn writes_without_end() {
    let Some(root) = std::env::var_os("LOG_ROOT") else { return };
    let mut store = store(Path::new(&root));
    for at in 1.. {
        let rows: Vec<_> = (0..50).map(|_| exchange(at, "read-lot", Some(200), &"tray ".repeat(400))).collect();
        store.log(&rows, ALL).expect("they are logged");
        println!("{}", at * 50);
    }
}

#[test]
fn a_writer_that_is_killed_leaves_all_that_was_complete() {
    use std::io::{BufRead, BufReader};
    let root = tempfile::tempdir().expect("a folder");
    drop(store(root.path()));
    for wanted in [50, 400, 1_500] {
        let mut writer = Command::new(std::env::current_exe().expect("this program"))
            .args(["--exact", "writes_without_end", "--nocapture"])
            .env("LOG_ROOT", root.path())
            .stdout(std::process::Stdio::piped())
            .spawn()
            .expect("it starts");
        let progress = BufReader::new(writer.stdout.take().expect("a pipe")).lines().map_while(Result::ok);
        let progress = progress.filter_map(|line| line.trim().parse::<i64>().ok()).find(|progress| *progress >= wanted);
        writer.kill().expect("it is killed");
        writer.wait().expect("it ends");
        let progress = progress.expect("it wrote");
        let mut store = store(root.path());
        let there = store.log_size().expect("a size").0;
        assert!(there >= progress && there % 50 == 0, "{there} of {progress}: all or none of each write");
        assert_eq!(numbers(&store, &Filter::default()).len() as i64, there);
        store.clear_log(None, None).expect("it is cleared");
    }
}
