//! Addresses as people type them.

/// A host, and a port if one was typed with it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostAddress {
    /// A bare name or address; an IPv6 address without its brackets.
    pub host: String,
    /// The port that stood with it.
    pub port: Option<u16>,
}

/// Why a text is no address.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{typed}\" is no host: {why}; write it as in \"sftp.skerrow.example\"")]
pub struct InvalidHost {
    typed: String,
    why: &'static str,
}

impl HostAddress {
    /// Understands what people paste: a URL, slashes, a user before `@`, a port, blanks.
    pub fn parse(typed: &str) -> Result<Self, InvalidHost> {
        let invalid = |why| InvalidHost { typed: typed.to_owned(), why };
        let text = typed.trim().replace('\\', "/");
        let text = text.split_once("://").map_or(text.as_str(), |(_, rest)| rest);
        let text = text.trim_matches('/').split('/').next().unwrap_or_default();
        let text = text.rsplit_once('@').map_or(text, |(_, host)| host).trim();
        let (host, port) = if let Some(rest) = text.strip_prefix('[') {
            let (host, rest) = rest.split_once(']').ok_or_else(|| invalid("a bracket is not closed"))?;
            (host, rest.strip_prefix(':'))
        } else {
            match text.split_once(':') {
                // More than one colon: an IPv6 address without brackets.
                Some((_, rest)) if rest.contains(':') => (text, None),
                Some((host, port)) => (host, Some(port)),
                None => (text, None),
            }
        };
        let port = port.filter(|port| !port.is_empty());
        let port =
            port.map(|port| port.parse().map_err(|_| invalid("its port is no number up to 65535"))).transpose()?;
        if host.is_empty() {
            return Err(invalid("it is empty"));
        }
        if !host.chars().all(|c| c.is_alphanumeric() || matches!(c, '.' | '-' | '_' | ':' | '%')) {
            return Err(invalid("it has characters that no host name has"));
        }
        Ok(Self { host: host.to_lowercase(), port })
    }
}

/// A folder on a server as people type it: backslashes, doubled slashes and blanks at the ends
/// mean what they were meant to mean. A leading slash stays what it is: from the top.
pub fn typed_folder(typed: &str) -> String {
    let text = typed.trim().replace('\\', "/");
    let parts: Vec<&str> = text.split('/').filter(|part| !part.is_empty() && *part != ".").collect();
    format!("{}{}", if text.starts_with('/') { "/" } else { "" }, parts.join("/"))
}

/// A user as people type it, with or without a domain in front: `(domain, user)`.
pub fn typed_user(typed: &str) -> (String, String) {
    let text = typed.trim();
    let (domain, user) = text.split_once(['\\', '/']).unwrap_or(("", text));
    (domain.trim().to_owned(), user.trim().to_owned())
}

/// A web address as people type it, ending without a slash. `https` unless said otherwise.
pub fn typed_url(typed: &str) -> Result<String, InvalidHost> {
    let text = typed.trim().replace('\\', "/");
    let (scheme, rest) = match text.split_once("://") {
        Some((scheme, rest)) => (scheme.to_lowercase(), rest),
        None => ("https".to_owned(), text.as_str()),
    };
    let scheme = match scheme.as_str() {
        "https" | "webdavs" | "davs" => "https",
        "http" | "webdav" | "dav" => "http",
        _ => return Err(InvalidHost { typed: typed.to_owned(), why: "it must begin with https:// or http://" }),
    };
    let rest = rest.trim_start_matches('/');
    let (host, path) = rest.split_once('/').unwrap_or((rest, ""));
    let address = HostAddress::parse(host).map_err(|e| InvalidHost { typed: typed.to_owned(), ..e })?;
    let host = if address.host.contains(':') { format!("[{}]", address.host) } else { address.host };
    let port = address.port.map(|port| format!(":{port}")).unwrap_or_default();
    let path = typed_folder(path.trim_start_matches('/'));
    Ok(format!("{scheme}://{host}{port}{}{path}", if path.is_empty() { "" } else { "/" }))
}

