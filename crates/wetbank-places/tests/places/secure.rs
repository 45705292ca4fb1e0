//! Certificates: trusted, confirmed, changed; and sign-ins that are refused.

use std::{sync::Arc, time::Duration};

use crate::support::{path, proftpd_spec, webdav_spec, write};
use wetbank_core::{FtpSecurity, FtpSpec, Name, PlaceSpec, WebdavSpec};
use wetbank_places::{Ftp, Place, PlaceErrorKind, Webdav, probe, shown_identity};
use wetbank_testbed::{Apache, FTP_USER, FtpOffer, Proftpd, WEBDAV_USER};

fn name() -> Name {
    Name::new("server").unwrap()
}

fn webdav(apache: &Apache, certificate: Option<&str>) -> WebdavSpec {
    WebdavSpec { certificate: certificate.map(str::to_owned), ..webdav_spec(&apache.url, None) }
}

fn ftp(server: &Proftpd, security: FtpSecurity, certificate: Option<&str>) -> FtpSpec {
    FtpSpec { certificate: certificate.map(str::to_owned), ..proftpd_spec(server, security) }
}

const OTHER: &str =
    "SHA256:00:11:22:33:44:55:66:77:88:99:AA:BB:CC:DD:EE:FF:00:11:22:33:44:55:66:77:88:99:AA:BB:CC:DD:EE:FF";

