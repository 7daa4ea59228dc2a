//! Jobs: worked on by whoever is there, cancelled, taken up again.

use super::*;

async fn ended(store: &Store, id: i64) -> Job {
    let mut events = store.events().await.unwrap();
    loop {
        let job = store.job(id).await.unwrap();
        if !job.is_active() {
            return job;
        }
        tokio::time::timeout(Duration::from_secs(60), events.next())
            .await
            .expect("the job moves on")
            .unwrap();
    }
}

/// A job that counts to ten unless it is stopped, fails or panics, as its parameters say.
async fn count(job: Job, handle: JobHandle) -> Outcome {
    match job.parameters["how"].as_str() {
        Some("fail") => return Outcome::Failed("no luck".into()),
        Some("panic") => panic!("as asked"),
        Some("forever") => {
            while !handle.is_cancelled() {
                tokio::task::yield_now().await;
            }
            return Outcome::Cancelled;
        }
        _ => {}
    }
    handle.say("counting");
    (0..=10).for_each(|i| handle.progress(i as f64 / 10.0));
    Outcome::Done("ten".into())
}

#[tokio::test(flavor = "multi_thread")]
async fn another_connection_works_on_jobs() {
    let (store, url) = store().await;
    let study = self::study(&store).await;
    let elsewhere = Store::connect(&url).await.unwrap();
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let worker = tokio::spawn(Worker::new(elsewhere, "elsewhere").run(count, async {
        let _ = stopped.await;
    }));
    let job = store.enqueue(study.id, JobKind::Import, kept(json!({}))).await.unwrap();
    let job = ended(&store, job.id).await;
    assert_eq!((job.state.as_str(), job.message.as_str(), job.progress), ("done", "ten", 1.0));
    assert_eq!(job.worker.as_deref(), Some("elsewhere"));

    let job = store.enqueue(study.id, JobKind::Import, kept(json!({"how": "fail"}))).await.unwrap();
    let job = ended(&store, job.id).await;
    assert_eq!((job.state.as_str(), job.message.as_str()), ("failed", "no luck"));

    let job = store.enqueue(study.id, JobKind::Import, kept(json!({"how": "panic"}))).await.unwrap();
    assert_eq!(ended(&store, job.id).await.state, "failed");

    let job = store.enqueue(study.id, JobKind::Import, kept(json!({"how": "forever"}))).await.unwrap();
    let second = store.enqueue(study.id, JobKind::Route, kept(json!({}))).await;
    assert!(matches!(second, Err(Error::Busy(_))), "one at a time");
    store.cancel_job(job.id).await.unwrap();
    assert_eq!(ended(&store, job.id).await.state, "cancelled");
    stop.send(()).unwrap();
    worker.await.unwrap().unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_cancelled_before_it_began_is_never_begun() {
    let (store, _) = store().await;
    let study = self::study(&store).await;
    let job = store.enqueue(study.id, JobKind::Import, kept(json!({}))).await.unwrap();
    store.cancel_job(job.id).await.unwrap();
    assert_eq!(store.job(job.id).await.unwrap().state, "cancelled");
    assert!(store.active_job(study.id).await.unwrap().is_none());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_dead_worker_left_is_taken_up() {
    let (store, url) = store().await;
    let study = self::study(&store).await;
    let job = store.enqueue(study.id, JobKind::Import, kept(json!({}))).await.unwrap();
    let db = sea_orm::Database::connect(&url).await.unwrap();
    let dead = |attempts: i32| {
        format!(
            "UPDATE job SET state = 'running', worker = 'gone', attempts = {attempts}, heartbeat_at = now() WHERE id = {}",
            job.id
        )
    };
    sea_orm::ConnectionTrait::execute_unprepared(&db, &dead(1)).await.unwrap();
    assert_eq!(store.take_up_interrupted(None).await.unwrap(), 0, "it gave a sign of life just now");
    assert_eq!(store.take_up_interrupted(Some("gone")).await.unwrap(), 1);
    let (stop, stopped) = tokio::sync::oneshot::channel::<()>();
    let worker = tokio::spawn(Worker::new(store.clone(), "new").run(count, async {
        let _ = stopped.await;
    }));
    let done = ended(&store, job.id).await;
    assert_eq!((done.state.as_str(), done.attempts), ("done", 2));
    sea_orm::ConnectionTrait::execute_unprepared(&db, &dead(3)).await.unwrap();
    store.take_up_interrupted(Some("gone")).await.unwrap();
    assert_eq!(store.job(job.id).await.unwrap().state, "interrupted");
    stop.send(()).unwrap();
    worker.await.unwrap().unwrap();
}
