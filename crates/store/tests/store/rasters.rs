//! Rasters and files: what is written is read again to the bit, or not at all.

use super::*;

#[tokio::test(flavor = "multi_thread")]
async fn a_raster_survives_to_the_bit() {
    let (store, _) = store().await;
    let study = self::study(&store).await;
    let meta = put_terrain(&store, study.id).await;
    assert_eq!((meta.rows, meta.cols, meta.levels, meta.frame(1.0)), (1100, 700, 3, FRAME));
    assert!(same(&store.read_raster::<f32>(&meta).await.unwrap(), &terrain()));
    // A window across four blocks, partly beyond the raster.
    let window = store.read_window::<f32>(&meta, 0, (500, -10), (30, 600)).await.unwrap();
    assert!(window.values()[9].is_nan());
    assert_eq!(window.values()[10], terrain().values()[500 * 700]);
    assert_eq!(window.values()[29 * 600 + 599], terrain().values()[529 * 700 + 589]);
    // The first overview holds means of four.
    let coarse = store.read_window::<f32>(&meta, 1, (0, 0), (1, 1)).await.unwrap();
    assert!((coarse.values()[0] - 0.5005).abs() < 1e-4);
    assert!(store.read_window::<f32>(&meta, 2, (9000, 9000), (4, 4)).await.unwrap().values()[0].is_nan());
}

#[tokio::test(flavor = "multi_thread")]
async fn results_land_whole_or_not_at_all() {
    let (store, _) = store().await;
    let study = self::study(&store).await;
    let before = put_terrain(&store, study.id).await;
    let writer = store.write(study.id).await.unwrap();
    let broken_off = writer
        .put(NewRaster::at(RasterRole::Dem, &FRAME), &Grid::filled(1100, 700, 1f32), &|share| share < 0.5)
        .await;
    assert!(broken_off.is_err());
    drop(writer);
    let after = store.raster(study.id, RasterRole::Dem).await.unwrap().unwrap();
    assert_eq!(after.id, before.id);
    assert!(same(&store.read_raster::<f32>(&after).await.unwrap(), &terrain()));
}

#[tokio::test(flavor = "multi_thread")]
async fn files_are_kept_in_chunks() {
    let (store, _) = store().await;
    let study = self::study(&store).await;
    let dir = tempfile::tempdir().unwrap();
    let bytes: Vec<u8> = (0..2_500_000u32).map(|i| (i * 7 % 251) as u8).collect();
    std::fs::write(dir.path().join("in"), &bytes).unwrap();
    let kept = change!(store, study.id, |c| c.put_file(FileRole::Dem, "dem.tif", &dir.path().join("in")));
    store.fetch_file(kept.id, &dir.path().join("out")).await.unwrap();
    assert_eq!(std::fs::read(dir.path().join("out")).unwrap(), bytes);
    // The database keeps times to a microsecond.
    let found = store.file(study.id, FileRole::Dem).await.unwrap().unwrap();
    assert_eq!((found.id, found.bytes, &found.sha256), (kept.id, kept.bytes, &kept.sha256));
    // The SHA-256 of the empty message, FIPS 180-4.
    std::fs::write(dir.path().join("in"), b"").unwrap();
    let empty = change!(store, study.id, |c| c.put_file(FileRole::Dem, "empty", &dir.path().join("in")));
    assert_eq!(empty.sha256, "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855");
}

#[tokio::test(flavor = "multi_thread")]
async fn rasters_of_any_shape_and_kind_are_read_as_they_were_written() {
    let (store, _) = store().await;
    let study = self::study(&store).await.id;
    // One block, parts of blocks, single rows and columns, whole multiples.
    for (rows, cols) in [(1, 1), (1, 1030), (1025, 1), (512, 512), (513, 511), (1024, 300)] {
        let frame = Frame { rows, cols, ..FRAME };
        let codes =
            Grid::from_fn(rows, cols, |c| if c.row == c.col { 255 } else { 1u8 << ((c.row + c.col) % 8) });
        let cells = Grid::from_fn(rows, cols, |c| (c.row * 70_000 + c.col * 3) as u32);
        let ground = Grid::from_fn(rows, cols, |c| (c.row as f32 * 0.7).sin() * 1e-3 - c.col as f32);
        let writer = store.write(study).await.unwrap();
        writer.put(NewRaster::at(RasterRole::Direction, &frame), &codes, &|_| true).await.unwrap();
        writer.put(NewRaster::at(RasterRole::Accumulation, &frame), &cells, &|_| true).await.unwrap();
        writer.put(NewRaster::at(RasterRole::Filled, &frame), &ground, &|_| true).await.unwrap();
        writer.into_change().await.unwrap().commit(Record::default()).await.unwrap();
        let of = async |role| store.raster(study, role).await.unwrap().unwrap();
        let (direction, area, filled) = (
            of(RasterRole::Direction).await,
            of(RasterRole::Accumulation).await,
            of(RasterRole::Filled).await,
        );
        assert_eq!(store.read_raster::<u8>(&direction).await.unwrap(), codes, "{rows} x {cols}");
        assert_eq!(store.read_raster::<u32>(&area).await.unwrap(), cells, "{rows} x {cols}");
        assert!(same(&store.read_raster::<f32>(&filled).await.unwrap(), &ground), "{rows} x {cols}");
        // As windows, also from beyond any number of rows.
        let last = (rows as isize - 1, cols as isize - 1);
        let corner = store.read_window::<u32>(&area, 0, last, (2, 2)).await.unwrap();
        assert_eq!(corner.values(), [cells.values()[rows * cols - 1], u32::MAX, u32::MAX, u32::MAX]);
        let beyond =
            store.read_window::<u32>(&area, 0, (isize::MAX - 1, isize::MIN + 1), (3, 3)).await.unwrap();
        assert!(beyond.values().iter().all(|&v| v == u32::MAX));
    }
}

