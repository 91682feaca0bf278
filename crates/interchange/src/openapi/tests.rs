//! Tests of importing OpenAPI.

use super::{DescriptionError, Documents, ImportOptions, ImportedApi, import};
use crate::draft::{CellFileBuilder, SecretExtractor};
use serde_json::{Value, json};

fn documents(text: &str, beside: &[(&str, &str)]) -> Result<Documents, String> {
    Documents::read(text.as_bytes(), |path| {
        let found = beside.iter().find(|(known, _)| *known == path);
        found.map(|(_, text)| text.as_bytes().to_vec()).ok_or_else(|| "file not found".to_owned())
    })
    .map_err(|error| error.to_string())
}

fn taken(text: &str, beside: &[(&str, &str)]) -> ImportedApi {
    let documents = documents(text, beside).unwrap_or_else(|why| panic!("{why}"));
    import(&documents, &ImportOptions { operation: None, schemas: true }).unwrap_or_else(|why| panic!("{why}"))
}

/// The request files as they are written.
fn files(taken: ImportedApi) -> Vec<(String, String)> {
    let written = taken.files.into_iter().map(|file| {
        let mut builder = CellFileBuilder::new([], "bodies");
        file.drafts.into_iter().for_each(|draft| builder.add(draft, &mut SecretExtractor::nothing()));
        assert_eq!(builder.refused, []);
        (file.name, format!("{}\n{}", file.head.trim_end(), builder.text()))
    });
    written.collect()
}

/// A description with these paths, and this beside them.
fn describing(paths: Value, more: Value) -> String {
    let mut whole = json!({ "openapi": "3.1.0", "info": { "title": "Packhouse" },
        "servers": [{ "url": "http://b" }], "paths": paths });
    for (name, value) in more.as_object().into_iter().flatten() {
        whole[name] = value.clone();
    }
    whole.to_string()
}

const YAML: &str = r##"
openapi: 3.0.3
info: { title: Packhouse }
servers:
  - { url: "http://127.0.0.1:4616/api/", description: local }
  - url: https://{site}.packhouse.example/api
    variables: { site: { default: north } }
security: [{ desk: [] }]
tags:
  - { name: Cold rooms, description: "Where lots wait.\nTwo degrees." }
paths:
  /lots/{lotId}:
    parameters:
      - { name: lotId, in: path, required: true, schema: { type: string }, example: L-2041 }
    get:
      operationId: readLot
      summary: Look at a lot.
      description: Gives what is known.
      tags: [Cold rooms]
      parameters:
        - { name: state, in: query, schema: { type: string, enum: [open, stored] } }
        - { name: X-Gate, in: header, schema: { type: string, default: north } }
      responses:
        200:
          content: { application/json: { schema: { $ref: "#/components/schemas/Lot" } } }
        404: { description: gone }
    put:
      tags: [Cold rooms]
      requestBody: { content: { application/json: { schema: { $ref: "#/components/schemas/Lot" } } } }
      responses: { 2XX: { description: ok } }
components:
  securitySchemes: { desk: { type: http, scheme: bearer } }
  schemas:
    Lot:
      type: object
      required: [id, bins]
      properties:
        id: { type: string, readOnly: true }
        bins: { type: integer, minimum: 3, exclusiveMinimum: true }
        room: { $ref: "rooms.yaml#/Room" }
        parent: { $ref: "#/components/schemas/Lot" }
        booked: { type: string, format: date, nullable: true }
"##;

