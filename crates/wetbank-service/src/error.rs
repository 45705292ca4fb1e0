//! One error for all handlers, told as RFC 9457 has it.

use axum::{
    Json,
    extract::rejection::{JsonRejection, PathRejection, QueryRejection},
    http::{Method, StatusCode, Uri, header},
    response::{IntoResponse, Response},
};
use wetbank_client::{Mistake, Problem};
use wetbank_engine::{Declined, EngineError};
use wetbank_journal::JournalError;
use wetbank_people::PeopleError;
use wetbank_places::{PlaceError, PlaceErrorKind};

#[derive(Debug)]
pub(crate) struct ApiError(Box<Problem>);

impl ApiError {
    pub fn new(status: StatusCode, code: &str, detail: impl Into<String>) -> Self {
        Self(Box::new(Problem {
            title: status.canonical_reason().unwrap_or("error").to_owned(),
            status: status.as_u16(),
            detail: detail.into(),
            code: code.to_owned(),
            mistakes: Vec::new(),
            current: None,
            wait: None,
        }))
    }

    pub fn sign_in(detail: &str) -> Self {
        Self::new(StatusCode::UNAUTHORIZED, "sign-in", detail)
    }

    pub fn forbidden(detail: &str) -> Self {
        Self::new(StatusCode::FORBIDDEN, "forbidden", detail)
    }

    pub fn bad(detail: impl Into<String>) -> Self {
        Self::new(StatusCode::BAD_REQUEST, "bad-request", detail)
    }

    /// The same for whoever takes 409 to mean that it was begun before: it was not, and may be asked for again.
    pub fn but_not_begun(self) -> Self {
        if self.0.status == StatusCode::CONFLICT {
            return Self::new(StatusCode::SERVICE_UNAVAILABLE, &self.0.code, self.0.detail);
        }
        self
    }

    /// What is on record, or what was made of it, cannot be.
    pub fn internal(detail: &str) -> Self {
        tracing::error!(detail, "a request could not be answered");
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, "broken", detail)
    }

    /// No call has this address, or none with this method.
    pub async fn no_call(method: Method, uri: Uri) -> Self {
        let words =
            format!("there is no API call {method} {}; the calls are described at /api/v1/openapi.json", uri.path());
        Self::new(StatusCode::NOT_FOUND, "not-found", words)
    }

    /// A call has this address, but is made with another method.
    pub async fn other_method(method: Method, uri: Uri) -> Self {
        let words =
            format!("{} is not called with {method}; the calls are described at /api/v1/openapi.json", uri.path());
        Self::new(StatusCode::METHOD_NOT_ALLOWED, "method", words)
    }

    pub fn not_found(kind: &str, name: impl std::fmt::Display) -> Self {
        Self::new(StatusCode::NOT_FOUND, "not-found", format!("there is no {kind} \"{name}\""))
    }
}

impl IntoResponse for ApiError {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let wait = self.0.wait;
        let mut response = (status, Json(*self.0)).into_response();
        let headers = response.headers_mut();
        headers.insert(header::CONTENT_TYPE, header::HeaderValue::from_static("application/problem+json"));
        if let Some(wait) = wait {
            headers.insert(header::RETRY_AFTER, wait.into());
        }
        response
    }
}

impl From<PeopleError> for ApiError {
    fn from(error: PeopleError) -> Self {
        let (status, code) = match &error {
            PeopleError::Wrong => (StatusCode::UNAUTHORIZED, "wrong"),
            PeopleError::CodeNeeded | PeopleError::WrongCode => (StatusCode::UNAUTHORIZED, "second-factor"),
            PeopleError::Wait(_) => (StatusCode::TOO_MANY_REQUESTS, "wait"),
            PeopleError::Busy => (StatusCode::SERVICE_UNAVAILABLE, "busy"),
            PeopleError::NoLink => (StatusCode::GONE, "link"),
            PeopleError::Weak(_) => (StatusCode::UNPROCESSABLE_ENTITY, "password"),
            PeopleError::Unknown { .. } => (StatusCode::NOT_FOUND, "not-found"),
            PeopleError::NoProvider => (StatusCode::CONFLICT, "no-provider"),
            PeopleError::NoSuchProvider(_) => (StatusCode::UNPROCESSABLE_ENTITY, "provider"),
            PeopleError::Provider(_) => (StatusCode::BAD_GATEWAY, "provider"),
            PeopleError::Nobody | PeopleError::Others => (StatusCode::UNAUTHORIZED, "provider"),
            PeopleError::NoPasskeys(_) => (StatusCode::CONFLICT, "no-passkeys"),
            PeopleError::Passkey(_) => (StatusCode::UNAUTHORIZED, "passkey"),
            PeopleError::Taken(_) => (StatusCode::CONFLICT, "taken"),
            PeopleError::LastOwner(_) => (StatusCode::CONFLICT, "last-owner"),
            PeopleError::HasCodes => (StatusCode::CONFLICT, "second-factor"),
            PeopleError::Name(_) => (StatusCode::BAD_REQUEST, "bad-name"),
            PeopleError::Journal(_) => (StatusCode::INTERNAL_SERVER_ERROR, "journal"),
            _ => (StatusCode::INTERNAL_SERVER_ERROR, "broken"),
        };
        if status.is_server_error() && code != "provider" {
            tracing::error!(error = ?error, "who may come could not be read or changed");
        }
        let mut told = Self::new(status, code, error.to_string());
        if let PeopleError::Wait(wait) = error {
            told.0.wait = Some(wait.as_secs() + 1);
        }
        told
    }
}

