//! Reaching the service over a network: in private, under its own names, and behind a proxy.

use std::{
    fs,
    io::{Read, Write},
    net::{Ipv4Addr, TcpStream},
    process::{Command, Output},
};

use wetbank_testbed::{Authority, free_port};

use crate::support::{Office, browser::Browser, wait_for};

/// `openssl` makes a certificate for names, and its key.
fn certificate(office: &Office, name: &str, names: &str) -> (String, String) {
    let (chain, key) = (office.path(&format!("{name}.crt")), office.path(&format!("{name}.key")));
    let made = Command::new("openssl")
        .args(["req", "-x509", "-newkey", "ec", "-pkeyopt", "ec_paramgen_curve:P-256", "-nodes", "-days", "90"])
        .args(["-subj", "/CN=merrow", "-addext", &format!("subjectAltName={names}")])
        .arg("-keyout")
        .arg(&key)
        .arg("-out")
        .arg(&chain)
        .output()
        .unwrap();
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
    (chain.display().to_string(), key.display().to_string())
}

fn fingerprint(chain: &str) -> String {
    let told = Command::new("openssl").args(["x509", "-noout", "-fingerprint", "-sha256", "-in", chain]).output();
    let told = String::from_utf8(told.unwrap().stdout).unwrap();
    format!("SHA256:{}", told.trim().split_once('=').unwrap().1)
}

/// `curl`, with what is said of it.
fn curl(words: &[&str]) -> (String, Output) {
    let output = Command::new("curl").args(["-sS", "-i", "--max-time", "10"]).args(words).output().unwrap();
    (String::from_utf8_lossy(&output.stdout).into_owned(), output)
}

#[test]
fn beyond_this_machine_nothing_is_sent_in_clear_unless_that_is_said() {
    let mut office = Office::open();
    office.kill();
    let listen = format!("0.0.0.0:{}", free_port());
    let refused = office.serve_once(&["--listen", &listen]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && said.contains("--own-certificate") && said.contains(&listen), "{said}");
    let (files, key) =
        (office.path("none.pem").display().to_string(), office.data().join("token").display().to_string());
    let (chain, _) = certificate(&office, "alone", "DNS:localhost");
    for (chain, why) in [(&files, "No such file"), (&chain, "no private key in it")] {
        let refused = office.serve_once(&["--certificate", chain, "--certificate-key", &key]);
        let said = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(said.contains(chain.as_str()) && said.matches(why).count() == 1, "{said}");
    }
    let alone = office.serve_once(&["--redirect", "127.0.0.1:0"]);
    assert!(String::from_utf8_lossy(&alone.stderr).contains("--certificate"), "{alone:?}");
    office.start_with(&["--listen", &listen, "--others-may-read-along"]);
    assert_eq!(office.json(&["status"])["held"], 0);
}

#[test]
fn a_certificate_of_our_own_is_shown_and_commands_of_this_machine_trust_it() {
    let mut office = Office::open();
    office.kill();
    let port = free_port();
    let words = ["--listen", &format!("0.0.0.0:{port}"), "--own-certificate", "--name", "files.merrow.example"];
    office.start_with(&words);
    let shown = office.json(&["status"])["certificate"].clone();
    assert_eq!(shown["own"], true);
    let kept = office.data().join("tls/own.pem").display().to_string();
    assert_eq!(shown["fingerprint"].as_str().unwrap(), fingerprint(&kept));
    assert!(shown["names"].as_array().unwrap().iter().any(|name| name == "files.merrow.example"), "{shown}");
    let url = format!("https://files.merrow.example:{port}/");
    let way = ["--resolve", &format!("files.merrow.example:{port}:127.0.0.1"), "--cacert", &kept, &url];
    let (answer, _) = curl(&way);
    assert!(answer.starts_with("HTTP/1.1 200"), "{answer}");
    // Browsers would never let anybody in again whose certificate they do not know.
    assert!(!answer.to_lowercase().contains("strict-transport-security"), "{answer}");
    let (_, refused) = curl(&[&format!("https://127.0.0.1:{port}/")]);
    assert!(!refused.status.success(), "nobody vouches for it");
    // It stays over a restart.
    office.kill();
    office.start_with(&words);
    assert_eq!(office.json(&["status"])["certificate"], shown);
    // Commands elsewhere are told what to do.
    let elsewhere = |trusted: Option<&str>| {
        let mut command = Command::new(env!("CARGO_BIN_EXE_wetbank"));
        command.args(["status"]).env("WETBANK_URL", format!("https://127.0.0.1:{port}"));
        command.env("WETBANK_TOKEN", office.token()).envs(trusted.map(|trusted| ("WETBANK_CERTIFICATE", trusted)));
        command.output().unwrap()
    };
    let untrusted = elsewhere(None);
    let said = String::from_utf8_lossy(&untrusted.stderr).into_owned();
    assert!(said.contains(shown["fingerprint"].as_str().unwrap()) && said.contains("WETBANK_CERTIFICATE"), "{said}");
    let trusted = elsewhere(shown["fingerprint"].as_str());
    assert!(trusted.status.success(), "{}", String::from_utf8_lossy(&trusted.stderr));
    let other = elsewhere(Some("SHA256:00"));
    assert!(!other.status.success());
}

