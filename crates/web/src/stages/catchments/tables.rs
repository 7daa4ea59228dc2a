//! The table of the stage: pour points with what they measure.

use bothros_products::{POUR_POINTS, Table};
use bothros_workflow::{CatchmentFacts, Facts};

use crate::App;
use crate::http::error::Result;
use crate::ui::quantity;
use crate::ui::table::{Entry, Listing};

/// The tables of the stage, in the order of their tabs.
pub const TABLES: &[&Table] = &[&POUR_POINTS];

/// The pour points that are delineated; those that are not are counted beside them.
///
/// # Errors
/// Where the database fails.
pub async fn listing(app: &App, facts: &Facts) -> Result<Listing> {
    let all = app.store.pour_points(facts.study).await?;
    let mut entries = Vec::new();
    let mut waiting = 0u64;
    for (point, number) in all.into_iter().zip(1u32..) {
        let found: Option<CatchmentFacts> = point.catchment.map(serde_json::from_value).transpose()?;
        let Some(found) = found.filter(|_| facts.routing.is_some()) else {
            waiting += 1;
            continue;
        };
        entries.push(Entry {
            key: point.id.to_string(),
            at: Some([found.x, found.y]),
            row: vec![
                number.into(),
                Some(point.name).filter(|n| !n.is_empty()).into(),
                point.x.into(),
                point.y.into(),
                found.x.into(),
                found.y.into(),
                found.moved_m.into(),
                found.area_km2.into(),
            ],
            acts: String::new(),
        });
    }
    let note = (waiting > 0)
        .then(|| format!("{} not delineated.", quantity::count(waiting, "pour point is", "pour points are")));
    Ok(Listing { note, ..Listing::plain(&POUR_POINTS, entries, "No pour point is delineated yet.") })
}