#[test]
fn a_description_becomes_files_environments_and_schemas() {
    let rooms =
        "Room: { type: object, properties: { name: { $ref: '#/Name' } } }\nName: { type: string, maxLength: 3 }\n";
    let taken = taken(YAML, &[("rooms.yaml", rooms)]);
    assert_eq!(
        taken.environments,
        [("local", "http://127.0.0.1:4616/api"), ("north", "https://north.packhouse.example/api")]
            .map(|(name, base)| (name.to_owned(), base.to_owned()))
    );
    assert_eq!(taken.values.keys().collect::<Vec<_>>(), ["desk_token"]);
    assert_eq!(taken.notes, ["server `https://{site}.packhouse.example/api`: `site` is `north`"]);
    let schemas: Vec<(&str, Value)> =
        taken.schemas.iter().map(|(path, text)| (path.as_str(), serde_json::from_str(text).expect("JSON"))).collect();
    let paths: Vec<&str> = schemas.iter().map(|(path, _)| *path).collect();
    assert_eq!(paths, ["schemas/Lot.schema.json", "schemas/Name.schema.json", "schemas/Room.schema.json"]);
    assert_eq!(
        schemas[0].1["properties"],
        json!({
            "id": { "type": "string", "readOnly": true },
            "bins": { "type": "integer", "exclusiveMinimum": 3 },
            "room": { "$ref": "Room.schema.json" },
            "parent": { "$ref": "Lot.schema.json" },
            "booked": { "type": ["string", "null"], "format": "date" },
        })
    );
    assert_eq!(
        files(taken),
        [(
            "cold-rooms".to_owned(),
            "# Where lots wait.\n# Two degrees.\n\n% auth bearer {{desk_token}}\n\
             %% Look at a lot\n# Gives what is known.\n# Optional header: `X-Gate: north`\n% name readLot\n\
             % let lot_id = \"L-2041\"\n#% query state = open\nGET /lots/{{lot_id}}\n\n% check status == 200\n\
             % check conforms(body, \"schemas/Lot.schema.json\")\n\n\
             %% PUT /lots/{lotId}\n% let lot_id = \"L-2041\"\nPUT /lots/{{lot_id}}\n\n\
             {\n  \"bins\": 4,\n  \"room\": {\n    \"name\": \"nam\"\n  },\n  \"booked\": \"2026-09-14\"\n}\n\n\
             % check status >= 200 && status < 300\n"
                .to_owned()
        )]
    );
}

#[test]
fn parameters_are_written_as_their_styles_say() {
    let of = |place: &str, name: &str, more: Value| {
        let mut parameter = json!({ "name": name, "in": place, "required": true, "schema": {} });
        for (key, value) in more.as_object().into_iter().flatten() {
            parameter[key] = value.clone();
        }
        parameter
    };
    for (path, parameter, expected) in [
        (
            "/a",
            of("query", "tag", json!({ "example": ["x", "y"] })),
            "% let tag = \"x\"\n% query tag = {{tag}}\n% query tag = {{tag}}",
        ),
        (
            "/a",
            of("query", "tag", json!({ "example": ["x", "y"], "explode": false })),
            "% let tag = \"x,y\"\n% query tag = {{tag}}",
        ),
        ("/a", of("query", "tag", json!({ "example": ["x", "y"], "style": "pipeDelimited" })), "% let tag = \"x|y\"\n"),
        (
            "/a",
            of("query", "by", json!({ "example": { "room": "A" }, "style": "deepObject" })),
            "% query {{\"by[room]\"}}",
        ),
        (
            "/a/{id}",
            of("path", "id", json!({ "example": 7, "style": "matrix" })),
            "% let id = \"7\"\nGET /a/;id={{id}}",
        ),
        (
            "/a/{id}",
            of("path", "id", json!({ "example": [1, 2], "style": "label" })),
            "% let id = \"1,2\"\nGET /a/.{{id}}",
        ),
        (
            "/a",
            of("cookie", "shift", json!({ "example": "early" })),
            "% let shift = \"early\"\nGET /a\nCookie: shift={{shift}}",
        ),
        (
            "/a",
            of("header", "X-Rooms", json!({ "example": ["A", "B"] })),
            "% let x_rooms = \"A,B\"\nGET /a\nX-Rooms: {{x_rooms}}",
        ),
        (
            "/a",
            of("query", "status", json!({ "example": "open" })),
            "% let my_status = \"open\"\n% query status = {{my_status}}",
        ),
    ] {
        let mut paths = json!({});
        paths[path] = json!({ "get": { "parameters": [parameter], "responses": {} } });
        let written = files(taken(&describing(paths, json!({})), &[])).remove(0).1;
        let expected = expected.replace("{{\"by[room]\"}}", "by[room] = {{by_room}}");
        assert!(written.contains(&expected), "{expected}\n---\n{written}");
    }
}