/// Why a text is no mail address.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("\"{0}\" is no mail address, as in \"wardens@merrow.example\"")]
pub(crate) struct InvalidMailAddress(String);

/// One mail address (RFC 5321, section 2.3.11), without a name before it.
pub(crate) fn mail_address(typed: &str) -> Result<String, InvalidMailAddress> {
    let fits = |part: &str| {
        !part.is_empty() && part.chars().all(|c| c.is_alphanumeric() || "!#$%&'*+-/=?^_`{|}~.".contains(c))
    };
    let address = typed.trim();
    match address.rsplit_once('@') {
        Some((user, host)) if fits(user) && fits(host) => Ok(address.to_owned()),
        _ => Err(InvalidMailAddress(typed.to_owned())),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_people_paste_is_understood() {
        for (typed, host, port) in [
            ("sftp.skerrow.example", "sftp.skerrow.example", None),
            ("  SFTP.Skerrow.example ", "sftp.skerrow.example", None),
            ("sftp://sftp.skerrow.example/", "sftp.skerrow.example", None),
            ("sftp://merrow@sftp.skerrow.example:2222/incoming", "sftp.skerrow.example", Some(2222)),
            ("\\\\files.merrow.example\\survey", "files.merrow.example", None),
            ("//files.merrow.example/", "files.merrow.example", None),
            ("ftp.harlan.example:990", "ftp.harlan.example", Some(990)),
            ("ftp.harlan.example:", "ftp.harlan.example", None),
            ("[::1]:2121", "::1", Some(2121)),
            ("fe80::1%eth0", "fe80::1%eth0", None),
            ("10.0.0.7", "10.0.0.7", None),
        ] {
            assert_eq!(HostAddress::parse(typed), Ok(HostAddress { host: host.to_owned(), port }), "{typed}");
        }
    }

    #[test]
    fn what_is_no_host_is_refused_with_what_was_typed() {
        for typed in ["", "   ", "sftp://", "two words", "host:70000", "host:ssh", "[::1", "a\nb"] {
            let error = HostAddress::parse(typed).unwrap_err().to_string();
            assert!(error.contains(&format!("\"{typed}\"")), "{error}");
        }
    }

    #[test]
    fn folders_lose_what_was_not_meant_and_keep_their_leading_slash() {
        for (typed, meant) in [
            ("/incoming/", "/incoming"),
            ("//incoming//2026 ", "/incoming/2026"),
            ("incoming\\assays", "incoming/assays"),
            ("./incoming", "incoming"),
            ("", ""),
            ("/", "/"),
        ] {
            assert_eq!(typed_folder(typed), meant, "{typed}");
        }
    }

    #[test]
    fn a_user_may_stand_behind_a_domain() {
        for (typed, domain, user) in [
            ("MERROW\\tove ", "MERROW", "tove"),
            ("merrow/tove", "merrow", "tove"),
            ("tove", "", "tove"),
            ("tove@merrow.example", "", "tove@merrow.example"),
        ] {
            assert_eq!(typed_user(typed), (domain.to_owned(), user.to_owned()), "{typed}");
        }
    }

    #[test]
    fn web_addresses_are_https_unless_said_otherwise() {
        for (typed, meant) in [
            ("cloud.merrow.example/dav/", "https://cloud.merrow.example/dav"),
            ("HTTPS://Cloud.merrow.example:8443//dav//office", "https://cloud.merrow.example:8443/dav/office"),
            ("http://127.0.0.1:8080", "http://127.0.0.1:8080"),
            ("davs://[::1]/x", "https://[::1]/x"),
        ] {
            assert_eq!(typed_url(typed).as_deref(), Ok(meant), "{typed}");
        }
        assert!(typed_url("gopher://cloud.merrow.example").is_err());
    }
}
