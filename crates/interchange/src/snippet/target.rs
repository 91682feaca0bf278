//! The export targets.

use std::fmt;

/// A language or format that requests are handed over in.
pub struct Target {
    /// Its name.
    pub name: &'static str,
    /// Its description, in a line.
    pub about: &'static str,
    /// Its template.
    pub(super) template: &'static str,
    /// True if it can encode values, and take them from a response: so whole files can be exported.
    pub(super) chains: bool,
}

impl fmt::Debug for Target {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "Target({})", self.name)
    }
}

impl Target {
    /// True if it embeds the bodies of files, since it cannot name them.
    pub fn holds_files(&self) -> bool {
        matches!(self.name, "http" | "har")
    }

    /// Whether several requests in order can be written.
    pub fn supports_chains(&self) -> bool {
        self.chains || self.name == "har"
    }
}

macro_rules! targets {
    ($($name:literal $about:literal $file:literal $chains:literal;)+) => {
        /// Every target, in the order in which they are listed.
        pub static TARGETS: &[Target] = &[$(Target {
            name: $name,
            about: $about,
            template: include_str!(concat!("templates/", $file)),
            chains: $chains,
        },)+];
    };
}

targets! {
    "shell" "a curl command, quoted for a POSIX shell" "shell.jinja" true;
    "powershell" "PowerShell, Invoke-WebRequest" "powershell.jinja" false;
    "javascript" "JavaScript, fetch" "javascript.jinja" true;
    "typescript" "TypeScript, fetch" "typescript.jinja" false;
    "python" "Python, standard library" "python.jinja" true;
    "python-requests" "Python, package requests" "python-requests.jinja" false;
    "go" "Go, net/http" "go.jinja" false;
    "rust" "Rust, crate reqwest" "rust.jinja" false;
    "java" "Java 11, java.net.http" "java.jinja" false;
    "csharp" "C#, HttpClient" "csharp.jinja" false;
    "ruby" "Ruby, net/http" "ruby.jinja" false;
    "php" "PHP, curl extension" "php.jinja" false;
    "kotlin" "Kotlin, java.net.http" "kotlin.jinja" false;
    "swift" "Swift, URLSession" "swift.jinja" false;
    "c" "C, libcurl" "c.jinja" false;
    "http" "the HTTP/1.1 message (RFC 9112)" "http.jinja" false;
    "har" "HTTP Archive 1.2" "har.jinja" false;
}

/// The target of that name.
pub fn target(name: &str) -> Option<&'static Target> {
    TARGETS.iter().find(|target| target.name == name)
}
