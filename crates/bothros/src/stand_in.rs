//! Simulated outside services, each kept running on a port of this machine.

use std::future::Future;
use std::path::Path;
use std::sync::{Arc, Mutex};

use bothros_web::Health;
use tokio::net::TcpListener;
use tokio::task::JoinHandle;

use crate::supervise::supervise;

/// Starts a simulated service and keeps it running. `port` is a file that holds the port it answered at last, so that it
/// answers there again; `begin` makes the service, which is told its address; `serve` answers until it ends.
/// `what` is the
/// message shown while it does not answer. Returns the address, and the task that keeps it running.
///
/// # Errors
/// Where no port is free.
pub(crate) async fn stand_in<S, F>(
    health: Health,
    part: &'static str,
    what: &'static str,
    port: Option<&Path>,
    begin: impl FnOnce(&str) -> S,
    serve: impl Fn(S, TcpListener) -> F + Clone + Send + Sync + 'static,
) -> anyhow::Result<(String, JoinHandle<()>)>
where
    S: Clone + Send + Sync + 'static,
    F: Future<Output = std::io::Result<()>> + Send + 'static,
{
    let listener = listen(port).await?;
    let place = listener.local_addr()?;
    let address = format!("http://{place}/");
    let service = begin(&address);
    // The first time it is bound already; later it answers at the same place again.
    let bound = Arc::new(Mutex::new(Some(listener)));
    let task = move || {
        let (service, bound, serve) = (service.clone(), Arc::clone(&bound), serve.clone());
        async move {
            let first = bound.lock().ok().and_then(|mut first| first.take());
            let listener = match first {
                Some(listener) => listener,
                None => TcpListener::bind(place).await?,
            };
            serve(service, listener).await
        }
    };
    Ok((address, supervise(health, part, what, task)))
}

/// Listens on the port recorded in a file; if it is taken, on another, which is then recorded.
async fn listen(file: Option<&Path>) -> anyhow::Result<TcpListener> {
    let Some(file) = file else { return Ok(TcpListener::bind(("127.0.0.1", 0)).await?) };
    let last = std::fs::read_to_string(file).ok().and_then(|p| p.trim().parse().ok());
    let listener = match TcpListener::bind(("127.0.0.1", last.unwrap_or(0))).await {
        Ok(listener) => listener,
        // Another program has it now.
        Err(_) => TcpListener::bind(("127.0.0.1", 0)).await?,
    };
    let noted = file.parent().map_or(Ok(()), std::fs::create_dir_all);
    if let Err(error) = noted.and(std::fs::write(file, listener.local_addr()?.port().to_string())) {
        tracing::warn!(%error, "the port of a simulated service could not be noted");
    }
    Ok(listener)
}