#[test]
fn a_certificate_from_files_is_changed_while_the_service_runs_and_a_bad_one_is_not_shown() {
    let mut office = Office::open();
    office.kill();
    let (port, plain) = (free_port(), free_port());
    let (chain, key) = certificate(&office, "first", "DNS:files.merrow.example,DNS:localhost,IP:127.0.0.1");
    let (next, next_key) = certificate(&office, "next", "DNS:files.merrow.example,IP:127.0.0.1");
    let words = ["--listen", &format!("127.0.0.1:{port}"), "--certificate", &chain, "--certificate-key", &key];
    office.start_with(&[&words[..], &["--redirect", &format!("127.0.0.1:{plain}")]].concat());
    let shown = || office.json(&["status"])["certificate"]["fingerprint"].as_str().unwrap_or_default().to_owned();
    assert_eq!(shown(), fingerprint(&chain));
    let trouble = || {
        let status = office.json(&["status"]);
        let told =
            status["warnings"].as_array().unwrap().iter().find(|one| one["what"].to_string().contains("certificate"));
        told.map(|one| one["what"].as_str().unwrap().to_owned())
    };
    // One file of two is new: they do not belong together.
    let first = fs::read(&chain).unwrap();
    fs::copy(&next, &chain).unwrap();
    let told = wait_for("it to be told", trouble);
    assert!(told.contains("the private key is not that of the certificate"), "{told}");
    assert_ne!(fs::read(&chain).unwrap(), first);
    fs::copy(&next_key, &key).unwrap();
    wait_for("the new one to be shown", || (shown() == fingerprint(&next)).then_some(()));
    wait_for("nothing to be the matter", || trouble().is_none().then_some(()));
    // Who comes in clear is sent on, also at the wrong door; under a foreign name nobody is.
    for door in [port, plain] {
        let (answer, _) = curl(&["-H", "Host: files.merrow.example", &format!("http://127.0.0.1:{door}/rules?on=1")]);
        assert!(answer.starts_with("HTTP/1.1 308"), "{answer}");
        assert!(answer.contains(&format!("location: https://files.merrow.example:{port}/rules?on=1")), "{answer}");
        let (answer, _) = curl(&["-H", "Host: elsewhere.example", &format!("http://127.0.0.1:{door}/")]);
        assert!(answer.starts_with("HTTP/1.1 403"), "{answer}");
    }
}

#[test]
fn whoever_never_speaks_keeps_nobody_out() {
    let mut office = Office::open();
    office.kill();
    let port = free_port();
    office.start_with(&["--listen", &format!("127.0.0.1:{port}"), "--own-certificate"]);
    let silent: Vec<_> = (0..300).map(|_| TcpStream::connect((Ipv4Addr::LOCALHOST, port)).unwrap()).collect();
    // Half a greeting, and something that is none.
    let mut half = TcpStream::connect((Ipv4Addr::LOCALHOST, port)).unwrap();
    half.write_all(&[22, 3, 1, 2]).unwrap();
    let mut odd = TcpStream::connect((Ipv4Addr::LOCALHOST, port)).unwrap();
    odd.write_all(&[22, 3, 1, 0, 5, 9, 9, 9, 9, 9]).unwrap();
    let mut told = Vec::new();
    let _ = odd.read_to_end(&mut told);
    assert_eq!(office.json(&["status"])["held"], 0);
    drop(silent);
}

