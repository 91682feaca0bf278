//! Descriptions of the packhouse and of a small graph, read, matched, held against responses and compared.

use crate::{
    Api, ApiKind, Contract, Coverage, DriftKind, Exercise, Found, GraphQlSchema, Matched, Observation, changes, drift,
    index, operations, sample_document, schema_walk::schema_type,
};
use proptest::prelude::*;
use serde_json::{Map, Value, json};
use std::sync::Arc;
use url::Url;
use yieldtray_http::{Exchange, PreparedRequest};

const PACKHOUSE: &str = include_str!("../../packhouse/src/openapi.json");

const SCHEMA: &str = r#"
"Fruit of a season."
schema { query: Query mutation: Mutation }
type Query {
  "Lots, the newest first."
  lots(grower: ID, state: State = OPEN, first: Int! = 20): [Lot!]!
  lot(id: ID!): Lot
  search(text: String!): [Found!]!
}
type Mutation { bookLot(lot: NewLot!): Lot! }
interface Numbered { id: ID! }
type Lot implements Numbered { id: ID! bins: Int! grower: Grower! crates: Int @deprecated(reason: "use bins") }
type Grower implements Numbered { id: ID! name: String! lots: [Lot!]! }
union Found = Lot | Grower
enum State { OPEN CLOSED }
input NewLot { grower: ID! bins: Int! variety: String = "mixed" }
"#;

fn none(_: &str) -> Result<Vec<u8>, String> {
    Err("there are no other files".to_owned())
}

fn open(text: &str) -> Api {
    let index = index(text.as_bytes(), none).expect("a description");
    Api::open(Box::new(index)).expect("an index")
}

fn packhouse() -> Api {
    open(PACKHOUSE)
}

/// The packhouse's description with a part exchanged.
fn changed(pointer: &str, value: Value) -> Api {
    let mut document: Value = serde_json::from_str(PACKHOUSE).expect("JSON");
    *document.pointer_mut(pointer).expect("a part") = value;
    open(&document.to_string())
}

fn exchange(method: &str, path: &str, status: u16, media: &str, body: &str) -> Exchange {
    let url = Url::parse(&format!("http://127.0.0.1:4616{path}")).expect("a URL");
    let headers = vec![("content-type".to_owned(), media.as_bytes().to_vec())];
    Exchange::new(Arc::new(PreparedRequest::new(method, url)), status, headers, body.to_owned())
}

fn violations(exchange: &Exchange) -> Vec<String> {
    let base = Url::parse("http://127.0.0.1:4616").expect("a URL");
    let contract = Contract::new("packhouse", packhouse(), base);
    let found = contract.check(exchange).expect("it is of this API");
    found.into_iter().map(|violation| format!("{}: {}", violation.rule, violation.message)).collect()
}

#[test]
fn an_api_is_read_level_by_level() {
    let api = packhouse();
    assert_eq!(
        (api.info().kind, api.info().title.as_str(), api.info().operations),
        (ApiKind::OpenApi, "Packhouse", 30)
    );
    let shown = |place: Option<&str>| {
        let level = api.level(place).expect("an index").expect("a level");
        let own = level.operations.iter().map(|operation| operation.title());
        own.chain(level.places.iter().map(|place| format!("{} {}", place.name, place.count))).collect::<Vec<_>>()
    };
    let first = shown(None);
    assert!(first.contains(&"/lots 11".to_owned()) && first.contains(&"/session 2".to_owned()), "{first:?}");
    assert_eq!(shown(Some("/lots")), ["GET /lots", "POST /lots", "/lots/{id} 9"]);
    // What has only one place below it stands for that.
    assert!(first.contains(&"/gate/arrivals 1".to_owned()), "{first:?}");
    assert_eq!(shown(Some("gate")).len(), 8);
    assert!(api.level(Some("/pears")).expect("an index").is_none());
    assert_eq!(api.similar("POST /lot").expect("an index").as_deref(), Some("POST /lots"));
    assert_eq!(api.similar("booklot").expect("an index").as_deref(), Some("book-lot"));
}

