//! Errors as problem details (RFC 9457). The one place where an error gets its
//! status.

use std::fmt;
use std::time::Duration;

use actix_web::http::{StatusCode, header};
use actix_web::{HttpResponse, ResponseError};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;
use vadegate_core::ask::WhyError;
use vadegate_core::engine::EngineError;
use vadegate_core::ledger::LedgerError;
use vadegate_core::people::PeopleError;

/// A problem document.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// What kind of problem it is; `about:blank` says no more than the status.
    #[serde(rename = "type")]
    pub kind: String,
    /// The status in words.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What is wrong, and what to do.
    pub detail: String,
    /// How many seconds to wait; also in `Retry-After`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub retry_after: Option<u64>,
}

impl Problem {
    /// A problem with this status.
    pub fn new(status: StatusCode, detail: impl Into<String>) -> Self {
        Problem {
            kind: "about:blank".into(),
            title: status.canonical_reason().unwrap_or("Error").into(),
            status: status.as_u16(),
            detail: detail.into(),
            retry_after: None,
        }
    }

    /// That it is too much, and how long to wait.
    pub(crate) fn too_much(wait: Duration, detail: impl Into<String>) -> Self {
        let retry_after = Some(wait.as_secs() + u64::from(wait.subsec_nanos() > 0));
        Problem { retry_after, ..Problem::new(StatusCode::TOO_MANY_REQUESTS, detail) }
    }

    pub(crate) fn not_found(detail: impl Into<String>) -> Self {
        Problem::new(StatusCode::NOT_FOUND, detail)
    }

    pub(crate) fn bad_request(detail: impl fmt::Display) -> Self {
        Problem::new(StatusCode::BAD_REQUEST, detail.to_string())
    }

    pub(crate) fn stopping() -> Self {
        EngineError::Stopping.into()
    }
}

impl fmt::Display for Problem {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.detail)
    }
}

impl ResponseError for Problem {
    fn status_code(&self) -> StatusCode {
        StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
    }

    fn error_response(&self) -> HttpResponse {
        let mut answer = HttpResponse::build(self.status_code());
        if let Some(seconds) = self.retry_after {
            answer.insert_header((header::RETRY_AFTER, seconds.to_string()));
        }
        answer
            .content_type("application/problem+json")
            .body(serde_json::to_string(self).unwrap_or_default())
    }
}

/// The status of what the engine refuses. The commands read their exit status from it, so
/// that a question fails in the same way with a service and without.
pub fn status(error: &EngineError) -> StatusCode {
    match error {
        EngineError::NoGate { .. }
        | EngineError::NoDue { .. }
        | EngineError::NoEntry(_)
        | EngineError::NotThere(_) => StatusCode::NOT_FOUND,
        EngineError::NoTable(_) => StatusCode::UNPROCESSABLE_ENTITY,
        EngineError::Stopping | EngineError::Ledger(LedgerError::Closed) => {
            StatusCode::SERVICE_UNAVAILABLE
        }
        // The folder is outside of us: it may be there again in a moment.
        EngineError::Drop(_) | EngineError::Away(_) | EngineError::FarAway { .. } => {
            StatusCode::SERVICE_UNAVAILABLE
        }
        EngineError::Ledger(error) if error.is_full() => StatusCode::INSUFFICIENT_STORAGE,
        EngineError::Ledger(LedgerError::Refused { .. } | LedgerError::Ended { .. })
        | EngineError::NoOffer { .. }
        | EngineError::Refused(_)
        | EngineError::Fenced { .. } => StatusCode::CONFLICT,
        EngineError::Ledger(LedgerError::Question(_)) => StatusCode::BAD_REQUEST,
        EngineError::Ledger(_) | EngineError::Lock(_) | EngineError::Thread(_) => {
            StatusCode::INTERNAL_SERVER_ERROR
        }
    }
}

impl From<EngineError> for Problem {
    fn from(error: EngineError) -> Self {
        Problem::new(status(&error), error.to_string())
    }
}

impl From<PeopleError> for Problem {
    fn from(error: PeopleError) -> Self {
        let status = match &error {
            PeopleError::Refused(_) => StatusCode::BAD_REQUEST,
            PeopleError::None(_) => StatusCode::NOT_FOUND,
            PeopleError::There(_) => StatusCode::CONFLICT,
            PeopleError::Forbidden(_) => StatusCode::FORBIDDEN,
            PeopleError::Ledger(_) => {
                let PeopleError::Ledger(error) = error else { return Problem::stopping() };
                return error.into();
            }
        };
        Problem::new(status, error.to_string())
    }
}

impl From<LedgerError> for Problem {
    fn from(error: LedgerError) -> Self {
        EngineError::from(error).into()
    }
}

/// The status of a question about a path that has no answer.
pub fn status_of_why(error: &WhyError) -> StatusCode {
    match error {
        WhyError::Unknown { .. } => StatusCode::NOT_FOUND,
        WhyError::Engine(error) => status(error),
    }
}

impl From<WhyError> for Problem {
    fn from(error: WhyError) -> Self {
        Problem::new(status_of_why(&error), error.to_string())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use vadegate_core::ledger::EntryId;

    #[test]
    fn errors_get_their_status_and_keep_their_words() {
        let problem: Problem =
            EngineError::NoGate { name: "tid".into(), known: "`tide`".into() }.into();
        assert_eq!((problem.status, problem.title.as_str()), (404, "Not Found"));
        assert_eq!(problem.detail, "there is no gate `tid`; the configuration has `tide`");
        assert_eq!(Problem::stopping().status, 503);
        let refused = LedgerError::Refused { entry: EntryId::of(3), from: "filed", to: "ready" };
        assert_eq!(Problem::from(refused).status, 409);
    }
}