#[test]
fn behind_a_proxy_the_client_is_who_asks_and_a_stranger_cannot_say_who_it_is() {
    let mut office = Office::open();
    office.kill();
    let sign_in = |office: &Office, words: &[&str]| {
        let url = format!("{}/api/v1/session", office.url());
        let body = format!("{{\"token\":\"{}\"}}", office.token());
        let fixed = ["-X", "POST", "-H", "content-type: application/json", "-d", &body, &url];
        curl(&[&fixed[..], words].concat()).0.to_lowercase()
    };
    let told = ["-H", "X-Forwarded-For: 198.51.100.9", "-H", "X-Forwarded-Proto: https"];
    office.start_with(&["--name", "files.merrow.example", "--proxy", "127.0.0.1"]);
    let answer = sign_in(&office, &[&told[..], &["-H", "Host: files.merrow.example"]].concat());
    assert!(answer.contains("set-cookie") && answer.contains("; secure"), "{answer}");
    office.kill();
    office.start_with(&[]);
    let answer = sign_in(&office, &told);
    assert!(answer.contains("set-cookie") && !answer.contains("; secure"), "{answer}");
}

#[test]
fn an_authority_gives_a_certificate_to_whoever_proves_that_the_name_is_theirs() {
    let mut office = Office::open();
    office.kill();
    let authority = Authority::start(office.folder.path());
    let (port, plain) = (free_port(), authority.looks_at);
    let root = authority.root.display().to_string();
    let fixed = ["--listen", &format!("127.0.0.1:{port}"), "--acme", &authority.directory, "--acme-root", &root];
    let more = ["--acme-contact", "mailto:office@merrow.example", "--name", "files.merrow.example"];
    // Where nobody can find the proof: the name leads elsewhere.
    office.start_with(&[&fixed[..], &more, &["--redirect", &format!("127.0.0.1:{}", free_port())]].concat());
    let certificate = |office: &Office| office.json(&["status"])["certificate"].clone();
    assert_eq!(certificate(&office)["own"], true, "until then one of its own is shown");
    let told = wait_for("it to be told", || {
        let status = office.json(&["status"]);
        let told = status["warnings"].as_array().unwrap().iter().find(|one| one["what"].to_string().contains("proof"));
        told.map(|one| one["what"].as_str().unwrap().to_owned())
    });
    assert!(told.contains("files.merrow.example") && told.contains(&authority.directory), "{told}");
    office.kill();
    office.start_with(&[&fixed[..], &more, &["--redirect", &format!("127.0.0.1:{plain}")]].concat());
    wait_for("the authority's", || (certificate(&office)["own"] == false).then_some(()));
    let given = certificate(&office);
    assert_eq!(given["names"], serde_json::json!(["files.merrow.example"]));
    assert!(office.json(&["status"])["warnings"].as_array().unwrap().is_empty());
    let url = format!("https://files.merrow.example:{port}/");
    let (answer, _) = curl(&["-k", "--resolve", &format!("files.merrow.example:{port}:127.0.0.1"), &url]);
    assert!(answer.to_lowercase().contains("strict-transport-security: max-age="), "{answer}");
    // It is kept, and nobody is asked again at a start.
    office.kill();
    let asked = authority.orders();
    office.start_with(&[&fixed[..], &more, &["--redirect", &format!("127.0.0.1:{plain}")]].concat());
    assert_eq!(certificate(&office), given);
    assert_eq!(authority.orders(), asked);
}

#[tokio::test(flavor = "multi_thread")]
async fn settings_say_what_is_shown_to_those_who_connect() {
    let (mut office, browser) = (Office::open(), Browser::open_with(&["--ignore-certificate-errors"]).await);
    browser.sign_in(&office).await;
    browser.driver.goto(format!("{}/settings", office.url())).await.unwrap();
    browser.find("//*[contains(., 'sends everything in clear')]").await;
    browser.driver.delete_all_cookies().await.unwrap();
    office.kill();
    office.start_with(&["--own-certificate", "--name", "files.merrow.example"]);
    let shown = office.json(&["status"])["certificate"]["fingerprint"].as_str().unwrap().to_owned();
    browser.sign_in(&office).await;
    browser.driver.goto(format!("{}/settings", office.url())).await.unwrap();
    browser.find(&format!("//dd[.='{shown}']")).await;
    browser.find("//dd[contains(., 'files.merrow.example')]").await;
    browser.find("//dd[contains(., 'no authority vouches for it')]").await;
    // What a browser keeps of a visit in private it never sends in clear.
    let cookie = browser.driver.get_named_cookie("wetbank_session").await.unwrap();
    assert_eq!(cookie.secure, Some(true));
}