#[test]
fn an_operation_is_found_by_each_of_its_names() {
    let api = packhouse();
    for name in ["POST /lots", "post /lots", "book-lot"] {
        let Ok(Some(Found::Operation(operation))) = api.find(name) else { panic!("`{name}` is not found") };
        assert_eq!(operation.summary.title(), "POST /lots");
        let body = operation.body.as_ref().expect("a body").content[0].schema.clone().expect("a schema");
        let sample = api.sample(&body, "body").expect("an index").expect("a sample");
        assert_eq!(sample, json!({ "grower": "G-11", "bins": 24, "variety": "mixed", "ref": "north-2026" }));
    }
    let with_a_value = api.find("GET /lots/L-1?page=2").expect("an index");
    assert!(matches!(with_a_value, Some(Found::Operation(own)) if own.summary.title() == "GET /lots/{id}"));
    assert!(matches!(api.find("Lot"), Ok(Some(Found::Definition(name, _))) if name == "Lot"));
    assert!(matches!(api.find("nothing"), Ok(None)));
}

#[test]
fn a_path_is_matched_to_the_nearest_template() {
    let text = json!({ "openapi": "3.1.0", "paths": {
        "/lots/{id}": { "get": {} }, "/lots/open": { "get": {} }, "/lots/{id}.json": { "get": {} },
        "/lots/{id}/trays/{tray}": { "put": {} }, "/{any}/trays/{tray}": { "delete": {} },
    } });
    let api = open(&text.to_string());
    let matched = |method: &str, path: &str| api.matched(method, path).expect("an index");
    assert_eq!(matched("GET", "/lots/open"), Matched::Operation("/lots/open".to_owned()));
    assert_eq!(matched("GET", "/lots/L-1"), Matched::Operation("/lots/{id}".to_owned()));
    assert_eq!(matched("PUT", "/lots/L-1/trays/T-1"), Matched::Operation("/lots/{id}/trays/{tray}".to_owned()));
    assert_eq!(
        matched("PATCH", "/lots/L-1/trays/T-1"),
        Matched::OtherMethods("/lots/{id}/trays/{tray}".to_owned(), vec!["PUT".to_owned()])
    );
    assert_eq!(matched("GET", "/pears"), Matched::Unknown);
    assert_eq!(matched("GET", &"/x".repeat(5_000)), Matched::Unknown);
}

/// Each level has two templates that fit every segment.
#[test]
fn a_hostile_description_costs_no_time() {
    let segments = |last: &str| (0..90).map(|n| format!("/{{a{n}}}")).collect::<String>() + last;
    let other = (0..90).map(|n| format!("/{{b{n}}}")).collect::<String>();
    let mut paths = serde_json::Map::new();
    for n in 0..90 {
        let mixed: String = (0..90).map(|at| format!("/{{{}{at}}}", if at < n { "a" } else { "b" })).collect();
        paths.insert(mixed, json!({ "get": {} }));
    }
    paths.insert(segments("/end"), json!({ "get": {} }));
    paths.insert(other + "/end", json!({ "get": {} }));
    paths.insert("/x".repeat(50_000), json!({ "get": {} }));
    let api = open(&json!({ "openapi": "3.0.3", "paths": paths }).to_string());
    assert!(api.info().notes[0].contains("too many segments"), "{:?}", api.info().notes);
    assert_eq!(api.matched("GET", &"/x".repeat(91)).expect("an index"), Matched::Unknown);
}

#[test]
fn cycles_and_missing_references_end() {
    let text = json!({ "openapi": "3.1.0", "paths": { "/tree": { "get": { "responses": { "200": { "content": {
        "application/json": { "schema": { "$ref": "#/components/schemas/Node" } },
        "text/x": { "schema": { "$ref": "https://other.example/x.json" } },
    } } } } } }, "components": { "schemas": {
        "Node": { "type": "object", "properties": { "left": { "$ref": "#/components/schemas/Node" }, "id": { "type": "integer" } } },
    } } });
    let api = open(&text.to_string());
    assert!(api.info().notes[0].contains("is not fetched"), "{:?}", api.info().notes);
    let operation = api.operation("GET", "/tree").expect("an index").expect("it is there");
    let schema = operation.responses[0].content[0].schema.clone().expect("a schema");
    assert_eq!(api.with_definitions(&schema).expect("an index")["$defs"].as_object().expect("definitions").len(), 1);
    assert!(api.members(&schema).len() < 20);
    assert!(api.sample(&schema, "body").expect("an index").is_some());
}

