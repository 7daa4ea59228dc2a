//! Files that are kept while they are written.

use std::io::Write;

use bothros_store::Growing;

use super::*;

/// Bytes of a file that is written in parts.
fn bytes() -> Vec<u8> {
    (0..6_300_000u32).map(|i| (i * 7 % 251) as u8).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_kept_while_it_grows_and_seen_when_it_is_whole() {
    let (store, _) = store().await;
    let study = self::study(&store).await.id;
    let dir = tempfile::tempdir().unwrap();
    let (path, out) = (dir.path().join("package.zip"), dir.path().join("out"));
    std::fs::write(&path, "the one before").unwrap();
    let before = change!(store, study, |c| c.put_file(FileRole::Package, "a.zip", &path));
    std::fs::remove_file(&path).unwrap();

    let (growing, grown) = Growing::new();
    let writer = store.write_file(study).await.unwrap();
    let (bytes, to) = (bytes(), path.clone());
    let all = bytes.clone();
    let (reached, wait) = tokio::sync::oneshot::channel();
    let (go_on, may_end) = std::sync::mpsc::channel::<()>();
    let writing = std::thread::spawn(move || {
        let mut file = std::fs::File::create(&to).unwrap();
        // Parts that are no multiple of a piece, the beginning of each changed once more before it is told.
        for part in all.chunks(1_300_001) {
            let from = file.metadata().unwrap().len();
            file.write_all(&vec![0; part.len()]).unwrap();
            std::os::unix::fs::FileExt::write_all_at(&file, part, from).unwrap();
            assert!(growing.has(from + part.len() as u64));
        }
        reached.send(()).unwrap();
        may_end.recv().unwrap();
        growing.is_whole(all.len() as u64);
    });
    let keeping = writer.put_growing(FileRole::Package, "b.zip", &path, grown);
    let looking = async {
        wait.await.unwrap();
        // Another may change the study meanwhile, and sees the package before.
        let found = store.file(study, FileRole::Package).await.unwrap().unwrap();
        assert_eq!(found.id, before.id);
        store.change(study).await.unwrap().commit(Record::default()).await.unwrap();
        go_on.send(()).unwrap();
    };
    let (kept, ()) = tokio::join!(keeping, looking);
    let (change, kept) = kept.unwrap();
    change.commit(Record::default()).await.unwrap();
    writing.join().unwrap();

    assert_eq!(kept.bytes, bytes.len() as u64);
    let all = store.kept_packages(study).await.unwrap();
    let told: Vec<_> = all.iter().map(|f| (f.id, f.name.as_str(), f.bytes)).collect();
    assert_eq!(told, [(kept.id, "b.zip", kept.bytes), (before.id, "a.zip", 14)]);
    assert_eq!(all[0].sha256, kept.sha256);
    store.fetch_file(kept.id, &out).await.unwrap();
    assert!(std::fs::read(&out).unwrap() == bytes);
    assert!(store.file_piece(kept.id, 1).await.unwrap().unwrap() == bytes[PIECE..2 * PIECE]);
    assert_eq!(bothros_store::FileSum::of(&out).unwrap(), (kept.sha256, kept.bytes));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_never_is_whole_leaves_nothing() {
    let (store, url) = store().await;
    let study = self::study(&store).await.id;
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("package.zip");
    std::fs::write(&path, bytes()).unwrap();
    let (growing, grown) = Growing::new();
    assert!(growing.has(5_000_000));
    let writer = store.write_file(study).await.unwrap();
    let keeping = writer.put_growing(FileRole::Package, "a.zip", &path, grown.clone());
    let ending = async {
        tokio::time::sleep(std::time::Duration::from_millis(100)).await;
        drop(growing);
    };
    let (kept, ()) = tokio::join!(keeping, ending);
    assert!(matches!(kept.err(), Some(Error::Io(e)) if e.kind() == std::io::ErrorKind::Interrupted));
    assert_eq!(
        number(&url, "SELECT (SELECT count(*) FROM file) + (SELECT count(*) FROM file_chunk)").await,
        0
    );

    // One that is shorter than was said.
    let (growing, grown) = Growing::new();
    growing.is_whole(20_000_000);
    let writer = store.write_file(study).await.unwrap();
    let kept = writer.put_growing(FileRole::Package, "a.zip", &path, grown).await;
    assert!(matches!(kept.err(), Some(Error::Io(e)) if e.kind() == std::io::ErrorKind::UnexpectedEof));
    assert!(!growing.has(1), "nobody keeps it any more");
}
