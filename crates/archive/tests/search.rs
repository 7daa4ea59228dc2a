//! Searching archives with many files, page by page.
#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use axum::extract::{Query, State};
use axum::routing::get;
use axum::{Json, Router};
use bothros_archive::{Archive, Error, StandIn, StandInCollection, StandInItem};
use serde_json::{Value, json};
use tokio::net::TcpListener;

/// Tiles of a hundredth of a degree, so many along each side.
fn tiles(along: usize) -> Vec<StandInItem> {
    let tile = |number: usize| {
        let (row, col) = (number / along, number % along);
        let (west, north) = (0.01 * col as f64, 0.01 * (along - row) as f64);
        StandInItem {
            id: format!("r{row}c{col}"),
            date: "2025-06-01T00:00:00Z".into(),
            path: format!("{number}.tif").into(),
            extent: [west, north - 0.01, west + 0.01, north],
            shape: [100, 100],
            geo_transform: [500_000.0 + 1000.0 * col as f64, 10.0, 0.0, 0.0, 0.0, -10.0],
            epsg: 32_631,
        }
    };
    (0..along * along).map(tile).collect()
}

async fn serve(router: impl FnOnce(String) -> Router) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let router = router(address.clone());
    tokio::spawn(async move { axum::serve(listener, router).await.unwrap() });
    address
}

#[tokio::test]
async fn thousands_of_files_are_listed() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = format!("http://{}", listener.local_addr().unwrap());
    let collection = StandInCollection {
        id: "tiles".into(),
        title: "Tiles".into(),
        description: String::new(),
        resolution_m: 10.0,
        items: tiles(40),
    };
    let archive = StandIn::new(&address, Arc::new(move || Ok(vec![collection.clone()])));
    tokio::spawn(archive.serve(listener, std::future::pending()));
    let archive = Archive::new(&address).unwrap();
    let all = archive.search("tiles", [-1.0, -1.0, 1.0, 1.0]).await.unwrap();
    assert_eq!(all.len(), 1600);
    let mut names: Vec<&str> = all.iter().map(|offer| offer.id.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    assert_eq!(names.len(), 1600, "each once");
    let some = archive.search("tiles", [0.105, 0.105, 0.295, 0.195]).await.unwrap();
    assert_eq!(some.len(), 20 * 10);
}

/// Answers page after page; how many pages there are before the first comes again is its state.
async fn pages(State((root, pages)): State<(String, u64)>, Query(asked): Query<Value>) -> Json<Value> {
    let page = asked["page"].as_str().and_then(|page| page.parse::<u64>().ok()).unwrap_or(0);
    let next = (page + 1) % pages;
    // Far from where anybody asks.
    let item =
        |n: u64| json!({ "id": format!("{page}-{n}"), "bbox": [50.0, 50.0, 51.0, 51.0], "assets": {} });
    let items: Vec<Value> = (0..100).map(item).collect();
    Json(json!({ "type": "FeatureCollection", "features": items,
        "links": [{ "rel": "next", "href": format!("{root}/search?page={next}") }] }))
}

#[tokio::test]
async fn pages_without_an_end_are_left() {
    let anywhere = [0.0, 0.0, 1.0, 1.0];
    let of = |pages_before: u64| {
        move |root: String| Router::new().route("/search", get(pages)).with_state((root, pages_before))
    };
    let ring = serve(of(3)).await;
    let error = Archive::new(&ring).unwrap().search("any", anywhere).await.unwrap_err();
    assert!(matches!(&error, Error::NotStac { what, .. } if what.contains("lead back")), "{error}");
    let endless = serve(of(u64::MAX)).await;
    let error = Archive::new(&endless).unwrap().search("any", anywhere).await.unwrap_err();
    assert!(matches!(error, Error::TooMany { .. }), "{error}");
}
