//! Streams as lines for the map: a network, how it compares with the mapped streams, trials.

use axum::Json;
use axum::extract::{Path, Query, State};
use axum::http::header;
use axum::response::{IntoResponse, Response};
use bothros_core::calibration::Side;
use bothros_core::network::Network;
use bothros_core::{Cell, Frame, Grid, Threshold};
use bothros_store::{LayerRole, Shape};
use bothros_workflow::{Index, LandIndex, TrialLine, tolerance};
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::App;
use crate::http::error::{Result, WebError};

/// A part of the map, and how finely it is drawn.
#[derive(Debug, Clone, Copy, Deserialize)]
pub struct View {
    west: f64,
    south: f64,
    east: f64,
    north: f64,
    resolution: f64,
    /// threshold, where the network is asked for
    #[serde(default)]
    cells: u32,
}

impl View {
    /// Whether a segment touches the view: what is left of it once each side has cut off what lies beyond (Liang and
    /// Barsky 1984, "A new concept and method for line clipping", ACM Transactions on Graphics 3).
    fn meets(&self, [x0, y0]: [f64; 2], [x1, y1]: [f64; 2]) -> bool {
        let (dx, dy) = (x1 - x0, y1 - y0);
        let sides =
            [(-dx, x0 - self.west), (dx, self.east - x0), (-dy, y0 - self.south), (dy, self.north - y0)];
        let (mut from, mut to) = (0.0f64, 1.0f64);
        for (towards, room) in sides {
            if towards == 0.0 {
                if room < 0.0 {
                    return false;
                }
            } else if towards < 0.0 {
                from = from.max(room / towards);
            } else {
                to = to.min(room / towards);
            }
        }
        from <= to
    }

    /// A line thinned to the resolution; nothing where no part of it is in sight or it has no length left. A line
    /// that passes through the view is seen, whether or not it has a vertex there.
    fn seen(&self, line: &[[f64; 2]]) -> Option<Vec<[f64; 2]>> {
        line.windows(2).find(|pair| self.meets(pair[0], pair[1]))?;
        let tolerance = self.resolution * 0.7;
        let mut out: Vec<[f64; 2]> = Vec::new();
        for (at, p) in line.iter().enumerate() {
            let far = |l: &[f64; 2]| (l[0] - p[0]).abs().max((l[1] - p[1]).abs()) >= tolerance;
            if out.last().is_none_or(far) || at + 1 == line.len() {
                out.push(*p);
            }
        }
        (out.len() > 1).then_some(out)
    }
}

/// Stretches drawn at once at most, the longest first.
const LINES_AT_ONCE: usize = 20_000;

fn drawn<'a>(view: View, lines: impl Iterator<Item = (Option<Side>, u8, &'a [[f64; 2]])>) -> Value {
    let seen: Vec<Value> = lines
        .filter_map(|(side, order, line)| {
            Some(json!({ "side": side, "order": order, "line": view.seen(line)? }))
        })
        .take(LINES_AT_ONCE)
        .collect();
    json!({ "lines": seen })
}

/// Thins lines away from the threads that answer requests.
async fn thinned(lines: impl FnOnce() -> Value + Send + 'static) -> Result<Json<Value>> {
    Ok(Json(bothros_workflow::blocking(move || Ok(lines())).await?))
}

/// What is matched, extra and missed in view.
pub async fn agreement(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(view): Query<View>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let threshold = Threshold::cells(view.cells.max(1));
    let tolerance = tolerance(&app.store, &facts).await?.m;
    let found = app.calibration.comparison(&app.store, &app.grids, study, threshold, tolerance).await?;
    thinned(move || {
        let apart = found.shortfalls.iter().map(|s| (Some(s.side), 0, &s.line[..]));
        let both = found.matched.iter().map(|m| (None, 0, &m.line[..]));
        drawn(view, apart.chain(both))
    })
    .await
}