#[test]
fn credentials_come_from_values() {
    let schemes = json!({
        "desk": { "type": "http", "scheme": "basic" },
        "scale": { "type": "apiKey", "in": "header", "name": "X-Scale" },
        "gate": { "type": "apiKey", "in": "query", "name": "gate" },
        "machine": { "type": "oauth2", "flows": { "clientCredentials": { "tokenUrl": "http://b/token", "scopes": {} } } },
        "person": { "type": "oauth2", "flows": { "authorizationCode": { "tokenUrl": "http://b/token", "scopes": {} } } },
        "clerk": { "type": "oauth2", "flows": { "authorizationCode": { "tokenUrl": "http://b/token", "authorizationUrl": "http://b/sign-in", "scopes": {} } } },
        "house": { "type": "openIdConnect", "openIdConnectUrl": "http://b/north/.well-known/openid-configuration" },
        "tls": { "type": "mutualTLS" },
    });
    let with = |security: Value| {
        let paths = json!({ "/a": { "get": { "security": security, "responses": {} } } });
        let more = json!({ "components": { "securitySchemes": schemes } });
        let taken = taken(&describing(paths, more), &[]);
        let (values, notes) = (taken.values.keys().cloned().collect::<Vec<_>>().join(" "), taken.notes.clone());
        let profiles: Vec<String> =
            taken.profiles.values().map(|own| format!("{} {} {:?}", own.grant, own.scope, own.endpoints)).collect();
        (files(taken).remove(0).1, values, notes, profiles)
    };
    for (security, line, values) in [
        (json!([{ "desk": [] }]), "% auth basic {{desk_user}} {{desk_password}}", "desk_password desk_user"),
        (json!([{ "scale": [] }]), "% auth key header X-Scale {{scale_key}}\n", "scale_key"),
        (json!([{ "gate": [] }]), "% auth key query gate {{gate_key}}\n", "gate_key"),
        (json!([{ "gate": [], "scale": [] }]), "X-Scale: {{scale_key}}", "gate_key scale_key"),
        (json!([{ "clerk": [] }]), "% auth oauth2 clerk\n", "client_id"),
        (json!([{ "person": [] }]), "% auth bearer {{person_token}}", "person_token"),
        (json!([{ "tls": [] }, { "scale": [], "desk": [] }]), "% auth basic", "desk_password desk_user scale_key"),
        (json!([]), "%% GET /a\nGET /a\n", ""),
    ] {
        let (written, given, notes, _) = with(security);
        assert!(written.contains(line), "{line}\n---\n{written}");
        assert_eq!((given.as_str(), notes), (values, vec![]), "{line}");
    }
    let (written, values, _, profiles) = with(json!([{ "machine": ["read", "book"] }]));
    assert!(written.contains("% auth oauth2 machine"), "{written}");
    assert_eq!(
        (values.as_str(), profiles),
        (
            "client_id client_secret",
            vec!["client_credentials read book [(\"token_url\", \"http://b/token\")]".to_owned()]
        )
    );
    assert_eq!(
        with(json!([{ "house": ["weigh"] }])).3,
        ["authorization_code openid weigh [(\"issuer\", \"http://b/north\")]"]
    );
    assert_eq!(with(json!([{ "tls": [] }])).2, ["GET /a: security scheme `tls` (mutualTLS) is not supported"]);
}

#[test]
fn bodies_are_made_of_what_there_is() {
    let with = |content: Value| {
        let paths = json!({ "/a": { "post": { "requestBody": { "content": content }, "responses": {} } } });
        let taken = taken(&describing(paths, json!({})), &[]);
        let notes = taken.notes.clone();
        (files(taken).remove(0).1, notes)
    };
    for (content, expected) in [
        (json!({ "application/json": { "example": { "bins": 24 } } }), "POST /a\n\n{\n  \"bins\": 24\n}\n"),
        (json!({ "application/json": { "examples": { "one": { "value": [1] } } } }), "POST /a\n\n[\n  1\n]\n"),
        (
            json!({ "application/json": { "schema": { "type": "string", "example": "ripe" } } }),
            "Content-Type: application/json\n\n\"ripe\"\n",
        ),
        (
            json!({ "application/problem+json": { "schema": { "type": "object" } } }),
            "Content-Type: application/problem+json\n\n{}\n",
        ),
        (
            json!({ "application/x-www-form-urlencoded": { "schema": { "properties": { "user": { "example": "a & b" } } } } }),
            "% field user = a & b\nPOST /a\n",
        ),
        (
            json!({ "multipart/form-data": { "schema": { "properties": { "note": { "type": "string" }, "photo": { "type": "string", "format": "binary" } } } } }),
            "% part note = note\n% part photo from photo.bin\nPOST /a\n",
        ),
        (json!({ "text/csv": { "example": "id,bins\n" } }), "Content-Type: text/csv\n\nid,bins{{raw(\"\\n\")}}\n"),
    ] {
        let (written, _) = with(content);
        assert!(written.contains(expected), "{expected}\n---\n{written}");
    }
    assert_eq!(
        with(json!({ "application/xml": {} })).1,
        ["POST /a: the application/xml body has no example: write it"]
    );
}

