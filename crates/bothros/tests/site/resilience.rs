//! What ends, goes away or fills up, and what comes back: processes, PostgreSQL, connections, downloads, backups.

use std::io::{Read, Write};
use std::net::TcpStream;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::processes::{address, begin, bothros, ended, rough_file, rough_study, routing, serve, wait};
use crate::support::{Site, database, valley_file};
use bothros_store::{FileRole, JobKind, Kept, Store};
use futures::StreamExt;
use reqwest::StatusCode;

/// Processes whose command line holds some words.
fn running(words: &[&str]) -> Vec<i32> {
    let mut found = Vec::new();
    for entry in std::fs::read_dir("/proc").unwrap().flatten() {
        let Some(pid) = entry.file_name().to_str().and_then(|n| n.parse::<i32>().ok()) else { continue };
        let line = std::fs::read(entry.path().join("cmdline")).unwrap_or_default();
        let line = String::from_utf8_lossy(&line).replace('\0', " ");
        if words.iter().all(|w| line.contains(w)) {
            found.push(pid);
        }
    }
    found
}

fn kill(pid: i32) {
    nix::sys::signal::kill(nix::unistd::Pid::from_raw(pid), nix::sys::signal::SIGKILL).unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_job_that_ends_its_process_is_tried_once_more_apart_and_then_given_up() {
    let url = database().await;
    let (mut server, _) = serve(&url);
    let store = Store::connect(&url).await.unwrap();
    let dir = tempfile::tempdir().unwrap();
    let study = rough_study(&store, dir.path(), 2400).await;
    let job = routing(&store, study).await;
    server.0.kill().unwrap();
    server.0.wait().unwrap();
    let (mut server, base) = serve(&url);
    let again = wait(&store, study, |job| job.state == "running" && job.progress > 0.0).await;
    assert!(again.apart && again.attempts == 2, "{again:?}");
    let apart = running(&["one-job", &job.id.to_string(), "--memory-mb"]);
    assert_eq!(apart.len(), 1);
    kill(apart[0]);
    let last = ended(&store, study).await;
    assert_eq!(last.state, "interrupted", "{}", last.message);
    assert!(last.message.contains("ended twice") && last.message.contains("memory"), "{}", last.message);
    // The server has not gone with it, and the reason is on the page.
    assert!(server.0.try_wait().unwrap().is_none());
    let desk = reqwest::get(format!("{base}/studies/{study}/desk/conditioning")).await.unwrap();
    assert!(desk.text().await.unwrap().contains("ended twice"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_is_stopped_in_good_order_gives_its_job_back() {
    let url = database().await;
    let (mut server, _) = serve(&url);
    let store = Store::connect(&url).await.unwrap();
    let dir = tempfile::tempdir().unwrap();
    let study = rough_study(&store, dir.path(), 2400).await;
    routing(&store, study).await;
    let pid = nix::unistd::Pid::from_raw(server.0.id() as i32);
    nix::sys::signal::kill(pid, nix::sys::signal::SIGTERM).unwrap();
    assert!(server.0.wait().unwrap().success());
    let job = store.last_job(study).await.unwrap().unwrap();
    assert_eq!((job.state.as_str(), job.attempts, job.apart), ("queued", 0, false), "{}", job.message);
    let _again = serve(&url);
    let job = ended(&store, study).await;
    assert_eq!((job.state.as_str(), job.apart), ("done", false), "{}", job.message);
}

#[tokio::test(flavor = "multi_thread")]
async fn postgresql_that_ends_is_started_again_and_jobs_go_on() {
    let data = tempfile::Builder::new().prefix("bothros-test-").tempdir().unwrap();
    let place = data.path().to_str().unwrap().to_owned();
    let (_server, base) = address(bothros(&["serve", "--port", "0", "--data", &place]));
    let url = std::fs::read_to_string(data.path().join("url")).unwrap().trim().to_owned();
    let dir = tempfile::tempdir().unwrap();
    let study = {
        let store = Store::connect(&url).await.unwrap();
        begin(&store, &rough_file(dir.path(), 300)).await
    };
    for _ in 0..2 {
        let pid = std::fs::read_to_string(data.path().join("cluster/postmaster.pid")).unwrap();
        kill(pid.lines().next().unwrap().trim().parse().unwrap());
        // Pages say what is wrong in words, and answer again soon.
        let answers = async {
            loop {
                let answer = reqwest::get(&base).await.unwrap();
                if answer.status().is_success() {
                    break;
                }
                let text = answer.text().await.unwrap();
                assert!(!text.contains("panicked") && text.len() < 400, "{text}");
                tokio::task::yield_now().await;
            }
        };
        tokio::time::timeout(Duration::from_secs(60), answers).await.expect("pages answer again");
        let store = Store::connect(&url).await.unwrap();
        let asked = async {
            // The one before may still be on its way.
            while store.enqueue(study, JobKind::Route, Kept::empty()).await.is_err() {
                tokio::task::yield_now().await;
            }
        };
        tokio::time::timeout(Duration::from_secs(90), asked).await.expect("a job can be asked for");
        let job = ended(&store, study).await;
        assert_eq!(job.state, "done", "{}", job.message);
    }
    let health: serde_json::Value =
        reqwest::get(format!("{base}/health")).await.unwrap().json().await.unwrap();
    assert!(health["troubles"].is_array());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_request_to_end_is_heard_while_postgresql_recovers() {
    let data = tempfile::Builder::new().prefix("bothros-test-").tempdir().unwrap();
    let place = data.path().to_str().unwrap().to_owned();
    let arguments = ["serve", "--port", "0", "--data", &place];
    let (mut server, _) = address(bothros(&arguments));
    let postmaster = || {
        let pid = std::fs::read_to_string(data.path().join("cluster/postmaster.pid")).ok()?;
        pid.lines().next()?.trim().parse::<i32>().ok()
    };
    // Both end at once, so that the next start has something to recover.
    let pid = postmaster().unwrap();
    server.0.kill().unwrap();
    server.0.wait().unwrap();
    kill(pid);
    // What is still ending must not be taken for the next one.
    while !running(&[&place, "postgres"]).is_empty() {
        tokio::task::yield_now().await;
    }
    for _ in 0..3 {
        let mut server = bothros(&arguments);
        // At the very first moment at which it hears signals, and a little later each time.
        while running(&[&place, "postgres"]).is_empty() && server.0.try_wait().unwrap().is_none() {
            tokio::task::yield_now().await;
        }
        let id = nix::unistd::Pid::from_raw(server.0.id() as i32);
        nix::sys::signal::kill(id, nix::sys::signal::SIGTERM).unwrap();
        let ended = tokio::task::spawn_blocking(move || server.0.wait().unwrap());
        let ended = tokio::time::timeout(Duration::from_secs(60), ended).await.expect("it ends").unwrap();
        assert!(ended.success(), "{ended}");
        assert!(running(&[&place, "postgres"]).is_empty(), "its PostgreSQL ends with it");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn connections_that_say_nothing_stop_nobody() {
    let (_server, base) = serve(&database().await);
    let host = base.trim_start_matches("http://").to_owned();
    let mut silent: Vec<TcpStream> = (0..1000)
        .map(|_| {
            let mut stream = TcpStream::connect(&host).unwrap();
            stream.write_all(b"GET / HTTP/1.1\r\nHost: loc").unwrap();
            stream
        })
        .collect();
    let begun = std::time::Instant::now();
    assert!(reqwest::get(&base).await.unwrap().status().is_success());
    assert!(begun.elapsed() < Duration::from_secs(5), "{:?}", begun.elapsed());
    // They are closed by and by.
    let mut last = silent.pop().unwrap();
    last.set_read_timeout(Some(Duration::from_secs(60))).unwrap();
    let mut rest = Vec::new();
    last.read_to_end(&mut rest).expect("the server closes what says nothing");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_arrives_though_the_upload_was_not_wanted() {
    let (_server, base) = serve(&database().await);
    let host = base.trim_start_matches("http://").to_owned();
    let answer = tokio::task::spawn_blocking(move || {
        let mut stream = TcpStream::connect(&host).unwrap();
        stream.set_read_timeout(Some(Duration::from_secs(20))).unwrap();
        let piece = vec![b'x'; 1 << 20];
        let head = format!(
            "POST /studies HTTP/1.1\r\nHost: {host}\r\nContent-Type: multipart/form-data; boundary=b\r\nContent-Length: {}\r\n\r\n",
            8 * piece.len()
        );
        stream.write_all(head.as_bytes()).unwrap();
        // The server has answered long before the last piece comes.
        for _ in 0..8 {
            stream.write_all(&piece).expect("the server goes on listening");
            std::thread::sleep(Duration::from_millis(100));
        }
        let mut answer = vec![0; 4096];
        let n = stream.read(&mut answer).expect("the answer is still there");
        String::from_utf8_lossy(&answer[..n]).into_owned()
    })
    .await
    .unwrap();
    assert!(answer.starts_with("HTTP/1.1 403") && answer.contains("did not come from a page"), "{answer}");
}

#[tokio::test(flavor = "multi_thread")]
async fn beyond_loopback_only_where_that_is_said() {
    let url = database().await;
    let refused = Command::new(env!("CARGO_BIN_EXE_bothros"))
        .args(["serve", "--port", "0", "--host", "0.0.0.0", "--database", &url])
        .stdout(Stdio::null())
        .output()
        .unwrap();
    let told = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && told.contains("--open-to-all"), "{told}");
    let args = ["serve", "--port", "0", "--host", "0.0.0.0", "--open-to-all", "--database", &url];
    let (_server, base) = address(bothros(&args));
    let base = base.replace("0.0.0.0", "127.0.0.1");
    for path in ["/", "/begin", "/licences", "/nowhere"] {
        let page = reqwest::get(format!("{base}{path}")).await.unwrap().text().await.unwrap();
        assert!(page.contains("There is no login"), "{path}: {page}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_backup_is_written_and_put_back_while_the_application_runs() {
    let data = tempfile::Builder::new().prefix("bothros-test-").tempdir().unwrap();
    let place = data.path().to_str().unwrap().to_owned();
    let (_server, base) = address(bothros(&["serve", "--port", "0", "--data", &place]));
    let url = std::fs::read_to_string(data.path().join("url")).unwrap().trim().to_owned();
    let dir = tempfile::tempdir().unwrap();
    let store = Store::connect(&url).await.unwrap();
    let study = rough_study(&store, dir.path(), 300).await;
    store.enqueue(study, JobKind::Route, Kept::empty()).await.unwrap();
    assert_eq!(ended(&store, study).await.state, "done");
    let network = store.study(study).await.unwrap().network;
    let file = dir.path().join("all.backup");
    let command = |words: &[&str]| {
        let out = Command::new(env!("CARGO_BIN_EXE_bothros"))
            .args(words)
            .args(["--data", &place])
            .output()
            .unwrap();
        (out.status.success(), String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned())
    };
    let (done, told) = command(&["backup", file.to_str().unwrap()]);
    assert!(done && told.contains("1 studies"), "{told}");
    assert!(!command(&["backup", file.to_str().unwrap()]).0, "what is there is not written over");
    // Then everything is lost.
    store.delete_study(study).await.unwrap();
    store.purge_study(study).await.unwrap();
    assert!(!reqwest::get(&base).await.unwrap().text().await.unwrap().contains("rough"));
    // A damaged one changes nothing.
    let mut bytes = std::fs::read(&file).unwrap();
    let middle = bytes.len() / 2;
    bytes[middle] ^= 1;
    for (name, bytes, expected) in [
        ("damaged", bytes, "changed or damaged"),
        ("short", std::fs::read(&file).unwrap()[..500].to_vec(), "no backup"),
        ("empty", Vec::new(), "no backup"),
    ] {
        let bad = dir.path().join(name);
        std::fs::write(&bad, bytes).unwrap();
        let (done, told) = command(&["restore", bad.to_str().unwrap()]);
        assert!(!done && told.contains(expected), "{name}: {told}");
    }
    drop(store);
    let (done, told) = command(&["restore", file.to_str().unwrap()]);
    assert!(done && told.contains("Restored 1 studies"), "{told}");
    let store = Store::connect(&url).await.unwrap();
    assert_eq!(store.study(study).await.unwrap().network, network);
    // The server that ran all the time shows it, and works on.
    let shown = async {
        loop {
            let answer = reqwest::get(format!("{base}/studies/{study}/desk/network")).await.unwrap();
            if answer.status().is_success() && answer.text().await.unwrap().contains("Reaches") {
                break;
            }
            tokio::task::yield_now().await;
        }
    };
    tokio::time::timeout(Duration::from_secs(60), shown).await.expect("the server shows what was put back");
    store.enqueue(study, JobKind::Route, Kept::empty()).await.unwrap();
    assert_eq!(ended(&store, study).await.state, "done");
}

async fn packed(site: &Site, study: i64) {
    let (status, told) = site.send(&format!("/studies/{study}/package"), &[]).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    assert_eq!(site.finish(study).await.state, "done");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_package_that_is_written_again_is_still_read_to_its_end() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&rough_file(dir.path(), 700), "packed").await;
    packed(&site, study).await;
    let path = format!("/studies/{study}/package.zip");
    let whole = site.get(&path).await;
    assert_eq!(whole.headers()["accept-ranges"], "bytes");
    assert!(whole.headers().get("content-encoding").is_none());
    let tag = whole.headers()["etag"].to_str().unwrap().to_owned();
    let bytes = whole.bytes().await.unwrap();
    assert!(bytes.len() > 2 << 20, "{} bytes: more than one piece", bytes.len());
    // A part of it, and what there is none of.
    let part = |range: &str, tag: &str| {
        site.client.get(format!("{}{path}", site.base)).header("Range", range).header("If-Range", tag).send()
    };
    let some = part("bytes=1048570-1048590", &tag).await.unwrap();
    assert_eq!(some.status(), StatusCode::PARTIAL_CONTENT);
    assert_eq!(some.headers()["content-range"], format!("bytes 1048570-1048590/{}", bytes.len()).as_str());
    assert_eq!(some.bytes().await.unwrap(), bytes[1_048_570..=1_048_590]);
    assert_eq!(part("bytes=999999999-", &tag).await.unwrap().status(), StatusCode::RANGE_NOT_SATISFIABLE);
    assert_eq!(part("bytes=0-9", "\"another\"").await.unwrap().status(), StatusCode::OK);
    // Read slowly, while another takes its place.
    let slow = site.get(&path).await;
    let mut pieces = slow.bytes_stream();
    let mut read = pieces.next().await.unwrap().unwrap().to_vec();
    site.send(&format!("/studies/{study}/threshold"), &[("cells", "500")]).await;
    packed(&site, study).await;
    site.store().purge_superseded(Duration::ZERO).await.unwrap();
    while let Some(piece) = pieces.next().await {
        read.extend(piece.unwrap());
    }
    assert!(read == bytes, "{} of {} bytes", read.len(), bytes.len());
    assert_ne!(site.get(&path).await.headers()["etag"], tag.as_str());
    assert_eq!(site.store().files(study, FileRole::Package).await.unwrap().len(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_copy_is_of_one_moment() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.study(&rough_file(dir.path(), 900), "original").await;
    // The DEM is read again, and prepared on other cells, while it is copied.
    for size in ["20", "30", "25", "40"] {
        let fields = [("full", "1"), ("crs", "EPSG:32628"), ("cell_size", size)];
        let (status, told) = site.send(&format!("/studies/{study}/prepare"), &fields).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
        let mut copies = Vec::new();
        while site.store().active_job(study).await.unwrap().is_some() {
            let copy = site.store().duplicate_study(study, "copy").await.unwrap();
            copies.push(copy.id);
        }
        for copy in copies {
            let row = site.store().study(copy).await.unwrap();
            let dem = site.store().raster(copy, bothros_store::RasterRole::Dem).await.unwrap().unwrap();
            let frame = &row.terrain.unwrap()["frame"];
            assert_eq!(
                (frame["rows"].as_u64(), frame["cell_size"].as_f64()),
                (Some(dem.rows as u64), Some(dem.cell_x))
            );
            site.store().delete_study(copy).await.unwrap();
        }
    }
    assert_eq!(site.finish(study).await.state, "done");
}

#[tokio::test(flavor = "multi_thread")]
async fn eight_points_at_once_have_eight_names() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "points").await;
    let path = format!("/studies/{study}/pour-points");
    let all = (0..8).map(|n| {
        let y = format!("{}", 4_757_500 + 40 * n);
        let (site, path) = (&site, &path);
        async move { site.send(path, &[("x", "502005"), ("y", y.as_str())]).await }
    });
    for (status, told) in futures::future::join_all(all).await {
        assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    }
    let mut names: Vec<String> =
        site.store().pour_points(study).await.unwrap().into_iter().map(|p| p.name).collect();
    names.sort();
    assert_eq!(names, (1..=8).map(|n| format!("Pour point {n}")).collect::<Vec<_>>());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_killed_server_left_is_removed_and_a_client_that_goes_leaves_nothing_half() {
    let data = tempfile::Builder::new().prefix("bothros-test-").tempdir().unwrap();
    let place = data.path().to_str().unwrap().to_owned();
    let (mut server, base) = address(bothros(&["serve", "--port", "0", "--data", &place]));
    let left = |dir: &Path| std::fs::read_dir(dir.join("tmp")).map_or(0, |all| all.count());
    assert_eq!(left(data.path()), 1);
    // An upload that was sent whole, whose sender does not wait for the answer.
    let dir = tempfile::tempdir().unwrap();
    let bytes = std::fs::read(valley_file(dir.path())).unwrap();
    let page = reqwest::get(&base).await.unwrap();
    let cookie = page.headers()["set-cookie"].to_str().unwrap().to_owned();
    let token = cookie.split(['=', ';']).nth(1).unwrap().to_owned();
    let body = [
        b"--b\r\nContent-Disposition: form-data; name=\"dem\"; filename=\"v.tif\"\r\n\r\n".to_vec(),
        bytes,
        b"\r\n--b--\r\n".to_vec(),
    ]
    .concat();
    let host = base.trim_start_matches("http://");
    for _ in 0..10 {
        let mut stream = TcpStream::connect(host).unwrap();
        let head = format!(
            "POST /studies HTTP/1.1\r\nHost: localhost\r\nCookie: bothros_token={token}\r\nX-Bothros-Token: {token}\r\nContent-Type: multipart/form-data; boundary=b\r\nContent-Length: {}\r\n\r\n",
            body.len()
        );
        stream.write_all(head.as_bytes()).unwrap();
        stream.write_all(&body).unwrap();
    }
    let url = std::fs::read_to_string(data.path().join("url")).unwrap().trim().to_owned();
    let store = Store::connect(&url).await.unwrap();
    let whole = async {
        loop {
            let studies = store.studies().await.unwrap();
            let mut done = 0;
            for study in &studies {
                done += usize::from(study.terrain.is_some());
            }
            if studies.len() == 10 && done == 10 {
                break;
            }
            tokio::task::yield_now().await;
        }
    };
    tokio::time::timeout(Duration::from_secs(60), whole).await.expect("all ten become studies");
    server.0.kill().unwrap();
    server.0.wait().unwrap();
    let (_again, base) = address(bothros(&["serve", "--port", "0", "--data", &place]));
    assert_eq!(left(data.path()), 1, "only that of the server that runs");
    assert!(reqwest::get(&base).await.unwrap().status().is_success());
}