#[tokio::test(flavor = "multi_thread")]
async fn an_unknown_or_changed_certificate_is_never_trusted_and_is_shown() {
    let (apache, proftpd) = (Apache::start(true), Proftpd::start(FtpOffer::Tls));
    let shown = apache.certificate.as_ref().unwrap().fingerprint.clone();
    for confirmed in [None, Some(OTHER)] {
        let place = Webdav::new(name(), webdav(&apache, confirmed), Some(WEBDAV_USER.1.into()));
        let error = place.reach().await.unwrap_err();
        assert_eq!(error.kind, PlaceErrorKind::Certificate, "{error}");
        assert!(error.detail.contains(&shown), "{error}");
        assert!(error.remedy().contains("wetbank place test server --confirm"), "{}", error.remedy());
        let place = Ftp::new(name(), ftp(&proftpd, FtpSecurity::Tls, confirmed), FTP_USER.1.into());
        let error = place.reach().await.unwrap_err();
        assert_eq!(error.kind, PlaceErrorKind::Certificate, "{error}");
        assert!(error.detail.contains(&proftpd.certificate.fingerprint), "{error}");
    }
    let seen = shown_identity(&name(), &PlaceSpec::Webdav(webdav(&apache, None))).await.unwrap().unwrap();
    assert!(seen.is(&shown) && seen.what == "certificate");
    let seen = shown_identity(&name(), &PlaceSpec::Ftp(ftp(&proftpd, FtpSecurity::Tls, None))).await.unwrap().unwrap();
    assert!(seen.is(&proftpd.certificate.fingerprint.to_lowercase().replace("sha256:", "")));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_confirmed_certificate_is_enough_and_every_step_of_a_test_is_told() {
    let apache = Apache::start(true);
    let confirmed = apache.certificate.as_ref().unwrap().fingerprint.as_str();
    let place = Webdav::new(name(), webdav(&apache, Some(confirmed)), Some(WEBDAV_USER.1.into()));
    let steps = probe(&place, true).await;
    let told: Vec<_> = steps.iter().map(|step| step.what).collect();
    assert_eq!(
        told,
        [
            "find the host",
            "connect",
            "secure",
            "sign in",
            "list",
            "write a probe file",
            "rename it",
            "read it back",
            "delete it",
            "make a probe folder",
            "list the folder",
            "remove the folder"
        ]
    );
    assert!(steps.iter().all(|step| step.outcome.is_ok()), "{steps:?}");
    assert_eq!(std::fs::read_dir(apache.root.path()).unwrap().count(), 0, "the probe leaves nothing behind");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_password_is_refused_naming_user_and_secret_and_never_the_password() {
    let (apache, proftpd) = (Apache::start(false), Proftpd::start(FtpOffer::Plain));
    let places: [Box<dyn Place>; 2] = [
        Box::new(Webdav::new(name(), webdav(&apache, None), Some("bittern".into()))),
        Box::new(Ftp::new(name(), ftp(&proftpd, FtpSecurity::None, None), "bittern".into())),
    ];
    for place in places {
        let error = place.reach().await.unwrap_err();
        assert_eq!(error.kind, PlaceErrorKind::Refused, "{error}");
        assert!(error.remedy().contains("wetbank secret set password"), "{}", error.remedy());
        assert!(!format!("{error} {error:?} {place:?}").contains("bittern"));
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_will_not_be_secured_gets_no_password() {
    let proftpd = Proftpd::start(FtpOffer::Plain);
    let place = Ftp::new(name(), ftp(&proftpd, FtpSecurity::Tls, None), FTP_USER.1.into());
    let error = place.reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Security, "{error}");
    assert!(error.detail.contains("security = \"none\""), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_host_that_has_no_address_and_a_port_where_nothing_listens_are_told_apart() {
    let apache = Apache::start(false);
    let mut spec = webdav(&apache, None);
    spec.url = "https://no-such-host.invalid/dav".to_owned();
    let steps = probe(&Webdav::new(name(), spec.clone(), None), false).await;
    assert_eq!((steps.len(), steps[0].what), (1, "find the host"));
    assert!(steps[0].outcome.as_ref().unwrap_err().to_string().contains("no-such-host.invalid"));
    spec.url = format!("https://127.0.0.1:{}/dav", wetbank_testbed::free_port());
    let place = Webdav::new(name(), spec, None);
    let told = place.stat(&path("a.csv")).await.unwrap_err();
    assert!(told.detail.starts_with("nothing listens at https://127.0.0.1:"), "{told}");
    let steps = probe(&place, false).await;
    assert_eq!((steps.len(), steps[1].what), (2, "connect"));
    let refused = steps[1].outcome.as_ref().unwrap_err();
    assert_eq!(refused.kind, PlaceErrorKind::Unreachable);
    assert!(refused.detail.starts_with("nothing listens on port"), "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_goes_away_in_mid_upload_is_told_and_never_looks_like_success() {
    let mut proftpd = Proftpd::start(FtpOffer::Plain);
    let place = Ftp::new(name(), ftp(&proftpd, FtpSecurity::None, None), FTP_USER.1.into());
    let mut staged = place.stage(&path(".wetbank-1"), &path("whole"), None).await.unwrap();
    staged.write(vec![1; 1 << 20].into()).await.unwrap();
    proftpd.crash();
    let failed = async {
        for _ in 0..1000 {
            if let Err(error) = staged.write(vec![1; 1 << 20].into()).await {
                return error;
            }
        }
        staged.finish().await.unwrap_err()
    };
    let error = tokio::time::timeout(std::time::Duration::from_secs(20), failed).await.expect("it does not hang");
    assert_eq!(error.kind, PlaceErrorKind::Interrupted, "{error}");
    assert_eq!(write(&place, "other", &path("whole"), b"x").await.unwrap_err().kind, PlaceErrorKind::Unreachable);
}

#[tokio::test(flavor = "multi_thread")]
async fn when_a_trusted_certificate_ends_is_known_once_it_was_shown() {
    let (apache, proftpd) = (Apache::start(true), Proftpd::start(FtpOffer::Tls));
    let confirmed = &apache.certificate.as_ref().unwrap().fingerprint;
    let cloud = Webdav::new(name(), webdav(&apache, Some(confirmed)), Some(WEBDAV_USER.1.into()));
    let spec = ftp(&proftpd, FtpSecurity::Tls, Some(&proftpd.certificate.fingerprint));
    let places: [Box<dyn Place>; 2] = [Box::new(cloud), Box::new(Ftp::new(name(), spec, FTP_USER.1.into()))];
    for place in places {
        assert_eq!(place.certificate_ends(), None, "it was not asked yet");
        place.reach().await.unwrap();
        // These certificates are made to last.
        assert_eq!(place.certificate_ends().unwrap().to_string(), "4096-01-01T00:00:00Z");
    }
    let refused = Webdav::new(name(), webdav(&apache, Some(OTHER)), Some(WEBDAV_USER.1.into()));
    refused.reach().await.unwrap_err();
    assert_eq!(refused.certificate_ends(), None, "one that is not trusted tells nothing");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_command_leaves_at_once_however_busy_its_task_was() {
    let server = Proftpd::start(FtpOffer::Tls);
    std::fs::write(server.root.path().join("levels.csv"), b"07:00;2.31").unwrap();
    let spec = FtpSpec { silence: Duration::from_secs(2), ..proftpd_spec(&server, FtpSecurity::Tls) };
    let place = Arc::new(Ftp::new(name(), spec, FTP_USER.1.into()));
    place.reach().await.unwrap();
    // A task may do so much before the runtime makes it wait; at each point something else is cut off.
    for done in 0..=128 {
        let place = place.clone();
        let looked = tokio::spawn(async move {
            let (much, mut work) = tokio::sync::mpsc::unbounded_channel();
            (0..done).for_each(|_| much.send(()).unwrap());
            for _ in 0..done {
                work.recv().await;
            }
            place.stat(&path("levels.csv")).await
        });
        assert_eq!(looked.await.unwrap().unwrap().fingerprint.size, 10, "after {done} others");
    }
}