#[test]
fn what_goes_round_or_nowhere_ends_in_words() {
    for (text, why) in [
        ("{\"swagger\": \"2.0\"}", "unsupported version 2.0: OpenAPI 3.0 and 3.1 are supported"),
        ("openapi: 4.0.0", "unsupported version 4.0.0: OpenAPI 3.0 and 3.1 are supported"),
        ("{}", "`openapi` with the version is missing (OpenAPI 3.0 or 3.1)"),
        ("openapi: 3.1.0", "it describes no operations"),
        ("{\"openapi\": ", "it is not valid JSON: EOF while parsing a value at line 1 column 12"),
    ] {
        let outcome = documents(text, &[]).and_then(|documents| {
            import(&documents, &ImportOptions::default()).map(drop).map_err(|error| error.to_string())
        });
        assert_eq!(outcome, Err(why.to_owned()), "{text}");
    }
    // References that lead to each other, to themselves, outside and nowhere.
    let paths = json!({ "/a": { "$ref": "#/paths/~1a" }, "/b": { "get": {
        "parameters": [{ "$ref": "#/components/parameters/A" }, { "$ref": "gone.yaml#/A" }],
        "requestBody": { "content": { "application/json": { "schema": { "$ref": "#/components/schemas/Loop" } } } },
        "responses": { "200": { "content": { "application/json": { "schema": { "$ref": "http://elsewhere/a.json" } } } } },
    } } });
    let more = json!({ "components": {
        "parameters": { "A": { "$ref": "#/components/parameters/B" }, "B": { "$ref": "#/components/parameters/A" } },
        "schemas": { "Loop": { "allOf": [{ "$ref": "#/components/schemas/Loop" }, { "required": ["a"], "properties": { "a": { "$ref": "#/components/schemas/Loop" } } }] } },
    } });
    let taken = taken(&describing(paths, more), &[]);
    assert_eq!(
        taken.notes,
        [
            "`http://elsewhere/a.json` is not fetched: put the file next to the description",
            "cannot read `gone.yaml`: file not found",
            "path `/a` cannot be resolved",
        ]
    );
    assert!(files(taken).remove(0).1.contains("{\n  \"a\": null\n}"));
    // Aliases that would become a thousand million values.
    let bomb: String = (1..10)
        .map(|level| format!("a{level}: &a{level} [{}]\n", vec![format!("*a{}", level - 1); 10].join(", ")))
        .collect();
    let bomb = format!("a0: &a0 [x]\n{bomb}");
    assert!(documents(&bomb, &[]).is_err());
    let deep = format!("{{\"openapi\": {}", "[".repeat(100_000));
    assert!(documents(&deep, &[]).is_err());
}

#[test]
fn one_operation_is_found_by_what_people_call_it() {
    let paths =
        json!({ "/lots": { "get": { "operationId": "listLots", "responses": {} }, "post": { "responses": {} } } });
    let documents = documents(&describing(paths, json!({})), &[]).expect("JSON");
    let called = |wanted: &str| {
        let wish = ImportOptions { operation: Some(wanted.to_owned()), schemas: false };
        let imported = import(&documents, &wish).map_err(|error| error.to_string())?;
        Ok::<_, String>(imported.files.iter().map(|file| file.drafts.len()).sum::<usize>())
    };
    assert_eq!(called("listLots"), Ok(1));
    assert_eq!(called("post /lots"), Ok(1));
    assert_eq!(called("/lots"), Ok(2));
    assert_eq!(called("listlot"), Err("no operation named `listlot`: did you mean `listLots`?".to_owned()));
}

