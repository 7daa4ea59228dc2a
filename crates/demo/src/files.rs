//! The scenario as files.

use std::path::Path;

use bothros_core::catchments::delineate;
use bothros_core::routing::flow_directions;
use bothros_core::{Cell, Coarser, Grid, Silent, conditioning};
use bothros_formats::{
    Crs, Field, FieldKind, Geometry, Layer, Shape, Transform, Value, VectorFormat, write_cog, write_layers,
    write_picture,
};

use crate::erosion::sample;
use crate::features::Line;
use crate::noise::Noise;
use crate::pictures::{Drawing, aerial, scan};
use crate::scenario::{FRAME, REGION, Scenario};

fn layer(
    name: &'static str,
    shape: Shape,
    features: Vec<(Geometry, Vec<Value>)>,
    fields: &[(&'static str, FieldKind)],
) -> Layer {
    let fields = fields.iter().map(|&(name, kind)| Field { name: name.into(), kind }).collect();
    Layer { name: name.into(), fields, features, shape }
}

fn place(index: u32) -> [f64; 2] {
    let (x, y) = FRAME.centre(Cell { row: index as usize / FRAME.cols, col: index as usize % FRAME.cols });
    [x, y]
}

/// The regional DEM: geographic, 1 arc second, smoothed, biased, whole metres.
pub fn regional(scenario: &Scenario) -> anyhow::Result<(Grid<f32>, [f64; 6])> {
    let (utm, wgs84) = (Crs::parse("EPSG:32628")?, Crs::parse("EPSG:4326")?);
    let to_wgs84 = Transform::new(&utm, &wgs84)?;
    let to_utm = Transform::new(&wgs84, &utm)?;
    let [west, south, east, north] = REGION.extent();
    let corners = [(west, south), (west, north), (east, south), (east, north)];
    let corners: Vec<(f64, f64)> =
        corners.iter().map(|&(x, y)| to_wgs84.point(x, y)).collect::<Result<_, _>>()?;
    let step = 1.0 / 3600.0;
    // The largest whole-second rectangle within the region.
    let left = (corners[0].0.max(corners[1].0) / step).ceil() * step;
    let right = (corners[2].0.min(corners[3].0) / step).floor() * step;
    let bottom = (corners[0].1.max(corners[2].1) / step).ceil() * step;
    let top = (corners[1].1.min(corners[3].1) / step).floor() * step;
    let (rows, cols) = (((top - bottom) / step).round() as usize, ((right - left) / step).round() as usize);
    let mut values = Vec::with_capacity(rows * cols);
    for row in 0..rows {
        for col in 0..cols {
            let (x, y) = to_utm.point(left + (col as f64 + 0.5) * step, top - (row as f64 + 0.5) * step)?;
            let (r, c) =
                ((REGION.top - y) / REGION.cell_size - 0.5, (x - REGION.left) / REGION.cell_size - 0.5);
            let mut sum = 0.0;
            for (dr, dc) in [
                (-2.0, 0.0),
                (0.0, -2.0),
                (0.0, 0.0),
                (0.0, 2.0),
                (2.0, 0.0),
                (-1.5, -1.5),
                (1.5, 1.5),
                (-1.5, 1.5),
                (1.5, -1.5),
            ] {
                sum += sample(&scenario.region, r + dr, c + dc);
            }
            let biased = sum / 9.0 + 2.5 + 1.5 * Noise(91).smooth(x / 900.0, y / 900.0);
            values.push(biased.round() as f32);
        }
    }
    Ok((Grid::from_vec(rows, cols, values), [left, step, 0.0, top, 0.0, -step]))
}

/// Moves a point by up to 15 m, smoothly over the land.
/// The first gauge, which stands at the outlet.
fn at_outlet(scenario: &Scenario) -> [f64; 2] {
    scenario.gauges.first().map_or([335_000.0, 4_762_000.0], |g| [g.x, g.y])
}

/// The mapped streams, each with its kind: the true channels as a map shows them, displaced, without some
/// headwaters, and with a ditch that is none of them.
pub fn mapped_streams(scenario: &Scenario) -> Vec<(Line, &'static str)> {
    let mut mapped = Vec::new();
    for reach in scenario.channels.reaches.iter().filter(|r| r.line().count() > 1) {
        let left_out = reach.strahler == 1 && Noise(77).at(reach.id as i64, 0) < 0.2;
        let line: Line = reach.line().map(place).step_by(3).map(displaced).collect();
        if !left_out && line.len() > 1 {
            mapped.push((line, "stream"));
        }
    }
    let [x, y] = at_outlet(scenario);
    mapped.push((vec![[x + 300.0, y + 420.0], [x + 620.0, y + 300.0], [x + 900.0, y + 330.0]], "ditch"));
    mapped
}

fn displaced([x, y]: [f64; 2]) -> [f64; 2] {
    let shift = |seed: u64| 10.5 * Noise(seed).smooth(x / 350.0, y / 350.0);
    [x + shift(401), y + shift(402)]
}

fn write_png(path: &Path, picture: &Drawing) -> anyhow::Result<()> {
    let height = picture.rgb.len() / 3 / picture.width;
    let file = std::io::BufWriter::new(std::fs::File::create(path)?);
    let mut encoder = png::Encoder::new(file, picture.width as u32, height as u32);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    encoder.write_header()?.write_image_data(&picture.rgb)?;
    Ok(())
}

/// Writes all files of the scenario into `dir`, the truth into `dir/truth`.
pub fn write_files(scenario: &Scenario, dir: &Path) -> anyhow::Result<()> {
    let truth = dir.join("truth");
    std::fs::create_dir_all(&truth)?;
    let utm = Crs::parse("EPSG:32628")?;
    let write = |dir: &Path, layer: Layer| -> anyhow::Result<()> {
        let path = dir.join(format!("{}.gpkg", layer.name));
        if path.exists() {
            std::fs::remove_file(&path)?;
        }
        Ok(write_layers(&path, VectorFormat::GeoPackage, &utm, &[layer])?)
    };

    write_cog(
        &dir.join("sorrel_dem_4m.tif"),
        &scenario.dem,
        &FRAME,
        &utm,
        f32::NAN,
        Coarser::Mean,
        "ground elevation, metres",
        "m",
    )?;
    let (values, transform) = regional(scenario)?;
    bothros_formats::write_geographic(
        &dir.join("region_dem_30m.tif"),
        &values,
        transform,
        &Crs::parse("EPSG:4326")?,
    )?;

    let picture = aerial(scenario);
    write_picture(&dir.join("aerial.tif"), picture.width, &picture.rgb, picture.geo_transform, &utm)?;
    let paper = scan(scenario);
    write_png(&dir.join("old_map.png"), &paper)?;
    // Six numbers, a line each, in the order of a world file but for the corner, which is that of the sheet.
    let [left, a, b, top, d, e] = paper.geo_transform;
    std::fs::write(truth.join("old_map.txt"), format!("{a}\n{d}\n{b}\n{e}\n{left}\n{top}\n"))?;

    let all: Vec<(Geometry, Vec<Value>)> = scenario
        .channels
        .reaches
        .iter()
        .filter(|r| r.line().count() > 1)
        .map(|r| (Geometry::Line(r.line().map(place).collect()), vec![r.id.into(), r.strahler.into()]))
        .collect();
    let order = [("reach_id", FieldKind::Integer), ("strahler", FieldKind::Integer)];
    write(&truth, layer("channels", Shape::Line, all, &order))?;

    let [x, y] = at_outlet(scenario);
    let mapped = mapped_streams(scenario).into_iter();
    let mapped = mapped.map(|(line, kind)| (Geometry::Line(line), vec![kind.into()])).collect();
    write(dir, layer("mapped_streams", Shape::Line, mapped, &[("kind", FieldKind::Text)]))?;

    let point = |x: f64, y: f64| Geometry::Point([x, y]);
    let crossings = |only_surveyed: bool| -> Vec<_> {
        let list = scenario.crossings.iter().filter(|c| c.surveyed || !only_surveyed);
        list.map(|c| (point(c.x, c.y), vec![c.embankment.into()])).collect()
    };
    let embankment = [("embankment", FieldKind::Text)];
    write(&truth, layer("crossings", Shape::Point, crossings(false), &embankment))?;
    write(dir, layer("culvert_survey", Shape::Point, crossings(true), &embankment))?;
    let hollows = scenario.hollows.iter().map(|&(x, y)| (point(x, y), vec!["swallow hole".into()])).collect();
    write(&truth, layer("closed_basins", Shape::Point, hollows, &[("kind", FieldKind::Text)]))?;

    let name = [("name", FieldKind::Text)];
    let lines =
        scenario.embankments.iter().map(|(n, l)| (Geometry::Line(l.clone()), vec![(*n).into()])).collect();
    write(dir, layer("embankments", Shape::Line, lines, &name))?;
    write(
        dir,
        layer(
            "dam",
            Shape::Line,
            vec![(Geometry::Line(scenario.dam.clone()), vec!["Sorrel Dam".into()])],
            &name,
        ),
    )?;
    let water = bothros_core::catchments::outline(&scenario.reservoir, &FRAME);
    write(
        dir,
        layer(
            "reservoir",
            Shape::Polygons,
            vec![(Geometry::Polygons(water.polygons), vec!["Sorrel Reservoir".into()])],
            &name,
        ),
    )?;
    let town: Vec<[f64; 2]> = (0..=24)
        .map(|i| {
            let turn = (i % 24) as f64 / 24.0 * std::f64::consts::TAU;
            let r = 260.0 + 70.0 * Noise(55).at(i % 24, 3);
            [x - 120.0 + r * libm::cos(turn), y - 300.0 + 0.7 * r * libm::sin(turn)]
        })
        .collect();
    write(
        dir,
        layer(
            "town",
            Shape::Polygons,
            vec![(Geometry::Polygons(vec![vec![town]]), vec!["Tarnfield".into()])],
            &name,
        ),
    )?;
    let gauges: Vec<_> = scenario.gauges.iter().map(|g| (point(g.x, g.y), vec![g.name.into()])).collect();
    write(dir, layer("gauges", Shape::Point, gauges, &name))?;
    let mut csv = String::from("x,y,name\r\n");
    for g in &scenario.gauges {
        csv += &format!("{:.1},{:.1},{}\r\n", g.x, g.y, g.name);
    }
    std::fs::write(dir.join("gauges.csv"), csv)?;

    write(dir, layer("contours", Shape::Line, contours(scenario)?, &[("elevation_m", FieldKind::Real)]))?;
    write(dir, layer("published_boundary", Shape::Polygons, boundary(scenario)?, &name))?;
    Ok(())
}

/// Contours every 10 m of the smoothed land.
fn contours(scenario: &Scenario) -> anyhow::Result<Vec<(Geometry, Vec<Value>)>> {
    let (rows, cols) = (FRAME.rows / 4, FRAME.cols / 4);
    let coarse = Grid::from_fn(rows, cols, |c| {
        sample(&scenario.bare, c.row as f64 * 4.0 + 1.5, c.col as f64 * 4.0 + 1.5) as f32
    });
    let frame = bothros_core::Frame { rows, cols, cell_size: 16.0, ..FRAME };
    let lines = bothros_core::terrain::contours(&coarse, &frame, 10.0);
    Ok(lines.into_iter().map(|l| (Geometry::Line(l.points), vec![l.elevation_m.into()])).collect())
}

/// The outlet's catchment as published: coarser, and slightly wrong.
fn boundary(scenario: &Scenario) -> anyhow::Result<Vec<(Geometry, Vec<Value>)>> {
    let Some(outlet) = scenario.gauges.first() else { return Ok(vec![]) };
    let directions = flow_directions(&conditioning::fill(&scenario.bare, &Silent)?, &Silent)?;
    let cell = bothros_core::catchments::snap(
        &scenario.accumulation,
        &FRAME,
        bothros_core::Threshold::cells(1),
        (outlet.x, outlet.y),
        60.0,
        bothros_core::catchments::SnapTo::Largest,
    )?;
    let polygons = delineate(&directions, cell)?.outline(&FRAME).polygons;
    let Some(largest) = polygons.into_iter().max_by_key(|p| p[0].len()) else { return Ok(vec![]) };
    let mut ring: Line = largest[0]
        .iter()
        .step_by(40)
        .map(|&[x, y]| {
            let shift = |seed: u64| 35.0 * Noise(seed).smooth(x / 700.0, y / 700.0);
            [x + shift(601), y + shift(602)]
        })
        .collect();
    ring.push(ring[0]);
    Ok(vec![(Geometry::Polygons(vec![vec![ring]]), vec!["Sorrel Water at Tarnfield".into()])])
}