impl From<PlaceError> for ApiError {
    fn from(error: PlaceError) -> Self {
        let status = match error.kind {
            PlaceErrorKind::NotFound => StatusCode::NOT_FOUND,
            _ => StatusCode::BAD_GATEWAY,
        };
        Self::new(status, error.kind.code(), format!("{error}. {}", error.remedy()))
    }
}

impl From<JournalError> for ApiError {
    fn from(error: JournalError) -> Self {
        tracing::error!(error = ?error, "the journal failed");
        Self::new(StatusCode::INTERNAL_SERVER_ERROR, "journal", error.to_string())
    }
}

impl From<EngineError> for ApiError {
    fn from(error: EngineError) -> Self {
        match error {
            EngineError::Place(error) => error.into(),
            EngineError::Journal(error) => error.into(),
            EngineError::Unknown { kind, name } => Self::not_found(kind, name),
            EngineError::Book(problems) => {
                let mut told = Self::new(StatusCode::UNPROCESSABLE_ENTITY, "book", "");
                told.0.detail = problems.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n");
                told.0.mistakes = problems
                    .into_iter()
                    .map(|p| Mistake { file: p.file, line: p.line, key: p.key, message: p.message })
                    .collect();
                told
            }
            EngineError::Declined(Declined::ChangedMeanwhile { ref now, .. }) => {
                let current = now.as_ref().map(|(text, _)| text.clone());
                let mut told = Self::new(StatusCode::CONFLICT, "changed-meanwhile", error.to_string());
                told.0.current = current;
                told
            }
            EngineError::Declined(why) => Self::new(StatusCode::CONFLICT, why.code(), why.to_string()),
            EngineError::Agreement(error) => Self::new(StatusCode::CONFLICT, "agreement", error.to_string()),
            EngineError::Name(error) => Self::new(StatusCode::BAD_REQUEST, "bad-name", error.to_string()),
            EngineError::Broken(why) => Self::new(StatusCode::INTERNAL_SERVER_ERROR, "broken", why),
            other => Self::new(StatusCode::UNPROCESSABLE_ENTITY, "refused", other.to_string()),
        }
    }
}

/// What lies at the bottom of an error: the fact, without the words of whoever handed it on.
fn cause(error: &dyn std::error::Error) -> String {
    error.source().map_or_else(|| error.to_string(), cause)
}

impl From<JsonRejection> for ApiError {
    fn from(rejection: JsonRejection) -> Self {
        let words = match &rejection {
            JsonRejection::JsonDataError(error) => format!("the body is not what this call takes: {}", cause(error)),
            JsonRejection::JsonSyntaxError(error) => format!("the body is no JSON: {}", cause(error)),
            JsonRejection::MissingJsonContentType(_) => {
                "the body must be JSON, and say so: content-type: application/json".to_owned()
            }
            other => other.body_text(),
        };
        Self::new(rejection.status(), "bad-request", words)
    }
}

impl From<QueryRejection> for ApiError {
    fn from(rejection: QueryRejection) -> Self {
        Self::new(
            rejection.status(),
            "bad-request",
            format!("the query is not what this call takes: {}", cause(&rejection)),
        )
    }
}

impl From<PathRejection> for ApiError {
    fn from(rejection: PathRejection) -> Self {
        Self::new(rejection.status(), "bad-request", format!("the address cannot be read: {}", cause(&rejection)))
    }
}
