//! The table of reaches, totals by order, and Horton's ratios.

use askama::Template;
use axum::extract::{Path, Query, State};
use axum::response::Response;
use bothros_core::network::{Network, OrderTotals, Reach, horton_ratios, totals_by_order};
use bothros_core::{Cell, Frame};
use bothros_products::Quantity;
use serde::Deserialize;

use crate::App;
use crate::http::error::{Result, WebError};
use crate::stages::network::actions::threshold_of;
use crate::ui::chart::{Axis, Chart, Series, Shape, Tone, figure};
use crate::ui::form::number;
use crate::ui::page;
use crate::ui::quantity;

/// What is asked for.
#[derive(Debug, Clone, Deserialize)]
pub struct Asked {
    /// column to sort by
    #[serde(default)]
    sort: String,
    /// from the smallest up
    #[serde(default)]
    up: bool,
    /// only reaches of this order; empty for all
    #[serde(default)]
    order: String,
    /// column whose value has bounds
    #[serde(default)]
    of: String,
    /// the bounds, in the unit of that column; empty for none
    #[serde(default)]
    least: String,
    #[serde(default)]
    most: String,
    /// a reach to show first, with what flows in and where it goes
    #[serde(default)]
    reach: String,
    /// rows before those shown
    #[serde(default)]
    from: usize,
}

impl Asked {
    /// What the list is narrowed to, as part of an address.
    fn narrowed(&self) -> String {
        let of = [("order", &self.order), ("of", &self.of), ("least", &self.least), ("most", &self.most)];
        let mut text = form_urlencoded::Serializer::new(String::new());
        of.iter().filter(|(_, value)| !value.is_empty()).for_each(|(name, value)| {
            text.append_pair(name, value);
        });
        text.finish()
    }

    /// Whether a reach is among those asked for.
    fn test(&self) -> Result<impl Fn(&Reach) -> bool + use<>> {
        let order = match self.order.as_str() {
            "" => None,
            text => Some(text.parse::<u8>().map_err(|_| WebError::refused("an order is a whole number"))?),
        };
        let bound = |text: &str| match text.trim() {
            "" => Ok(None),
            text => number(text, "a bound").map(Some),
        };
        let (least, most) = (bound(&self.least)?, bound(&self.most)?);
        let (of, unit) = BOUNDED.iter().find(|b| b.0 == self.of).map_or(("length", 1.0), |b| (b.0, b.2));
        Ok(move |reach: &Reach| {
            let value = value(reach, of) / unit;
            order.is_none_or(|o| reach.strahler == o)
                && least.is_none_or(|least| value >= least)
                && most.is_none_or(|most| value <= most)
        })
    }
}

/// Columns that can have bounds: address, name with unit, that unit.
const BOUNDED: [(&str, &str, f64); 6] = [
    ("length", "Length, m", 1.0),
    ("drop", "Drop, m", 1.0),
    ("slope", "Slope, %", 0.01),
    ("sinuosity", "Sinuosity", 1.0),
    ("area", "Drains, ha", 1e4),
    ("magnitude", "Magnitude", 1.0),
];

/// Columns: address, head, full name.
const COLUMNS: [(&str, &str, &str); 8] = [
    ("id", "#", "Number"),
    ("order", "Order", "Strahler order"),
    ("magnitude", "Magn.", "Shreve magnitude"),
    ("length", "Length, m", "Length along the centre line"),
    ("drop", "Drop, m", "Fall on the ground surface"),
    ("slope", "Slope, %", "Fall over length"),
    ("sinuosity", "Sinu.", "Length over the straight distance between the ends"),
    ("area", "Drains, ha", "Contributing area at the lower end"),
];

fn value(reach: &Reach, column: &str) -> f64 {
    match column {
        "id" => reach.id as f64,
        "order" => reach.strahler as f64,
        "magnitude" => reach.shreve as f64,
        "length" => reach.length_m,
        "drop" => reach.drop_m,
        "slope" => reach.slope(),
        "sinuosity" => reach.sinuosity(),
        _ => reach.contributing.as_m2(),
    }
}

struct Row {
    id: u32,
    x: f64,
    y: f64,
    order: u8,
    magnitude: u32,
    length: String,
    drop: String,
    slope: String,
    sinuosity: String,
    area: String,
    upstream: Vec<u32>,
    downstream: Option<u32>,
}

struct Order {
    order: u8,
    streams: String,
    reaches: String,
    length: String,
    mean: String,
    drop: String,
    area: String,
}

