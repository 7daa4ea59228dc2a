//! Error messages for the user.

use axum::http::StatusCode;
use axum::response::{IntoResponse, Response};
use bothros_workflow::Error as WorkError;

/// An error on its way to the browser: one sentence and a status.
#[derive(Debug, Clone)]
pub struct WebError {
    pub status: StatusCode,
    pub message: String,
}

impl WebError {
    /// An invalid request.
    pub fn refused(message: impl Into<String>) -> Self {
        Self { status: StatusCode::UNPROCESSABLE_ENTITY, message: message.into() }
    }
    /// An outside service failed.
    pub fn outside(message: impl Into<String>) -> Self {
        Self { status: StatusCode::BAD_GATEWAY, message: message.into() }
    }
    /// There is nothing here.
    pub fn nothing(message: impl Into<String>) -> Self {
        Self { status: StatusCode::NOT_FOUND, message: message.into() }
    }
}

impl<E: Into<WorkError>> From<E> for WebError {
    fn from(error: E) -> Self {
        let error = error.into();
        let status = match &error {
            WorkError::Store(bothros_store::Error::NotFound(_)) => StatusCode::NOT_FOUND,
            WorkError::Store(bothros_store::Error::Busy(_)) => StatusCode::CONFLICT,
            WorkError::Store(bothros_store::Error::Away) => StatusCode::SERVICE_UNAVAILABLE,
            WorkError::Store(bothros_store::Error::DiskFull) => StatusCode::INSUFFICIENT_STORAGE,
            WorkError::Io(e) if e.kind() == std::io::ErrorKind::StorageFull => {
                return Self { status: StatusCode::INSUFFICIENT_STORAGE, message: NO_ROOM.into() };
            }
            error if error.is_users() => StatusCode::UNPROCESSABLE_ENTITY,
            _ => StatusCode::INTERNAL_SERVER_ERROR,
        };
        if status.is_server_error() {
            tracing::error!(%error, "a request failed");
        }
        Self { status, message: error.to_string() }
    }
}

impl IntoResponse for WebError {
    fn into_response(self) -> Response {
        (self.status, self.message).into_response()
    }
}

const NO_ROOM: &str = "the disk for uploads is full; nothing was kept. Make room on it, or start the server with another --data directory";

pub type Result<T> = std::result::Result<T, WebError>;
