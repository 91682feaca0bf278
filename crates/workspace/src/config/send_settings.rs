//! `[send]` of a configuration: how requests go out when neither they nor their file say otherwise.

use crate::config::reader::{Key, Reader, Table, TableKeys, TomlValue};
use std::time::Duration;
use toml::de::DeValue;
use yieldtray_source::{SourceId, Span};
use yieldtray_syntax::duration;

/// A setting that matters to whoever trusts the file it is in, and its place.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Setting<T> {
    /// The value.
    pub value: T,
    /// True if it is in the private configuration.
    pub private: bool,
    /// Its configuration.
    pub source: SourceId,
    /// The place of its value.
    pub span: Span,
}

/// The settings of `[send]`; `None` for those that are not set.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct SendSettings {
    /// How long an exchange may take.
    pub timeout: Option<Duration>,
    /// How long connecting may take.
    pub connect_timeout: Option<Duration>,
    /// How long a server may ask to wait (`Retry-After`), so that the request is sent again.
    pub retry_after: Option<Duration>,
    /// Whether the names of header fields are sent as they are written.
    pub keep_header_case: Option<bool>,
    /// How many redirects are followed.
    pub redirects: Option<u8>,
    /// Whether cookies are sent and taken.
    pub cookies: Option<bool>,
    /// Whether any certificate will do.
    pub insecure: Option<Setting<bool>>,
    /// How many bytes of a body are held in memory.
    pub body_limit: Option<u64>,
    /// The URL of the proxy; `none` for no proxy, whatever the process environment says.
    pub proxy: Option<Setting<String>>,
    /// Hosts that are sent to directly.
    pub no_proxy: Option<String>,
    /// A file of certificates (PEM) that are trusted beside the system's.
    pub ca: Option<Setting<String>>,
    /// The client's certificate chain (PEM).
    pub certificate: Option<Setting<String>>,
    /// The key of that certificate (PEM); by default in the same file.
    pub key: Option<Setting<String>>,
    /// The variable that has the password of the key.
    pub key_password: Option<Setting<String>>,
    /// A Unix socket that everything is sent to.
    pub socket: Option<Setting<String>>,
    /// How many bytes of a body are saved to a file.
    pub save_limit: Option<u64>,
}

pub(super) const SEND: TableKeys = TableKeys {
    table: "`send`",
    known: &[
        "timeout",
        "connect_timeout",
        "retry_after",
        "header_case",
        "redirects",
        "cookies",
        "insecure",
        "body_limit",
        "proxy",
        "no_proxy",
        "ca",
        "certificate",
        "key",
        "key_password",
        "socket",
        "save_limit",
    ],
};

impl SendSettings {
    /// These, and where they say nothing, what `overlaid_by` says.
    #[must_use]
    pub fn over(self, overlaid_by: &SendSettings) -> Self {
        fn first<T: Clone>(own: Option<T>, other: &Option<T>) -> Option<T> {
            own.or_else(|| other.clone())
        }
        Self {
            timeout: self.timeout.or(overlaid_by.timeout),
            connect_timeout: self.connect_timeout.or(overlaid_by.connect_timeout),
            retry_after: self.retry_after.or(overlaid_by.retry_after),
            keep_header_case: self.keep_header_case.or(overlaid_by.keep_header_case),
            redirects: self.redirects.or(overlaid_by.redirects),
            cookies: self.cookies.or(overlaid_by.cookies),
            insecure: first(self.insecure, &overlaid_by.insecure),
            body_limit: self.body_limit.or(overlaid_by.body_limit),
            proxy: first(self.proxy, &overlaid_by.proxy),
            no_proxy: first(self.no_proxy, &overlaid_by.no_proxy),
            ca: first(self.ca, &overlaid_by.ca),
            certificate: first(self.certificate, &overlaid_by.certificate),
            key: first(self.key, &overlaid_by.key),
            key_password: first(self.key_password, &overlaid_by.key_password),
            socket: first(self.socket, &overlaid_by.socket),
            save_limit: self.save_limit.or(overlaid_by.save_limit),
        }
    }
}

