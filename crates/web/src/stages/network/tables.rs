//! The tables of the stage: reaches, streams by order, shortfalls, trials.

use askama::Template;
use bothros_core::calibration::{Shortfall, Side};
use bothros_core::network::{Network, totals_by_order};
use bothros_core::{Cell, Frame, Grid};
use bothros_products::{ORDERS, REACHES, SHORTFALLS, TRIALS, Table, reach_row};
use bothros_workflow::{Facts, tolerance, trials};

use super::actions::threshold_of;
use super::shortfalls::{Judged, judged, reason};
use crate::App;
use crate::http::error::Result;
use crate::ui::quantity;
use crate::ui::table::{Entry, Listing};

/// The tables of the stage, in the order of their tabs.
pub const TABLES: &[&Table] = &[&REACHES, &SHORTFALLS, &TRIALS, &ORDERS];

/// A table of the stage with its rows.
///
/// # Errors
/// Where the table needs a step that was not done.
pub async fn listing(app: &App, facts: &Facts, table: &Table) -> Result<Listing> {
    match table.name {
        name if name == SHORTFALLS.name => shortfalls(app, facts).await,
        name if name == TRIALS.name => tried(app, facts).await,
        name => {
            let network = app.grids.network(&app.store, facts, threshold_of(facts)?).await?;
            let grids = app.grids.get(&app.store, facts).await?;
            let by_order = name == ORDERS.name;
            let list = move || {
                Ok(if by_order {
                    orders(&network)
                } else {
                    reaches(&network, &grids.frame, grids.below_edge())
                })
            };
            Ok(quantity::blocking(list).await?)
        }
    }
}

fn reaches(network: &Network, frame: &Frame, below_edge: &Grid<bool>) -> Listing {
    let mut upstream: Vec<Vec<u32>> = vec![Vec::new(); network.reaches.len()];
    for reach in &network.reaches {
        if let Some(next) = reach.downstream {
            upstream[next as usize - 1].push(reach.id);
        }
    }
    let entry = |reach: &bothros_core::network::Reach| {
        let middle = reach.cells[reach.cells.len() / 2] as usize;
        let (x, y) = frame.centre(Cell { row: middle / frame.cols, col: middle % frame.cols });
        let from = upstream[reach.id as usize - 1].iter();
        let acts = from.map(|id| format!("<button type=\"button\" data-to-row=\"{id}\">{id}</button> "));
        Entry {
            key: reach.id.to_string(),
            at: Some([x, y]),
            row: reach_row(reach, below_edge, None),
            acts: acts.collect(),
        }
    };
    Listing {
        acts: Some("From"),
        links: Some("downstream_reach_id"),
        settable: Vec::new(),
        ..Listing::plain(
            &REACHES,
            network.reaches.iter().map(entry).collect(),
            "There is no stream at this threshold.",
        )
    }
}

fn orders(network: &Network) -> Listing {
    let entry = |t: &bothros_core::network::OrderTotals| Entry {
        key: t.order.to_string(),
        at: None,
        row: vec![
            t.order.into(),
            (t.streams as i64).into(),
            (t.reaches as i64).into(),
            t.length_m.into(),
            t.mean_length_m().into(),
            t.mean_drop_m.into(),
            t.mean_area.as_km2().into(),
        ],
        acts: String::new(),
    };
    let totals = totals_by_order(network);
    Listing::plain(&ORDERS, totals.iter().map(entry).collect(), "There is no stream at this threshold.")
}

/// What can be decided about a shortfall.
#[derive(Template)]
#[template(path = "stages/network/shortfall_acts.html")]
pub struct ShortfallActs<'a> {
    pub study: i64,
    pub side: &'static str,
    pub x: f64,
    pub y: f64,
    pub judged: Judged<'a>,
}

