//! Connections: how many there are, and how long each may wait.
//!
//! Idle connections do not block others: a head must come within twenty seconds, a body
//! must go on coming, and what is idle is closed. A connection more than allowed waits until another ends.

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::Duration;

use axum::Router;
use axum::extract::ConnectInfo;
use hyper_util::rt::{TokioExecutor, TokioIo, TokioTimer};
use hyper_util::server::conn::auto::Builder;
use tokio::net::TcpListener;
use tokio::sync::Semaphore;
use tower::Service;

use crate::http::unread;

/// How long the head of a request may take, and how long a connection may be idle.
const HEAD: Duration = Duration::from_secs(20);
/// How long a body may stand still.
pub(crate) const BODY: Duration = Duration::from_secs(30);
/// Bytes of the largest head.
const HEAD_BYTES: usize = 64 << 10;

/// Answers connections with `router` until `stop` is ready. At most `most` are open at a time.
pub(crate) async fn answer(
    listener: TcpListener,
    router: Router,
    most: usize,
    stop: impl Future<Output = ()>,
) {
    let free = Arc::new(Semaphore::new(most));
    let mut stop = std::pin::pin!(stop);
    loop {
        let next = async {
            let permit = Arc::clone(&free).acquire_owned().await;
            (listener.accept().await, permit)
        };
        let (accepted, permit) = tokio::select! {
            next = next => next,
            () = &mut stop => return,
        };
        let (stream, from) = match accepted {
            Ok(accepted) => accepted,
            Err(error) => {
                // No file is free, say: others will end.
                tracing::warn!(%error, "a connection could not be taken");
                tokio::time::sleep(Duration::from_millis(50)).await;
                continue;
            }
        };
        let router = router.clone();
        tokio::spawn(async move {
            let _permit = permit;
            // Small answers go at once.
            let _ = stream.set_nodelay(true);
            let service =
                hyper::service::service_fn(move |request: hyper::Request<hyper::body::Incoming>| {
                    let mut router = router.clone();
                    let mut request = request.map(unread::read_to_the_end);
                    request.extensions_mut().insert(ConnectInfo::<SocketAddr>(from));
                    async move { router.call(request).await }
                });
            let mut builder = Builder::new(TokioExecutor::new());
            builder.http1().timer(TokioTimer::new()).header_read_timeout(HEAD).max_buf_size(HEAD_BYTES);
            builder
                .http2()
                .timer(TokioTimer::new())
                .keep_alive_interval(HEAD)
                .max_header_list_size(HEAD_BYTES as u32);
            // A visitor who has gone is no fault of the server.
            if let Err(error) = builder.serve_connection(TokioIo::new(stream), service).await {
                tracing::debug!(%error, "a connection ended");
            }
        });
    }
}