#[test]
fn a_response_is_held_against_its_description() {
    let lot = json!({ "id": "L-1", "grower": "G-11", "variety": "gala", "bins": 4, "state": "open", "ref": null });
    let mut good = exchange("GET", "/lots/L-1", 200, "application/json", &lot.to_string());
    assert_eq!(violations(&good), ["header: the header `ETag` is missing"]);
    good.headers.push(("etag".to_owned(), b"\"L-1-1\"".to_vec()));
    assert_eq!(violations(&good), [""; 0]);
    good.body = lot.to_string().replace('4', "4000").replace("\"open\"", "7").into();
    good.size = good.body.len() as u64;
    assert_eq!(
        violations(&good),
        [
            "body: `/bins`: 4000 is greater than the maximum of 400 (rule `Bins/maximum`)",
            "body: `/state`: 7 is not of type \"string\" (rule `LotState/type`)",
            "body: `/state`: 7 is not one of \"open\" or \"closed\" (rule `LotState/enum`)",
        ]
    );
    assert_eq!(
        violations(&exchange("GET", "/lots/L-1", 418, "application/json", "{}")),
        ["status: status 418 is not documented; documented: 200, 304, 404"]
    );
    assert_eq!(
        violations(&exchange("GET", "/growers", 200, "text/html", "<p>")),
        ["content-type: content type `text/html` is not documented for status 200; documented: application/json"]
    );
    assert_eq!(violations(&exchange("GET", "/pears", 200, "text/html", "")), ["operation: `/pears` is not described"]);
    assert_eq!(
        violations(&exchange("DELETE", "/growers", 200, "text/html", "")),
        ["operation: DELETE is not described for `/growers`, which has GET"]
    );
    assert_eq!(
        violations(&exchange("GET", "/growers", 200, "application/json", "{")),
        ["body: the body is not valid JSON: EOF while parsing an object at line 1 column 1"]
    );
    let other = Contract::new("packhouse", packhouse(), Url::parse("http://192.0.2.1").expect("a URL"));
    assert_eq!(other.check(&good), None);
    // A conversation is a request to the same server.
    let own = Contract::new("packhouse", packhouse(), Url::parse("http://127.0.0.1:4616").expect("a URL"));
    let path = |url: &str| own.path_of(&Url::parse(url).expect("a URL"));
    assert_eq!(path("ws://127.0.0.1:4616/scale/socket").as_deref(), Some("/scale/socket"));
    assert_eq!((path("wss://127.0.0.1:4616/scale"), path("ws://127.0.0.1:4617/scale")), (None, None));
}

fn seen(number: i64, method: &str, path: &str, status: u16, body: Value) -> Observation {
    Observation {
        number,
        method: method.to_owned(),
        path: path.to_owned(),
        status,
        media_type: Some("application/json".to_owned()),
        response_body: Some(body),
        ..Observation::default()
    }
}

#[test]
fn coverage_counts_what_files_and_the_log_exercise() {
    let api = packhouse();
    let exercise = |method: &str, path: &str, query: &[&str]| Exercise {
        request: format!("{method} in a file"),
        method: method.to_owned(),
        path: path.to_owned(),
        query: query.iter().map(|name| (*name).to_owned()).collect(),
        headers: Vec::new(),
    };
    let exercises = [exercise("GET", "/lots", &["grower", "page"]), exercise("GET", "/pears", &[])];
    let body = json!({ "lots": [{ "id": "L-1", "bins": 3 }], "page": 1 });
    let coverage = Coverage::of(&api, &exercises, &[seen(7, "GET", "/lots", 200, body)]).expect("an index");
    assert_eq!((coverage.operation_ratio.covered, coverage.operation_ratio.total), (1, 30));
    assert_eq!(coverage.operation_ratio.percent(), 3);
    assert_eq!(coverage.unknown, ["GET in a file"]);
    let lots = coverage.operations.iter().find(|own| own.is_covered()).expect("one is covered");
    assert_eq!(lots.statuses, [("200".to_owned(), true), ("400".to_owned(), false)].into());
    assert_eq!((lots.parameter_ratio().covered, lots.parameter_ratio().total), (2, 5));
    assert!(lots.response_members["lots[].bins"] && !lots.response_members["total"]);
}

