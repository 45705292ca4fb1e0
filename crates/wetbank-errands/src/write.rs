//! Writing a letter (RFC 5322).

use jiff::Timestamp;
use lettre::{
    Message,
    message::{
        Attachment, Body, Mailbox, MultiPart, SinglePart,
        header::{ContentTransferEncoding, ContentType},
    },
};

use crate::ErrandError;

/// A file that a letter carries.
#[derive(Debug, Clone)]
pub struct Enclosed {
    /// Its name.
    pub name: String,
    /// All of it.
    pub content: Vec<u8>,
}

/// A letter to be written.
#[derive(Debug, Clone)]
pub struct Letter {
    /// The address it comes from.
    pub from: String,
    /// The addresses it goes to.
    pub to: Vec<String>,
    /// Its subject, one line.
    pub subject: String,
    /// Its text.
    pub text: String,
    /// The files it carries.
    pub files: Vec<Enclosed>,
    /// What tells it from every other; the same at every attempt, so that a receiver can tell that it
    /// came twice.
    pub id: String,
    /// When it was written.
    pub date: Timestamp,
}

/// Writes a letter.
///
/// # Errors
///
/// `Wrong` if an address is none.
pub fn write_letter(letter: Letter) -> Result<Vec<u8>, ErrandError> {
    let address = |text: &str| {
        text.trim().parse::<Mailbox>().map_err(|_| ErrandError::Wrong(format!("\"{text}\" is no mail address")))
    };
    let subject: String = letter.subject.chars().map(|c| if c.is_control() { ' ' } else { c }).collect();
    let mut message = Message::builder()
        .from(address(&letter.from)?)
        .subject(subject)
        .message_id(Some(format!("<{}>", letter.id)))
        .date(std::time::SystemTime::from(letter.date));
    for to in &letter.to {
        message = message.to(address(to)?);
    }
    let text = SinglePart::plain(letter.text);
    let failed = |error: lettre::error::Error| ErrandError::Wrong(error.to_string());
    if letter.files.is_empty() {
        return Ok(message.singlepart(text).map_err(failed)?.formatted());
    }
    let kind = ContentType::parse("application/octet-stream").map_err(|e| ErrandError::Wrong(e.to_string()))?;
    let mut parts = MultiPart::mixed().singlepart(text);
    for file in letter.files {
        // Base64 whatever it holds: what comes out must be what went in, to the last line end.
        let body = Body::new_with_encoding(file.content, ContentTransferEncoding::Base64)
            .map_err(|_| ErrandError::Wrong(format!("\"{}\" cannot be attached", file.name)))?;
        parts = parts.singlepart(Attachment::new(file.name).body(body, kind.clone()));
    }
    Ok(message.multipart(parts).map_err(failed)?.formatted())
}