#[test]
fn servers_of_an_operation_and_without_a_scheme_are_gone_to() {
    let paths = json!({
        "/lots": { "get": {}, "post": { "servers": [{ "url": "https://intake.packhouse.example/v2" }] } },
        "/photos": { "servers": [{ "url": "/files" }], "get": {} },
    });
    let whole = describing(paths, json!({ "servers": [{ "url": "//api.packhouse.example/v1" }] }));
    let taken = taken(&whole, &[]);
    assert_eq!(taken.environments, [("api".to_owned(), "https://api.packhouse.example/v1".to_owned())]);
    let text: String = files(taken).into_iter().map(|(_, text)| text).collect();
    for line in [
        "GET /lots\n",
        "POST https://intake.packhouse.example/v2/lots\n",
        "GET https://api.packhouse.example/files/photos\n",
    ] {
        assert!(text.contains(line), "{line} in {text}");
    }
}

#[test]
fn yaml_is_read_as_version_1_2_says() {
    let yaml =
        "openapi: 3.1.0\ninfo: {title: P}\nservers: [{url: http://b}]\npaths:\n  /lots:\n    get:\n      parameters:\n\
        - {name: country, in: query, required: true, schema: {type: string, enum: [NO, SE]}}\n\
        - {name: crate, in: query, required: true, schema: {type: string, enum: [007]}}\n\
        - {name: most, in: query, required: true, schema: {default: .inf}}\n"
            .replace("\n- ", "\n      - ");
    let text: String = files(taken(&yaml, &[])).into_iter().map(|(_, text)| text).collect();
    for line in ["% let country = \"NO\"", "% let crate = \"007\"", "% let most = \".inf\""] {
        assert!(text.contains(line), "{line} in {text}");
    }
}

#[test]
fn made_values_keep_to_their_schemas() {
    let body = |schema: Value| {
        let media = json!({ "application/json": { "schema": schema } });
        let paths = json!({ "/lots": { "post": { "requestBody": { "content": media } } } });
        let (_, text) = files(taken(&describing(paths, json!({})), &[])).remove(0);
        let at = text.find("\n\n{").expect("a body");
        serde_json::from_str::<Value>(text[at..].trim()).expect("JSON")
    };
    let text = |rules: Value| json!({ "type": "object", "required": ["a"], "properties": { "a": rules } });
    assert_eq!(body(text(json!({ "type": "string", "pattern": "^ZN[0-9a-f]{4}$" }))), json!({ "a": "ZNaaaa" }));
    // Members that one schema requires and another beside it describes, also nested.
    let inner = json!({ "allOf": [{ "required": ["amount"] }, { "properties": { "amount": { "type": "integer" } } }] });
    let deep = json!({ "type": "object", "required": ["b"], "properties": { "b": text(inner) } });
    assert_eq!(body(text(deep)), json!({ "a": { "b": { "a": { "amount": 1 } } } }));
    let most = json!({ "type": "object", "minProperties": 2, "additionalProperties": { "type": "integer" } });
    assert_eq!(body(text(most)), json!({ "a": { "key1": 1, "key2": 1 } }));
    // The only allowed value is not an example that somebody left a secret in.
    let key = json!({ "enum": ["ResourceGroupsTaggingAPI_20170126.DescribeReportCreation"] });
    assert_eq!(body(text(key.clone()))["a"], key["enum"][0]);
}

#[test]
fn what_would_be_lost_by_importing_again_is_not_made() {
    let paths = json!({ "/a": { "get": { "summary": "\"" } }, "/b": { "get": { "parameters": [
        { "name": "base", "in": "query", "required": true, "schema": { "type": "string" } },
        { "name": "type", "in": "query", "required": true, "schema": { "type": "string" } },
    ] } } });
    let text: String = files(taken(&describing(paths, json!({})), &[])).into_iter().map(|(_, text)| text).collect();
    assert!(text.contains("%% GET /a\n") && text.contains("% query base = {{my_base}}"), "{text}");
    let webhooks = describing(json!({}), json!({ "webhooks": { "ripe": { "post": {} } } }));
    let documents = documents(&webhooks, &[]).expect("a description");
    let error = import(&documents, &ImportOptions::default()).expect_err("nothing can be sent");
    assert_eq!(error, DescriptionError::OnlyWebhooks);
}
