//! Errors as RFC 9457 problem documents: what happened, where, and what mends it.

use actix_web::{HttpResponse, ResponseError, http::StatusCode, http::header};
use havrel_core::plant::{Problem as EditProblem, ProblemKind};
use havrel_db::{DbError, config::CommitError};
use havrel_link::LinkError;
use havrel_live::LiveError;
use serde::Serialize;
use std::fmt;
use utoipa::ToSchema;

/// One thing wrong with what was sent.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct Wrong {
    /// Which edit of several, counted from 0.
    pub edit: usize,
    /// Which field; empty where the whole is meant.
    pub field: String,
    pub message: String,
    /// What stands there by now, where somebody else has written meanwhile.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub now: Option<String>,
}

/// A problem document.
#[derive(Clone, Debug, Serialize, ToSchema)]
pub struct Problem {
    pub title: String,
    pub status: u16,
    pub detail: String,
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub problems: Vec<Wrong>,
    #[serde(skip)]
    pub retry_after: Option<u64>,
}

impl Problem {
    /// A problem with one sentence.
    pub fn new(status: StatusCode, detail: impl Into<String>) -> Problem {
        let title = status.canonical_reason().unwrap_or("Error").to_owned();
        Problem { title, status: status.as_u16(), detail: detail.into(), problems: Vec::new(), retry_after: None }
    }

    /// A problem with one field of what was sent.
    pub fn field(field: &str, message: impl Into<String>) -> Problem {
        let message = message.into();
        let mut problem = Problem::new(StatusCode::UNPROCESSABLE_ENTITY, message.clone());
        problem.problems.push(Wrong { edit: 0, field: field.into(), message, now: None });
        problem
    }

    /// There is no such thing.
    pub fn missing(what: &str) -> Problem {
        Problem::new(StatusCode::NOT_FOUND, format!("There is no such {what}."))
    }

    /// A fault of ours.
    pub fn failed(cause: &str) -> Problem {
        tracing::error!(cause, "a request failed by a fault of ours");
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "This failed by a fault in Havrel. The server's log says more.")
    }

    /// Others have to be served first.
    pub fn busy() -> Problem {
        let words = "The server is busy; try again in a few seconds.";
        Problem { retry_after: Some(3), ..Problem::new(StatusCode::SERVICE_UNAVAILABLE, words) }
    }

    /// Too much at once.
    pub fn too_many(seconds: u64) -> Problem {
        let mut problem = Problem::new(StatusCode::TOO_MANY_REQUESTS, format!("Too many requests; try again in {seconds} s."));
        problem.retry_after = Some(seconds);
        problem
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
        let mut response = HttpResponse::build(self.status_code());
        response.content_type("application/problem+json");
        if let Some(seconds) = self.retry_after {
            response.insert_header((header::RETRY_AFTER, seconds.to_string()));
        }
        response.json(self)
    }
}

impl From<DbError> for Problem {
    fn from(error: DbError) -> Problem {
        tracing::warn!(%error, "a request failed at the database");
        match error {
            DbError::Away(_) => {
                let mut problem = Problem::new(
                    StatusCode::SERVICE_UNAVAILABLE,
                    "The database does not answer at present. Live values continue; try again when it is back.",
                );
                problem.retry_after = Some(2);
                problem
            }
            DbError::TooManyChanges(_) => Problem::field("to", format!("Too much to answer: {error}.")),
            DbError::OldTerm { .. } => Problem::new(
                StatusCode::SERVICE_UNAVAILABLE,
                format!("Nothing was changed, because {error}. Use the machine that is on duty now."),
            ),
            DbError::Refused(words) => {
                let detail = format!("The database refuses writes at present ({words}). Try again when that is fixed.");
                Problem { retry_after: Some(10), ..Problem::new(StatusCode::SERVICE_UNAVAILABLE, detail) }
            }
            DbError::Unknown(error) => {
                let detail = format!("The database cannot be read: {error}. Update Havrel on this machine.");
                Problem::new(StatusCode::INTERNAL_SERVER_ERROR, detail)
            }
            DbError::Content(_) => {
                let detail = "The database cannot store something in this request. The server's log says what.";
                Problem::new(StatusCode::UNPROCESSABLE_ENTITY, detail)
            }
        }
    }
}

