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
