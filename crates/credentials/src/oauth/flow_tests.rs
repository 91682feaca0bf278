//! The steps of each grant, with responses from a table.

use super::super::{Client, ClientAuth, DeviceSignIn};
use super::*;
use url::form_urlencoded;
use yieldtray_http::{Body, SendOptions};

const NOW: i64 = 1_800_000_000;

fn params(grant: Grant) -> TokenParams {
    let url = |text: &str| Some(Url::parse(text).expect("it is valid"));
    TokenParams {
        profile: "shift".to_owned(),
        fingerprint: "f".to_owned(),
        grant,
        client: Client { id: "packhouse-desk".to_owned(), auth: ClientAuth::None },
        endpoints: Endpoints {
            issuer: None,
            token: url("https://door.packhouse.example/token"),
            authorization: url("https://door.packhouse.example/in?theme=plain"),
            device: url("https://door.packhouse.example/device"),
            revocation: None,
        },
        scope: Some("openid payroll".to_owned()),
        audience: None,
        resources: vec!["https://a.example".to_owned(), "https://b.example".to_owned()],
        extra: vec![("prompt".to_owned(), "login".to_owned())],
        bound: false,
        redirect: RedirectAddress::default(),
        sign_in_timeout: Duration::from_secs(1),
        headers: Vec::new(),
        sending: SendOptions::default(),
        base_origin: None,
    }
}

fn sent(step: Step) -> (Arc<PreparedRequest>, Vec<(String, String)>) {
    let Step::Send(request) = step else { panic!("nothing is sent: {step:?}") };
    let fields = match &request.body {
        Some(Body::Bytes(bytes)) => form_urlencoded::parse(bytes).into_owned().collect(),
        _ => Vec::new(),
    };
    (request, fields)
}

fn answer(request: &Arc<PreparedRequest>, status: u16, body: &str) -> Exchange {
    Exchange::new(Arc::clone(request), status, Vec::new(), body.as_bytes().to_vec())
}

fn field<'f>(fields: &'f [(String, String)], name: &str) -> Option<&'f str> {
    fields.iter().find(|(own, _)| own == name).map(|(_, value)| value.as_str())
}

/// An ID token with these claims; nobody looks at its signature.
fn id_token(claims: &serde_json::Value) -> String {
    use base64::Engine as _;
    let encode = |text: String| base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(text);
    format!("{}.{}.", encode("{}".to_owned()), encode(claims.to_string()))
}

/// A sign-in up to the request for the token, with the nonce that the page was opened with.
fn browsed(flow: &mut TokenFlow) -> (Arc<PreparedRequest>, Vec<(String, String)>, String) {
    assert!(matches!(flow.next(NOW), Ok(Step::Listen)));
    flow.listening(4617).expect("it is valid");
    let Ok(Step::Browse(BrowserSignIn { page })) = flow.next(NOW) else { panic!("no page") };
    let query: Vec<(String, String)> = page.query_pairs().into_owned().collect();
    let nonce = field(&query, "nonce").expect("it is valid").to_owned();
    let redirect = format!("code=c1&state={}", field(&query, "state").expect("it is valid"));
    assert_eq!(flow.redirected(&redirect), RedirectOutcome::Accepted);
    let (request, fields) = sent(flow.next(NOW).expect("it is valid"));
    // The verifier fits the challenge, and nothing else is repeated from the page.
    use base64::Engine as _;
    use sha2::Digest as _;
    let verifier = field(&fields, "code_verifier").expect("it is valid");
    let challenge = base64::engine::general_purpose::URL_SAFE_NO_PAD.encode(sha2::Sha256::digest(verifier));
    assert_eq!(field(&query, "code_challenge"), Some(challenge.as_str()));
    assert!(!page.as_str().contains(verifier));
    assert_eq!(query.iter().filter(|(name, _)| name == "resource").count(), 2);
    assert_eq!((field(&query, "theme"), field(&query, "prompt")), (Some("plain"), Some("login")));
    (request, fields, nonce)
}

