//! Charts on a page: the picture, a read-out under the pointer, and the numbers behind it, which can be saved.

use askama::Template;
pub use bothros_charts::{Axis, Chart, Place, Series, Shape, Tone};
use bothros_charts::{Drawn, Numbers};
use serde_json::json;

/// A chart as a page shows it.
#[derive(Template)]
#[template(path = "ui/chart.html")]
struct Figure<'a> {
    name: &'static str,
    title: &'a str,
    svg: &'a str,
    /// what the pointer needs, as JSON
    places: String,
    numbers: &'a Numbers,
}

/// Returns a chart as the part of a page; nothing where it has nothing to show.
pub fn figure(chart: &Chart) -> Option<String> {
    html(&chart.draw()?)
}

fn html(drawn: &Drawn) -> Option<String> {
    let places = json!({
        "plot": drawn.plot, "ends": drawn.ends, "log": drawn.logarithmic, "unit": drawn.unit, "at": drawn.at,
    });
    let figure = Figure {
        name: drawn.name,
        title: &drawn.title,
        svg: &drawn.svg,
        places: places.to_string(),
        numbers: &drawn.table,
    };
    figure.render().ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_figure_has_its_picture_its_numbers_and_its_places() {
        let rain = Series::line("<rain>", Tone::Water, vec![(0.0, Some(1.5)), (1.0, None)]);
        let chart = Chart::new("storm", "Rain & runoff").x(Axis::plain("h")).series(rain);
        let html = figure(&chart).unwrap();
        assert!(
            html.contains("<svg") && html.contains("data-save=\"svg\"") && html.contains("Rain &#38; runoff"),
            "{html}"
        );
        assert!(html.contains("&#60;rain&#62;") && html.contains("data-v=\"1.5\""), "{html}");
        assert!(html.contains("&#34;log&#34;:false"), "{html}");
        assert!(figure(&Chart::new("none", "")).is_none());
    }
}