/// Bytes that the finest level of a raster takes in the database.
async fn room(url: &str, raster: i64) -> i64 {
    let sql = format!("SELECT sum(length(data)) FROM raster_block WHERE level = 0 AND raster_id = {raster}");
    number(url, &sql).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_raster_that_is_mostly_another_is_kept_as_what_is_different() {
    let (store, url) = store().await;
    let study = self::study(&store).await.id;
    let dem = put_terrain(&store, study).await;
    let ground = terrain();
    let filled = Grid::from_fn(1100, 700, |c| match (c.row, ground.values()[c.row * 700 + c.col]) {
        (600..620, z) => z + 0.25,
        (4, _) => f32::NAN,
        (3, _) => 7.0,
        (_, z) => z,
    });
    let writer = store.write(study).await.unwrap();
    let new = NewRaster::at(RasterRole::Filled, &FRAME);
    writer.put_beside(new, &filled, Some((&dem, &terrain())), &|_| true).await.unwrap();
    writer.into_change().await.unwrap().commit(Record::default()).await.unwrap();
    let check = async |study: i64| {
        let dem = store.raster(study, RasterRole::Dem).await.unwrap().unwrap();
        let meta = store.raster(study, RasterRole::Filled).await.unwrap().unwrap();
        assert_eq!(meta.base, Some(dem.id));
        assert!(room(&url, meta.id).await * 5 < room(&url, dem.id).await);
        assert!(same(&store.read_raster::<f32>(&meta).await.unwrap(), &filled));
        let window = store.read_window::<f32>(&meta, 0, (590, 400), (40, 300)).await.unwrap();
        assert!(same(&window, &filled.window(590, 400, 40, 300)));
        // The DEM is what it was, and overviews are those of the raster itself.
        assert!(same(&store.read_window::<f32>(&dem, 0, (0, 0), (1100, 700)).await.unwrap(), &terrain()));
        let coarse = store.read_window::<f32>(&meta, 1, (305, 10), (1, 1)).await.unwrap();
        assert!((coarse.values()[0] - 610.7705).abs() < 1e-3, "{coarse:?}");
    };
    check(study).await;
    // A copy stands by itself, and both go with their DEM.
    let copy = store.duplicate_study(study, "copy").await.unwrap().id;
    store.delete_study(study).await.unwrap();
    assert_eq!(store.purge_deleted(Duration::ZERO).await.unwrap(), 1);
    check(copy).await;
    let writer = store.write(copy).await.unwrap();
    writer.remove(&[RasterRole::Filled]).await.unwrap();
    writer.put(NewRaster::at(RasterRole::Dem, &FRAME), &filled, &|_| true).await.unwrap();
    writer.into_change().await.unwrap().commit(Record::default()).await.unwrap();
    store.purge_superseded(Duration::ZERO).await.unwrap();
    store.check().await.unwrap();
    let left = number(&url, &format!("SELECT count(*) FROM raster WHERE study_id = {copy}")).await;
    assert_eq!(left, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn files_of_numbers_take_less_room_and_come_back_as_they_were() {
    let (store, url) = store().await;
    let study = self::study(&store).await;
    let dir = tempfile::tempdir().unwrap();
    let numbers = (0..700_000).flat_map(|i| (300.0 + (i as f32 / 999.0).sin()).to_le_bytes());
    let bytes: Vec<u8> = numbers.chain(*b"end").collect();
    let (from, to) = (dir.path().join("in"), dir.path().join("out"));
    std::fs::write(&from, &bytes).unwrap();
    let kept = change!(store, study.id, |c| c.put_file(FileRole::Dem, "dem.tif", &from));
    let room = format!("SELECT sum(length(data)) FROM file_chunk WHERE file_id = {}", kept.id);
    assert!(number(&url, &room).await * 4 < 3 * bytes.len() as i64);
    store.check().await.unwrap();
    // Once from the disk, where it still is, and then from the database; in the end from a copy.
    for _ in 0..2 {
        store.fetch_file(kept.id, &to).await.unwrap();
        assert!(std::fs::read(&to).unwrap() == bytes);
    }
    let copy = store.duplicate_study(study.id, "copy").await.unwrap();
    let copied = store.file(copy.id, FileRole::Dem).await.unwrap().unwrap();
    assert!(store.file_piece(copied.id, 0).await.unwrap().unwrap() == bytes[..PIECE]);
    store.fetch_file(copied.id, &to).await.unwrap();
    assert!(std::fs::read(&to).unwrap() == bytes);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_raster_whose_blocks_are_damaged_or_missing_is_an_error() {
    let (store, url) = store().await;
    let study = self::study(&store).await;
    let meta = put_terrain(&store, study.id).await;
    let admin = sea_orm::Database::connect(&url).await.unwrap();
    let run = async |sql: String| sea_orm::ConnectionTrait::execute_unprepared(&admin, &sql).await.unwrap();
    let of = format!("WHERE raster_id = {} AND level = 0 AND \"row\" = 1", meta.id);
    run(format!("UPDATE raster_block SET data = '\\x00ff00' {of} AND col = 1")).await;
    assert!(matches!(store.read_raster::<f32>(&meta).await, Err(Error::DamagedBlock)));
    run(format!("DELETE FROM raster_block {of} AND col = 1")).await;
    assert!(matches!(store.read_raster::<f32>(&meta).await, Err(Error::NotFound(_))));
}
