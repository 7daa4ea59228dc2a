//! Continuity of the network.

use askama::Template;
use axum::extract::{Path, State};
use axum::response::Response;
use bothros_core::network::{Ending, Piece, pieces};

use crate::App;
use crate::http::error::Result;
use crate::stages::network::actions::threshold_of;
use crate::ui::page;
use crate::ui::quantity;

#[derive(Template)]
#[template(path = "stages/network/continuity.html")]
struct Part {
    told: Option<String>,
    /// mean way over land to a stream
    way: Option<String>,
    /// pieces that end inside: in words, and where
    broken: Vec<(String, f64, f64)>,
}

/// Largest number of pieces listed that end inside.
const PIECES_LISTED: usize = 20;

/// Continuity of the network: a sentence, and the places where a piece ends inside the footprint.
pub async fn continuity_part(State(app): State<App>, Path(study): Path<i64>) -> Result<Response> {
    let facts = app.facts(study).await?;
    let network = app.grids.network(&app.store, &facts, threshold_of(&facts)?).await?;
    let grids = app.grids.get(&app.store, &facts).await?;
    let found = pieces(&network, &grids.directions);
    let of = |ending: Ending| found.iter().filter(move |p| p.ending == ending);
    let (border, rim, sinks) =
        (of(Ending::Border).count(), of(Ending::NoElevation).count(), of(Ending::Sink).count());
    let mut parts = Vec::new();
    if border > 0 {
        parts.push(format!("{} leave at the border of the DEM", quantity::whole(border as u64)));
    }
    if rim > 0 {
        parts.push(format!("{} end where there is no elevation", quantity::whole(rim as u64)));
    }
    if sinks > 0 {
        parts.push(format!("{} end in sinks that stay open", quantity::whole(sinks as u64)));
    }
    let told = match found.len() {
        0 => None,
        1 => Some("The network hangs together: all of it leaves at one outlet.".into()),
        n => Some(format!("The network is in {} pieces: {}.", quantity::whole(n as u64), parts.join(", "))),
    };
    let why = |p: &Piece| match p.ending {
        Ending::Border => "leaves at the border",
        Ending::NoElevation => {
            "ends beside cells without an elevation: a void that was kept, or the rim of the footprint"
        }
        Ending::Sink => "ends in a sink that was left or kept as a closed basin",
    };
    let row = |p: &Piece| {
        let (x, y) = grids.frame.centre(p.outlet);
        (format!("{} of stream {}", quantity::length(p.length_m), why(p)), x, y)
    };
    let broken = of(Ending::Sink).chain(of(Ending::NoElevation)).take(PIECES_LISTED).map(row).collect();
    let ways = app.grids.ways(&app.store, &facts, threshold_of(&facts)?).await?;
    page(&Part { told, way: ways.mean_m.map(quantity::length), broken })
}