#[test]
fn a_code_is_redeemed_with_its_verifier_and_the_id_token_must_fit() {
    let claims = |nonce: &str| serde_json::json!({ "aud": ["packhouse-desk"], "iss": "https://door.packhouse.example", "exp": NOW + 9, "nonce": nonce });
    let granted =
        |id_token: &str| format!(r#"{{ "access_token": "t1", "token_type": "bearer", "id_token": "{id_token}" }}"#);
    let mut flow = TokenFlow::new(params(Grant::AuthorizationCode), None).expect("it is valid");
    let (request, fields, nonce) = browsed(&mut flow);
    assert_eq!(field(&fields, "redirect_uri"), Some("http://127.0.0.1:4617/callback"));
    assert_eq!((field(&fields, "code"), field(&fields, "client_id")), (Some("c1"), Some("packhouse-desk")));
    flow.received(&answer(&request, 200, &granted(&id_token(&claims(&nonce)))), NOW).expect("it is valid");
    let Ok(Step::Done(token)) = flow.next(NOW) else { panic!("no token") };
    assert_eq!((token.access.as_str(), token.scope.as_deref()), ("t1", Some("openid payroll")));

    let with = |change: &dyn Fn(&mut serde_json::Value)| {
        let mut flow = TokenFlow::new(params(Grant::AuthorizationCode), None).expect("it is valid");
        let (request, _, nonce) = browsed(&mut flow);
        let mut claims = claims(&nonce);
        change(&mut claims);
        flow.received(&answer(&request, 200, &granted(&id_token(&claims))), NOW).expect_err("it is refused").to_string()
    };
    assert!(with(&|claims| claims["nonce"] = "guessed".into()).contains("its `nonce` is not that of this sign-in"));
    assert!(with(&|claims| claims["aud"] = "other".into()).contains("its `aud` is another client"));
    assert!(with(&|claims| claims["exp"] = NOW.into()).contains("it has expired"));

    // A redirect of another sign-in ends this one.
    let mut flow = TokenFlow::new(params(Grant::AuthorizationCode), None).expect("it is valid");
    flow.next(NOW).expect("it is valid");
    flow.listening(4617).expect("it is valid");
    assert_eq!(flow.redirected("code=c1&state=guessed"), RedirectOutcome::Refused);
    assert!(matches!(flow.next(NOW), Err(TokenError::State)));
}

#[test]
fn a_device_waits_as_long_as_the_server_says() {
    let mut flow = TokenFlow::new(params(Grant::DeviceCode), None).expect("it is valid");
    let (request, fields) = sent(flow.next(NOW).expect("it is valid"));
    assert_eq!((request.url.path(), field(&fields, "scope")), ("/device", Some("openid payroll")));
    let code = r#"{ "device_code": "d", "user_code": "PEAR-42", "verification_uri": "https://door.packhouse.example/d",
                    "expires_in": 60, "interval": 2 }"#;
    flow.received(&answer(&request, 200, code), NOW).expect("it is valid");
    let Ok(Step::ShowCode(DeviceSignIn { code, .. })) = flow.next(NOW) else { panic!("no code") };
    assert_eq!(code, "PEAR-42");
    let pause = |flow: &mut TokenFlow, error: &str| {
        let Ok(Step::Pause(time)) = flow.next(NOW) else { panic!("no pause") };
        let (request, fields) = sent(flow.next(NOW).expect("it is valid"));
        assert_eq!(field(&fields, "device_code"), Some("d"));
        let refused = flow.received(&answer(&request, 400, &format!(r#"{{ "error": "{error}" }}"#)), NOW);
        (time.as_secs(), refused.map_err(|error| error.to_string()))
    };
    assert_eq!(pause(&mut flow, "authorization_pending"), (2, Ok(())));
    assert_eq!(pause(&mut flow, "slow_down"), (2, Ok(())));
    assert_eq!(pause(&mut flow, "authorization_pending"), (7, Ok(())));
    let denied = pause(&mut flow, "access_denied");
    assert!(denied.1.is_err_and(|error| error.contains("access_denied")));

    // Nobody enters the code, and no page but a web page is shown.
    for (change, why) in [
        ("\"expires_in\": 60", "the code expired"),
        ("https://door.packhouse.example/d", "no valid `verification_uri`"),
    ] {
        let mut flow = TokenFlow::new(params(Grant::DeviceCode), None).expect("it is valid");
        let (request, _) = sent(flow.next(NOW).expect("it is valid"));
        let code =
            r#"{ "device_code": "d", "user_code": "PEAR-42", "verification_uri": "https://door.packhouse.example/d",
                        "expires_in": 60 }"#
                .replace(change, if change.starts_with('"') { "\"expires_in\": 0" } else { "file:///etc/passwd" });
        let error = flow.received(&answer(&request, 200, &code), NOW).and_then(|()| {
            flow.next(NOW)?;
            flow.next(NOW).map(drop)
        });
        assert!(error.expect_err("it is refused").to_string().contains(why), "{why}");
    }
}

#[test]
fn a_refused_refresh_token_begins_anew() {
    let expired = |kind| Token {
        profile: "shift".to_owned(),
        fingerprint: "f".to_owned(),
        access: "t0".to_owned(),
        kind,
        refresh: Some("r0".to_owned()),
        scope: None,
        expires_at: Some(NOW),
        obtained_now: false,
    };
    let mut flow =
        TokenFlow::new(params(Grant::ClientCredentials), Some(expired(TokenKind::Bearer))).expect("it is valid");
    let (request, fields) = sent(flow.next(NOW).expect("it is valid"));
    assert_eq!(field(&fields, "grant_type"), Some("refresh_token"));
    flow.received(&answer(&request, 400, r#"{ "error": "invalid_grant" }"#), NOW).expect("it is valid");
    let (request, fields) = sent(flow.next(NOW).expect("it is valid"));
    assert_eq!(field(&fields, "grant_type"), Some("client_credentials"));
    flow.received(&answer(&request, 200, r#"{ "access_token": "t1", "expires_in": 30 }"#), NOW).expect("it is valid");
    let Ok(Step::Done(token)) = flow.next(NOW) else { panic!("no token") };
    assert_eq!((token.expires_at, token.refresh.as_deref(), flow.renewed()), (Some(NOW + 30), None, false));

    // A server that is out of order says nothing about the refresh token, so it is neither dropped nor replaced.
    let mut flow =
        TokenFlow::new(params(Grant::ClientCredentials), Some(expired(TokenKind::Bearer))).expect("it is valid");
    let (request, _) = sent(flow.next(NOW).expect("it is valid"));
    let error = flow.received(&answer(&request, 503, "busy"), NOW).expect_err("there is no token");
    assert!(error.is_temporary(), "{error}");

    // Renewed: what the server does not say again holds on.
    let mut flow =
        TokenFlow::new(params(Grant::AuthorizationCode), Some(expired(TokenKind::Bearer))).expect("it is valid");
    let (request, _) = sent(flow.next(NOW).expect("it is valid"));
    flow.received(&answer(&request, 200, r#"{ "access_token": "t1" }"#), NOW).expect("it is valid");
    let Ok(Step::Done(token)) = flow.next(NOW) else { panic!("no token") };
    assert_eq!((token.refresh.as_deref(), flow.renewed()), (Some("r0"), true));
}

#[test]
fn a_bound_token_is_asked_for_with_the_nonce_of_the_server_once() {
    let mut flow =
        TokenFlow::new(TokenParams { bound: true, ..params(Grant::ClientCredentials) }, None).expect("it is valid");
    let claims = |request: &PreparedRequest| {
        crate::jwt::claims(request.header("dpop").expect("it is valid")).expect("it is valid")
    };
    let (request, _) = sent(flow.next(NOW).expect("it is valid"));
    assert_eq!(claims(&request)["htu"], "https://door.packhouse.example/token");
    let mut refused = answer(&request, 400, r#"{ "error": "use_dpop_nonce" }"#);
    refused.headers.push(("DPoP-Nonce".to_owned(), b"n1".to_vec()));
    flow.received(&refused, NOW).expect("it is valid");
    let (request, fields) = sent(flow.next(NOW).expect("it is valid"));
    assert_eq!(
        (claims(&request)["nonce"].as_str(), field(&fields, "grant_type")),
        (Some("n1"), Some("client_credentials"))
    );
    assert!(matches!(flow.received(&refused, NOW), Err(TokenError::Refused { .. })), "no third time");

    // A server that ignores the key is not trusted with it.
    let mut flow =
        TokenFlow::new(TokenParams { bound: true, ..params(Grant::ClientCredentials) }, None).expect("it is valid");
    let (request, _) = sent(flow.next(NOW).expect("it is valid"));
    let error = flow.received(&answer(&request, 200, r#"{ "access_token": "t", "token_type": "Bearer" }"#), NOW);
    assert!(error.expect_err("it is refused").to_string().contains("unsupported token type `Bearer`"));
}
