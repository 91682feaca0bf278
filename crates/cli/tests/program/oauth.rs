//! OAuth 2.0 for machines: every grant, keys and certificates, bound tokens, and the stored tokens.

use crate::support::{TestWorkspace, raw_server};
use yieldtray_packhouse::{Packhouse, Server};

const CELLS: &str = "% auth oauth2 scale\n\n%% pay\n/payroll\n\n% check status == 200\n";

/// A workspace with a profile `scale`.
pub(crate) fn workspace(profile: &str) -> TestWorkspace {
    let workspace = TestWorkspace::new();
    let config = std::fs::read_to_string(workspace.path().join("yieldtray.toml")).expect("the file");
    let config = format!("{config}\n[oauth2.scale]\n{profile}");
    let workspace = workspace.file("yieldtray.toml", &config).file("scale.pem", Server::Local.client_key());
    workspace.file("a.http", CELLS)
}

/// The claims of the token, as the payroll returns them.
fn granted(workspace: &TestWorkspace) -> String {
    workspace
        .run(&["send", "pay", "--pick", "json([body.client, body.user, body.scope, body.audience])"])
        .exits(0)
        .stdout
}

const KEY: &str = "issuer = '{{base}}'\nclient_id = 'packhouse-scale'\nkey = 'scale.pem'\n";

#[test]
fn a_client_proves_who_it_is_by_its_key() {
    let profile = format!("{KEY}client_auth = 'private_key_jwt'\nscope = 'weigh'\naudience = 'floor'\n");
    let audience = "['https://a.example', 'https://b.example']";
    let scale = workspace(&format!("{profile}resource = {audience}\n"));
    assert_eq!(
        granted(&scale),
        "[\"packhouse-scale\",null,\"weigh\",[\"floor\",\"https://a.example\",\"https://b.example\"]]\n"
    );
    // The key is read for a token only: with a stored one it is not looked at.
    std::fs::remove_file(scale.path().join("scale.pem")).expect("it was there");
    scale.run(&["send", "pay"]).exits(0);
    let again = scale.run(&["token", "get", "scale"]).exits(2);
    assert!(again.stderr.contains("the key `scale.pem` cannot be read"), "{}", again.stderr);
    // Without discovery the audience of the assertion is the endpoint.
    let direct = profile.replace("issuer = '{{base}}'", "token_url = '{{base}}/oauth/token'");
    assert_eq!(granted(&workspace(&direct)), "[\"packhouse-scale\",null,\"weigh\",[\"floor\"]]\n");
    for (change, message) in [
        (("key = 'scale.pem'\n", ""), "`[oauth2.scale]` is missing `key`"),
        (("scale.pem", "gone.pem"), "the key `gone.pem` cannot be read"),
        (("scale.pem", "a.http"), "no PEM private key found"),
        (("scope = 'weigh'", "algorithm = 'RS256'"), "`RS256` cannot be used with this key: use `EdDSA` and `ed25519`"),
        (("scope = 'weigh'", "redirect_url = 'http://packhouse.example/'"), "must be an http URL of this machine"),
    ] {
        let run = workspace(&profile.replace(change.0, change.1)).run(&["send", "pay"]).exits(2);
        assert!(run.stderr.contains(message), "{message}: {}", run.stderr);
    }
}

#[test]
fn a_machine_acts_for_a_clerk_by_an_assertion() {
    let profile =
        format!("{KEY}grant = 'jwt_bearer'\nsubject = 'clerk@packhouse.example'\nclaims = {{ scope = 'weigh' }}\n");
    assert_eq!(granted(&workspace(&profile)), "[\"packhouse-scale\",\"clerk@packhouse.example\",\"weigh\",[]]\n");
}

#[test]
fn a_token_is_exchanged_for_another() {
    let config = "token_url = '{{base}}/oauth/token'\nclient_id = 'packhouse-desk'\nclient_secret = '{{key}}'\n\
                  grant = 'token_exchange'\nsubject_token = '{{outer}}'\nscope = 'weigh'\naudience = 'floor'\n";
    let cells = "%% outer\nPOST /oauth/token\n% field grant_type = password\n% field client_id = packhouse-desk\n\
                 % field client_secret = {{key}}\n% field username = clerk@packhouse.example\n% field password = windfall-local\n\n\
                 % yield outer = body.access_token secret\n\n\
                 %% pay\n% needs outer\n% auth oauth2 scale\n/payroll\n\n\
                 % check body.user == 'clerk@packhouse.example' && body.scope == 'weigh' && body.audience == ['floor']\n";
    let workspace = workspace(config).file("a.http", cells);
    let run = workspace.run(&["replay"]).exits(0);
    assert!(run.stdout.contains("2 requests"), "{}", run.stdout);
}

