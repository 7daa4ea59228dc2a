//! Requests that are answered before they have come to their end, such as an upload that is refused.
//!
//! A connection that is closed while its client still sends is reset, and the answer is lost
//! with it: what nobody wants is read too, and thrown away.

use std::pin::Pin;
use std::task::{Context, Poll, ready};
use std::time::Duration;

use axum::body::{Body, BodyDataStream, Bytes};
use futures::{Stream, StreamExt};
use hyper::body::{Body as _, Incoming};

use crate::http::listen;

/// How long a body that nobody wants is read; its connection is closed after that.
const LONGEST: Duration = Duration::from_secs(600);

/// The body of a request, read to its end even where its request was answered before.
pub(crate) fn read_to_the_end(body: Incoming) -> Body {
    match body.is_end_stream() {
        true => Body::empty(),
        false => Body::from_stream(Wanted { rest: Some(Body::new(body).into_data_stream()) }),
    }
}

struct Wanted {
    /// none once the body has come to its end
    rest: Option<BodyDataStream>,
}

impl Stream for Wanted {
    type Item = Result<Bytes, axum::Error>;

    fn poll_next(mut self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let Some(rest) = &mut self.rest else { return Poll::Ready(None) };
        let piece = ready!(rest.poll_next_unpin(context));
        if !matches!(piece, Some(Ok(_))) {
            self.rest = None;
        }
        Poll::Ready(piece)
    }
}

impl Drop for Wanted {
    fn drop(&mut self) {
        let Some(mut rest) = self.rest.take() else { return };
        // Without a runtime the server is at its end, and so are its connections.
        let Ok(runtime) = tokio::runtime::Handle::try_current() else { return };
        runtime.spawn(tokio::time::timeout(LONGEST, async move {
            while let Ok(Some(Ok(_))) = tokio::time::timeout(listen::BODY, rest.next()).await {}
        }));
    }
}
