//! How long a person waits: from an upload to a visible network, for a catchment, for tiles.

use std::io::{Read, Write};
use std::net::{IpAddr, Ipv4Addr, SocketAddr, TcpStream};
use std::time::{Duration, Instant};

use anyhow::{Context, ensure};
use bothros_core::{Coarser, Frame, Threshold};
use bothros_demo::fractal_terrain;
use bothros_formats::{Crs, write_cog};
use bothros_store::server::LocalServer;
use bothros_store::{JobKind, LayerFeature, LayerRole, RasterRole, Record, Shape};
use bothros_workflow::{
    Decision, Facts, Lines, ManyPlaces, NewStudy, PourPointPlace, add_pour_point, begin_study,
};
use serde_json::json;

use crate::bench::shifted;
use crate::boxed;
use crate::elevations::Elevations;
use crate::serve::{Running, start};

/// Highest memory of this process so far, which is the server: bytes.
fn peak_memory() -> u64 {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let line = status.lines().find(|l| l.starts_with("VmHWM:")).unwrap_or("");
    line.split_whitespace().nth(1).and_then(|kb| kb.parse::<u64>().ok()).unwrap_or(0) * 1024
}

/// A request over a connection of its own: seconds and bytes.
fn get(address: SocketAddr, path: &str) -> anyhow::Result<(f64, usize)> {
    let begun = Instant::now();
    let mut connection = TcpStream::connect(address)?;
    connection.write_all(
        format!("GET {path} HTTP/1.1\r\nHost: localhost\r\nConnection: close\r\n\r\n").as_bytes(),
    )?;
    let mut answer = Vec::new();
    connection.read_to_end(&mut answer)?;
    ensure!(answer.starts_with(b"HTTP/1.1 200"), "{path} was not answered");
    Ok((begun.elapsed().as_secs_f64(), answer.len()))
}

async fn finish(running: &Running, study: i64) -> anyhow::Result<()> {
    loop {
        let job = running.store.last_job(study).await?.context("a job was asked for")?;
        if !job.is_active() {
            ensure!(job.state == "done", "{}", job.message);
            return Ok(());
        }
        tokio::time::sleep(Duration::from_millis(10)).await;
    }
}

/// Catchments: measures of the largest, sub-basins of all reaches, a thousand pour points.
async fn catchments(running: &Running, study: i64, line: &dyn Fn(&str, f64)) -> anyhow::Result<()> {
    let (store, cache) = (&running.store, &running.grids);
    let facts = Facts::of(&store.study(study).await?)?;
    let point = store.pour_points(study).await?.into_iter().next().context("a pour point")?;
    let asked = Instant::now();
    bothros_workflow::measures_of(store, cache, &facts, &point).await?;
    line("measures of the largest catchment", asked.elapsed().as_secs_f64());
    let asked = Instant::now();
    let all = cache.subbasins(store, &facts).await?;
    let count = all.basins.outlets.len();
    line(&format!("{count} sub-basins of its reaches"), asked.elapsed().as_secs_f64());
    let asked = Instant::now();
    cache.subbasin_lines(store, &facts, Lines::Within(4)).await?;
    line("their outlines for a picture", asked.elapsed().as_secs_f64());
    let asked = Instant::now();
    cache.subbasin_measures(store, &facts).await?;
    line("their measures", asked.elapsed().as_secs_f64());
    let grids = cache.get(store, &facts).await?;
    let network = facts.network.context("a network")?;
    let streams = cache.network(store, &facts, network.threshold).await?;
    let cells: Vec<u32> = streams.reaches.iter().filter_map(|r| r.cells.last().copied()).collect();
    let place = |cell: &u32| {
        let (x, y) = grids.frame.centre(grids.directions.cell(*cell as usize));
        PourPointPlace { name: String::new(), x, y, area_m2: None, own: None }
    };
    let places: Vec<_> = cells.iter().take(1000).map(place).collect();
    let wanted = places.len();
    let asked = Instant::now();
    let many = ManyPlaces { places, called: "Point", exact: true };
    bothros_workflow::add_pour_points(store, cache, study, many).await?;
    line(&format!("{wanted} pour points placed"), asked.elapsed().as_secs_f64());
    bothros_workflow::undo(store, cache, study).await?;
    Ok(())
}

