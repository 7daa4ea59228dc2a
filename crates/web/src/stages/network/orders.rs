//! The streams of each order, and Horton's ratios.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::network::{OrderTotals, horton_ratios, totals_by_order};
use bothros_products::Quantity;

use crate::App;
use crate::http::error::Result;
use crate::stages::network::actions::threshold_of;
use crate::ui::chart::{Axis, Chart, Series, Shape, Tone, figure};
use crate::ui::{page, quantity};

#[derive(Template)]
#[template(path = "stages/network/orders.html")]
struct Part {
    /// how many, in words
    reaches: String,
    ratios: Option<String>,
    chart: Option<String>,
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

/// Streams by order of the study's network, as a chart with its ratios.
pub async fn orders(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let network = app.grids.network(&app.store, &facts, threshold_of(&facts)?).await?;
    let part = quantity::blocking(move || {
        let totals = totals_by_order(&network);
        let ratios = horton_ratios(&totals).map(|r| {
            format!(
                "Ratios from order to order: bifurcation {:.2}, length {:.2}, area {:.2}.",
                r.bifurcation, r.length, r.area
            )
        });
        let reaches = quantity::count(network.reaches.len() as u64, "reach", "reaches");
        Ok(Part { reaches, ratios, chart: chart(&totals).as_ref().and_then(figure) })
    });
    page(&part.await?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use bothros_core::network::{Network, extract};
    use bothros_core::routing::{flow_accumulation, flow_directions};
    use bothros_core::{Frame, Grid, Silent, Threshold};

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
