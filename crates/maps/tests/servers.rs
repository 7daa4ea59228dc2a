//! Maps of a server laid onto a study's grid, and servers that do not behave.
#![allow(clippy::unwrap_used)]

use std::sync::Arc;

use axum::Router;
use axum::http::{StatusCode, header};
use axum::response::{IntoResponse, Redirect};
use axum::routing::get;
use bothros_formats::{Crs, Picture};
use bothros_maps::{Ground, MapServer, Maps, StandIn, read_servers};
use rstest::rstest;
use tokio::net::TcpListener;

const LEFT: f64 = 335_000.0;
const TOP: f64 = 4_765_000.0;
const PIXEL: f64 = 4.0;
const EDGE: usize = 512;

/// A picture whose red tells the easting and whose green tells the northing, in UTM zone 28 north.
fn ramp() -> Ground {
    let pixels =
        (0..EDGE * EDGE).flat_map(|i| [(i % EDGE / 2) as u8, (i / EDGE / 2) as u8, 90, 255]).collect();
    let picture =
        Picture { width: EDGE, height: EDGE, pixels, original: (EDGE, EDGE), crs: None, geo_transform: None };
    Ground {
        picture,
        geo_transform: [LEFT, PIXEL, 0.0, TOP, 0.0, -PIXEL],
        crs: Crs::parse("EPSG:32628").unwrap(),
    }
}

async fn listen() -> (TcpListener, String) {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let root = format!("http://{}", listener.local_addr().unwrap());
    (listener, root)
}

async fn stand_in() -> Vec<MapServer> {
    let (listener, root) = listen().await;
    let server = StandIn::new(Arc::new(|| Ok(ramp())));
    tokio::spawn(server.serve(listener, std::future::pending()));
    StandIn::servers(&root, "Nobody").unwrap()
}

/// The extent of a tile in the middle of the picture.
fn middle(edge: f64) -> [f64; 4] {
    let (x, y) = (LEFT + 1024.0, TOP - 1024.0);
    [x - edge / 2.0, y - edge / 2.0, x + edge / 2.0, y + edge / 2.0]
}

#[rstest]
#[case(0, "EPSG:32628")]
#[case(1, "EPSG:32628")]
#[case(2, "EPSG:32628")]
// The server does not draw in this one: it is laid over from Web Mercator.
#[case(2, "EPSG:32629")]
#[case(0, "EPSG:32629")]
#[tokio::test]
async fn each_standard_gives_the_same_ground_at_the_same_place(#[case] which: usize, #[case] system: &str) {
    bothros_formats::Crs::parse(system).unwrap();
    let maps = Maps::new(stand_in().await).unwrap();
    let own = Crs::parse("EPSG:32628").unwrap();
    let crs = Crs::parse(system).unwrap();
    let there = bothros_formats::Transform::new(&own, &crs).unwrap();
    let back = bothros_formats::Transform::new(&crs, &own).unwrap();
    let (x, y) = there.point(LEFT + 1024.0, TOP - 1024.0).unwrap();
    let extent = [x - 256.0, y - 256.0, x + 256.0, y + 256.0];
    let pixels = maps.picture(which, &crs, extent, (128, 128)).await.unwrap();
    for (col, row) in [(5, 5), (64, 64), (120, 10), (30, 110)] {
        let place = (extent[0] + (f64::from(col) + 0.5) * 4.0, extent[3] - (f64::from(row) + 0.5) * 4.0);
        let (x, y) = back.point(place.0, place.1).unwrap();
        let expected = [(x - LEFT) / PIXEL / 2.0, (TOP - y) / PIXEL / 2.0, 90.0, 255.0];
        let at = ((row * 128 + col) * 4) as usize;
        for (found, expected) in pixels[at..at + 4].iter().zip(expected) {
            assert!(
                (f64::from(*found) - expected).abs() < 3.0,
                "{col}, {row}: {:?} {expected:?}",
                &pixels[at..at + 4]
            );
        }
    }
}

#[tokio::test]
async fn beyond_the_land_nothing_is_drawn() {
    let maps = Maps::new(stand_in().await).unwrap();
    let crs = Crs::parse("EPSG:32628").unwrap();
    let far = [LEFT + 90_000.0, TOP - 500.0, LEFT + 90_500.0, TOP];
    assert!(maps.picture(0, &crs, far, (64, 64)).await.unwrap().iter().all(|&v| v == 0));
    assert!(maps.picture(9, &crs, far, (64, 64)).await.unwrap_err().to_string().contains("no such"));
}