impl From<LiveError> for Problem {
    fn from(error: LiveError) -> Problem {
        match error {
            LiveError::Db(error) => error.into(),
            LiveError::Refused(words) => Problem::field("value", words),
            LiveError::Full | LiveError::Stopping | LiveError::Interrupted => {
                Problem { retry_after: Some(5), ..Problem::new(StatusCode::SERVICE_UNAVAILABLE, error.to_string()) }
            }
            LiveError::Spool(error) => Problem::new(StatusCode::INTERNAL_SERVER_ERROR, error.to_string()),
            LiveError::Link(LinkError::BadRequest(words)) => Problem::field("value", words),
            LiveError::Link(error) => Problem::new(StatusCode::BAD_GATEWAY, format!("{error} {}", error.cure())),
        }
    }
}

impl From<CommitError> for Problem {
    fn from(error: CommitError) -> Problem {
        match error {
            CommitError::Db(error) => error.into(),
            CommitError::Nothing => Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "Nothing would change."),
            CommitError::Stopped => Problem::new(StatusCode::CONFLICT, "Stopped. Nothing was changed."),
            CommitError::Refused(problems) => refused(problems),
        }
    }
}

fn refused(problems: Vec<EditProblem>) -> Problem {
    let first = problems.first().map_or(ProblemKind::Invalid, |p| p.kind);
    let status = match first {
        ProblemKind::Invalid => StatusCode::UNPROCESSABLE_ENTITY,
        ProblemKind::Stale => StatusCode::PRECONDITION_FAILED,
        ProblemKind::Missing => StatusCode::NOT_FOUND,
        ProblemKind::InUse => StatusCode::CONFLICT,
    };
    let detail = problems.first().map_or(String::new(), |p| p.message.clone());
    let mut problem = Problem::new(status, detail);
    problem.problems =
        problems.into_iter().take(1000).map(|p| Wrong { edit: p.edit, field: p.field, message: p.message, now: None }).collect();
    problem
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn problem(kind: ProblemKind) -> CommitError {
        let one = EditProblem { kind, edit: 3, field: "name".into(), message: "Enter a name.".into() };
        CommitError::Refused(vec![one])
    }

    #[rstest]
    #[case(problem(ProblemKind::Invalid), 422)]
    #[case(problem(ProblemKind::Stale), 412)]
    #[case(problem(ProblemKind::Missing), 404)]
    #[case(problem(ProblemKind::InUse), 409)]
    #[case(CommitError::Nothing, 422)]
    #[case(CommitError::Stopped, 409)]
    #[case(CommitError::Db(DbError::Away("gone".into())), 503)]
    #[case(CommitError::Db(DbError::Refused("no".into())), 503)]
    #[case(CommitError::Db(DbError::Content("no".into())), 422)]
    #[case(CommitError::Db(DbError::TooManyChanges(5)), 422)]
    #[case(CommitError::Db(DbError::OldTerm { held: 1, plant: 2 }), 503)]
    fn a_refused_edit_has_its_status(#[case] error: CommitError, #[case] status: u16) {
        assert_eq!(Problem::from(error).status, status);
    }

    #[rstest]
    #[case(LiveError::Full)]
    #[case(LiveError::Stopping)]
    #[case(LiveError::Interrupted)]
    fn what_may_succeed_later_says_when(#[case] error: LiveError) {
        let response = Problem::from(error).error_response();
        assert_eq!((response.status().as_u16(), response.headers().get(header::RETRY_AFTER).is_some()), (503, true));
    }

    #[test]
    fn a_problem_says_where_and_how_long_to_wait() {
        let told = Problem::from(problem(ProblemKind::Invalid));
        assert_eq!((told.problems[0].edit, told.problems[0].field.as_str(), told.detail.as_str()), (3, "name", "Enter a name."));
        let response = Problem::too_many(9).error_response();
        assert_eq!(response.headers().get(header::RETRY_AFTER).unwrap(), "9");
        assert_eq!(response.headers().get(header::CONTENT_TYPE).unwrap(), "application/problem+json");
    }

    #[test]
    fn a_value_that_the_device_cannot_hold_is_the_askers_to_mend() {
        let told = Problem::from(LiveError::Link(LinkError::BadRequest("Too large.".into())));
        assert_eq!((told.status, told.problems[0].field.as_str()), (422, "value"));
    }

    #[test]
    fn a_device_speaks_with_its_cure() {
        let told = Problem::from(LiveError::Link(LinkError::Silent(200)));
        assert_eq!(
            (told.status, told.detail.as_str()),
            (502, "No answer within 200 ms. Test the connection: the test tells a wrong unit id from a device that is slow.")
        );
    }
}