impl Reader<'_> {
    /// Reads a table `send`.
    pub(super) fn send_settings(&mut self, table: &Table<'_>) -> SendSettings {
        let mut settings = SendSettings::default();
        for (key, held) in table {
            match key.get_ref().as_ref() {
                "timeout" => settings.timeout = self.expect_duration(key, held),
                "connect_timeout" => settings.connect_timeout = self.expect_duration(key, held),
                "retry_after" => settings.retry_after = self.expect_duration(key, held),
                "header_case" => {
                    let case = |text: &str| match text {
                        "as-written" => Some(true),
                        "lower" => Some(false),
                        _ => None,
                    };
                    let hint = "use `\"lower\"` or `\"as-written\"`";
                    settings.keep_header_case = self.expect_fitting(held, case, "unknown `header_case`", hint);
                }
                "redirects" => {
                    let number = |text: &str| text.parse().ok().filter(|number| *number <= 50);
                    let hint = "for example `0` to follow none";
                    settings.redirects =
                        self.expect_fitting(held, number, "`redirects` must be a number from 0 to 50", hint);
                }
                "body_limit" => {
                    let hint = "for example `\"64MiB\"` or `\"500kB\"`";
                    settings.body_limit =
                        self.expect_fitting(held, size, "`body_limit` must be a number of bytes", hint);
                }
                "cookies" => settings.cookies = self.expect_bool(key, held),
                "insecure" => settings.insecure = self.expect_bool(key, held).map(|truth| self.setting(held, truth)),
                "proxy" => {
                    let address = |text: &str| {
                        let fits = text == "none"
                            || url::Url::parse(text).is_ok_and(|url| {
                                url.has_host() && ["http", "https", "socks5", "socks5h"].contains(&url.scheme())
                            });
                        fits.then(|| text.to_owned())
                    };
                    let hint = "for example `\"http://proxy.packhouse.example:3128\"` (http, https, socks5, socks5h), or `\"none\"`";
                    let proxy = self.expect_fitting(held, address, "`proxy` must be a URL", hint);
                    settings.proxy = proxy.map(|proxy| self.setting(held, proxy));
                }
                "no_proxy" => settings.no_proxy = self.expect_text(key, held),
                "ca" => settings.ca = self.text_setting(key, held),
                "certificate" => settings.certificate = self.text_setting(key, held),
                "key" => settings.key = self.text_setting(key, held),
                "key_password" => settings.key_password = self.text_setting(key, held),
                "socket" => settings.socket = self.text_setting(key, held),
                "save_limit" => {
                    let hint = "for example `\"1GiB\"` or `\"500MB\"`";
                    settings.save_limit =
                        self.expect_fitting(held, size, "`save_limit` must be a number of bytes", hint);
                }
                _ => self.unknown_key(key, &SEND),
            }
        }
        settings
    }

    fn setting<T>(&self, held: &TomlValue<'_>, value: T) -> Setting<T> {
        Setting { value, private: self.private, source: self.source, span: held.span().into() }
    }

    fn text_setting(&mut self, key: &Key<'_>, held: &TomlValue<'_>) -> Option<Setting<String>> {
        self.expect_text(key, held).map(|path| self.setting(held, path))
    }

    pub(super) fn expect_duration(&mut self, key: &Key<'_>, held: &TomlValue<'_>) -> Option<Duration> {
        let hint = "for example `\"500ms\"`, `\"30s\"` or `\"2m\"`, at most `\"24h\"`";
        self.expect_fitting(held, duration, &format!("`{}` must be a duration", key.get_ref()), hint)
    }

    /// Parses a text or a number with `read`.
    fn expect_fitting<T>(
        &mut self,
        held: &TomlValue<'_>,
        read: impl Fn(&str) -> Option<T>,
        message: &str,
        hint: &str,
    ) -> Option<T> {
        let value = match held.get_ref() {
            DeValue::String(text) => read(text),
            DeValue::Integer(integer) if integer.radix() == 10 => read(&integer.as_str().replace('_', "")),
            _ => None,
        };
        if value.is_none() {
            self.error(held.span().into(), message, hint);
        }
        value
    }
}

/// A number of bytes, with `kB`, `MB`, `GB` in thousands or `KiB`, `MiB`, `GiB` in 1024s.
fn size(text: &str) -> Option<u64> {
    let digits = text.find(|c: char| !c.is_ascii_digit()).unwrap_or(text.len());
    let scale: u64 = match text[digits..].trim_start() {
        "" | "B" => 1,
        "kB" => 1_000,
        "MB" => 1_000_000,
        "GB" => 1_000_000_000,
        "KiB" => 1 << 10,
        "MiB" => 1 << 20,
        "GiB" => 1 << 30,
        _ => return None,
    };
    text[..digits].parse::<u64>().ok()?.checked_mul(scale).filter(|bytes| *bytes > 0)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_have_units() {
        assert_eq!(size("64MiB"), Some(64 << 20));
        assert_eq!(size("500 kB"), Some(500_000));
        assert_eq!(size("7"), Some(7));
        for text in ["", "0", "MiB", "1mib", "-1", "99999999999GiB", "1.5MB"] {
            assert_eq!(size(text), None, "{text}");
        }
    }
}