/// A server that gives the same answer whatever it is asked.
async fn odd(answer: impl IntoResponse + Clone + Send + Sync + 'static) -> Maps {
    let (listener, root) = listen().await;
    let router = Router::new().fallback(get(move || async move { answer }));
    tokio::spawn(async move { axum::serve(listener, router).await });
    let text = format!(
        "[[map]]\nname = \"Odd\"\nkind = \"xyz\"\nurl = \"{root}/{{z}}/{{x}}/{{y}}\"\nattribution = \"A\"\n\
         [[map]]\nname = \"Odd\"\nkind = \"wms\"\nurl = \"{root}/\"\nlayer = \"a\"\nattribution = \"A\"\n\
         [[map]]\nname = \"Odd\"\nkind = \"wmts\"\nurl = \"{root}/\"\nlayer = \"a\"\nattribution = \"A\"\n"
    );
    Maps::new(read_servers(&text).unwrap()).unwrap()
}

async fn told(maps: &Maps, which: usize) -> String {
    let crs = Crs::parse("EPSG:32628").unwrap();
    maps.picture(which, &crs, middle(512.0), (64, 64)).await.unwrap_err().to_string()
}

#[tokio::test]
async fn what_is_no_picture_is_told_in_words() {
    let page =
        odd((StatusCode::OK, [(header::CONTENT_TYPE, "text/html")], "<html>Please log in</html>")).await;
    assert!(told(&page, 0).await.contains("something else than a picture"));
    assert!(told(&page, 1).await.contains("capabilities"));
    assert!(told(&page, 2).await.contains("capabilities"));
    let busy = odd((StatusCode::SERVICE_UNAVAILABLE, "later")).await;
    assert!(told(&busy, 0).await.contains("refuses: status 503"));
    // A small picture where a tile of 256 pixels was promised.
    let small = bothros_formats::encode_png(8, 8, &[9; 256]).unwrap();
    let small = odd((StatusCode::OK, small)).await;
    assert!(told(&small, 0).await.contains("tiles of the size"));
    let large = odd((StatusCode::OK, vec![7u8; 9 << 20])).await;
    assert!(told(&large, 0).await.contains("less than 8 MB"));
}

#[tokio::test]
async fn an_answer_leads_to_no_other_host() {
    let (listener, other) = listen().await;
    let asked = Arc::new(std::sync::atomic::AtomicBool::new(false));
    let seen = Arc::clone(&asked);
    let router = Router::new()
        .fallback(get(move || async move { seen.store(true, std::sync::atomic::Ordering::SeqCst) }));
    tokio::spawn(async move { axum::serve(listener, router).await });
    let leads = odd(Redirect::temporary(&other)).await;
    for which in 0..3 {
        assert!(told(&leads, which).await.contains("status 307"));
    }
    assert!(!asked.load(std::sync::atomic::Ordering::SeqCst));
}

#[tokio::test]
async fn a_tile_that_is_not_there_is_clear() {
    let none = odd((StatusCode::NOT_FOUND, "none")).await;
    let crs = Crs::parse("EPSG:32628").unwrap();
    let pixels = none.picture(0, &crs, middle(512.0), (32, 32)).await.unwrap();
    assert!(pixels.iter().all(|&v| v == 0));
}

#[tokio::test]
async fn a_server_that_is_gone_is_told_by_its_name() {
    let (listener, root) = listen().await;
    drop(listener);
    let text = format!(
        "[[map]]\nname = \"Gone\"\nkind = \"xyz\"\nurl = \"{root}/{{z}}/{{x}}/{{y}}\"\nattribution = \"A\"\n"
    );
    let maps = Maps::new(read_servers(&text).unwrap()).unwrap();
    let told = told(&maps, 0).await;
    assert!(told.contains("“Gone” does not answer (no connection)"), "{told}");
}

#[tokio::test]
async fn jpeg_is_read_too() {
    let dir = std::env::temp_dir().join(format!("bothros-maps-{}", std::process::id()));
    std::fs::create_dir_all(&dir).unwrap();
    let (png, jpeg) = (dir.join("red.png"), dir.join("red.jpg"));
    let red: Vec<u8> = [200, 30, 40, 255].repeat(256 * 256);
    std::fs::write(&png, bothros_formats::encode_png(256, 256, &red).unwrap()).unwrap();
    let made = std::process::Command::new("gdal_translate")
        .args(["-q", "-of", "JPEG", "-b", "1", "-b", "2", "-b", "3"])
        .args([&png, &jpeg])
        .status();
    assert!(made.unwrap().success());
    let maps = odd((StatusCode::OK, std::fs::read(&jpeg).unwrap())).await;
    std::fs::remove_dir_all(&dir).unwrap();
    let crs = Crs::parse("EPSG:32628").unwrap();
    let pixels = maps.picture(0, &crs, middle(512.0), (64, 64)).await.unwrap();
    let close = |a: u8, b: i32| (i32::from(a) - b).abs() <= 3;
    assert!(
        pixels.chunks_exact(4).all(|p| close(p[0], 200) && close(p[1], 30) && close(p[2], 40) && p[3] == 255)
    );
}