/// How far water runs over land before it meets the network at a threshold.
#[derive(Debug, Deserialize)]
pub struct At {
    cells: u32,
}

pub async fn way(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(at): Query<At>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let ways = app.grids.ways(&app.store, &facts, Threshold::cells(at.cells.max(1))).await?;
    Ok(Json(json!({ "mean_m": ways.mean_m, "most_m": ways.most_m })))
}

/// What an index of the land is drawn between.
pub async fn land(
    State(app): State<App>,
    Path((study, index)): Path<(i64, String)>,
    Query(at): Query<At>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let nothing = || WebError::nothing("there is no such index of the land");
    let index = LandIndex::from_name(&index).ok_or_else(nothing)?;
    let threshold = Threshold::cells(at.cells.max(1));
    let found = app.grids.land_index(&app.store, &facts, threshold, index).await?;
    Ok(Json(json!({ "low": found.low, "high": found.high })))
}

/// A trial's lines in view.
pub async fn trial_lines(
    State(app): State<App>,
    Path((study, trial)): Path<(i64, i64)>,
    Query(view): Query<View>,
) -> Result<Json<Value>> {
    let lines: Vec<TrialLine> = app.store.trial_lines(study, trial).await?;
    thinned(move || drawn(view, lines.iter().map(|l| (l.side, l.order, &l.line[..])))).await
}

/// The mapped streams in view.
pub async fn mapped(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(view): Query<View>,
) -> Result<Json<Value>> {
    let facts = app.facts(study).await?;
    let mut all = Vec::new();
    for layer in app.store.layers(study).await?.iter().filter(|l| l.role == LayerRole::MappedStreams) {
        all.push(app.layers.get(&app.store, &facts, layer).await?);
    }
    thinned(move || {
        let lines = all.iter().flat_map(|layer| &layer.features).filter_map(|f| match &f.shape {
            Shape::Line(line) => Some((None, 0, &line[..])),
            _ => None,
        });
        drawn(view, lines)
    })
    .await
}

/// Reaches drawn at once at most; beyond that the smaller ones are left to the raster.
const REACHES_AT_ONCE: usize = 12_000;

/// The reaches in view, simplified to its resolution, larger contributing areas first.
pub async fn streams(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(view): Query<View>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let Some(terrain) = facts.terrain.clone() else {
        return Ok(Json(json!({ "reaches": [], "complete": true })).into_response());
    };
    let (network, index) = app.grids.indexed(&app.store, &facts, Threshold::cells(view.cells)).await?;
    let grids = app.grids.get(&app.store, &facts).await?;
    let _turn = app.drawing.acquire().await.map_err(std::io::Error::other)?;
    let told = bothros_workflow::blocking(move || {
        let seen = seen_reaches((&network, &index), grids.below_edge(), &terrain.frame, view);
        Ok(serde_json::to_vec(&seen)?)
    });
    Ok(([(header::CONTENT_TYPE, "application/json")], told.await?).into_response())
}

/// A reach as the map draws it.
#[derive(Serialize)]
struct SeenReach {
    id: u32,
    order: u8,
    magnitude: u32,
    m2: f64,
    /// land upstream touches the edge of the DEM
    least: bool,
    line: Vec<[f64; 2]>,
}

#[derive(Serialize)]
struct SeenReaches {
    reaches: Vec<SeenReach>,
    complete: bool,
}

