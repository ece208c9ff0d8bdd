//! What shows servers who asks, by host, as a file of its own has it. Carries out docs/formats.md §17.

use std::collections::BTreeMap;
use std::fmt;

use serde::Deserialize;
use toml_edit::{Array, DocumentMut, Item, Table, value};

/// Something that is shown to nobody.
#[derive(Clone, PartialEq, Eq, Deserialize)]
#[serde(transparent)]
pub struct Secret(String);

impl Secret {
    /// Hides a text.
    pub fn new(text: impl Into<String>) -> Self {
        Self(text.into())
    }

    /// Returns the text, for whoever it is meant for.
    pub fn reveal(&self) -> &str {
        &self.0
    }
}

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("…")
    }
}

impl fmt::Display for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("…")
    }
}

/// What shows a host who asks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Credential {
    /// A token.
    Token(Secret),
    /// A user and a password.
    Password {
        /// The user.
        user: String,
        /// The password.
        password: Secret,
    },
}

/// How a host is shown who asks.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum CredentialEntry {
    /// With this.
    Known(Credential),
    /// With what a program says, which is named with its arguments.
    Helper(Vec<String>),
}

/// What is known of whom to show what, by host: its name in lower case, and its port where one is named.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct CredentialsFile {
    /// The entries.
    pub hosts: BTreeMap<String, CredentialEntry>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct RawEntry {
    token: Option<Secret>,
    user: Option<String>,
    password: Option<Secret>,
    helper: Option<Vec<String>>,
}

/// What a helper says of a host.
#[derive(Deserialize)]
struct Said {
    token: Option<Secret>,
    user: Option<String>,
    password: Option<Secret>,
}

impl CredentialsFile {
    /// Reads the file.
    ///
    /// # Errors
    /// Where it is wrong and what is expected there, without anything of the text: it may be secret.
    pub fn parse(text: &str) -> Result<Self, String> {
        let raw: BTreeMap<String, RawEntry> = toml::from_str(text).map_err(|error: toml::de::Error| {
            let at = error.span().map_or(0, |span| span.start.min(text.len()));
            let line = text.as_bytes()[..at].iter().filter(|byte| **byte == b'\n').count() + 1;
            format!("line {line} is not as it should be: a host has `token`, or `user` and `password`, or `helper`")
        })?;
        let mut hosts = BTreeMap::new();
        for (host, entry) in raw {
            let entry = match entry {
                RawEntry { token: Some(token), user: None, password: None, helper: None } => {
                    CredentialEntry::Known(Credential::Token(token))
                }
                RawEntry { token: None, user: Some(user), password: Some(password), helper: None } => {
                    CredentialEntry::Known(Credential::Password { user, password })
                }
                RawEntry { token: None, user: None, password: None, helper: Some(words) } if !words.is_empty() => {
                    CredentialEntry::Helper(words)
                }
                _ => {
                    let host = host.escape_debug();
                    return Err(format!("`{host}` has neither `token`, nor `user` and `password`, nor `helper` alone"));
                }
            };
            hosts.insert(host.to_ascii_lowercase(), entry);
        }
        Ok(Self { hosts })
    }

    /// Writes the file.
    pub fn write(&self) -> String {
        let mut document = DocumentMut::new();
        for (host, entry) in &self.hosts {
            let mut table = Table::new();
            match entry {
                CredentialEntry::Known(Credential::Token(token)) => drop(table.insert("token", value(token.reveal()))),
                CredentialEntry::Known(Credential::Password { user, password }) => {
                    table.insert("user", value(user));
                    table.insert("password", value(password.reveal()));
                }
                CredentialEntry::Helper(words) => {
                    table.insert("helper", value(words.iter().collect::<Array>()));
                }
            }
            document.insert(host, Item::Table(table));
        }
        format!("# Written by yostel login. Nobody else may read this file.\n\n{document}")
    }
}

impl Credential {
    /// Reads what a helper says; nothing when it knows of none.
    ///
    /// # Errors
    /// What is expected, without anything of the text.
    pub fn said_by_helper(text: &str) -> Result<Option<Self>, &'static str> {
        let expected = "a helper says {\"token\": …}, {\"user\": …, \"password\": …}, or {}";
        let said: Said = serde_json::from_str(text).map_err(|_| expected)?;
        match said {
            Said { token: Some(token), user: None, password: None } => Ok(Some(Self::Token(token))),
            Said { token: None, user: Some(user), password: Some(password) } => {
                Ok(Some(Self::Password { user, password }))
            }
            Said { token: None, user: None, password: None } => Ok(None),
            _ => Err(expected),
        }
    }
}

/// Returns how a host is written in the file, of what somebody typed.
///
/// # Errors
/// Why it is none.
pub fn credential_host(typed: &str) -> Result<String, &'static str> {
    let lower = typed.to_ascii_lowercase();
    let rest = ["https://", "http://", "oci://"].iter().find_map(|scheme| lower.strip_prefix(scheme)).unwrap_or(&lower);
    let host = rest.split('/').next().unwrap_or_default();
    let is_fit = |c: char| c.is_ascii_alphanumeric() || "-._:[]".contains(c);
    match !host.is_empty() && host.chars().all(is_fit) {
        true => Ok(host.to_owned()),
        false => Err("a host is a name, like station.example, perhaps with a port, like station.example:8443"),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_written_is_read_back_and_shows_nobody_anything() {
        let text = "[\"Station.Example:8443\"]\ntoken = \"s3cret\"\n[\"b.example\"]\nuser = \"alice\"\npassword = \"s3cret\"\n[c]\nhelper = [\"show\", \"it\"]\n";
        let read = CredentialsFile::parse(text).unwrap();
        assert_eq!(read.hosts.keys().collect::<Vec<_>>(), ["b.example", "c", "station.example:8443"]);
        assert_eq!(CredentialsFile::parse(&read.write()).unwrap(), read);
        assert!(!format!("{read:?}").contains("s3cret"));
        for wrong in [
            "[a]\ntoken = s3cret",
            "[a]\nuser = \"x\"",
            "[a]\ntoken=\"s3cret\"\nuser=\"s3cret\"",
            "s3cret",
            "[a]\npass = \"s3cret\"",
        ] {
            let told = CredentialsFile::parse(wrong).unwrap_err();
            assert!(!told.contains("s3cret"), "{told}");
        }
    }

    #[test]
    fn a_helper_says_one_thing_or_nothing() {
        assert_eq!(Credential::said_by_helper("{}"), Ok(None));
        assert!(matches!(Credential::said_by_helper("{\"token\":\"x\"}"), Ok(Some(Credential::Token(_)))));
        for wrong in ["", "x", "{\"user\":\"a\"}", "[]"] {
            assert!(Credential::said_by_helper(wrong).is_err(), "{wrong}");
        }
        assert_eq!(credential_host("https://Station.Example:8443/r").unwrap(), "station.example:8443");
        assert!(credential_host("a b").is_err() && credential_host("me@x").is_err());
    }
}
