//! The book's shape of errands and of databases, and what they mean.

use std::{collections::BTreeMap, ops::Range, time::Duration};

use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;

use super::{
    places::is_mail_address,
    raw,
    raw::{OneOrMany, SecretRef, Text, texts},
    resolve::{At, Checked, Ends, Mistake, duration, folder_template, place_name, secret_name, template, unknown},
};
use crate::{
    Asked, BadRows, ByteSize, Call, CallBody, Database, DatabaseKind, Extract, HostAddress, Load, Mail, Name, Numbers,
    PostgresSpec, Program, Step, Template, Twice, condition::glob,
};

/// How long a call may take, unless the book says otherwise.
const CALL: Duration = Duration::from_secs(30);
/// How long a program may run, unless the book says otherwise.
const PROGRAM: Duration = Duration::from_secs(300);
/// What a program may print, unless the book says otherwise.
const PRINTED: ByteSize = ByteSize(1_000_000_000);
/// What a mail carries at most, unless the book says otherwise: most servers refuse 25 MB.
const ATTACHED: ByteSize = ByteSize(15_000_000);
/// No mail carries more, because all of it is in memory while it is sent.
const MOST_ATTACHED: ByteSize = ByteSize(50_000_000);

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct MailShape {
    pub by: Text,
    #[schemars(with = "OneOrMany")]
    pub to: Spanned<OneOrMany>,
    pub subject: Option<Text>,
    pub text: Option<Text>,
    pub line: Option<Text>,
    #[serde(default)]
    pub attach: Vec<Text>,
    pub most: Option<Text>,
    #[serde(default)]
    pub together: bool,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct CallShape {
    pub url: Text,
    pub method: Option<Text>,
    #[serde(default)]
    pub headers: BTreeMap<String, Text>,
    pub token: Option<SecretRef>,
    pub json: Option<BTreeMap<String, Text>>,
    pub text: Option<Text>,
    #[serde(default)]
    pub send_file: bool,
    pub timeout: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct ProgramShape {
    pub run: Text,
    #[serde(default)]
    pub args: Vec<Text>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
    pub timeout: Option<Text>,
    pub most: Option<Text>,
    #[serde(default)]
    pub again: bool,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct LoadShape {
    pub into: Text,
    pub table: Text,
    #[serde(default)]
    pub columns: BTreeMap<String, String>,
    pub separator: Option<Text>,
    pub encoding: Option<Text>,
    pub decimal: Option<Text>,
    pub thousands: Option<Text>,
    pub twice: Option<Text>,
    pub missing: Option<Text>,
    pub bad_rows: Option<BadRows>,
    #[serde(default)]
    pub replace: bool,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct ExtractShape {
    pub from: Text,
    pub table: Option<Text>,
    pub query: Option<Text>,
    #[serde(default)]
    pub values: BTreeMap<String, Text>,
    pub separator: Option<Text>,
    #[serde(rename = "as")]
    pub name: Text,
}

/// A database: `kind` and where it is.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct DatabaseShape {
    pub kind: Text,
    pub title: Option<String>,
    pub file: Option<Text>,
    pub host: Option<Text>,
    pub port: Option<u16>,
    pub database: Option<Text>,
    pub user: Option<Text>,
    pub password: Option<SecretRef>,
    pub security: Option<Text>,
}

pub(super) fn resolve_database(name: &str, spanned: &Spanned<DatabaseShape>) -> Checked<Database> {
    let raw = spanned.as_ref();
    let wrong = |words: &str| Mistake(spanned.span(), words.to_owned());
    let kind = match raw.kind.str() {
        "sqlite" => match (&raw.file, raw.host.is_some() || raw.user.is_some() || raw.database.is_some()) {
            (Some(file), false) if file.str().starts_with('/') => {
                DatabaseKind::Sqlite { file: file.str().trim().to_owned() }
            }
            (Some(file), false) => {
                let words = format!("\"{}\" must be an absolute path, as in \"/srv/readings.db\"", file.str());
                return Err(Mistake(file.0.span(), words));
            }
            _ => return Err(wrong("a database of kind \"sqlite\" has the key \"file\" and no server")),
        },
        "postgres" => {
            let need = |key: &str, value: &Option<Text>| {
                let value = value.as_ref().map(|text| text.str().trim().to_owned()).filter(|text| !text.is_empty());
                value.ok_or_else(|| wrong(&format!("a database of kind \"postgres\" needs the key \"{key}\"")))
            };
            let host =
                raw.host.as_ref().ok_or_else(|| wrong("a database of kind \"postgres\" needs the key \"host\""))?;
            let address = HostAddress::parse(host.str()).at(host)?;
            let secured = match raw.security.as_ref().map(|text| (text, text.str())) {
                None | Some((_, "tls")) => true,
                Some((_, "none")) => false,
                Some((text, other)) => {
                    let words = format!("unknown security \"{other}\"; there are \"tls\" and \"none\"");
                    return Err(Mistake(text.0.span(), words));
                }
            };
            DatabaseKind::Postgres(PostgresSpec {
                host: address.host,
                port: raw.port.or(address.port).unwrap_or(5432),
                database: need("database", &raw.database)?,
                user: need("user", &raw.user)?,
                password: raw.password.as_ref().map(|secret| secret_name(&secret.secret)).transpose()?,
                secured,
            })
        }
        other => {
            let words = format!("unknown kind \"{other}\"; there are \"sqlite\" and \"postgres\"");
            return Err(Mistake(raw.kind.0.span(), words));
        }
    };
    Ok(Database {
        name: Name::new(name).map_err(|e| Mistake(spanned.span(), e.to_string()))?,
        title: raw.title.clone().unwrap_or_else(|| name.to_owned()),
        kind,
    })
}

fn size(text: Option<&Text>, default: ByteSize) -> Checked<ByteSize> {
    text.map_or(Ok(default), |text| text.str().parse::<ByteSize>().at(text))
}

/// The text and line of a mail, unless the book says otherwise.
const MAIL_TEXT: &str = "{{ lines }}";
const MAIL_LINE: &str = "{{ file.name }} ({{ file.size }} bytes)";

pub(super) fn mail(raw: &MailShape, ends: &Ends<'_>) -> Checked<Step> {
    let to = texts(&raw.to);
    for text in &to {
        let plain = !text.str().contains("{{");
        if plain && !is_mail_address(text.str()) {
            let words = format!("\"{}\" is no mail address, as in \"wardens@merrow.example\"", text.str());
            return Err(Mistake(text.0.span(), words));
        }
    }
    if to.is_empty() {
        return Err(Mistake(raw.to.span(), "a mail needs somebody to go to".to_owned()));
    }
    let most = size(raw.most.as_ref(), ATTACHED)?;
    if let Some(text) = raw.most.as_ref().filter(|_| most > MOST_ATTACHED) {
        let words = format!("a mail carries {MOST_ATTACHED} at most; deliver larger files to a place");
        return Err(Mistake(text.0.span(), words));
    }
    Ok(Step::Mail(Box::new(Mail {
        by: place_name(&raw.by, ends.places)?,
        to: to.iter().map(|text| template(Some(text), "")).collect::<Checked<_>>()?,
        subject: template(raw.subject.as_ref(), "{{ rule.title }}")?,
        text: template(raw.text.as_ref(), MAIL_TEXT)?,
        line: template(raw.line.as_ref(), MAIL_LINE)?,
        attach: raw.attach.iter().map(|text| glob(text.str(), false).at(text)).collect::<Checked<_>>()?,
        most,
        together: raw.together,
    })))
}

pub(super) fn call(raw: &CallShape, span: Range<usize>) -> Checked<Step> {
    let url = raw.url.str();
    if !url.starts_with("https://") && !url.starts_with("http://") {
        let words = format!("\"{url}\" is no web address; it begins with https://");
        return Err(Mistake(raw.url.0.span(), words));
    }
    let host = url.split_once("://").map_or("", |(_, rest)| rest.split(['/', '?', '#']).next().unwrap_or(""));
    if host.contains('{') || host.contains('@') {
        let words = "a file must not choose whom is called, and no password stands in an address; write the host out, and a token = { secret = \"…\" }";
        return Err(Mistake(raw.url.0.span(), words.to_owned()));
    }
    let fields = |fields: &BTreeMap<String, Text>| {
        fields.iter().map(|(key, value)| Ok((key.clone(), template(Some(value), "")?))).collect::<Checked<Vec<_>>>()
    };
    let body = match (&raw.json, &raw.text, raw.send_file) {
        (None, None, false) => CallBody::Empty,
        (Some(json), None, false) => CallBody::Json(fields(json)?),
        (None, Some(text), false) => CallBody::Text(template(Some(text), "")?),
        (None, None, true) => CallBody::File,
        _ => return Err(Mistake(span, "a call sends one of json, text and send-file = true".to_owned())),
    };
    let method = match &raw.method {
        None if matches!(body, CallBody::Empty) => "GET".to_owned(),
        None => "POST".to_owned(),
        Some(text) => {
            let method = text.str().to_ascii_uppercase();
            if !["GET", "POST", "PUT", "PATCH", "DELETE"].contains(&method.as_str()) {
                let words = format!("unknown method \"{}\"; there are get, post, put, patch and delete", text.str());
                return Err(Mistake(text.0.span(), words));
            }
            method
        }
    };
    for (name, value) in &raw.headers {
        let is_token = !name.is_empty() && name.bytes().all(|b| b.is_ascii_alphanumeric() || b"-_".contains(&b));
        if !is_token || name.eq_ignore_ascii_case("authorization") {
            let words = format!("\"{name}\" cannot be a header here; a secret goes into token = {{ secret = \"…\" }}");
            return Err(Mistake(value.0.span(), words));
        }
    }
    Ok(Step::Call(Box::new(Call {
        url: template(Some(&raw.url), "")?,
        method,
        headers: fields(&raw.headers)?,
        token: raw.token.as_ref().map(|token| secret_name(&token.secret)).transpose()?,
        body,
        limit: duration(raw.timeout.as_ref(), CALL)?,
    })))
}

pub(super) fn program(raw: &ProgramShape) -> Checked<Step> {
    Ok(Step::Program(Box::new(Program {
        run: Name::new(raw.run.str()).at(&raw.run)?,
        args: raw.args.iter().map(|text| template(Some(text), "")).collect::<Checked<_>>()?,
        name: raw.name.as_ref().map(|text| folder_template(Some(text), "")).transpose()?,
        limit: duration(raw.timeout.as_ref(), PROGRAM)?,
        most: size(raw.most.as_ref(), PRINTED)?,
        again: raw.again,
    })))
}

fn database(text: &Text, ends: &Ends<'_>) -> Checked<Name> {
    match ends.databases.iter().find(|name| name.as_str() == text.str()) {
        Some(name) => Ok((*name).clone()),
        None => Err(unknown("database", text, ends.databases.iter().map(|name| name.as_str()))),
    }
}

/// A name of a table or column as databases take it.
fn plain_name(text: &str) -> bool {
    !text.is_empty() && text.len() <= 120 && !text.chars().any(|c| c.is_control() || c == '"')
}

fn table(text: &Text) -> Checked<String> {
    let table = text.str().trim();
    if table.split('.').count() > 2 || !table.split('.').all(plain_name) {
        return Err(Mistake(text.0.span(), format!("\"{table}\" is no table's name")));
    }
    Ok(table.to_owned())
}

fn separator(text: Option<&Text>) -> Checked<u8> {
    match text.map(|text| (text, text.str())) {
        None => Ok(b','),
        Some((_, "tab")) => Ok(b'\t'),
        Some((_, one)) if one.len() == 1 && one.is_ascii() && one != "\"" => Ok(one.as_bytes()[0]),
        Some((text, other)) => {
            Err(Mistake(text.0.span(), format!("\"{other}\" is no separator; it is one character, or \"tab\"")))
        }
    }
}

/// A sign within numbers.
fn mark(text: Option<&Text>) -> Checked<Option<char>> {
    let Some(text) = text else { return Ok(None) };
    match text.str().chars().collect::<Vec<_>>()[..] {
        [sign] if !sign.is_alphanumeric() && !"+-\"".contains(sign) => Ok(Some(sign)),
        _ => Err(Mistake(text.0.span(), format!("\"{}\" is no sign within numbers, as in \",\"", text.str()))),
    }
}

pub(super) fn load(raw: &LoadShape, ends: &Ends<'_>) -> Checked<Step> {
    if let Some(wrong) = raw.columns.keys().find(|column| !plain_name(column)) {
        return Err(Mistake(raw.table.0.span(), format!("\"{wrong}\" is no column's name")));
    }
    let encoding = raw.encoding.as_ref().map_or("utf-8", |text| text.str().trim()).to_ascii_lowercase();
    if let Some(text) =
        raw.encoding.as_ref().filter(|_| encoding_rs::Encoding::for_label(encoding.as_bytes()).is_none())
    {
        let words = format!(
            "unknown encoding \"{encoding}\"; it is a name of the WHATWG list, as utf-8, utf-16le, iso-8859-1, windows-1252"
        );
        return Err(Mistake(text.0.span(), words));
    }
    let numbers =
        Numbers { decimal: mark(raw.decimal.as_ref())?.unwrap_or('.'), thousands: mark(raw.thousands.as_ref())? };
    if Some(numbers.decimal) == numbers.thousands {
        return Err(Mistake(raw.table.0.span(), "decimal and thousands cannot be the same sign".to_owned()));
    }
    let twice = match raw.twice.as_ref().map(|text| (text, text.str())) {
        None => Twice::Refuse,
        Some((_, "first")) => Twice::First,
        Some((_, "last")) => Twice::Last,
        Some((text, other)) => {
            return Err(Mistake(text.0.span(), format!("unknown word \"{other}\"; there are \"first\" and \"last\"")));
        }
    };
    let missing_stay_empty = match raw.missing.as_ref().map(|text| (text, text.str())) {
        None | Some((_, "refuse")) => false,
        Some((_, "empty")) => true,
        Some((text, other)) => {
            return Err(Mistake(
                text.0.span(),
                format!("unknown word \"{other}\"; there are \"refuse\" and \"empty\""),
            ));
        }
    };
    Ok(Step::Load(Box::new(Load {
        into: database(&raw.into, ends)?,
        table: table(&raw.table)?,
        columns: raw.columns.iter().map(|(column, header)| (column.clone(), header.clone())).collect(),
        separator: separator(raw.separator.as_ref())?,
        encoding,
        numbers,
        twice,
        missing_stay_empty,
        bad_rows: raw.bad_rows.unwrap_or(BadRows::Refuse),
        replace: raw.replace,
    })))
}

pub(super) fn extract(raw: &ExtractShape, ends: &Ends<'_>, span: Range<usize>) -> Checked<Step> {
    let asked = match (&raw.table, &raw.query) {
        (Some(text), None) => Asked::Table(table(text)?),
        (None, Some(text)) => Asked::Query(text.str().trim().trim_end_matches(';').to_owned()),
        _ => return Err(Mistake(span, "extract has either \"table\" or \"query\"".to_owned())),
    };
    if asked.query().contains("{{") {
        let words = "a query takes no placeholders, they could change what it asks; write :day and values = { day = \"{{ today }}\" }";
        return Err(Mistake(span, words.to_owned()));
    }
    let values = raw.values.iter().map(|(key, value)| Ok((key.clone(), template(Some(value), "")?)));
    let name: Template = folder_template(Some(&raw.name), "")?;
    Ok(Step::Extract(Box::new(Extract {
        from: database(&raw.from, ends)?,
        asked,
        values: values.collect::<Checked<_>>()?,
        separator: separator(raw.separator.as_ref())?,
        name,
    })))
}

pub(super) fn sign(raw: &raw::Sign) -> Checked<Step> {
    let ending = if raw.armour { "{{ file.name }}.asc" } else { "{{ file.name }}.sig" };
    Ok(Step::Sign { by: raw.by.clone(), armour: raw.armour, name: folder_template(raw.name.as_ref(), ending)? })
}

pub(super) fn verify(raw: &raw::Verify, span: Range<usize>) -> Checked<Step> {
    if raw.by.is_empty() {
        return Err(Mistake(
            span,
            "verify needs \"by\" with the names of keys, one of which must have signed".to_owned(),
        ));
    }
    Ok(Step::Verify { by: raw.by.clone(), name: folder_template(raw.name.as_ref(), "{{ file.name }}.sig")? })
}
