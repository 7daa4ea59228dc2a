//! The Handover stage: what a package rests on.

use reqwest::StatusCode;

use crate::support::{Site, valley_file};

#[tokio::test(flavor = "multi_thread")]
async fn a_package_is_up_to_date_while_the_study_is_what_it_was_written_from() {
    let site = Site::new().await;
    let dir = tempfile::tempdir().unwrap();
    let study = site.routed(&valley_file(dir.path()), "rests").await;
    let send = async |path: &str, form: &[(&str, &str)]| {
        let (status, text) = site.send(&format!("/studies/{study}/{path}"), form).await;
        assert_eq!(status, StatusCode::NO_CONTENT, "{path}: {text}");
    };
    let write = async || {
        send("package", &[]).await;
        assert_eq!(site.finish(study).await.state, "done");
    };
    let told = async || {
        let rail = site.get(&format!("/studies/{study}/rail")).await.text().await.unwrap();
        let start = site.get("/").await.text().await.unwrap();
        let both = [rail, start].map(|page| page.contains("package written"));
        assert_eq!(both[0], both[1], "the rail and the start page say the same");
        both[0]
    };
    send("pour-points", &[("x", "502005"), ("y", "4757500"), ("name", "Mill")]).await;
    write().await;
    assert!(told().await);
    // How the map is drawn changes nothing, nor does a choice that is taken back.
    send("style", &[("style", "{\"relief\":{\"azimuth\":200}}")]).await;
    assert!(told().await);
    send("threshold", &[("cells", "777")]).await;
    assert!(!told().await);
    send("undo", &[]).await;
    assert!(told().await, "it is again what it was");
    // Nothing of this was in the log of the Handover stage.
    let point = site.store().pour_points(study).await.unwrap()[0].id;
    send(&format!("pour-points/{point}/rename"), &[("name", "Weir")]).await;
    assert!(!told().await);
    write().await;
    assert!(told().await);
    send("trials", &[]).await;
    assert!(!told().await, "trials are part of the package");
    // What is changed while it is written makes it out of date at once.
    send("package", &[]).await;
    send(&format!("pour-points/{point}/rename"), &[("name", "Ford")]).await;
    assert_eq!(site.finish(study).await.state, "done");
    if told().await {
        // The job began after the change: the package has the new name.
        let zip = site.get(&format!("/studies/{study}/package.zip")).await.bytes().await.unwrap();
        let mut archive = zip::ZipArchive::new(std::io::Cursor::new(zip)).unwrap();
        let mut table = String::new();
        std::io::Read::read_to_string(&mut archive.by_name("rests_catchments.csv").unwrap(), &mut table)
            .unwrap();
        assert!(table.contains("Ford"), "{table}");
    }
}
