//! The threshold and the network that it leads to.

use askama::Template;
use bothros_core::Threshold;
use bothros_products::{Quantity, Units};
use bothros_workflow::{Facts, StreamEdit};

use super::begins::Choice;
use super::starting_points::{Start, starting_points};
use super::threshold::AREA_UNITS;
use crate::App;
use crate::http::error::Result;
use crate::shell::desk::{Fact, fact};
use crate::ui::{quantity, render};

#[derive(Template)]
#[template(path = "stages/network/desk.html")]
struct Network {
    study: i64,
    done: bool,
    facts: Vec<Fact>,
    cells: u32,
    /// the threshold in the first of the units that it can be typed in
    area_typed: String,
    /// units of area: name in forms, symbol
    units: Vec<(&'static str, &'static str)>,
    largest: u32,
    largest_text: String,
    cell_m2: f64,
    starts: Vec<Start>,
    /// what decides where streams begin
    begins: Option<Choice>,
    /// edits by hand: what and why, where, and whether they change something at this threshold
    edits: Vec<(String, f64, f64, bool)>,
    /// the study is larger than the room for grids: needed, and there
    exceeds: Option<(String, String)>,
}

pub async fn desk(app: &App, facts: Facts) -> Result<String> {
    let study = facts.study;
    let (Some(terrain), Some(routing), Some(n)) = (&facts.terrain, &facts.routing, &facts.network) else {
        let none = Network {
            study,
            done: false,
            facts: vec![],
            cells: 1,
            area_typed: String::new(),
            units: vec![],
            largest: 1,
            largest_text: String::new(),
            cell_m2: 1.0,
            starts: vec![],
            begins: None,
            edits: vec![],
            exceeds: None,
        };
        return render(&none);
    };
    let frame = &terrain.frame;
    let list = vec![
        fact("Reaches", quantity::whole(n.reaches as u64)),
        fact("Headwaters", quantity::whole(n.headwaters as u64)),
        fact("Length", quantity::length(n.length_m)),
        fact("Drainage density", quantity::density(n.density_km)),
        fact("Highest order (Strahler)", n.highest_order.to_string()),
    ];
    let threshold = n.threshold;
    let applied = match facts.settings.edits.is_empty() {
        true => Vec::new(),
        false => app.grids.streams(&app.store, &facts).await?.applied(threshold),
    };
    render(&Network {
        study,
        done: true,
        facts: list,
        cells: threshold.as_cells(),
        area_typed: {
            let unit = Quantity::Area.typed(quantity::units());
            format!("{}", (unit.of(threshold.as_area(frame).as_km2()) * 1e6).round() / 1e6)
        },
        units: units_of_area(),
        largest: routing.largest_cells,
        largest_text: quantity::area(Threshold::cells(routing.largest_cells).as_area(frame).as_m2()),
        cell_m2: frame.cell_area().as_m2(),
        starts: starting_points(frame, routing.largest_cells, app.store.kept_thresholds().await?),
        begins: Some(Choice::of(app, &facts).await?),
        edits: facts.settings.edits.iter().zip(applied).map(edit).collect(),
        exceeds: (app.grids.exceeds(frame.cells() as u64))
            .map(|(needed, room)| (quantity::bytes(needed), quantity::bytes(room))),
    })
}

/// The units that a threshold can be typed in on this page.
fn units_of_area() -> Vec<(&'static str, &'static str)> {
    let first = if quantity::units() == Units::Metric { 0 } else { 3 };
    AREA_UNITS[first..first + 3].iter().map(|u| (u.0, u.1)).collect()
}

fn edit((of, applies): (&StreamEdit, bool)) -> (String, f64, f64, bool) {
    let [x, y] = of.place();
    (format!("{}: {}", of.told(), of.reason), x, y, applies)
}