#[test]
fn a_client_proves_who_it_is_by_its_certificate() {
    let (packhouse, papers) = Packhouse::start_secure(Server::Local, true).expect("a packhouse");
    let config = format!(
        "[values]\nbase = '{base}'\n[send]\nca = 'ca.pem'\ncertificate = 'client.pem'\n\
         [oauth2.scale]\nissuer = '{base}'\nclient_id = 'packhouse-scale'\nclient_auth = 'tls'\n",
        base = packhouse.base()
    );
    let workspace = TestWorkspace::empty().file("ca.pem", &papers.authority).file("client.pem", &papers.client);
    let workspace = workspace.file("yieldtray.toml", &config).file("a.http", CELLS);
    assert_eq!(granted(&workspace), "[\"packhouse-scale\",null,\"\",[]]\n");
}

#[test]
fn a_bound_token_goes_with_a_proof_of_its_key() {
    let profile = format!("{KEY}client_auth = 'private_key_jwt'\ntoken_type = 'dpop'\n");
    let workspace = workspace(&profile);
    assert_eq!(granted(&workspace), "[\"packhouse-scale\",null,\"\",[]]\n");
    // Kept with its key: the next process proves it too.
    let run = workspace.run(&["send", "pay", "--show", "sent"]).exits(0);
    assert!(run.stdout.contains("authorization: DPoP [secret]\n") && run.stdout.contains("dpop: ey"), "{}", run.stdout);
    assert!(!run.stderr.contains("token of"), "the kept one serves: {}", run.stderr);
    let run = workspace.run(&["token"]).exits(0);
    assert!(
        run.stdout.contains("scale  DPoP  no scope  ") && run.stdout.contains(" left, renewed by itself"),
        "{}",
        run.stdout
    );
    // Without its proof it opens nothing.
    let stolen = "%% stolen\n/payroll\nAuthorization: DPoP {{taken}}\n\n% check status == 401\n";
    workspace.file("b.http", stolen).run(&["replay", "b.http", "--set", "taken=abcdef"]).exits(0);
}

#[test]
fn tokens_are_listed_obtained_dropped_and_revoked() {
    let workspace = workspace(&format!("{KEY}client_auth = 'private_key_jwt'\nscope = 'weigh sort'\n"));
    let run = workspace.run(&["token"]).exits(0);
    assert!(run.stderr.contains("no tokens; requests with `% auth oauth2` store theirs here"), "{}", run.both());
    let run = workspace.run(&["token", "get", "scale"]).exits(0);
    assert!(run.stdout.contains("token of `scale` from http://127.0.0.1:"), "{}", run.stdout);
    let listed = workspace.run(&["token", "--json"]).exits(0).json();
    assert_eq!(listed["tokens"][0]["scope"], "weigh sort");
    assert_eq!(listed["tokens"][0]["type"], "Bearer");
    assert!(listed["tokens"][0]["expires"].is_i64() && listed["tokens"][0].get("access").is_none());
    let given = || workspace.run(&["send", "pay", "--pick", "body.tokens_given"]).exits(0).stdout;
    assert_eq!(given(), "1\n", "the one that was obtained");

    let run = workspace.run(&["token", "revoke", "scale"]).exits(0);
    assert!(run.both().contains("1 token revoked and dropped"), "{}", run.both());
    assert_eq!(given(), "2\n");
    workspace.run(&["token", "drop", "scale"]).exits(0);
    let run = workspace.run(&["token", "drop", "scale"]).exits(2);
    assert!(run.stderr.contains("no token of `scale` is stored"), "{}", run.stderr);
    let run = workspace.run(&["token", "get", "scal"]).exits(2);
    assert!(run.stderr.contains("did you mean `scale`?"), "{}", run.stderr);
}

#[test]
fn discovery_trusts_only_the_issuer_itself() {
    // Metadata that sends the secret of a client elsewhere.
    let elsewhere = raw_server(
        b"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nConnection: close\r\n\r\n\
          { \"issuer\": \"http://other.example\", \"token_endpoint\": \"http://other.example/token\" }",
        false,
    );
    let profile = format!("issuer = '{elsewhere}'\nclient_id = 'packhouse-desk'\nclient_secret = '{{{{key}}}}'\n");
    let run = workspace(&profile).run(&["send", "pay"]).exits(3);
    assert!(run.stderr.contains("it is that of `http://other.example` (RFC 8414 3.3)"), "{}", run.stderr);
    // A server without metadata.
    let run = workspace("issuer = '{{base}}/nowhere'\nclient_id = 'packhouse-desk'\n").run(&["send", "pay"]).exits(3);
    assert!(run.stderr.contains("no document was found (RFC 8414 3)"), "{}", run.stderr);
}

#[test]
fn nobody_signs_in_where_nobody_is() {
    for grant in ["authorization_code", "device_code"] {
        let profile = format!("issuer = '{{{{base}}}}'\nclient_id = 'packhouse-phone'\ngrant = '{grant}'\n");
        let run = workspace(&profile).run(&["replay"]).exits(3);
        assert!(run.stdout.contains("signing in needs a terminal or an editor"), "{}", run.stdout);
        assert!(run.stdout.contains("run `yieldtray token get scale` in a terminal first"), "{}", run.stdout);
    }
}
