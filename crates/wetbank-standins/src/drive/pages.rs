//! The pages on which people sign in and agree.

use std::{collections::HashMap, sync::Arc};

use axum::{
    Form,
    extract::{Query, State},
    http::{StatusCode, header},
    response::{Html, IntoResponse, Redirect, Response},
};
use percent_encoding::{NON_ALPHANUMERIC, utf8_percent_encode};

use super::{
    Served, locked,
    sign_in::{Allowed, RIGHTS, rights},
};

type Fields = HashMap<String, String>;

fn text<'a>(fields: &'a Fields, name: &str) -> &'a str {
    fields.get(name).map_or("", String::as_str)
}

/// Text that means nothing to a browser.
pub(super) fn plain(text: &str) -> String {
    text.replace('&', "&amp;").replace('<', "&lt;").replace('>', "&gt;").replace('"', "&quot;")
}

fn page(title: &str, body: &str) -> Html<String> {
    Html(format!(
        "<!doctype html><html lang=\"en\"><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width\">\
         <title>{title}</title><style>body{{font:16px/1.5 system-ui,sans-serif;max-width:30rem;margin:3rem auto;padding:0 1rem;\
         color:#1d2b33;background:#f4f6f3}}main{{background:#fff;border:1px solid #cfd8d3;padding:1.5rem 1.75rem;border-radius:4px}}\
         label{{display:block;margin:.75rem 0 .25rem}}input{{font:inherit;width:100%;box-sizing:border-box;padding:.4rem}}\
         button{{font:inherit;padding:.45rem 1rem;margin:1.25rem .5rem 0 0}}li{{margin:.25rem 0}}.no{{color:#9b1c1c}}</style>\
         <main><h1>{title}</h1>{body}</main></html>"
    ))
}

/// The form: who, with which password, agrees to what. Everything that came goes on with it.
fn form(action: &str, kept: &Fields, asks: &str, rights: &[String], wrong: bool) -> Html<String> {
    let list: String = RIGHTS
        .iter()
        .filter(|(right, _)| rights.iter().any(|asked| asked == right))
        .map(|(right, words)| format!("<li>{words} <code>{right}</code></li>"))
        .collect();
    let kept: String = kept
        .iter()
        .filter(|(name, _)| !["user", "password", "answer"].contains(&name.as_str()))
        .map(|(name, value)| format!("<input type=\"hidden\" name=\"{}\" value=\"{}\">", plain(name), plain(value)))
        .collect();
    let wrong = if wrong { "<p class=\"no\" role=\"alert\">User or password is wrong.</p>" } else { "" };
    page(
        "Sign in to the drive",
        &format!(
            "<p><b>{}</b> asks to</p><ul>{list}</ul>{wrong}<form method=\"post\" action=\"{action}\">{kept}\
             <label for=\"user\">User</label><input id=\"user\" name=\"user\" autocomplete=\"username\">\
             <label for=\"password\">Password</label><input id=\"password\" name=\"password\" type=\"password\">\
             <button name=\"answer\" value=\"agree\">Sign in and agree</button>\
             <button name=\"answer\" value=\"refuse\">Refuse</button></form>",
            plain(asks)
        ),
    )
}

fn nonsense(why: &str) -> Response {
    (StatusCode::BAD_REQUEST, page("This cannot be", &format!("<p>{}</p>", plain(why)))).into_response()
}

impl Served {
    fn knows(&self, fields: &Fields) -> Option<String> {
        let same =
            |user: &&super::DriveUser| user.name == text(fields, "user") && user.password == text(fields, "password");
        self.options.users.iter().find(same).map(|user| user.name.clone())
    }

    /// What is asked for, or why it cannot be answered. A program on somebody's own machine comes
    /// back at any port there (RFC 8252, section 7.3), and nowhere else.
    fn asked(&self, fields: &Fields) -> Result<Vec<String>, &'static str> {
        let redirect = text(fields, "redirect_uri");
        let is_here = ["http://127.0.0.1:", "http://localhost:", "http://[::1]:"];
        if text(fields, "client_id") != self.options.client {
            return Err("no program of this name is registered");
        }
        if !is_here.iter().any(|begin| redirect.starts_with(begin)) {
            return Err("the program may not be answered at this address");
        }
        if text(fields, "response_type") != "code" || text(fields, "code_challenge_method") != "S256" {
            return Err("the program asks in a way that is not offered");
        }
        rights(text(fields, "scope")).ok_or("the program asks for rights that there are not")
    }
}

/// The page to which a program sends people (RFC 6749, section 4.1.1).
pub(super) async fn authorize(State(served): State<Arc<Served>>, Query(fields): Query<Fields>) -> Response {
    match served.asked(&fields) {
        Ok(rights) => form("/authorize", &fields, &served.options.client, &rights, false).into_response(),
        Err(why) => nonsense(why),
    }
}

/// Their answer (section 4.1.2).
pub(super) async fn agree(State(served): State<Arc<Served>>, Form(fields): Form<Fields>) -> Response {
    let rights = match served.asked(&fields) {
        Ok(rights) => rights,
        Err(why) => return nonsense(why),
    };
    let encoded = |text: &str| utf8_percent_encode(text, NON_ALPHANUMERIC).to_string();
    let (redirect, state) = (text(&fields, "redirect_uri"), encoded(text(&fields, "state")));
    if text(&fields, "answer") != "agree" {
        return Redirect::to(&format!("{redirect}?error=access_denied&state={state}")).into_response();
    }
    let Some(user) = served.knows(&fields) else {
        let asks = &served.options.client;
        return (StatusCode::FORBIDDEN, form("/authorize", &fields, asks, &rights, true)).into_response();
    };
    let allowed = Allowed { user, rights };
    let code = locked(&served.grants).code(allowed, text(&fields, "code_challenge"), redirect);
    let to = format!("{redirect}?code={code}&state={state}&iss={}", encoded(&served.origin));
    ([(header::CACHE_CONTROL, "no-store")], Redirect::to(&to)).into_response()
}

/// The page on which a device's code is typed (RFC 8628, section 3.3).
pub(super) async fn device(State(served): State<Arc<Served>>, Query(fields): Query<Fields>) -> Response {
    let code = text(&fields, "code");
    match locked(&served.grants).device_rights(code) {
        Some(rights) => {
            let asks = format!("{} (code {code})", served.options.client);
            form("/device", &fields, &asks, &rights, false).into_response()
        }
        None => {
            let wrong = if code.is_empty() { "" } else { "<p class=\"no\">There is no such code.</p>" };
            let ask = "<form><label for=\"code\">The code that the program shows</label>\
                       <input id=\"code\" name=\"code\"><button>Go on</button></form>";
            page("Connect a program", &format!("{wrong}{ask}")).into_response()
        }
    }
}

/// Their answer.
pub(super) async fn agree_device(State(served): State<Arc<Served>>, Form(fields): Form<Fields>) -> Response {
    let code = text(&fields, "code");
    let Some(rights) = locked(&served.grants).device_rights(code) else { return nonsense("There is no such code.") };
    let user = match text(&fields, "answer") {
        "agree" => match served.knows(&fields) {
            Some(user) => Some(user),
            None => {
                let asks = &served.options.client;
                return (StatusCode::FORBIDDEN, form("/device", &fields, asks, &rights, true)).into_response();
            }
        },
        _ => None,
    };
    locked(&served.grants).answer_device(code, user.as_deref());
    let said = if user.is_some() { "You may close this page; the program goes on." } else { "Nothing was agreed to." };
    page("Done", &format!("<p>{said}</p>")).into_response()
}
