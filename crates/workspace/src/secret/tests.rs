//! Tests of masking.

use super::encoding::{Encoding, base64_forms};
use super::*;
use base64::Engine as _;
use base64::engine::general_purpose::{STANDARD, URL_SAFE};
use proptest::prelude::*;
use yieldtray_expression::Value;
use yieldtray_http::MASK;

fn masker(secrets: &[&str]) -> Masker {
    let mut masker = Masker::default();
    secrets.iter().for_each(|secret| masker.add(secret));
    masker
}

proptest! {
    /// Whatever the secret is and whatever surrounds it: in each encoding, nothing of it is left.
    #[test]
    fn nothing_of_a_secret_is_left_in_any_encoding(
        secret in "[ -~éüß✓😀\n]{4,40}",
        before in "[<>({ ]{0,5}",
        after in "[<>)} ]{0,5}",
    ) {
        let masker = masker(&[&secret]);
        for encoding in Encoding::ALL {
            let form = encoding.of(&secret);
            let masked = masker.mask_bytes(format!("{before}{form}{after}").as_bytes()).into_owned();
            let masked = String::from_utf8(masked).expect("text without some of its text is text");
            prop_assert!(masked.contains(MASK), "{encoding:?}: {masked}");
            prop_assert!(!masked.contains(&*form), "{encoding:?}: {masked}");
            prop_assert!(masker.finds_in(&form));
        }
        for padding in ["", "x", "xy"] {
            let text = format!("{padding}{secret}");
            for encoded in [STANDARD.encode(&text), URL_SAFE.encode(&text)] {
                let masked = masker.mask(&encoded);
                prop_assert!(masked.contains(MASK), "{masked}");
            }
        }
        let shown = masker.reveal();
        prop_assert_eq!(shown.mask(&secret).into_owned(), secret);
    }

    /// Texts that overlap, or of which one holds the other, are masked to the last byte.
    #[test]
    fn overlapping_secrets_leave_nothing(a in "[abc]{4,9}", b in "[abc]{4,9}", text in "[abc]{0,60}") {
        let masker = masker(&[&a, &b]);
        let masked = masker.mask(&text);
        for piece in masked.split(MASK) {
            prop_assert!(!piece.contains(&a) && !piece.contains(&b), "{a} {b} {text} {masked}");
        }
        // A letter that is left belongs to neither.
        let covered = |at: usize| {
            [&a, &b].iter().any(|secret| {
                (at.saturating_sub(secret.len() - 1)..=at).any(|start| text[start..].starts_with(secret.as_str()))
            })
        };
        let left = (0..text.len()).filter(|at| !covered(*at)).count();
        prop_assert_eq!(masked.replace(MASK, "").len(), left);
    }
}

#[test]
fn lists_lines_and_parts_of_urls_are_masked() {
    let session = Value::parse_json(br#"{"token": "t-4616-abcd", "kind": "clerk", "more": [["shift-early"]]}"#);
    let mut masker = Masker::default();
    masker.learn(session);
    assert_eq!(masker.mask("clerk t-4616-abcd shift-early"), "clerk [secret] [secret]");
    let mut masker = self::masker(&["BEGIN12345\nABCDEFGHIJKL\nEND"]);
    assert_eq!(masker.mask("line 2 is ABCDEFGHIJKL"), "line 2 is [secret]");
    masker.add("HTTP://scale.example/hooks/T0/B0B0B0B0B0/s3cr3t-s3cr3t?code=4616-4616#x");
    for part in [
        "http://scale.example/hooks/T0/B0B0B0B0B0/s3cr3t-s3cr3t?code=4616-4616#x",
        "/hooks/T0/B0B0B0B0B0/s3cr3t-s3cr3t?code=4616-4616",
        "/hooks/T0/B0B0B0B0B0/s3cr3t-s3cr3t",
        "s3cr3t-s3cr3t",
        "4616-4616",
    ] {
        assert_eq!(masker.mask(&format!("<{part}>")), "<[secret]>", "{part}");
    }
    assert_eq!(masker.mask("http://scale.example/lots"), "http://scale.example/lots");
}

#[test]
fn a_short_secret_is_masked_as_a_whole_word_alone() {
    let masker = masker(&["t"]);
    assert_eq!(masker.mask("the text: t, [secret] and t_t"), "the text: [secret], [secret] and t_t");
}

#[test]
fn nothing_that_is_secret_is_printed_for_debugging() {
    assert_eq!(format!("{:?}", masker(&["windfall-4616"])).find("windfall"), None);
    assert_eq!(base64_forms("windfall").count(), 6);
}

/// The work and the memory stay linear: a secret of half a megabyte, one that repeats itself, and one with very
/// many members.
#[test]
fn large_secrets_are_masked_in_linear_time() {
    let repeated = "ab".repeat(250_000);
    let text = format!("{}x", "ab".repeat(1_000_000));
    assert!(masker(&[&repeated]).mask(&text).replace(MASK, "").len() < 3);
    let members: Vec<String> = (0..8_000).map(|number| format!("member-of-a-secret-list-{number:060}")).collect();
    let mut masker = Masker::default();
    masker.learn(Value::parse_json(serde_json::to_vec(&members).expect("JSON").as_slice()));
    let all = members.join(" ");
    assert_eq!(masker.mask(&all).replace(MASK, "").trim(), "");
}

/// Secrets become known while a run goes on, and a text may hold early and late ones in any order.
#[test]
fn secrets_that_become_known_one_after_another_are_all_masked() {
    let secret = |number: usize| format!("windfall-{}", number * 7_919);
    let (mut masker, mut text) = (Masker::default(), String::new());
    for number in 0..100 {
        masker.add(&secret(number));
        // The latest first, and the others between words that stay.
        text = format!("{} kept {text}", secret(number));
        let shown = format!("{MASK} kept ").repeat(number + 1);
        assert_eq!(masker.mask(&text), shown);
        assert_eq!(masker.clone().mask(&text), shown);
    }
}