/// Measures studies of each size on a database of their own.
#[boxed(?Send)]
pub async fn run(sizes: &[usize]) -> anyhow::Result<()> {
    let server = LocalServer::temporary()?;
    let running = start(
        &server.url(),
        8 << 30,
        IpAddr::V4(Ipv4Addr::LOCALHOST),
        0,
        Elevations::At("http://127.0.0.1:1/".into()),
    )
    .await?;
    let dir = tempfile::tempdir()?;
    println!("{:>7}  {:<44} {:>9}", "cells", "what a person waits for", "seconds");
    for &size in sizes {
        let frame =
            Frame { rows: size, cols: size, left: 500_000.0, top: 4_760_000.0, cell_size: 5.0, unit_m: 1.0 };
        let path = dir.path().join("dem.tif");
        {
            let dem = fractal_terrain(size, 7);
            let crs = Crs::parse("EPSG:32628")?;
            write_cog(&path, &dem, &frame, &crs, f32::NAN, Coarser::Mean, "elevation, metres", "m")?;
        }
        let line = |what: &str, seconds: f64| println!("{size:>6}²  {what:<44} {seconds:>9.3}");
        let begun = Instant::now();
        let new = NewStudy {
            name: "speed",
            description: "",
            file: "dem.tif",
            path: &path,
            projection: None,
            more: Vec::new(),
            provenance: Default::default(),
        };
        let (study, _) = begin_study(&running.store, new).await?;
        finish(&running, study.id).await?;
        let imported = begun.elapsed().as_secs_f64();
        line("upload to terrain", imported);
        running.store.enqueue(study.id, JobKind::Route, bothros_store::Kept::empty()).await?;
        finish(&running, study.id).await?;
        let facts = Facts::of(&running.store.study(study.id).await?)?;
        let threshold = facts.network.context("a network")?.threshold;
        let [west, south, east, north] = frame.extent();
        let query = format!(
            "/studies/{}/streams?cells={}&west={west}&south={south}&east={east}&north={north}&resolution={}",
            study.id,
            threshold.as_cells(),
            (east - west) / 800.0
        );
        get(running.address, &query)?;
        line("upload to visible network", begun.elapsed().as_secs_f64());

        let grids = running.grids.get(&running.store, &facts).await?;
        let outlet = (0..grids.accumulation.len())
            .max_by_key(|&i| grids.accumulation.values()[i].wrapping_add(1))
            .unwrap_or(0);
        let (x, y) = frame.centre(grids.accumulation.cell(outlet));
        let clicked = Instant::now();
        let place = PourPointPlace { name: "largest".into(), x, y, area_m2: None, own: None };
        add_pour_point(&running.store, &running.grids, study.id, place).await?;
        line("largest catchment after a click", clicked.elapsed().as_secs_f64());
        catchments(&running, study.id, &line).await?;
        let drawn = Instant::now();
        running.grids.network(&running.store, &facts, Threshold::cells(threshold.as_cells() / 3)).await?;
        line("network at another threshold", drawn.elapsed().as_secs_f64());

        // Mapped streams that are not quite where the DEM has them; the stage is opened as after a pause.
        let dense = running.grids.network(&running.store, &facts, Threshold::cells(1300)).await?;
        let of = |(at, line)| LayerFeature {
            id: at as u32 + 1,
            name: None,
            elevation: None,
            numbers: Default::default(),
            shape: Shape::Line(line),
        };
        let lines: Vec<LayerFeature> = shifted(&dense, &frame).into_iter().enumerate().map(of).collect();
        let mapped = lines.len();
        let change = running.store.change(study.id).await?;
        change.add_layer(LayerRole::MappedStreams, "mapped", json!({}), lines).await?;
        change.commit(Record::default()).await?;
        running.grids.forget();
        let path = |part: &str| format!("/studies/{}/{part}", study.id);
        line("opening the Network stage: its desk", get(running.address, &path("desk/network"))?.0);
        line("opening the Network stage: its streams", get(running.address, &query)?.0);
        line(&format!("evidence against {mapped} mapped lines"), get(running.address, &path("evidence"))?.0);
        line("shortfalls against them", get(running.address, &path("shortfalls"))?.0);
        line("figures of all thresholds", get(running.address, &path("figures"))?.0);

        let asked = Instant::now();
        running.store.enqueue(study.id, JobKind::Review, bothros_store::Kept::empty()).await?;
        finish(&running, study.id).await?;
        let barriers = running.store.barriers(study.id).await?;
        line(&format!("sinks listed, {} barriers proposed", barriers.len()), asked.elapsed().as_secs_f64());
        if let Some(barrier) = barriers.first() {
            let path = format!("/studies/{}/barriers/{}", study.id, barrier.id);
            line("a barrier with its profile", get(running.address, &path)?.0);
            bothros_workflow::decide(&running.store, study.id, barrier.id, Some(Decision::Breach), None)
                .await?;
        }
        let asked = Instant::now();
        running.store.enqueue(study.id, JobKind::Route, bothros_store::Kept::empty()).await?;
        finish(&running, study.id).await?;
        line("conditioned with a breach and routed again", asked.elapsed().as_secs_f64());

        let asked = Instant::now();
        bothros_workflow::start_package(&running.store, study.id).await?;
        finish(&running, study.id).await?;
        line("package", asked.elapsed().as_secs_f64());

        for (what, role) in [("dem", RasterRole::Dem), ("area", RasterRole::Accumulation)] {
            let meta = running.store.raster(study.id, role).await?.context("the raster")?;
            let mut waits = Vec::new();
            for level in 0..meta.levels {
                let (rows, cols) = meta.size_of_level(level);
                for row in (0..rows.div_ceil(256)).step_by(3) {
                    for col in (0..cols.div_ceil(256)).step_by(3) {
                        let path =
                            format!("/studies/{}/tiles/{what}/{}/{level}/{col}/{row}", study.id, meta.id);
                        waits.push(get(running.address, &path)?.0);
                    }
                }
            }
            waits.sort_by(f64::total_cmp);
            let at = |p: f64| waits[((waits.len() - 1) as f64 * p) as usize];
            line(&format!("tile “{what}”: half of {} within", waits.len()), at(0.5));
            line(&format!("tile “{what}”: 95 % within"), at(0.95));
        }
        println!("{size:>6}²  server's memory at its peak: {:.2} GB", peak_memory() as f64 / 1e9);
    }
    running.stop().await?;
    server.stop()?;
    Ok(())
}
