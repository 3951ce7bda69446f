//! Why a debug stub cannot be used, and what to look at.

use super::packet::Damage;
use std::io;
use std::time::Duration;
use thiserror::Error;

/// An answer takes at most so long.
pub(super) const PATIENCE: Duration = Duration::from_secs(3);

/// Why a stub cannot be used.
#[derive(Debug, Error)]
pub(crate) enum StubError {
    /// No connection, or a broken one.
    #[error("the connection to the debug stub failed")]
    Io(#[from] io::Error),
    /// It closed the connection.
    #[error("the debug stub closed the connection; is another debugger attached to it?")]
    Closed,
    /// It does not answer.
    #[error("the debug stub did not answer `{0}` within {limit} s; is the target powered, and is this the stub's port?", limit = PATIENCE.as_secs())]
    Silent(String),
    /// It speaks something else.
    #[error("what answers is no debug stub, or a broken one: {0}")]
    Damaged(Damage),
    /// It answers with something that is no answer to the request.
    #[error("the debug stub answered `{request}` with `{answer}`, which means nothing")]
    Nonsense {
        /// What was asked.
        request: String,
        /// The beginning of the answer.
        answer: String,
    },
    /// It says no.
    #[error("the debug stub refuses {what} (error {code})")]
    Refused {
        /// What was asked.
        what: String,
        /// Its number.
        code: String,
    },
    /// It cannot do it.
    #[error("the debug stub cannot {0}")]
    Unsupported(&'static str),
}

impl StubError {
    /// Whether the stub is there and makes sense: it said no, or cannot do something.
    pub(crate) const fn is_an_answer(&self) -> bool {
        matches!(self, Self::Refused { .. } | Self::Unsupported(_) | Self::Nonsense { .. })
    }
}

pub(super) type Result<T> = std::result::Result<T, StubError>;
