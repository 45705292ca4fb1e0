//! The pages by which colleagues come in, as they see them.

use jiff::Timestamp;
use serde_json::{Value, json};
use wetbank_people::Seed;

use crate::support::{
    Office, SMALL_BOOK,
    browser::Browser,
    people::{behind, password},
    wait_for,
};

async fn gone(browser: &Browser, path: &str) {
    assert!(browser.driver.find_all(thirtyfour::By::XPath(path)).await.unwrap().is_empty(), "{path} is offered");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_owner_lets_a_colleague_in_who_chooses_her_password_and_sees_what_she_may_use() {
    let (office, browser) = (Office::open(), Browser::open().await);
    office.book(SMALL_BOOK);
    browser.sign_in(&office).await;
    browser.driver.goto(format!("{}/settings?tab=people", office.url())).await.unwrap();
    browser.find("//p[contains(., 'Nobody has a name here yet')]").await;
    browser.click("//button[text()='Add somebody']").await;
    browser.fill("Name", "Ina").await;
    browser.fill("Called", "Ina Skerry").await;
    browser.pick("Role", "operator").await;
    browser.click("//button[text()='Add and make a link']").await;
    let link = browser.find("//section[@aria-label='The new link']//code").await.text().await.unwrap();
    assert!(link.starts_with(&office.url()), "{link}");
    browser.find("//span[contains(., 'has not come yet')]").await;
    browser.click("//button[@aria-label='Groups of ina']").await;
    browser.fill("In the group", "harbour").await;
    browser.click("//button[text()='Give']").await;
    browser.find("//span[contains(., 'manager in harbour')]").await;
    assert_eq!(office.json(&["user", "list"])[0]["groups"], json!({ "harbour": "manager" }));
    browser.click("//button[@aria-label='Not manager in harbour any more']").await;
    wait_for("it is taken", || (office.json(&["user", "list"])[0]["groups"] == json!({})).then_some(()));

    // She, in a browser of her own.
    let hers = Browser::open().await;
    hers.driver.goto(&link).await.unwrap();
    hers.find("//b[text()='Ina Skerry']").await;
    hers.fill("Your new password", "short").await;
    hers.click("//button[text()='Keep it and sign in']").await;
    hers.find("//p[@role='alert'][contains(., '12 characters')]").await;
    hers.fill("Your new password", &password("ina")).await;
    hers.click("//button[text()='Keep it and sign in']").await;
    hers.find("//header//a[text()='Ina Skerry']").await;
    hers.driver.goto(&link).await.unwrap();
    hers.driver.refresh().await.unwrap();
    hers.find("//*[@role='alert'][contains(., 'used already')]").await;

    // What she may not do is not offered, and who comes without a session is brought back to where she was.
    hers.driver.goto(format!("{}/rules", office.url())).await.unwrap();
    hers.find("//a[text()='keep']").await;
    gone(&hers, "//a[text()='New rule']").await;
    hers.driver.goto(format!("{}/rules/keep?tab=runs", office.url())).await.unwrap();
    hers.find("//button[text()='Run now…']").await;
    hers.driver.goto(format!("{}/settings?tab=you", office.url())).await.unwrap();
    hers.find("//span[contains(., 'also releases, retries, runs and settles')]").await;
    gone(&hers, "//button[@role='tab'][text()='People']").await;
    hers.click("//button[text()='Sign out']").await;
    hers.find("//h1[text()='Sign in to Wetbank']").await;
    hers.driver.goto(format!("{}/rules/keep?tab=runs", office.url())).await.unwrap();
    hers.find("//h1[text()='Sign in to Wetbank']").await;
    hers.fill("Name", "ina").await;
    hers.fill("Password", "five grey herons").await;
    hers.click("//button[text()='Sign in']").await;
    hers.find("//p[@role='alert'][contains(., 'name or password is wrong')]").await;
    hers.fill("Password", &password("ina")).await;
    hers.click("//button[text()='Sign in']").await;
    hers.find("//button[@role='tab'][text()='Runs'][@aria-selected='true']").await;

    // The owner ends her session: her page is at the door at once.
    browser.driver.refresh().await.unwrap();
    browser.click("//button[starts-with(@aria-label, 'End session')]").await;
    hers.find("//h1[text()='Sign in to Wetbank']").await;
    browser.click("//button[@role='tab'][text()='Audit']").await;
    browser.find("//tr[contains(., 'Make a link by which a user chooses her password')][contains(., 'done')]").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_second_factor_is_set_up_with_an_app_and_asked_for() {
    let (office, browser) = (Office::open(), Browser::open().await);
    office.colleague("ina", "viewer").await;
    let sign_in = async || {
        browser.driver.goto(format!("{}/settings?tab=you", office.url())).await.unwrap();
        browser.find("//h1[text()='Sign in to Wetbank']").await;
        browser.fill("Name", "ina").await;
        browser.fill("Password", &password("ina")).await;
        browser.click("//button[text()='Sign in']").await;
    };
    sign_in().await;
    browser.click("//button[text()='Set up a second factor']").await;
    browser.find("//*[local-name()='svg'][.//*[local-name()='title']]").await;
    let seed = browser.find("//code[contains(@class, 'file')]").await.text().await.unwrap().replace(' ', "");
    let codes = Seed::from(secrecy::SecretString::from(seed)).codes("ina").unwrap();
    wait_for("the beginning of a step", || (Timestamp::now().as_second() % 30 < 20).then_some(()));
    let earlier = Timestamp::now() - jiff::SignedDuration::from_secs(30);
    browser.fill("The code that it shows", &codes.at(earlier)).await;
    browser.click("//button[text()='Ask for a code from now on']").await;
    browser.find("//p[contains(., 'is asked for at each sign-in')]").await;
    browser.click("//button[text()='Sign out']").await;
    browser.find("//h1[text()='Sign in to Wetbank']").await;
    sign_in().await;
    browser.fill("Code of your second factor", &codes.at(Timestamp::now())).await;
    browser.click("//button[text()='Sign in']").await;
    browser.find("//button[text()='Give the second factor up']").await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_passkey_of_a_device_signs_in_without_name_and_password() {
    let (office, browser) = (Office::open(), Browser::open().await);
    let ina = office.colleague("ina", "viewer").await;
    let tools = browser.driver.cdp();
    tools.send_raw("WebAuthn.enable", json!({})).await.unwrap();
    let device = json!({ "options": { "protocol": "ctap2", "transport": "internal", "hasResidentKey": true,
        "hasUserVerification": true, "isUserVerified": true } });
    let device = tools.send_raw("WebAuthn.addVirtualAuthenticator", device).await.unwrap();
    // Browsers know passkeys under a name only.
    let at = office.url().replace("127.0.0.1", "localhost");
    browser.driver.goto(format!("{at}/settings?tab=you")).await.unwrap();
    browser.find("//h1[text()='Sign in to Wetbank']").await;
    browser.fill("Name", "ina").await;
    browser.fill("Password", &password("ina")).await;
    browser.click("//button[text()='Sign in']").await;
    browser.fill("What it is called", "desk").await;
    browser.click("//button[text()='Make a passkey']").await;
    browser.find("//b[text()='desk']").await;
    for _ in 0..2 {
        browser.click("//button[text()='Sign out']").await;
        browser.click("//button[text()='Sign in with a passkey']").await;
        browser.find("//nav[@aria-label='Pages']").await;
        browser.driver.goto(format!("{at}/settings?tab=you")).await.unwrap();
        browser.find("//span[contains(., 'by passkey')]").await;
    }
    assert_eq!(office.json(&["user", "list"])[0]["passkeys"], 1);

    // What was answered once opens nothing a second time, nor what was made for somebody else.
    let asked: Value = ina.post("/session/passkey/new", json!({})).await.json().await.unwrap_or_default();
    assert_eq!(asked["code"], "no-passkeys", "under an address there are none: {asked}");
    browser.click("//button[@aria-label='Remove the passkey desk']").await;
    wait_for("it is gone", || (office.json(&["user", "list"])[0]["passkeys"] == 0).then_some(()));
    browser.click("//button[text()='Sign out']").await;
    browser.click("//button[text()='Sign in with a passkey']").await;
    browser.find("//p[@role='alert'][contains(., 'nobody here has it')]").await;
    drop(device);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_page_to_go_to_after_signing_in_is_one_of_ours() {
    let (office, browser) = (Office::open(), Browser::open().await);
    office.colleague("ina", "viewer").await;
    for to in [
        "//elsewhere.example/",
        "https://elsewhere.example/",
        "/\\elsewhere.example",
        "/%09/elsewhere.example",
        "javascript:alert(1)",
    ] {
        browser.driver.delete_all_cookies().await.unwrap();
        let to = to.replace('%', "%25").replace('\\', "%5C");
        browser.driver.goto(format!("{}/sign-in?to={to}", office.url())).await.unwrap();
        browser.fill("Name", "ina").await;
        browser.fill("Password", &password("ina")).await;
        browser.click("//button[text()='Sign in']").await;
        browser.find("//nav[@aria-label='Pages']").await;
        let now = browser.driver.current_url().await.unwrap();
        assert!(now.as_str().starts_with(&office.url()), "{to}: {now}");
    }
    let link = office.json(&["link"]);
    assert!(behind(link["address"].as_str().unwrap()).len() == 64);
}
