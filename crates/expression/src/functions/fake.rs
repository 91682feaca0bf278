//! `fake(kind)`: generated people, places and words for form fields. Email and network addresses are in ranges
//! reserved for examples, so that no real person or machine is ever contacted.

use super::{Context, text};
use fake::Fake as _;
use fake::faker::{address, company, internet, job, lorem, name};
use std::convert::Infallible;
use yieldtray_cel::Value;
use yieldtray_cel::functions::{Call, Fault, Outcome};
use yieldtray_source::{closest, join_words};

/// A kind of generated text.
struct Kind {
    name: &'static str,
    make: fn(&mut Draw<'_>) -> String,
    /// True if it identifies one person or thing: then no two of a run are equal.
    unique: bool,
}

macro_rules! kinds {
    ($($name:literal $(($unique:ident))? => $make:expr;)+) => {
        const KINDS: &[Kind] = &[$(Kind {
            name: $name,
            make: $make,
            unique: matches!(concat!("", $(stringify!($unique))?).as_bytes(), b"unique"),
        },)+];

        /// The kinds of `fake(kind)`, in the order of the reference.
        pub const FAKE_KINDS: &[&str] = &[$($name,)+];
    };
}

kinds! {
    "person" => |draw| name::en::Name().fake_with_rng(draw);
    "first_name" => |draw| name::en::FirstName().fake_with_rng(draw);
    "last_name" => |draw| name::en::LastName().fake_with_rng(draw);
    "username" (unique) => username;
    "email" (unique) => |draw| format!("{}@{}.example", username(draw), word(draw));
    "phone" (unique) => phone;
    "password" => |draw| internet::en::Password(14..20).fake_with_rng(draw);
    "job" => |draw| job::en::Title().fake_with_rng(draw);
    "company" => |draw| company::en::CompanyName().fake_with_rng(draw);
    "street" => |draw| format!("{} {}", draw.number(1, 240), street(draw));
    "city" => |draw| address::en::CityName().fake_with_rng(draw);
    "postcode" => |draw| address::en::ZipCode().fake_with_rng(draw);
    "state" => |draw| address::en::StateName().fake_with_rng(draw);
    "country" => |draw| address::en::CountryName().fake_with_rng(draw);
    "country_code" => |draw| address::en::CountryCode().fake_with_rng(draw);
    "word" => word;
    "sentence" => |draw| lorem::en::Sentence(5..11).fake_with_rng(draw);
    "paragraph" => |draw| lorem::en::Paragraph(3..6).fake_with_rng(draw);
    "color" => |draw| format!("#{:06x}", draw.number(0, 0xff_ffff));
    "image_url" => |draw| format!("https://images.example/640x480/{:06}.jpg", draw.number(0, 999_999));
    "url" => |draw| format!("https://{}.example/{}", word(draw), word(draw));
    "domain" => |draw| format!("{}.example", word(draw));
    "iban" (unique) => iban;
    "ipv4" => |draw| format!("203.0.113.{}", draw.number(1, 254));
    "ipv6" => |draw| format!("2001:db8::{:x}:{:x}", draw.number(1, 0xffff), draw.number(1, 0xffff));
    "mac" => |draw| {
        // The second digit marks a locally administered address (IEEE 802).
        let parts: Vec<String> = (0..5).map(|_| format!("{:02x}", draw.number(0, 255))).collect();
        format!("02:{}", parts.join(":"))
    };
    "user_agent" => |draw| internet::en::UserAgent().fake_with_rng(draw);
}

fn word(draw: &mut Draw<'_>) -> String {
    lorem::en::Word().fake_with_rng(draw)
}

fn street(draw: &mut Draw<'_>) -> String {
    address::en::StreetName().fake_with_rng(draw)
}

fn username(draw: &mut Draw<'_>) -> String {
    let first: String = name::en::FirstName().fake_with_rng(draw);
    let last: String = name::en::LastName().fake_with_rng(draw);
    let letters = |name: &str| name.to_lowercase().chars().filter(char::is_ascii_alphanumeric).collect::<String>();
    format!("{}.{}{}", letters(&first), letters(&last), draw.number(1, 999))
}

/// In the North American plan, with the exchange 555 and the lines 0100 to 0199, which are kept for
/// stories.
fn phone(draw: &mut Draw<'_>) -> String {
    format!("+1-{}{:02}-555-01{:02}", draw.number(2, 9), draw.number(0, 99), draw.number(0, 99))
}

/// Like an IBAN (ISO 13616) of a bank nobody has, its check digits right (ISO 7064, MOD 97-10).
fn iban(draw: &mut Draw<'_>) -> String {
    let account = format!("{:08}{:08}", draw.number(0, 99_999_999), draw.number(0, 99_999_999));
    let account = &account[..14];
    // Letters count as 10 to 35; the country and two noughts go to the end.
    let rearranged = format!("TRAY{account}GB00");
    let remainder = rearranged.chars().fold(0u32, |remainder, c| {
        let digit = c.to_digit(36).unwrap_or_default();
        (remainder * if digit > 9 { 100 } else { 10 } + digit) % 97
    });
    format!("GB{:02}TRAY{account}", 98 - remainder)
}

/// Draws from our own source, so that the same seed makes the same people.
struct Draw<'r>(&'r mut fastrand::Rng);

