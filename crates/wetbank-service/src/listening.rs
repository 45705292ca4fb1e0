//! How the service is reached: where it listens, in private or not, under which names, and behind whom.

use std::net::{IpAddr, SocketAddr};

use axum::http::{Extensions, HeaderMap, HeaderName, header};
use wetbank_tls::{Served, Shown};

use crate::certificate::Renewed;

const FOR: HeaderName = HeaderName::from_static("x-forwarded-for");
const SCHEME: HeaderName = HeaderName::from_static("x-forwarded-proto");

/// How the service is reached.
#[derive(Debug, Clone)]
pub struct Listening {
    /// Where it listens.
    pub address: SocketAddr,
    /// The certificate that it shows; without one everything is sent in clear.
    pub certificate: Option<Renewed>,
    /// Host names that are its own, besides those of the certificate.
    pub names: Vec<String>,
    /// Proxies that tell for whom they ask.
    pub proxies: Vec<IpAddr>,
    /// Where everybody is sent to the same page in private.
    pub redirect: Option<SocketAddr>,
    /// It may listen in clear beyond this machine.
    pub others_may_read_along: bool,
}

/// Who asks.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Peer {
    /// Its address; that of a proxy's client if the proxy is one of ours.
    pub address: IpAddr,
    /// Nobody on the way can read along.
    pub is_private: bool,
}

impl Listening {
    /// In clear, for this machine.
    pub fn in_clear(address: SocketAddr) -> Self {
        let (names, proxies) = (Vec::new(), Vec::new());
        Self { address, certificate: None, names, proxies, redirect: None, others_may_read_along: false }
    }

    /// How it speaks in private, if it does.
    pub(crate) fn served(&self) -> Option<&Served> {
        self.certificate.as_ref().map(Renewed::served)
    }

    /// What it shows, if it speaks in private.
    pub fn shown(&self) -> Option<Shown> {
        self.served().map(Served::shown)
    }

    /// Its address for programs of this machine.
    pub fn local(&self) -> String {
        let mut address = self.address;
        if address.ip().is_unspecified() {
            let here: IpAddr =
                if address.is_ipv4() { [127, 0, 0, 1].into() } else { std::net::Ipv6Addr::LOCALHOST.into() };
            address.set_ip(here);
        }
        format!("{}://{address}", self.scheme())
    }

    fn scheme(&self) -> &'static str {
        if self.certificate.is_some() { "https" } else { "http" }
    }

    /// The link that people are given: under the first of its names, if it has one.
    pub fn link(&self, path: &str) -> String {
        match self.names.first() {
            Some(name) => format!("{}://{name}:{}{path}", self.scheme(), self.address.port()),
            None => format!("{}{path}", self.local()),
        }
    }

    /// Whether it answers under a host, as `Host` has it: so no foreign name can be pointed here.
    pub(crate) fn answers_to(&self, host: &str) -> bool {
        let name = without_port(host);
        if matches!(name, "localhost" | "127.0.0.1" | "[::1]") {
            return true;
        }
        let bare = name.trim_matches(['[', ']']);
        if let Ok(address) = bare.parse::<IpAddr>() {
            let here = self.address.ip();
            return here.is_unspecified() || here == address || self.names.iter().any(|own| own == bare);
        }
        let certified = self.shown().map(|shown| shown.names).unwrap_or_default();
        self.names.iter().chain(&certified).any(|own| is_of(own, bare))
    }

    /// Who asks, if this is who is connected.
    pub(crate) fn peer(&self, connected: IpAddr, headers: &HeaderMap) -> Peer {
        let is_private = self.certificate.is_some();
        if !self.is_proxy(connected) {
            return Peer { address: connected, is_private };
        }
        let told = headers.get_all(FOR).iter().filter_map(|value| value.to_str().ok());
        let way: Vec<IpAddr> =
            told.flat_map(|text| text.split(',')).filter_map(|one| one.trim().parse().ok()).collect();
        // What was told before the last proxy of ours is anybody's word.
        let client = way.iter().rev().find(|address| !self.is_proxy(**address));
        let scheme = headers.get_all(SCHEME).iter().next_back().and_then(|value| value.to_str().ok());
        Peer { address: client.copied().unwrap_or(connected), is_private: scheme == Some("https") }
    }

    fn is_proxy(&self, address: IpAddr) -> bool {
        self.proxies.contains(&address.to_canonical())
    }

    /// Whether browsers are told never to come without TLS: of a certificate that no authority vouches for they would
    /// never let anybody in again.
    pub(crate) fn insists(&self) -> bool {
        self.shown().is_some_and(|shown| !shown.is_own)
    }
}

