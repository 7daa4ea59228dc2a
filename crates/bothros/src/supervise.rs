//! Long-lived tasks: supervised, and restarted after growing pauses when they end.

use std::time::{Duration, Instant};

use bothros_web::Health;
use tokio::task::JoinHandle;

/// The first pause before a task is started again, and the longest.
const PAUSES: (Duration, Duration) = (Duration::from_millis(200), Duration::from_secs(20));
/// A task that has run for so long works.
const SETTLED: Duration = Duration::from_secs(2);

/// Runs a task for ever. When it ends, by an error, on its own or by a panic, this is reported in the log and on every page,
/// and it is started again after a pause. `what` is a sentence that says what does not work meanwhile.
pub fn supervise<F, E>(
    health: Health,
    part: &'static str,
    what: &'static str,
    task: impl Fn() -> F + Send + 'static,
) -> JoinHandle<()>
where
    F: Future<Output = Result<(), E>> + Send + 'static,
    E: std::fmt::Display + Send + 'static,
{
    tokio::spawn(async move {
        let (mut pause, longest) = PAUSES;
        loop {
            let begun = Instant::now();
            let mut running = Ends(tokio::spawn(task()));
            let settled = async {
                tokio::time::sleep(SETTLED).await;
                health.well(part);
            };
            let ended = tokio::select! {
                ended = &mut running.0 => ended,
                () = settled => (&mut running.0).await,
            };
            let why = match ended {
                Ok(Ok(())) => "it ended".to_owned(),
                Ok(Err(error)) => error.to_string(),
                Err(error) => error.to_string(),
            };
            tracing::error!(part, why, "a task ended, and is started again");
            health.trouble(part, what);
            if begun.elapsed() > longest {
                pause = PAUSES.0;
            }
            tokio::time::sleep(pause).await;
            pause = (pause * 2).min(longest);
        }
    })
}

/// A task that ends with its supervisor.
struct Ends<T>(JoinHandle<T>);

impl<T> Drop for Ends<T> {
    fn drop(&mut self) {
        self.0.abort();
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::sync::Arc;
    use std::sync::atomic::{AtomicUsize, Ordering};

    #[tokio::test(start_paused = true)]
    async fn what_ends_is_started_again_and_told() {
        let health = Health::default();
        let begun = Arc::new(AtomicUsize::new(0));
        let count = Arc::clone(&begun);
        let task = move || {
            let n = count.fetch_add(1, Ordering::Relaxed);
            async move {
                match n {
                    0 => Err("no connection"),
                    1 => panic!("a fault"),
                    2 => Ok(()),
                    _ => std::future::pending().await,
                }
            }
        };
        let supervisor = supervise(health.clone(), "test", "Nothing is tested.", task);
        tokio::time::sleep(Duration::from_millis(100)).await;
        assert_eq!(health.told(), ["Nothing is tested."]);
        tokio::time::sleep(Duration::from_secs(30)).await;
        assert_eq!((begun.load(Ordering::Relaxed), health.told().len()), (4, 0));
        supervisor.abort();
    }
}