fn seen_reaches(
    (network, index): (&Network, &Index),
    below_edge: &Grid<bool>,
    frame: &Frame,
    view: View,
) -> SeenReaches {
    let place = |index: u32| {
        let cell = Cell { row: index as usize / frame.cols, col: index as usize % frame.cols };
        <[f64; 2]>::from(frame.centre(cell))
    };
    // Rows and columns in view, those cut by its rim included.
    let col = |x: f64| (x - frame.left) / frame.cell_size;
    let row = |y: f64| (frame.top - y) / frame.cell_size;
    let touches = |[r0, c0, r1, c1]: &[u32; 4]| {
        *c0 as f64 <= col(view.east)
            && *c1 as f64 + 1.0 >= col(view.west)
            && *r0 as f64 <= row(view.south)
            && *r1 as f64 + 1.0 >= row(view.north)
    };
    let mut near: Vec<_> = network.reaches.iter().zip(&index.boxes).filter(|(_, b)| touches(b)).collect();
    near.sort_by(|a, b| b.0.contributing.as_m2().total_cmp(&a.0.contributing.as_m2()));
    let mut reaches = Vec::new();
    let mut complete = true;
    for (reach, _) in near {
        let Some(line) = view.seen(&reach.line().map(place).collect::<Vec<_>>()) else { continue };
        if reaches.len() == REACHES_AT_ONCE {
            complete = false;
            break;
        }
        reaches.push(SeenReach {
            id: reach.id,
            order: reach.strahler,
            magnitude: reach.shreve,
            m2: reach.contributing.as_m2(),
            least: reach.cells.last().is_some_and(|&cell| below_edge.values()[cell as usize]),
            line,
        });
    }
    SeenReaches { reaches, complete }
}

#[cfg(test)]
mod tests {
    use super::*;

    const VIEW: View = View { west: 0.0, south: 0.0, east: 100.0, north: 100.0, resolution: 10.0, cells: 1 };

    #[test]
    fn lines_are_thinned_to_what_can_be_seen_and_keep_their_ends() {
        let line: Vec<[f64; 2]> = (0..=40).map(|n| [n as f64, 50.0]).collect();
        let seen = VIEW.seen(&line).unwrap();
        assert_eq!((seen[0], seen[seen.len() - 1]), (line[0], line[40]));
        // Seven tenths of a pixel apart, but for the last.
        assert!(seen.len() <= 7, "{seen:?}");
        assert!(seen.windows(2).rev().skip(1).all(|w| w[1][0] - w[0][0] >= 7.0), "{seen:?}");
        // No vertex is made up.
        assert!(seen.iter().all(|p| line.contains(p)));
    }

    #[test]
    fn what_lies_out_of_sight_or_in_one_place_is_left_out() {
        assert!(VIEW.seen(&[[200.0, 50.0], [300.0, 50.0]]).is_none());
        assert!(VIEW.seen(&[]).is_none());
        assert!(VIEW.seen(&[[50.0, 50.0]]).is_none());
        // A line that only begins in view is drawn whole, so that it does not end at the rim.
        assert_eq!(VIEW.seen(&[[90.0, 50.0], [300.0, 50.0]]).unwrap().len(), 2);
    }

    #[test]
    fn a_line_is_seen_that_has_no_vertex_in_view() {
        let through = [[-500.0, 40.0], [900.0, 60.0]];
        assert_eq!(VIEW.seen(&through).unwrap(), through);
        assert!(VIEW.seen(&[[-10.0, 50.0], [50.0, 110.0]]).is_some(), "it cuts a corner");
        assert!(VIEW.seen(&[[-60.0, 50.0], [50.0, 170.0]]).is_none(), "it passes the corner");
        assert!(
            VIEW.seen(&[[50.0, -900.0], [50.0, 900.0]]).is_some()
                && VIEW.seen(&[[150.0, -9.0], [150.0, 9.0]]).is_none()
        );
    }

    #[test]
    fn no_more_is_drawn_than_can_be() {
        let line = [[10.0, 10.0], [30.0, 30.0]];
        let told = drawn(VIEW, (0..LINES_AT_ONCE + 5).map(|_| (Some(Side::Extra), 2, &line[..])));
        let lines = told["lines"].as_array().unwrap();
        assert_eq!(lines.len(), LINES_AT_ONCE);
        assert_eq!(lines[0], json!({ "side": "extra", "order": 2, "line": [[10.0, 10.0], [30.0, 30.0]] }));
    }
}