#[derive(Template)]
#[template(path = "stages/network/reaches.html")]
struct Part {
    study: i64,
    asked: Asked,
    columns: [(&'static str, &'static str, &'static str); 8],
    bounded: [(&'static str, &'static str, f64); 6],
    /// what the list is narrowed to, as part of an address
    narrowed: String,
    rows: Vec<Row>,
    all: String,
    from: usize,
    to: usize,
    earlier: Option<usize>,
    later: Option<usize>,
    orders: Vec<Order>,
    ratios: Option<String>,
    chart: Option<String>,
}

/// Rows shown at once.
const SHOWN: usize = 40;

fn row(reach: &Reach, network: &Network, frame: &Frame) -> Row {
    let middle = reach.cells[reach.cells.len() / 2] as usize;
    let (x, y) = frame.centre(Cell { row: middle / frame.cols, col: middle % frame.cols });
    Row {
        id: reach.id,
        x,
        y,
        order: reach.strahler,
        magnitude: reach.shreve,
        length: quantity::whole(reach.length_m.round() as u64),
        drop: format!("{:.2}", reach.drop_m),
        slope: format!("{:.2}", reach.slope() * 100.0),
        sinuosity: format!("{:.2}", reach.sinuosity()),
        area: quantity::real(reach.contributing.as_m2() / 1e4, 4),
        upstream: network.reaches.iter().filter(|r| r.downstream == Some(reach.id)).map(|r| r.id).collect(),
        downstream: reach.downstream,
    }
}

/// Number, mean length and mean area of streams by order, on a logarithmic scale.
fn chart(totals: &[OrderTotals]) -> Option<Chart> {
    if totals.len() < 2 {
        return None;
    }
    let units = quantity::units();
    let line = |of: &dyn Fn(&OrderTotals) -> f64| -> Vec<(f64, Option<f64>)> {
        totals.iter().map(|t| (t.order as f64, Some(of(t)).filter(|v| *v > 0.0))).collect()
    };
    // Lengths and areas share one axis with numbers, each in the unit of its name.
    let (length, area) = (Quantity::Perimeter.typed(units), Quantity::Area.typed(units));
    let series = |name: String, tone, points| Series::new(name, tone, Shape::LineAndPoints, points);
    let chart =
        Chart::new("orders", "Number, mean length and mean area of streams by order, on a logarithmic scale")
            .x(Axis::plain("order").whole())
            .y(Axis::plain("").logarithmic())
            .series(series("number of streams".into(), Tone::Water, line(&|t| t.streams as f64)))
            .series(series(
                format!("mean length, {}", length.symbol),
                Tone::Clay,
                line(&|t| length.of(t.mean_length_m() / 1000.0)),
            ))
            .series(series(
                format!("mean area, {}", area.symbol),
                Tone::Moss,
                line(&|t| area.of(t.mean_area.as_km2())),
            ));
    Some(chart)
}

/// The table of reaches of the study's network.
pub async fn reaches(
    State(app): State<App>,
    Path(study): Path<i64>,
    Query(mut asked): Query<Asked>,
) -> Result<Response> {
    let facts = app.facts(study).await?;
    let threshold = threshold_of(&facts)?;
    let network = app.grids.network(&app.store, &facts, threshold).await?;
    let frame = facts.terrain.as_ref().ok_or_else(|| WebError::refused("prepare the DEM first"))?.frame;
    if !COLUMNS.iter().any(|c| c.0 == asked.sort) {
        asked.sort = "area".into();
    }
    let among = asked.test()?;
    let part = quantity::blocking(move || {
        let mut listed: Vec<&Reach> = network.reaches.iter().filter(|r| among(r)).collect();
        listed.sort_by(|a, b| {
            let by = value(a, &asked.sort).total_cmp(&value(b, &asked.sort));
            (if asked.up { by } else { by.reverse() }).then(a.id.cmp(&b.id))
        });
        let all = listed.len();
        if let Some(at) =
            asked.reach.parse::<u32>().ok().and_then(|id| listed.iter().position(|r| r.id == id))
        {
            asked.from = at;
        }
        let from = asked.from.min(all.saturating_sub(1));
        let to = (from + SHOWN).min(all);
        let rows = listed.get(from..to).unwrap_or(&[]).iter().map(|r| row(r, &network, &frame)).collect();
        let totals = totals_by_order(&network);
        let ratios = horton_ratios(&totals).map(|r| {
            format!(
                "Ratios from order to order: bifurcation {:.2}, length {:.2}, area {:.2}.",
                r.bifurcation, r.length, r.area
            )
        });
        let orders = totals.iter().map(|t| Order {
            order: t.order,
            streams: quantity::whole(t.streams),
            reaches: quantity::whole(t.reaches),
            length: quantity::length(t.length_m),
            mean: quantity::length(t.mean_length_m()),
            drop: quantity::metres(t.mean_drop_m),
            area: quantity::area(t.mean_area.as_m2()),
        });
        Ok(Part {
            study,
            columns: COLUMNS,
            bounded: BOUNDED,
            narrowed: asked.narrowed(),
            rows,
            all: quantity::whole(all as u64),
            from: if all == 0 { 0 } else { from + 1 },
            to,
            earlier: (from > 0).then(|| from.saturating_sub(SHOWN)),
            later: (to < all).then_some(to),
            orders: orders.collect(),
            ratios,
            chart: chart(&totals).as_ref().and_then(figure),
            asked,
        })
    })
    .await?;
    page(&part)
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::network::extract;
    use bothros_core::routing::{flow_accumulation, flow_directions};
    use bothros_core::{Grid, Silent, Threshold};

    /// A stem that falls by 1 % to the south with a side valley at every eighth row, on cells of 10 m.
    fn network() -> (Network, Frame) {
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

    fn asked(order: &str, of: &str, least: &str, most: &str) -> Asked {
        let [order, of, least, most] = [order, of, least, most].map(str::to_owned);
        Asked { sort: String::new(), up: false, order, of, least, most, reach: String::new(), from: 0 }
    }

    #[test]
    fn the_list_is_narrowed_by_order_and_bounds() {
        let (network, _) = network();
        let among = |a: Asked| {
            let test = a.test().unwrap();
            network.reaches.iter().filter(|r| test(r)).count()
        };
        let all = network.reaches.len();
        assert!(all > 8, "{all}");
        assert_eq!(among(asked("", "", "", "")), all);
        // Each reach has one order, and lies on one side of a bound or on it.
        let orders: usize = (1..=9).map(|o| among(asked(&o.to_string(), "", "", ""))).sum();
        assert_eq!(orders, all);
        for (of, _, unit) in BOUNDED {
            let middle = value(&network.reaches[all / 2], of) / unit;
            let text = format!("{middle}");
            let on = network.reaches.iter().filter(|r| value(r, of) / unit == middle).count();
            assert_eq!(among(asked("", of, &text, "")) + among(asked("", of, "", &text)), all + on, "{of}");
            assert_eq!(among(asked("", of, &text, &text)), on, "{of}");
        }
        // Bounds are in the unit that the column is shown in: the stem falls by 1 %.
        assert!(among(asked("2", "slope", "0.9", "1.1")) > 0);
    }

    #[test]
    fn what_cannot_be_read_is_refused_with_a_reason() {
        for (asked, expected) in [
            (asked("two", "", "", ""), "an order is a whole number"),
            (asked("-1", "", "", ""), "an order is a whole number"),
            (asked("", "length", "long", ""), "a bound"),
            (asked("", "length", "", "1,5,0"), "a bound"),
        ] {
            let said = asked.test().err().expect("refused").message;
            assert!(said.contains(expected), "{said}");
        }
    }

    #[test]
    fn an_address_keeps_what_the_list_is_narrowed_to() {
        assert_eq!(asked("", "", "", "").narrowed(), "");
        assert_eq!(asked("2", "area", "1.5", "").narrowed(), "order=2&of=area&least=1.5");
        // Whatever was typed cannot break out of the address.
        assert_eq!(asked("", "", "1&most=<2>", "").narrowed(), "least=1%26most%3D%3C2%3E");
    }

    #[test]
    fn rows_name_their_neighbours_and_lie_on_the_reach() {
        let (network, frame) = network();
        for reach in &network.reaches {
            let row = row(reach, &network, &frame);
            for up in &row.upstream {
                assert_eq!(network.reaches.iter().find(|r| r.id == *up).unwrap().downstream, Some(reach.id));
            }
            assert_eq!(row.downstream, reach.downstream);
            let cell = frame.cell_at(row.x, row.y).unwrap();
            assert!(reach.cells.contains(&((cell.row * frame.cols + cell.col) as u32)));
        }
    }

    #[test]
    fn the_chart_of_orders_has_a_point_for_each_and_needs_two() {
        let (network, _) = network();
        let totals = totals_by_order(&network);
        assert!(totals.len() >= 2);
        let svg = chart(&totals).unwrap().draw().unwrap().svg;
        // Three series.
        assert_eq!(svg.matches("<circle").count(), 3 * totals.len());
        assert!(!svg.contains("NaN") && !svg.contains("inf"), "{svg}");
        assert!(chart(&totals[..1]).is_none() && chart(&[]).is_none());
    }
}