#[test]
fn drift_names_what_only_one_side_has() {
    let api = packhouse();
    let body = json!({ "lots": [{ "id": 7, "bins": 3, "colour": "red" }], "page": 1, "pages": 1 });
    let all = [
        seen(7, "GET", "/lots", 200, body),
        seen(8, "GET", "/lots", 500, json!({})),
        seen(9, "PUT", "/x", 200, json!({})),
    ];
    let found = drift(&api, &all).expect("an index");
    let shown: Vec<String> = found
        .iter()
        .filter(|own| own.kind != DriftKind::UnseenMember)
        .map(|own| format!("{} {} {} {:?}", own.kind.describe(), own.operation, own.subject, own.example))
        .collect();
    assert_eq!(
        shown,
        [
            "undocumented operation PUT /x  Some(9)",
            "undocumented status GET /lots 500 Some(8)",
            "undocumented member GET /lots 200 lots[].colour (string) Some(7)",
            "other type GET /lots 200 lots[].id is integer, documented as string Some(7)",
            "status never received GET /lots 400 None",
        ]
    );
    let unseen: Vec<&str> =
        found.iter().filter(|own| own.kind == DriftKind::UnseenMember).map(|own| own.subject.as_str()).collect();
    assert_eq!(unseen, ["200 lots[].grower", "200 lots[].ref", "200 lots[].state", "200 lots[].variety", "200 total"]);
}

#[test]
fn changes_that_break_are_marked() {
    let shown = |new: &Api| {
        let found = changes(&packhouse(), new).expect("an index");
        let shown = found
            .into_iter()
            .map(|change| format!("{}{}: {}", if change.breaking { "! " } else { "" }, change.subject, change.message));
        shown.collect::<Vec<_>>()
    };
    assert_eq!(shown(&packhouse()), [""; 0]);
    assert_eq!(shown(&changed("/paths/~1growers", json!({}))), ["! GET /growers: operation removed"]);
    let required = json!(["grower", "bins", "variety"]);
    assert_eq!(
        shown(&changed("/components/schemas/NewLot/required", required)),
        ["! POST /lots: request member `variety` became required"]
    );
    assert_eq!(
        shown(&changed("/components/schemas/ColdRoom/properties/trays", json!({ "type": "string" }))),
        ["! GET /cold-rooms: response 200: member `cold_rooms[].trays`: type integer became string"]
    );
    let parameter = json!({ "name": "page", "in": "query", "required": true, "schema": { "type": "integer" } });
    assert_eq!(
        shown(&changed("/paths/~1lots/get/parameters/3", parameter)),
        ["! GET /lots: query parameter `page` became required"]
    );
    // A parameter is held against its schema as a member of a body is.
    let open_lots = json!({ "name": "state", "in": "query", "schema": { "type": "string", "enum": ["open"] } });
    assert_eq!(
        shown(&changed("/paths/~1lots/get/parameters/1", open_lots)),
        ["! GET /lots: query parameter `state` no longer allows \"closed\""]
    );
    let schema = open(SCHEMA);
    let other = open(
        &SCHEMA.replace("bins: Int! grower: Grower!", "bins: Int grower: Grower!").replace(" CLOSED", " CLOSED SOLD"),
    );
    let found = changes(&schema, &other).expect("an index");
    let found: Vec<(bool, &str)> = found.iter().map(|own| (own.breaking, own.message.as_str())).collect();
    assert_eq!(found, [(true, "type Int! became Int"), (false, "value `SOLD` added")]);
}

#[test]
fn a_graphql_schema_has_roots_and_types() {
    let api = open(SCHEMA);
    assert_eq!(
        (api.info().kind, api.info().title.as_str(), api.info().operations),
        (ApiKind::GraphQl, "Fruit of a season", 4)
    );
    let roots = api.level(None).expect("an index").expect("a level");
    let roots: Vec<String> = roots.places.iter().map(|place| format!("{} {}", place.kind, place.name)).collect();
    assert_eq!(roots[..3], ["query Query", "mutation Mutation", "interface Numbered"]);
    let Ok(Some(Found::Field(owner, field))) = api.find("Query.lots") else { panic!("the field is not found") };
    assert_eq!((owner.as_str(), field.type_name.as_str()), ("Query", "[Lot!]!"));
    assert_eq!(field.arguments[1].default.as_deref(), Some("OPEN"));
    let record = api.type_named("Found").expect("an index").expect("a type");
    assert_eq!(record.possible_types, ["Lot", "Grower"]);
    assert_eq!(api.similar("Query.lotz").expect("an index").as_deref(), Some("Query.lots"));
}

