//! Tests of the answers for editors.

use super::*;
use crate::lint::lint;
use std::path::Path;
use yieldtray_expression::Engine;
use yieldtray_source::{Code, Edit, Problem, edited};
use yieldtray_test_support::{json_answer, settings, workspace};
use yieldtray_workspace::scope::{EvalSettings, PromptAnswers, Tray};

/// The cursor in a fixture.
const CURSOR: char = '¦';

/// A workspace that is edited; the cursor is in the file that is named first.
struct EditedWorkspace {
    workspace: Workspace,
    engine: Engine,
    settings: EvalSettings,
    tray: Tray,
    answers: PromptAnswers,
    source: SourceId,
    at: usize,
    answer: Option<Exchange>,
}

struct Last<'d>(&'d EditedWorkspace);

impl LastResponses for Last<'_> {
    fn last(&self, _cell: CellId) -> Option<Exchange> {
        self.0.answer.clone()
    }
}

impl EditedWorkspace {
    fn new(fixture: &str) -> Self {
        let mut workspace = workspace(&fixture.replace(CURSOR, ""));
        let files: Vec<(&str, &str)> = fixture.split("#- ").skip(1).filter_map(|file| file.split_once('\n')).collect();
        let (file, text) = files.iter().find(|(_, text)| text.contains(CURSOR)).unwrap_or(&files[files.len() - 1]);
        let at = text.find(CURSOR).unwrap_or_default();
        let requests = files.iter().filter(|(file, _)| file.ends_with(".http") && !file.ends_with("_common.http"));
        let load = |workspace: &mut Workspace, file: &str| workspace.load(Path::new(file)).expect("a file");
        let loaded: Vec<SourceId> = requests.map(|(file, _)| load(&mut workspace, file)).collect();
        let find = |workspace: &Workspace, id: &SourceId| workspace.shown_path(*id) == *file;
        let configs: Vec<SourceId> = workspace.configurations().collect();
        let inherited = loaded.iter().flat_map(|file| workspace.source(*file).inherited.clone());
        let all: Vec<SourceId> = loaded.iter().copied().chain(configs).chain(inherited).collect();
        let source = all.into_iter().find(|id| find(&workspace, id)).expect("the file with the cursor");
        let engine = Engine::with_functions(&workspace.config.functions);
        let settings = settings(Some("local"), &[]);
        Self {
            workspace,
            engine,
            settings,
            tray: Tray::default(),
            answers: PromptAnswers::default(),
            source,
            at,
            answer: None,
        }
    }

    fn answered(mut self, body: &str) -> Self {
        self.answer = Some(json_answer(200, body));
        self
    }