async fn shortfalls(app: &App, facts: &Facts) -> Result<Listing> {
    let (threshold, tolerance) = (threshold_of(facts)?, tolerance(&app.store, facts).await?.m);
    let found = app.calibration.comparison(&app.store, &app.grids, facts.study, threshold, tolerance).await?;
    let mut entries = Vec::new();
    for (s, number) in found.shortfalls.iter().zip(1u32..) {
        let [x, y] = s.middle();
        let judged = judged(s, facts);
        let acts = ShortfallActs { study: facts.study, side: side(s), x, y, judged };
        entries.push(Entry {
            key: number.to_string(),
            at: Some([x, y]),
            row: vec![
                number.into(),
                side(s).into(),
                s.length_m.into(),
                s.gathers.as_km2().into(),
                reason(s).into(),
                Some(judged.verdict).filter(|v| !v.is_empty()).map(str::to_owned).into(),
                Some(judged.remark).filter(|r| !r.is_empty()).map(str::to_owned).into(),
            ],
            acts: acts.render().map_err(std::io::Error::other)?,
        });
    }
    let shortest = quantity::length(2.0 * tolerance);
    Ok(Listing {
        acts: Some("Decide"),
        note: Some(format!("Stretches longer than {shortest}, twice the tolerance, the longest first.")),
        ..Listing::plain(
            &SHORTFALLS,
            entries,
            "There is none: add mapped streams to compare the network with, or it agrees with them everywhere.",
        )
    })
}

/// The side of a shortfall, as files and pages name it.
pub fn side(shortfall: &Shortfall) -> &'static str {
    if shortfall.side == Side::Extra { "extra" } else { "missed" }
}

async fn tried(app: &App, facts: &Facts) -> Result<Listing> {
    let all = trials(&app.store, facts.study).await?;
    let entry = |kept: &bothros_workflow::KeptTrial| Entry {
        key: kept.trial.id.to_string(),
        at: None,
        row: kept.row(),
        acts: match kept.trial.justification {
            Some(_) => "<span class=\"tag\">chosen</span>".into(),
            None => String::new(),
        },
    };
    Ok(Listing {
        acts: Some("Choice"),
        hidden: &["cells", "cell_size_m", "tolerance_m", "highest_order", "remark", "justification"],
        ..Listing::plain(&TRIALS, all.iter().map(entry).collect(), "No trial is kept yet.")
    })
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;
    use bothros_core::network::extract;
    use bothros_core::routing::{flow_accumulation, flow_directions};
    use bothros_core::{Grid, Silent, Threshold};
    use bothros_formats::Value;

    /// A stem that falls by 1 % to the south with a side valley at every eighth row, on cells of 10 m.
    pub fn network() -> (Network, Frame) {
        let frame = Frame { rows: 40, cols: 21, left: 0.0, top: 400.0, cell_size: 10.0, unit_m: 1.0 };
        let dem = Grid::from_fn(frame.rows, frame.cols, |c| {
            let side = (c.col as f32 - 10.0).abs();
            let hollow = if c.row % 8 == 4 { 0.0 } else { 0.6 };
            100.0 - c.row as f32 * 0.1 + side * 0.5 + if side > 0.0 { hollow } else { 0.0 }
        });
        let directions = flow_directions(&dem, &Silent).unwrap();
        let accumulation = flow_accumulation(&directions, &Silent).unwrap();
        let network =
            extract(&directions, &accumulation, &dem, &frame, Threshold::cells(8), &Silent).unwrap();
        (network, frame)
    }

    #[test]
    fn rows_name_their_neighbours_and_lie_on_the_reach() {
        let (network, frame) = network();
        let listed = reaches(&network, &frame, &Grid::filled(frame.rows, frame.cols, false));
        assert_eq!(listed.entries.len(), network.reaches.len());
        for (entry, reach) in listed.entries.iter().zip(&network.reaches) {
            assert_eq!(entry.row[1], reach.downstream.map_or(Value::Null, |id| Value::Integer(id.into())));
            let above = network.reaches.iter().filter(|r| r.downstream == Some(reach.id));
            for up in above {
                assert!(entry.acts.contains(&format!("data-to-row=\"{}\"", up.id)), "{}", entry.acts);
            }
            let [x, y] = entry.at.unwrap();
            let cell = frame.cell_at(x, y).unwrap();
            assert!(reach.cells.contains(&((cell.row * frame.cols + cell.col) as u32)));
        }
    }

    #[test]
    fn totals_by_order_count_every_reach_once() {
        let (network, _) = network();
        let count = |e: &Entry| match e.row[2] {
            Value::Integer(n) => n,
            _ => panic!("reaches are counted"),
        };
        let listed = orders(&network);
        assert_eq!(listed.entries.iter().map(count).sum::<i64>() as usize, network.reaches.len());
    }
}
