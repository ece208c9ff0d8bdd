//! Where a registry in an OCI registry is: `HOST[:PORT]/PREFIX`.

use std::fmt;

use super::tag::is_component;
use crate::web_address::{WebAddress, WebAddressError};

/// A host, and the name below which the repositories of a registry are.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct OciPlace {
    /// As it is written: `HOST[:PORT]/PREFIX`, perhaps with `http://` or `https://`.
    text: String,
    server: WebAddress,
    prefix: String,
}

impl OciPlace {
    /// Reads a place. This machine's own addresses are asked over `http`, all others over `https`; `http://` or `https://`
    /// before the host says otherwise.
    ///
    /// # Errors
    /// [`WebAddressError`].
    pub fn parse(text: &str) -> Result<Self, WebAddressError> {
        let lower = text.to_ascii_lowercase();
        let whole = match ["http://", "https://"].iter().any(|scheme| lower.starts_with(scheme)) {
            true => text.to_owned(),
            false if lower.contains("://") => {
                return Err(WebAddressError::Unfit("it is a host, a `/` and a name, like station.example/ropeway"));
            }
            false => format!("{}://{text}", if is_own_machine(host_of(&lower)) { "http" } else { "https" }),
        };
        let was_bare = !text.contains("://");
        let address = WebAddress::parse(&whole).map_err(|error| match error {
            WebAddressError::Secret { instead } if was_bare => {
                WebAddressError::Secret { instead: without_scheme(&instead).to_owned() }
            }
            other => other,
        })?;
        let (scheme, rest) = address.as_str().split_once("://").expect("an address has a scheme");
        let Some((host, prefix)) = rest.split_once('/') else {
            return Err(WebAddressError::Unfit("behind the host stands a name, like station.example/ropeway"));
        };
        if !prefix.split('/').all(is_component) || prefix.len() > 120 {
            let why = "behind the host stands a name of at most 120 lower-case letters, digits, `-`, `.`, `_` and `/`";
            return Err(WebAddressError::Unfit(why));
        }
        let server = WebAddress::parse(&format!("{scheme}://{host}"))?;
        let text = if was_bare { without_scheme(address.as_str()).to_owned() } else { address.to_string() };
        Ok(Self { text, server, prefix: prefix.to_owned() })
    }

    /// Returns what stands before the path of each request, without a `/` at the end.
    pub fn server(&self) -> &WebAddress {
        &self.server
    }

    /// Returns the name below which the repositories are, which is that of one itself.
    pub fn prefix(&self) -> &str {
        &self.prefix
    }

    /// Returns the text as a manifest has it.
    pub fn as_str(&self) -> &str {
        &self.text
    }
}

impl fmt::Display for OciPlace {
    /// As it is typed: `oci://HOST[:PORT]/PREFIX`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "oci://{}", without_scheme(&self.text))
    }
}

/// Returns what follows a scheme.
fn without_scheme(address: &str) -> &str {
    address.split_once("://").map_or(address, |(_, rest)| rest)
}

/// Returns the host of what follows a scheme, without its port.
fn host_of(text: &str) -> &str {
    let authority = text.split('/').next().unwrap_or_default();
    match authority.rfind(']') {
        Some(at) => &authority[..=at],
        None => authority.split(':').next().unwrap_or_default(),
    }
}

/// Tells whether a host is this machine itself, where nobody listens in between.
pub fn is_own_machine(host: &str) -> bool {
    let address = host.trim_start_matches('[').trim_end_matches(']');
    host.eq_ignore_ascii_case("localhost") || address.parse().is_ok_and(|ip: std::net::IpAddr| ip.is_loopback())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_this_machine_is_asked_in_the_open() {
        let server = |text: &str| OciPlace::parse(text).unwrap().server().to_string();
        assert_eq!(server("Station.Example:5000/a/b"), "https://station.example:5000");
        assert_eq!(server("localhost:5000/a"), "http://localhost:5000");
        assert_eq!(server("127.0.0.1:5000/a"), "http://127.0.0.1:5000");
        assert_eq!(server("[::1]:5000/a"), "http://[::1]:5000");
        assert_eq!(server("https://localhost:5000/a"), "https://localhost:5000");
        assert_eq!(server("localhost.example/a"), "https://localhost.example");
        assert_eq!(OciPlace::parse("Station.Example/a").unwrap().as_str(), "station.example/a");
    }

    #[test]
    fn what_is_no_place_is_refused_and_no_password_repeated() {
        for text in
            ["station.example", "station.example/", "station.example/Upper", "oci://station.example/a", "/a", ""]
        {
            assert!(OciPlace::parse(text).is_err(), "{text}");
        }
        let error = OciPlace::parse("me:s3cret@station.example/a").unwrap_err();
        assert!(!error.to_string().contains("s3cret"), "{error}");
    }
}