    fn view<T>(&self, look: impl FnOnce(IdeContext<'_>) -> T) -> T {
        let Self { workspace, engine, settings, tray, answers, .. } = self;
        let context = EvalContext { tray, answers, ..EvalContext::static_of(workspace, engine, settings) };
        look(IdeContext { context, past: &Last(self) })
    }

    fn place(&self, (source, span): (SourceId, Span)) -> String {
        format!("{} {}", self.workspace.shown_place(source, span.start()), span.of(&self.workspace.source(source).text))
    }

    fn problems(&mut self) -> Vec<Problem> {
        let cells: Vec<CellId> = self.workspace.cells(self.source).collect();
        lint(&mut self.workspace, &self.engine, &self.settings, &cells)
    }

    /// The texts that an action makes, by file.
    fn done(&self, action: &Action) -> Vec<(String, String)> {
        let text = |change: &Change| match change {
            Change::Create(path, text) => (path.display().to_string(), text.clone()),
            Change::Edit(source, edits) => (self.workspace.shown_path(*source), self.edited(*source, edits)),
        };
        action.changes.iter().map(text).collect()
    }

    fn edited(&self, source: SourceId, edits: &[Edit]) -> String {
        let mut edits = edits.to_vec();
        edits.sort_by_key(|edit| edit.span.start());
        edited(&self.workspace.source(source).text, &edits)
    }
}

const WORKSPACE_FILES: &str = "#- yieldtray.toml
[values]
season = 2026
[environments.local.values]
base = 'http://local'
grower = 'G-11'
key = { value = 'local-key-4616', secret = true }
[environments.live.values]
base = 'http://live'
[functions]
label = { params = ['lot', 'row'], is = 'lot + string(row)', help = 'the label of a lot' }
[signing.gate]
key = 'gate.pem'
#- _common.http
% check ok: status == 200
#- gate.http
%% Sign in
POST /session

% yield token = body.token secret
";

fn house(file: &str) -> EditedWorkspace {
    EditedWorkspace::new(&format!("{WORKSPACE_FILES}#- intake.http\n{file}"))
}

#[track_caller]
fn defined(file: &str, expected: &[&str]) {
    let desk = house(file);
    let found = desk.view(|view| definition(view, desk.source, desk.at));
    assert_eq!(found.into_iter().map(|place| desk.place(place)).collect::<Vec<_>>(), expected, "{file}");
}

#[test]
fn names_lead_to_what_gives_them() {
    defined("%% a\n/{{grow¦er}}\n", &["yieldtray.toml:5:1 grower"]);
    defined(
        "% let grower = 1\n%% a\n/{{ string(¦grower) }}\n",
        &["yieldtray.toml:5:1 grower", "intake.http:1:7 grower"],
    );
    defined("%% a\n/{{lot¦}}\n\n%% b\n/\n\n% yield lot = body.id\n", &["intake.http:7:9 lot"]);
    defined("%% a\n% needs gate.http#sign¦-in\n/{{token}}\n", &["gate.http:1:4 Sign in"]);
    defined("%% a\n% needs gate.http#sign-in\n/{{token¦}}\n", &["gate.http:4:9 token"]);
    defined("%% a\n% needs ga¦te.http#sign-in\n/\n", &["gate.http:1:1 "]);
    defined("%% a\n/\n\n% waive o¦k\n", &["_common.http:1:9 ok"]);
    defined("%% a\n/{{ la¦bel('a', 1) }}\n", &["yieldtray.toml:10:1 label"]);
    defined("%% a\n% sign ga¦te\n/\n", &["yieldtray.toml:11:10 gate"]);
    defined("%% a\n/\n\n% expect message.ready within 1s as first\n% say {{fir¦st.kg}}\n", &["intake.http:4:37 first"]);
    defined("%% a\n/\n\n% until event.kg > lea¦st\n\n%% b\n% let least = 1\n/\n", &["intake.http:7:7 least"]);
    // A variable of a loop, a member and a text are none of them.
    for nothing in ["body.l.all(grower, gro¦wer > 1)", "body.gro¦wer == 1", "'gro¦wer' == ''", "sta¦tus == 1"] {
        defined(&format!("%% a\n/\n\n% check {nothing}\n"), &[]);
    }
}

#[test]
fn a_name_is_found_wherever_it_is_meant() {
    let desk = EditedWorkspace::new(&format!(
        "{WORKSPACE_FILES}#- intake.http\n%% a\n% needs gate.http#sign-in\n/{{{{token}}}}?{{{{tok¦en}}}}\n\n% check 'token' != token\n#- other.http\n%% a\n/\n\n% yield token = body.t\n"
    ));
    let found = desk.view(|view| references(view, desk.source, desk.at, true));
    let found: Vec<String> = found.into_iter().map(|place| desk.place(place)).collect();
    // Another file's value of that name is another value.
    assert_eq!(
        found,
        ["intake.http:3:4 token", "intake.http:3:14 token", "intake.http:5:20 token", "gate.http:4:9 token"]
    );
    assert_eq!(desk.view(|view| references(view, desk.source, desk.at, false)).len(), 3);
}

#[track_caller]
fn renamed(fixture: &str, new: &str) -> Result<Vec<(String, String)>, String> {
    let desk = EditedWorkspace::new(&format!("{WORKSPACE_FILES}{fixture}"));
    let edits = desk.view(|view| rename(view, desk.source, desk.at, new)).map_err(|error| error.to_string())?;
    Ok(edits.iter().map(|(file, edits)| (desk.workspace.shown_path(*file), desk.edited(*file, edits))).collect())
}

#[test]
fn a_name_is_changed_wherever_it_is_meant() {
    let owned = |pairs: &[(&str, &str)]| -> Result<Vec<(String, String)>, String> {
        Ok(pairs.iter().map(|(file, text)| ((*file).to_owned(), (*text).to_owned())).collect())
    };
    // A value of one file.
    assert_eq!(
        renamed(
            "#- intake.http\n% let l¦ot = 1\n%% a\n/{{lot}}/{{x.lot}}\n\n% check body.all(lot, lot > 1) && lot == 1\n",
            "crate_1"
        ),
        owned(&[(
            "intake.http",
            "% let crate_1 = 1\n%% a\n/{{crate_1}}/{{x.lot}}\n\n% check body.all(lot, lot > 1) && crate_1 == 1\n"
        )])
    );
    // One of the configuration, in all files.
    let all = renamed("#- intake.http\n%% a\n/{{grow¦er}}\n#- other.http\n%% b\n/{{grower + '1'}}\n", "farm")
        .expect("it can be");
    assert_eq!(all.len(), 3);
    assert!(all[0].1.contains("\nfarm = 'G-11'\n"), "{}", all[0].1);
    assert!(all[2].1.contains("{{farm + '1'}}"), "{}", all[2].1);
    // A cell that had its name from its title, and a label.
    assert_eq!(
        renamed("#- intake.http\n%% Book in\n/\n\n%% b\n% needs boo¦k-in\n/\n", "book"),
        owned(&[("intake.http", "%% Book in\n% name book\n/\n\n%% b\n% needs book\n/\n")])
    );
    assert_eq!(
        renamed("#- intake.http\n%% b\n% waive o¦k\n/\n", "well").expect("it can be")[0],
        ("_common.http".to_owned(), "% check well: status == 200\n".to_owned())
    );
    for (file, new, why) in [
        ("%% a\n/{{grow¦er}}\n", "season", "a variable `season` already exists"),
        (
            "%% a\n% each row in \"lots.csv\"\n/{{lo¦t}}\n#- lots.csv\nlot\n1\n",
            "x",
            "`lot` is a column of a table: rename it there",
        ),
        (
            "%% a\n/{{grow¦er}}\n",
            "4x",
            "`4x` is not a valid variable name: use letters, digits and `_`, not starting with a digit",
        ),
        ("%% a\n/{{grow¦er}}\n", "status", "`status` is reserved and cannot be a variable name"),
        ("%% a\n/\n\n%% ¦b\n/\n", "a", "a request `a` already exists in this file"),
        ("%% a\n/lo¦ts\n", "x", "no symbol at this position"),
        ("%% a\nP¦OST /lots\n", "x", "only variables, requests and labels can be renamed"),
    ] {
        assert_eq!(renamed(&format!("#- intake.http\n{file}"), new), Err(why.to_owned()), "{file}");
    }
}

#[track_caller]
fn helped(file: &str) -> String {
    let desk = house(file).answered("{}");
    desk.view(|view| hover(view, desk.source, desk.at)).map(|help| help.text).unwrap_or_default()
}

#[test]
fn help_tells_what_stands_there() {
    assert_eq!(
        helped("%% a\n/{{grow¦er}}\n"),
        "`grower` is `\"G-11\"`\n\nin yieldtray.toml:5, environment local\n\n\
         | environment | value |\n| --- | --- |\n| local | `\"G-11\"` |\n| live | no value |\n"
    );
    let secret = helped("% let key2 = 'x' + key\n%% a\n/{{ke¦y}}\n");
    assert!(secret.starts_with("`key` is `[secret]`") && !secret.contains("4616"), "{secret}");
    let within = helped("% let both = 'x' + key\n%% a\n/{{bo¦th}}\n");
    assert!(within.starts_with("`both` is") && !within.contains("4616"), "{within}");
    assert!(helped("%% a\n/{{grwo¦er}}\n").starts_with("`grwoer`: no variable named `grwoer`"));
    assert!(helped("%% a\n/\nAcc¦ept: */*\n").contains("RFC 9110 12.5.1"));
    assert!(helped("%% a\nPA¦TCH /\n").contains("RFC 5789"));
    assert!(helped("%% a\n% ti¦meout 3s\n/\n").contains("% timeout 5s"));
    assert!(helped("%% a\n/{{ran¦dom(1, 2)}}\n").contains("random(low, high)"));
    assert!(helped("%% a\n/{{lab¦el('a', 2)}}\n").contains("the label of a lot"));
    assert!(helped("%% a\n/\n\n% check body.ex¦ists(l, l > 1)\n").contains("list.exists(x, condition)"));
    assert!(helped("%% a\n/{{math.ab¦s(-1)}}\n").contains("math.abs(x)"));
    assert!(helped("%% a\n/\n\n% check text.spl¦it(',') == []\n").contains("split(text, by)"));
    assert!(helped("%% a\n/\n\n% check ela¦psed > duration('1s')\n").contains("Available after the response"));
    assert!(helped("%% Book¦ in\nPOST /lots\n").contains("last response: `HTTP/1.1 200 As Told`, 5 ms, 2 bytes"));
}

#[track_caller]
fn offered(file: &str) -> Vec<String> {
    let desk = house(file).answered(r#"{"lots":[{"id":"L-1","kg":2}],"grower":{"name":"x"}}"#);
    let files = |folder: &str| if folder == "in/" { vec!["a.csv".to_owned()] } else { vec!["in/".to_owned()] };
    let found = desk.view(|view| complete(view, desk.source, desk.at, &files));
    found.list.into_iter().map(|suggestion| suggestion.label).collect()
}

#[test]
fn what_may_be_written_is_offered() {
    let has = |file: &str, wanted: &[&str], unwanted: &[&str]| {
        let found = offered(file);
        wanted.iter().for_each(|word| assert!(found.iter().any(|known| known == word), "{file}: {word} of {found:?}"));
        unwanted.iter().for_each(|word| assert!(!found.iter().any(|known| known == word), "{file}: {word}"));
    };
    let other = "\n%% b\n/\n\n% yield lot_id = body.id\n";
    has(
        &format!("%% a\n/{{{{¦\n{other}"),
        &["grower", "season", "lot_id", "uuid", "label", "env"],
        &["status", "token"],
    );
    has(&format!("%% a\n/{{{{gr¦}}}}\n{other}"), &["grower"], &[]);
    has("%% a\n/\n\n% check ¦\n", &["status", "headers", "grower", "size"], &[]);
    has("%% a\n/\n\n% check body.¦\n", &["lots", "grower"], &["status"]);
    has("%% a\n/\n\n% check ok2: body.lots[0].i¦\n", &["id"], &["lots", "kg"]);
    has("%% a\n/\n\n% check body.lots.exists(l, l.¦\n", &["id", "kg"], &["lots"]);
    has("%% a\n/\n\n% check body.lots.¦\n", &["exists", "all", "size"], &["id"]);
    has("%% a\n/\n\n% check headers[\"¦\n", &["content-type", "etag"], &[]);
    has("%% a\n% ¦\n", &["needs", "let", "timeout"], &["header", "yield"]);
    has("% ¦\n%% a\n/\n", &["header", "check"], &["needs"]);
    has("%% a\n/\n\n% ¦\n", &["yield", "check", "wait"], &["header"]);
    has(&format!("%% a\n% needs ¦\n/\n{other}"), &["b", "gate.http#sign-in"], &["a"]);
    has("%% a\n/\n\n% waive ¦\n", &["ok"], &[]);
    has("%% a\n¦\n", &["GET", "POST"], &[]);
    has("%% a\n/\nAcc¦\n", &["Accept", "Accept-Encoding"], &["If-Match"]);
    has("%% a\n/\nContent-Type: ¦\n", &["application/json"], &[]);
    has("%% a\n% auth ¦\n/\n", &["basic", "bearer", "oauth2"], &[]);
    has("%% a\n% each row in \"¦\n/\n", &["in/"], &[]);
    has("%% a\n% body from in/¦\n/\n", &["a.csv"], &[]);
    has("%% a\nPOST /\n\n{ \"a\": ¦ }\n", &[], &["grower", "GET", "Accept"]);
    has("%% a\nPOST /\n\n{ \"a\": {{¦ }\n", &["grower"], &[]);
}

#[test]
fn a_call_tells_its_parameters() {
    let shown = |file: &str| {
        let desk = house(file);
        desk.view(|view| signature(view, desk.source, desk.at)).map(|found| (found.label, found.active))
    };
    let random = |active| Some(("random(low, high)".to_owned(), active));
    assert_eq!(shown("%% a\n/{{random(¦\n"), random(0));
    assert_eq!(shown("%% a\n/{{random(f(1, 2), ¦)}}\n"), random(1));
    assert_eq!(shown("%% a\n/{{'random(' + random('a,(', ¦)}}\n"), random(1));
    assert_eq!(shown("%% a\n/{{label(¦)}}\n"), Some(("label(lot, row)".to_owned(), 0)));
    assert_eq!(shown("%% a\n/\n\n% check text.find(¦\n"), Some(("find(text, regex)".to_owned(), 1)));
    assert_eq!(shown("%% a\n/{{random(1, 2)¦}}\n"), None);
    let greatest = Some(("math.greatest(x, …)".to_owned(), 0));
    assert_eq!(shown("%% a\n/{{math.greatest(¦)}}\n"), greatest);
    assert_eq!(shown("%% a\n/\n\n% check text.split(¦\n"), Some(("split(text, by)".to_owned(), 1)));
    assert_eq!(shown("%% a\n/\n\n% check text.charAt(¦\n"), Some(("charAt(string, int)".to_owned(), 1)));
}

#[test]
fn functions_of_the_libraries_are_offered_where_they_fit() {
    let found = |file: &str| offered(file).into_iter().collect::<std::collections::BTreeSet<_>>();
    let has = |file: &str, wanted: &[&str], unwanted: &[&str]| {
        let found = found(file);
        wanted.iter().for_each(|word| assert!(found.contains(*word), "{file}: {word} of {found:?}"));
        unwanted.iter().for_each(|word| assert!(!found.contains(*word), "{file}: {word}"));
    };
    has("%% a\n/{{math.¦}}\n", &["greatest", "abs"], &["contains", "math.abs"]);
    has("%% a\n/{{optional.of¦}}\n", &["of", "ofNonZeroValue"], &["none"]);
    has("%% a\n/{{mat¦}}\n", &["math.abs"], &["matches.abs"]);
    has(
        "%% a\n/\n\n% check body.lots.¦\n",
        &["sort", "first", "all", "transformMap", "flatten"],
        &["charAt", "lower", "optMap"],
    );
    has("%% a\n/\n\n% check body.lots[0].id.¦\n", &["split", "charAt", "lower", "xpath"], &["sort", "all"]);
    has("%% a\n/\n\n% check text.¦\n", &["contains", "split"], &["first"]);
    has("%% a\n/\n\n% check elapsed.¦\n", &["getSeconds"], &["split"]);
    has("%% a\n/\n\n% check body.grower.¦\n", &["name", "filter"], &["sort"]);
}

/// The texts that the fixes of the only problem of this class make of the file, by their titles.
#[track_caller]
fn mended(fixture: &str, code: Code) -> Vec<(String, Vec<(String, String)>)> {
    let mut desk = EditedWorkspace::new(fixture);
    let problem = desk.problems().into_iter().find(|problem| problem.code == code).expect("the problem is there");
    let found = desk.view(|view| fixes(view, &problem));
    found.iter().map(|action| (action.title.clone(), desk.done(action))).collect()
}

/// The title of the first fix of the only problem of this class, and `intake.http` with it.
#[track_caller]
fn first_fix(file: &str, code: Code) -> (String, String) {
    let (title, texts) = mended(&with_intake(file), code).swap_remove(0);
    (title, texts.into_iter().find(|(name, _)| name == "intake.http").map(|(_, text)| text).unwrap_or_default())
}

#[test]
fn a_fix_changes_what_is_wrong() {
    for (file, code, title, after) in [
        ("%% a\n% chekc 1\n/\n", Code::UnknownInstruction, "Change to `check`", "%% a\n% check 1\n/\n"),
        ("%% a\n/{{growr}}\n", Code::UnknownVariable, "Change to `grower`", "%% a\n/{{grower}}\n"),
        (
            "%% a\n% needs bok\n/\n\n%% book\n/\n",
            Code::UnknownCell,
            "Change to `book`",
            "%% a\n% needs book\n/\n\n%% book\n/\n",
        ),
        (
            "%% a\n% needs gate.http#sing-in\n/\n",
            Code::UnknownCell,
            "Change to `gate.http#sign-in`",
            "%% a\n% needs gate.http#sign-in\n/\n",
        ),
        ("%% a\nPOST /\n\n{ \"a\": 1, }\n", Code::BadJson, "Remove `,`", "%% a\nPOST /\n\n{ \"a\": 1 }\n"),
        ("%% a\n/{{grower\n", Code::UnclosedPlaceholder, "Change to `{{grower}}`", "%% a\n/{{grower}}\n"),
        (
            "%% a\n/{{token}}\n",
            Code::MissingValue,
            "Add `% needs gate.http#sign-in`",
            "%% a\n% needs gate.http#sign-in\n/{{token}}\n",
        ),
        (
            "%% a\n/{{x}}\n\n%% b\n/\n\n% yield x = body.x\n",
            Code::YieldedLater,
            "Add `% needs b`",
            "%% a\n% needs b\n/{{x}}\n\n%% b\n/\n\n% yield x = body.x\n",
        ),
        ("%% a\n/\n\n% yield x = body.x\n", Code::UnusedYield, "Remove the line", "%% a\n/\n\n"),
        ("%% a\nGET /\nAcept: a\n", Code::MisspelledHeader, "Change to `Accept`", "%% a\nGET /\nAccept: a\n"),
    ] {
        assert_eq!(first_fix(file, code), (title.to_owned(), after.to_owned()), "{file}");
    }
}

#[test]
fn a_pasted_command_becomes_a_request() {
    let command = "%% a\ncurl http://b/lots \\\n  --data-raw '{\n\n  \"bins\": 24 }' \\\n  -H 'Content-Type: application/json'\n\n%% b\n/x\n";
    assert_eq!(
        first_fix(command, Code::ShellCommand).1,
        "%% a\n% redirects 0\nPOST http://b/lots\nContent-Type: application/json\n\n{\n\n  \"bins\": 24 }\n\n%% b\n/x\n"
    );
}

#[test]
fn accepting_a_problem_changes_nothing_that_is_sent() {
    for (file, code) in [
        ("%% a\n/\n\n% yield x = body.x\n", Code::UnusedYield),
        ("%% a\nPOST /\n\n{ \"a\": 1, }\n", Code::BadJson),
        ("\u{feff}GET /\n\n% yield x = body.x\n", Code::UnusedYield),
        ("\u{feff}% let x = 1\n\n%% a\n/\n", Code::UnusedVariable),
        ("%% a\nGTE /\n", Code::MisspelledMethod),
    ] {
        let (title, texts) = mended(&with_intake(file), code).pop().expect("a fix");
        assert!(title.starts_with("Suppress"), "{title}");
        let mut desk = house(&texts[0].1);
        assert!(!desk.problems().iter().any(|problem| problem.code == code), "{}", texts[0].1);
        let sent = |desk: &EditedWorkspace| {
            desk.workspace
                .cell(CellId { source: desk.source, index: 0 })
                .body
                .of(&desk.workspace.source(desk.source).text)
                .to_owned()
        };
        assert_eq!(sent(&desk), sent(&house(file)), "{}", texts[0].1);
    }
}

/// The workspace of most tests, with this request file.
fn with_intake(file: &str) -> String {
    [WORKSPACE_FILES, "#- intake.http\n", file].concat()
}

#[test]
fn an_unknown_value_is_declared_in_the_chosen_environment() {
    let declared = mended(&with_intake("%% a\n/{{crate_no}}\n"), Code::UnknownVariable);
    assert_eq!(declared[0].0, "Define `crate_no` in environment `local`");
    assert!(declared[0].1[0].1.contains("[environments.local.values]\ncrate_no = \"\"\nbase"), "{declared:?}");
}

#[test]
fn a_secret_is_moved_to_the_private_configuration() {
    let secret = mended(&with_intake("%% a\n/\nX-Api-Key: crate-4616\n"), Code::SecretInFile);
    assert_eq!(
        secret[0],
        (
            "Move it to `yieldtray.local.toml` as `x_api_key`".to_owned(),
            vec![
                ("intake.http".to_owned(), "%% a\n/\nX-Api-Key: {{x_api_key}}\n".to_owned()),
                (
                    "yieldtray.local.toml".to_owned(),
                    "[environments.local.values]\nx_api_key = { value = \"crate-4616\", secret = true }\n".to_owned()
                ),
            ]
        )
    );
}

#[track_caller]
fn reshaped(file: &str, selected: &str, title: &str) -> Vec<(String, String)> {
    let desk = EditedWorkspace::new(&format!(
        "#- yieldtray.toml\n[environments.local.values]\ngrower = 'G-11'\n#- a.http\n{file}"
    ))
    .answered(r#"{"id":"L-1","kg":2}"#);
    let at = desk.workspace.source(desk.source).text.find(selected).expect("it is there");
    let found = desk.view(|view| actions(view, desk.source, Span::new(at, at + selected.len())));
    let titles: Vec<&str> = found.iter().map(|action| action.title.as_str()).collect();
    let action = found.iter().find(|action| action.title == title).unwrap_or_else(|| panic!("{titles:?}"));
    desk.done(action)
}

#[test]
fn files_are_reshaped() {
    let file = "%% a\nGET http://b:1/lots\n\n%% b\nGET http://b:1?x=1\n\n%% c\nGET http://b:12/\n";
    assert_eq!(
        reshaped(file, "http://b:1/", "Extract `http://b:1` to `base` (2 requests)"),
        [
            ("a.http".to_owned(), "%% a\nGET /lots\n\n%% b\nGET /?x=1\n\n%% c\nGET http://b:12/\n".to_owned()),
            (
                "yieldtray.toml".to_owned(),
                "[environments.local.values]\nbase = \"http://b:1\"\ngrower = 'G-11'\n".to_owned()
            )
        ]
    );
    let body = "%% a\nPOST http://b/\n\n{ \"crop\": \"gala\", \"bins\": 24 }\n";
    assert_eq!(
        reshaped(body, "gala", "Extract `gala` to the variable `crop`")[0].1,
        "% let crop = \"gala\"\n\n%% a\nPOST http://b/\n\n{ \"crop\": {{crop}}, \"bins\": 24 }\n"
    );
    assert_eq!(
        reshaped(body, "24", "Extract `24` to the variable `bins`")[0].1,
        "% let bins = 24\n\n%% a\nPOST http://b/\n\n{ \"crop\": \"gala\", \"bins\": {{bins}} }\n"
    );
    assert_eq!(
        reshaped(
            "%% a\nGET http://b/\n\n% check status == 200\n\n%% b\nGET http://b/\n",
            "http",
            "Add 3 checks from the last response"
        )[0]
        .1,
        "%% a\nGET http://b/\n\n% check status == 200\n% check headers[\"content-type\"].startsWith(\"application/json\")\n\
         % check type(body.id) == string\n% check type(body.kg) == int\n\n%% b\nGET http://b/\n"
    );
}

#[test]
fn the_structure_of_a_file() {
    let desk =
        house("# One.\n# Two.\n\n%% Book in\nPOST /lots\n\n{\n  \"a\": {{gr¦ower}}\n}\n\n%% b\n% name other\n/x\n");
    let symbols = symbols(&desk.workspace, desk.source);
    let shown: Vec<String> = symbols.iter().map(|symbol| format!("{} · {}", symbol.name, symbol.detail)).collect();
    assert_eq!(shown, ["book-in · POST /lots", "other · GET /x"]);
    assert_eq!(workspace_symbols(&desk.workspace, "bklts").len(), 1);
    let text = &desk.workspace.source(desk.source).text;
    let folds = folds(&desk.workspace, desk.source);
    let lines = |span: Span| span.of(text).lines().count();
    let shown: Vec<String> = folds
        .iter()
        .map(|fold| match fold {
            Fold::Cell(span) => format!("cell {}", lines(*span)),
            Fold::Body(span) => format!("body {}", lines(*span)),
            Fold::Comments(span) => format!("comments {}", lines(*span)),
        })
        .collect();
    assert_eq!(shown, ["comments 2", "cell 6", "body 3", "cell 3"]);
    let spans = desk.view(|view| selections(view, desk.source, desk.at));
    let shown: Vec<&str> = spans.iter().map(|span| span.of(text)).take(3).collect();
    assert_eq!(shown, ["grower", "{{grower}}", "  \"a\": {{grower}}"]);
    assert_eq!(spans.last().map(|span| span.len()), Some(text.len()));
}

#[test]
fn values_are_shown_beside_their_marks_but_for_secrets() {
    let desk = house("% let id = uuid()\n%% a\nPOST /{{grower}}/{{season + 1}}/{{key}}/{{id}}/{{no}}/{{'x' + key}}\n");
    let all = Span::new(0, desk.workspace.source(desk.source).text.len());
    let shown = desk.view(|view| hints(view, desk.source, all));
    assert_eq!(shown.iter().map(|hint| hint.text.as_str()).collect::<Vec<_>>(), ["G-11", "2027"]);
}

#[test]
fn tokens_tell_values_that_are_there_from_those_that_are_not() {
    let desk =
        house("# x\n%% a\n% let own = 1\nGET /{{grower}}/{{gone}}\nAccept: a\n\n% check size(body.lots) == own\n");
    let text = &desk.workspace.source(desk.source).text;
    let shown: Vec<String> = desk
        .view(|view| tokens(view, desk.source))
        .iter()
        .map(|token| format!("{:?} {}", token.kind, token.span.of(text)))
        .collect();
    assert_eq!(
        shown,
        [
            "Comment # x",
            "Title %% a",
            "Instruction let",
            "Value own",
            "Method GET",
            "Value grower",
            "Missing gone",
            "Header Accept",
            "Instruction check",
            "Function size",
            "Language body",
            "Member lots",
            "Value own",
        ]
    );
}

#[test]
fn every_instruction_and_name_of_the_language_has_help() {
    use super::docs::{instruction_help, language_help};
    use yieldtray_syntax::{SUPPORTED, is_language_name, is_late_name};
    for word in SUPPORTED {
        assert!(instruction_help(word).is_some(), "{word}");
    }
    for known in super::docs::INSTRUCTIONS {
        assert!(SUPPORTED.contains(&known.word), "{}", known.word);
    }
    for known in super::docs::LANGUAGE {
        assert!(is_language_name(known.name) || is_late_name(known.name), "{}", known.name);
        assert!(language_help(known.name).is_some());
    }
}
