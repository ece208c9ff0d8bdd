//! What a package gives those who need it (docs/formats.md §2, §12).

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::name::Word;

/// What a package gives those who need it. Paths are relative to the package.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Offers {
    /// Jobs that only one package of a set may fill.
    #[serde(skip_serializing_if = "Vec::is_empty", with = "words")]
    pub roles: Vec<Word>,
    /// Folders with programs, put before `PATH`.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub programs: Vec<String>,
    /// Folders by variable, put before what the variable holds.
    #[serde(skip_serializing_if = "BTreeMap::is_empty")]
    pub variables: BTreeMap<String, String>,
    /// Texts of which a file of whoever uses the package has one.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub mentions: Vec<String>,
}

impl Offers {
    /// Tells whether nothing is offered.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

mod words {
    use super::Word;
    use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

    pub(super) fn serialize<S: Serializer>(words: &[Word], serializer: S) -> Result<S::Ok, S::Error> {
        words.iter().map(Word::as_str).collect::<Vec<_>>().serialize(serializer)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(deserializer: D) -> Result<Vec<Word>, D::Error> {
        let texts = Vec::<String>::deserialize(deserializer)?;
        texts.iter().map(|text| Word::parse(text).map_err(D::Error::custom)).collect()
    }
}

/// Checks a path that a package offers.
///
/// # Errors
/// When it is empty, absolute, or leaves the package.
pub fn check_offered_path(path: &str) -> Result<(), &'static str> {
    if path.is_empty() || path.starts_with('/') || path.contains('\\') {
        Err("it must be a path relative to the package, with `/` between its parts")
    } else if path.split('/').any(|part| part == "..") {
        Err("it must not leave the package")
    } else if path.chars().any(|c| c.is_control() || c == ':') {
        Err("it must not hold control characters or `:`")
    } else {
        Ok(())
    }
}

/// Checks the name of a variable of the environment.
///
/// # Errors
/// When it is not made of upper-case letters, digits and `_`, or is one that decides which code the system loads.
pub fn check_variable(name: &str) -> Result<(), &'static str> {
    let legal = name.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit() || b == b'_');
    if !legal || !name.starts_with(|c: char| c.is_ascii_uppercase() || c == '_') {
        Err("variables are upper-case letters, digits and `_`")
    } else if name == "PATH" {
        Err("programs are offered with `programs`, which puts their folder before PATH")
    } else {
        Ok(())
    }
}

/// Variables by which whoever sets them loads code into other programs, or leads tools to another place. Those that end
/// in `_` stand for all that begin so.
const LOADING: [&str; 49] = [
    "ALL_PROXY",
    "BASHOPTS",
    "BASH_",
    "BROWSER",
    "CARGO_",
    "CDPATH",
    "CURL_",
    "DYLD_",
    "EDITOR",
    "ENV",
    "FPATH",
    "FTP_PROXY",
    "GCONV_",
    "GIT_",
    "GLIBC_",
    "HOME",
    "HTTPS_PROXY",
    "HTTP_PROXY",
    "IFS",
    "JAVA_TOOL_OPTIONS",
    "JDK_JAVA_OPTIONS",
    "LD_",
    "LOCPATH",
    "LOGNAME",
    "MAKEFLAGS",
    "MALLOC_",
    "NLSPATH",
    "NODE_OPTIONS",
    "NO_PROXY",
    "OPENSSL_",
    "PAGER",
    "PERL5DB",
    "PERL5OPT",
    "PROMPT_COMMAND",
    "PS4",
    "PYTHONHOME",
    "PYTHONSTARTUP",
    "RUBYOPT",
    "RUSTC_",
    "SHELL",
    "SHELLOPTS",
    "SSH_",
    "SSL_",
    "TERMINFO",
    "TMPDIR",
    "USER",
    "VISUAL",
    "XDG_",
    "YOSTEL_",
];

/// Tells whether a variable loads code into other programs, or leads tools to another place (docs/formats.md §12).
pub fn is_loading_variable(name: &str) -> bool {
    let means = |listed: &&str| if listed.ends_with('_') { name.starts_with(*listed) } else { name == *listed };
    LOADING.iter().any(means)
}