/// The host that is asked for.
pub(crate) fn host(headers: &HeaderMap) -> &str {
    headers.get(header::HOST).and_then(|value| value.to_str().ok()).unwrap_or_default()
}

/// Where a browser is, as its pages name it: `https://files.merrow.example:8270`. The host was checked before.
pub(crate) fn origin(headers: &HeaderMap, extensions: &Extensions) -> String {
    let is_private = extensions.get::<Peer>().is_some_and(|peer| peer.is_private);
    format!("{}://{}", if is_private { "https" } else { "http" }, host(headers))
}

/// A host without the port that may stand behind it.
pub(crate) fn without_port(host: &str) -> &str {
    match host.rsplit_once(':') {
        Some((name, port)) if port.bytes().all(|byte| byte.is_ascii_digit()) => name,
        _ => host,
    }
}

/// Whether a host is called so; `*.merrow.example` calls each that is one step below.
fn is_of(own: &str, host: &str) -> bool {
    let (own, host) = (own.to_ascii_lowercase(), host.trim_end_matches('.').to_ascii_lowercase());
    match own.strip_prefix("*.") {
        Some(domain) => host.split_once('.').is_some_and(|(first, rest)| !first.is_empty() && rest == domain),
        None => own == host,
    }
}

#[cfg(test)]
mod tests {
    use axum::http::HeaderValue;

    use super::*;

    fn at(address: &str) -> Listening {
        Listening::in_clear(address.parse().unwrap())
    }

    #[test]
    fn it_answers_under_its_own_names_and_no_other() {
        let named = Listening {
            names: vec!["files.merrow.example".to_owned(), "*.survey.example".to_owned()],
            ..at("192.0.2.7:8270")
        };
        for (host, is_ours) in [
            ("localhost", true),
            ("localhost:8270", true),
            ("[::1]:8270", true),
            ("192.0.2.7:8270", true),
            ("192.0.2.8", false),
            ("files.merrow.example:8270", true),
            ("FILES.merrow.example.", true),
            ("merrow.example", false),
            ("files.merrow.example.evil.example", false),
            ("boats.survey.example", true),
            ("a.boats.survey.example", false),
            (".survey.example", false),
            ("", false),
        ] {
            assert_eq!(named.answers_to(host), is_ours, "{host:?}");
        }
        let everywhere = at("0.0.0.0:8270");
        assert!(everywhere.answers_to("192.0.2.8:8270") && !everywhere.answers_to("merrow.example"));
        assert_eq!(everywhere.local(), "http://127.0.0.1:8270");
    }

    #[test]
    fn only_a_proxy_of_ours_tells_for_whom_it_asks() {
        let proxy: IpAddr = "10.0.0.2".parse().unwrap();
        let behind = Listening { proxies: vec![proxy], ..at("127.0.0.1:8270") };
        let headers = |way: &str| {
            let mut headers = HeaderMap::new();
            headers.insert(FOR, HeaderValue::from_str(way).unwrap());
            headers.insert(SCHEME, HeaderValue::from_static("https"));
            headers
        };
        let stranger: IpAddr = "198.51.100.9".parse().unwrap();
        for (connected, way, address, is_private) in [
            (proxy, "198.51.100.9", stranger, true),
            // The client itself told the first one.
            (proxy, "127.0.0.1, 198.51.100.9", stranger, true),
            (proxy, "198.51.100.9, 10.0.0.2", stranger, true),
            (proxy, "nobody", proxy, true),
            (stranger, "127.0.0.1", stranger, false),
        ] {
            let peer = behind.peer(connected, &headers(way));
            assert_eq!((peer.address, peer.is_private), (address, is_private), "{connected} {way}");
        }
    }
}
