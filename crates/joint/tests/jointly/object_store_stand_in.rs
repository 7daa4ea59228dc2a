//! A small stand-in for an object store: as much of S3's protocol as is spoken here, for one bucket, in memory.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::sync::{Arc, Mutex};

use axum::Router;
use axum::body::{Body, Bytes};
use axum::extract::{Request, State};
use axum::http::{Method, Response, StatusCode, header};

#[derive(Clone, Default)]
struct Bucket(Arc<Mutex<BTreeMap<String, Bytes>>>);

/// Begins one on a free port, for as long as the test runs; its address.
pub fn begin() -> String {
    let listener = std::net::TcpListener::bind("127.0.0.1:0").unwrap();
    listener.set_nonblocking(true).unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    std::thread::spawn(move || {
        let runtime = tokio::runtime::Runtime::new().unwrap();
        runtime.block_on(async {
            let listener = tokio::net::TcpListener::from_std(listener).unwrap();
            let app = Router::new().fallback(answer).with_state(Bucket::default());
            axum::serve(listener, app).await.unwrap();
        });
    });
    address
}

fn with(status: StatusCode, body: impl Into<Body>) -> Response<Body> {
    let mut answer = Response::new(body.into());
    *answer.status_mut() = status;
    answer.headers_mut().insert(header::ETAG, "\"one\"".parse().unwrap());
    answer.headers_mut().insert(header::LAST_MODIFIED, "Sun, 29 Nov 2026 12:00:00 GMT".parse().unwrap());
    answer
}

async fn answer(State(bucket): State<Bucket>, request: Request) -> Response<Body> {
    let (parts, body) = request.into_parts();
    let body = axum::body::to_bytes(body, usize::MAX).await.unwrap();
    let path = parts.uri.path().trim_start_matches('/').to_owned();
    let key = path.split_once('/').map_or(String::new(), |(_, key)| key.to_owned());
    let query = parts.uri.query().unwrap_or("").to_owned();
    let mut held = bucket.0.lock().unwrap();
    match parts.method {
        Method::PUT => {
            let only_new = parts.headers.get(header::IF_NONE_MATCH).is_some_and(|v| v == "*");
            if only_new && held.contains_key(&key) {
                return with(
                    StatusCode::PRECONDITION_FAILED,
                    "<Error><Code>PreconditionFailed</Code></Error>",
                );
            }
            held.insert(key, body);
            with(StatusCode::OK, "")
        }
        Method::GET if query.contains("list-type=2") => {
            let prefix = query.split('&').find_map(|q| q.strip_prefix("prefix=")).unwrap_or("");
            let prefix = prefix.replace("%2F", "/").replace('+', "%20");
            let entry = |(key, data): (&String, &Bytes)| {
                let key = key.replace("%20", " ");
                format!(
                    "<Contents><Key>{key}</Key><Size>{}</Size><LastModified>2026-11-29T12:00:00.000Z</LastModified><ETag>\"one\"</ETag></Contents>",
                    data.len()
                )
            };
            let found = |(key, _): &(&String, &Bytes)| key.starts_with(&prefix.replace("%2520", "%20"));
            let entries: String = held.iter().filter(found).map(entry).collect();
            with(
                StatusCode::OK,
                format!("<ListBucketResult><IsTruncated>false</IsTruncated>{entries}</ListBucketResult>"),
            )
        }
        Method::GET => match held.get(&key) {
            Some(data) => with(StatusCode::OK, data.clone()),
            None => with(StatusCode::NOT_FOUND, "<Error><Code>NoSuchKey</Code></Error>"),
        },
        Method::POST if query.contains("delete") => {
            let text = String::from_utf8_lossy(&body).into_owned();
            let keys = text.split("<Key>").skip(1).filter_map(|rest| rest.split("</Key>").next());
            let mut gone = String::new();
            for key in keys {
                held.remove(&key.replace(' ', "%20"));
                gone += &format!("<Deleted><Key>{key}</Key></Deleted>");
            }
            with(StatusCode::OK, format!("<DeleteResult>{gone}</DeleteResult>"))
        }
        Method::DELETE => {
            held.remove(&key);
            with(StatusCode::NO_CONTENT, "")
        }
        _ => with(StatusCode::METHOD_NOT_ALLOWED, ""),
    }
}