#[test]
fn a_document_is_validated_where_it_is_wrong() {
    let schema = GraphQlSchema::parse(SCHEMA).expect("a schema");
    let shown = |text: &str| {
        let problems = schema.problems(text);
        let shown = problems.into_iter().map(|problem| {
            let meant = problem.meant.map(|meant| format!(" -> {meant}")).unwrap_or_default();
            format!("{}: {}{meant}", &text[problem.range], problem.message)
        });
        shown.collect::<Vec<_>>()
    };
    assert_eq!(shown("{ lots { id bins } }"), [""; 0]);
    assert_eq!(shown("{ lots { id binz } }"), ["binz: type `Lot` does not have a field `binz` -> bins"]);
    assert_eq!(shown("{ lots { crates } }"), ["crates: `crates` is deprecated: use bins"]);
    assert_eq!(shown("{ lot { id } }").len(), 1);
    let document = "query One($id: ID!) { lot(id: $id) { id } }";
    let given = Map::from_iter([("id".to_owned(), json!("L-1"))]);
    assert_eq!(schema.variable_problem(document, None, &given), None);
    assert!(schema.variable_problem(document, None, &Map::new()).expect("a problem").contains("id"));
    let all = operations(document).expect("it can be read");
    assert_eq!((all[0].name.as_deref(), all[0].kind, all[0].variables[0].required), (Some("One"), "query", true));
    assert!(operations("query {").is_err());
    assert!(schema.problems(&"{a".repeat(10_000)).len() < 100);
}

#[test]
fn a_document_is_made_for_a_field() {
    let api = open(SCHEMA);
    let Ok(Some(Found::Field(_, field))) = api.find("Mutation.bookLot") else { panic!("the field is not found") };
    let (text, variables) = sample_document("mutation", &field, &|name| api.type_named(name).ok().flatten());
    assert_eq!(
        text,
        "mutation($lot: NewLot!) {\n  bookLot(lot: $lot) {\n    id\n    bins\n    grower {\n      id\n      name\n    }\n  }\n}"
    );
    assert_eq!(variables, [("lot".to_owned(), r#"{"grower": "text", "bins": 1}"#.to_owned())]);
    assert_eq!(GraphQlSchema::parse(SCHEMA).expect("a schema").problems(&text), []);
}

#[test]
fn an_introspection_is_read_as_its_schema() {
    let reference = |kind: &str, name: Value, of: Value| json!({ "kind": kind, "name": name, "ofType": of });
    let id = reference("NON_NULL", Value::Null, reference("SCALAR", json!("ID"), Value::Null));
    let text = json!({ "data": { "__schema": {
        "queryType": { "name": "Query" }, "mutationType": null, "subscriptionType": null, "directives": [],
        "types": [{ "kind": "OBJECT", "name": "Query", "interfaces": [], "fields": [
            { "name": "lot", "description": "One \"lot\"\nof many", "args": [{ "name": "id", "type": id }], "type": id,
              "isDeprecated": true, "deprecationReason": "use lots" },
        ] }],
    } } });
    let api = open(&text.to_string());
    assert_eq!(
        api.schema_text().expect("an index").expect("a schema"),
        "schema {\n  query: Query\n}\n\ntype Query {\n  \"One \\\"lot\\\"\\nof many\"\n  lot(id: ID!): ID! @deprecated(reason: \"use lots\")\n}\n"
    );
    let refused = index(br#"{"errors":[{"message":"introspection is off"}]}"#, none).expect_err("it has no schema");
    assert_eq!(refused.to_string(), "the response has no schema: introspection is off");
}

#[test]
fn the_types_of_a_body_are_known_to_expressions() {
    let api = Arc::new(packhouse());
    let kind = schema_type(&api, &[json!({ "$ref": "#/$defs/LotPage" })]);
    let yieldtray_cel::Type::Record(page) = kind else { panic!("a record is expected") };
    assert_eq!(page.members(), ["lots", "page", "pages", "total"]);
    assert!(matches!(page.member("lots"), Some(yieldtray_cel::Type::List(_))));
    assert!(page.member("lot").is_none());
}

proptest! {
    #[test]
    fn nothing_that_is_read_panics(text in "[a-z{}\\[\\]:\"/$#! \n-]{0,200}") {
        let _ = index(text.as_bytes(), none);
        let _ = operations(&text);
        let with_paths = format!("openapi: 3.1.0\npaths:\n  /{text}");
        if let Ok(index) = index(with_paths.as_bytes(), none) {
            let api = Api::open(Box::new(index)).expect("an index");
            let _ = api.matched("GET", &text);
            let _ = api.find(&text);
        }
    }
}
