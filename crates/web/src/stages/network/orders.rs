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
    charts: Vec<String>,
}

/// Number, mean length and mean area of streams by order, each on a logarithmic scale of its own unit.
fn charts(totals: &[OrderTotals]) -> Vec<Chart> {
    if totals.len() < 2 {
        return Vec::new();
    }
    let units = quantity::units();
    let (length, area) = (Quantity::Perimeter.typed(units), Quantity::Area.typed(units));
    let of =
        |name: &'static str, title: &str, unit: &str, tone: Tone, value: &dyn Fn(&OrderTotals) -> f64| {
            let points =
                totals.iter().map(|t| (t.order as f64, Some(value(t)).filter(|v| *v > 0.0))).collect();
            let series = Series::new(title, tone, Shape::LineAndPoints, points);
            Chart::new(name, format!("{title} of streams by order, on a logarithmic scale"))
                .size(350.0, 132.0)
                .x(Axis::plain("order").whole())
                .y(Axis::plain(match unit {
                    "" => title.to_owned(),
                    unit => format!("{title}, {unit}"),
                })
                .logarithmic())
                .series(series)
        };
    vec![
        of("orders", "number", "", Tone::Water, &|t| t.streams as f64),
        of("order_lengths", "mean length", length.symbol, Tone::Clay, &|t| {
            length.of(t.mean_length_m() / 1000.0)
        }),
        of("order_areas", "mean area", area.symbol, Tone::Moss, &|t| area.of(t.mean_area.as_km2())),
    ]
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
        let charts = charts(&totals).iter().filter_map(figure).collect();
        Ok(Part { reaches, ratios, charts })
    });
    page(&part.await?)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::stages::network::tables::tests::network;

    #[test]
    fn charts_of_orders_have_a_point_for_each_and_need_two() {
        let (network, _) = network();
        let totals = totals_by_order(&network);
        assert!(totals.len() >= 2);
        let drawn: Vec<String> = charts(&totals).iter().map(|c| c.draw().unwrap().svg).collect();
        assert_eq!(drawn.len(), 3);
        for svg in drawn {
            assert_eq!(svg.matches("<circle").count(), totals.len());
            assert!(!svg.contains("NaN") && !svg.contains("inf"), "{svg}");
        }
        assert!(charts(&totals[..1]).is_empty() && charts(&[]).is_empty());
    }
}