impl Draw<'_> {
    fn number(&mut self, low: u32, high: u32) -> u32 {
        self.0.u32(low..=high)
    }
}

impl rand::TryRng for Draw<'_> {
    type Error = Infallible;

    fn try_next_u32(&mut self) -> Result<u32, Infallible> {
        Ok(self.0.u32(..))
    }

    fn try_next_u64(&mut self) -> Result<u64, Infallible> {
        Ok(self.0.u64(..))
    }

    fn try_fill_bytes(&mut self, bytes: &mut [u8]) -> Result<(), Infallible> {
        self.0.fill(bytes);
        Ok(())
    }
}

pub(super) fn fake(context: &Context<'_>, call: &mut Call<'_>) -> Outcome {
    let wanted = text(call, 0)?;
    let Some(kind) = KINDS.iter().find(|kind| kind.name == wanted) else {
        let hint = match closest(wanted, FAKE_KINDS.iter().copied()) {
            Some(meant) => format!("did you mean `{meant}`?"),
            None => format!("available: {}", join_words(FAKE_KINDS)),
        };
        return Err(Fault::message(format!("unknown kind `{wanted}`: {hint}")));
    };
    let draw = || context.random.draw(|rng| (kind.make)(&mut Draw(rng)));
    Ok(Value::string(if kind.unique { context.random.unique(draw) } else { draw() }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{Bindings, Engine, RandomSource};
    use std::collections::HashSet;

    fn random(seed: u64) -> RandomSource {
        RandomSource::new(seed, Box::new(|| chrono::DateTime::UNIX_EPOCH.fixed_offset()))
    }

    fn fake(random: &RandomSource, kind: &str) -> String {
        let engine = Engine::default();
        let compiled = engine.compile(&format!("fake('{kind}')")).expect("it compiles");
        let value = engine.evaluate(&compiled, &Bindings::default(), random).expect("a value");
        value.as_text().expect("text").to_owned()
    }

    #[test]
    fn each_kind_makes_something_and_a_seed_repeats_it() {
        let (first, again, other) = (random(7), random(7), random(8));
        let all = |random: &RandomSource| FAKE_KINDS.iter().map(|kind| fake(random, kind)).collect::<Vec<_>>();
        let values = all(&first);
        assert!(values.iter().all(|value| !value.is_empty()), "{values:?}");
        assert_eq!(values, all(&again));
        assert_ne!(values, all(&other));
    }

    #[test]
    fn what_stands_for_one_thing_never_comes_twice() {
        let random = random(3);
        for kind in ["email", "phone", "username", "iban"] {
            let seen: HashSet<String> = (0..3000).map(|_| fake(&random, kind)).collect();
            assert_eq!(seen.len(), 3000, "{kind}");
        }
        let email = fake(&random, "email");
        assert!(email.ends_with(".example") && email.is_ascii(), "{email}");
    }

    #[test]
    fn check_digits_are_right() {
        let random = random(5);
        for _ in 0..50 {
            let iban = fake(&random, "iban");
            let moved = format!("{}{}", &iban[4..], &iban[..4]);
            let digits: String = moved.chars().filter_map(|c| c.to_digit(36)).map(|digit| digit.to_string()).collect();
            let remainder =
                digits.bytes().fold(0u32, |remainder, digit| (remainder * 10 + u32::from(digit - b'0')) % 97);
            assert_eq!(remainder, 1, "{iban}");
        }
    }
}
