//! What a server's refusals mean (RFC 959, section 4.2). Most servers say 530 or 550 for everything, so their
//! words are looked at, too.

use suppaftp::{FtpError, Status, types::Response};
use wetbank_core::RelPath;

use super::listing::to_text;
use crate::PlaceErrorKind;

/// Characters of a server's words that are told at most.
const LONGEST_WORDS: usize = 300;

/// A server's own words, as they can be shown.
pub(super) fn words(answer: &Response) -> String {
    to_text(&answer.body).trim().chars().filter(|c| !c.is_control()).take(LONGEST_WORDS).collect()
}

/// What is looked for in a server's words.
struct Words(String);

impl Words {
    fn of(answer: &Response) -> Self {
        Self(to_text(&answer.body).to_ascii_lowercase())
    }

    fn say(&self, list: &[&str]) -> bool {
        list.iter().any(|word| self.0.contains(word))
    }

    /// The code as it was sent: the library knows not all of them.
    fn code(&self) -> u16 {
        self.0.get(..3).and_then(|digits| digits.parse().ok()).unwrap_or(0)
    }
}

/// What it means that a server refuses a connection, or the sign-in on it.
pub(super) fn at_sign_in(answer: &Response) -> PlaceErrorKind {
    let words = Words::of(answer);
    // RFC 2228 and RFC 4217: 522 and 534 ask for other security, 533 for a secured command.
    let asks_security = matches!(words.code(), 522 | 533 | 534)
        || words.say(&["tls", "ssl", "encrypt", "cleartext", "clear text", "auth first", "secure connection"]);
    if asks_security {
        return PlaceErrorKind::Security;
    }
    // "Too many failed attempts" is about the password.
    let about_password = words.say(&["attempt", "incorrect", "failed", "failure", "wrong", "invalid"]);
    let is_crowded = words.say(&[
        "too many",
        "maximum",
        "already connected",
        "already logged in",
        "limit",
        "try again",
        "try later",
    ]);
    if (is_crowded && !about_password) || (400..500).contains(&words.code()) && words.code() != 430 {
        return PlaceErrorKind::Busy;
    }
    // A server that is set up wrongly says so only now; that is no matter of the password.
    if (500..505).contains(&words.code()) { PlaceErrorKind::Unreachable } else { PlaceErrorKind::Refused }
}

/// What a refused command means, and what to tell of it.
pub(super) fn to_command(call: &str, path: &RelPath, answer: &Response) -> (PlaceErrorKind, String) {
    let (said, mut told) = (Words::of(answer), words(answer));
    let kind = match answer.status {
        Status::NotAvailable => PlaceErrorKind::Busy,
        Status::NotLoggedIn if said.say(&["tls", "ssl", "encrypt"]) => PlaceErrorKind::Security,
        Status::NotLoggedIn => PlaceErrorKind::Refused,
        Status::ExceededStorage | Status::RequestedActionNotTaken => PlaceErrorKind::NoSpace,
        Status::TransferAborted | Status::CannotOpenDataConnection => PlaceErrorKind::Interrupted,
        _ if matches!(said.code(), 522 | 533 | 534) => PlaceErrorKind::Security,
        _ if said.say(&["no space", "quota", "disk full"]) => PlaceErrorKind::NoSpace,
        _ if said.say(&["invalid directory name", "invalid file name", "illegal file name"]) => PlaceErrorKind::BadName,
        _ if said.say(&["name too long"]) || path.name().len() > 255 => PlaceErrorKind::BadName,
        _ if said.say(&["no such", "not found", "does not exist", "cannot find"]) => PlaceErrorKind::NotFound,
        _ if said.say(&["not empty"]) => PlaceErrorKind::Exists,
        _ if said.say(&["exists"]) => PlaceErrorKind::Exists,
        _ if said.say(&["denied", "not permitted", "not allowed", "read-only"]) => PlaceErrorKind::Denied,
        _ if said.say(&["not a regular file", "is a directory", "not a plain file"]) => PlaceErrorKind::Unsupported,
        Status::BadFilename => PlaceErrorKind::BadName,
        Status::NotImplemented | Status::BadCommand => PlaceErrorKind::Unsupported,
        _ => PlaceErrorKind::Other,
    };
    // Section 4.2.1: "local error in processing", which is all that some say of it.
    if kind == PlaceErrorKind::Other && answer.status == Status::ActionAborted && call == "write" {
        told += "; the server's disk may be full";
    }
    (kind, told)
}

/// Whether a failure may be about the way to a data connection: EPSV refused, or a port that cannot be reached.
pub(super) fn may_be_the_way(error: &FtpError) -> bool {
    match error {
        FtpError::UnexpectedResponse(answer) => Words::of(answer).code() >= 500,
        FtpError::ConnectionError(error) => error.kind() == std::io::ErrorKind::ConnectionRefused,
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn answer(line: &str) -> Response {
        let status = Status::from(line[..3].parse::<u32>().unwrap());
        Response { status, body: format!("{line}\r\n").into_bytes() }
    }

    #[test]
    fn a_refusal_at_sign_in_is_told_as_what_it_is() {
        for (line, kind) in [
            ("530 Login incorrect.", PlaceErrorKind::Refused),
            ("530 Login authentication failed", PlaceErrorKind::Refused),
            ("530 Maximum login attempts exceeded", PlaceErrorKind::Refused),
            ("430 Invalid username or password", PlaceErrorKind::Refused),
            ("550 This account is disabled", PlaceErrorKind::Refused),
            ("530 Sorry, the maximum number of clients (2) for this user are already connected.", PlaceErrorKind::Busy),
            ("421 There are too many connections from your internet address.", PlaceErrorKind::Busy),
            ("421 10 users (the maximum) are already logged in, sorry", PlaceErrorKind::Busy),
            ("421 Home directory not available - aborting", PlaceErrorKind::Busy),
            ("550 SSL/TLS required on the control channel", PlaceErrorKind::Security),
            ("530 Non-anonymous sessions must use encryption.", PlaceErrorKind::Security),
            ("534 Policy requires SSL.", PlaceErrorKind::Security),
            ("421 Sorry, cleartext sessions are not accepted on this server.", PlaceErrorKind::Security),
            ("500 OOPS: cannot change directory:/srv/ftp", PlaceErrorKind::Unreachable),
            ("503 Use AUTH first.", PlaceErrorKind::Security),
        ] {
            assert_eq!(at_sign_in(&answer(line)), kind, "{line}");
        }
    }
}
