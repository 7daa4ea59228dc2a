//! Filling and routing that several processes share.

use bothros_core::conditioning::Conditioned;
use bothros_core::{Frame, Monitor};
use bothros_formats::Crs;
use bothros_joint::{Computed, Ground, Joint, Outcome, Terms, room_in};
use serde::{Deserialize, Serialize};

use super::Report;
use super::routing::Routed;
use crate::room::Room;
use crate::terrain::{self, Prepared};
use crate::{Conditioning, Error, PROGRAM, Recipe, Result, RoutingMethod, Sinks, difference};

/// What is known of a DEM beside its elevations.
#[derive(Serialize, Deserialize)]
struct Told {
    frame: Frame,
    crs: Crs,
    notes: Vec<String>,
}

/// What all processes computed, for the one that does the rest.
pub(super) struct Together {
    pub prepared: Prepared,
    pub conditioned: Conditioned,
    pub routed: Routed,
}

/// Refuses a recipe that asks for more than what is done by bands.
pub(super) fn check(recipe: &Recipe) -> Result<()> {
    let alone = "several processes share filling and routing by D8 alone; run it by one, with --max-memory where it needs that";
    let fills = Conditioning { sinks: Sinks::Fill, ..Conditioning::default() };
    if recipe.conditioning.as_ref() != Some(&fills) {
        return Err(Error::key(
            "conditioning",
            format!("must be sinks = \"fill\" and nothing else: {alone}"),
        ));
    }
    if recipe.terrain.fill_voids {
        return Err(Error::key("terrain.fill_voids", format!("cannot be asked for: {alone}")));
    }
    if recipe.routing.as_ref().is_some_and(|routing| routing.method != RoutingMethod::D8) {
        return Err(Error::key("routing.method", format!("must be \"d8\": {alone}")));
    }
    Ok(())
}

/// Joins the work in a place, or begins it.
pub(super) fn join(recipe: &Recipe, place: &str) -> Result<Joint> {
    let text = |recipe: &Recipe| recipe.to_toml().map_err(|e| Error::Recipe(e.to_string()));
    // How much memory each takes is its own affair.
    let work = text(&Recipe { max_memory: None, ..recipe.clone() })?;
    let differs = |begun: &str| {
        let other = Recipe::parse(begun, &recipe.folder);
        let keys = other.and_then(|other| difference(&other, recipe)).unwrap_or_default();
        match keys.first() {
            Some(first) => format!("its recipe differs in {}", first.key),
            None => "its recipe differs".into(),
        }
    };
    let allowed = recipe.max_memory.map_or_else(bothros_core::memory::limit, |bytes| bytes.0);
    Ok(Joint::join(place, Terms::new(PROGRAM, &work), room_in(allowed), differs)?)
}

/// Works with the others; what was computed, if this process is to do the rest, else what the one told that did.
pub(super) fn work(
    joint: &mut Joint,
    recipe: &Recipe,
    room: &Room,
    report: &dyn Report,
    monitor: &dyn Monitor,
) -> Result<std::result::Result<Together, String>> {
    let prepare = |part: &dyn Monitor| -> Result<Ground> {
        let Prepared { dem, frame, crs, notes } = terrain::prepare(recipe, room, part)?;
        let told = serde_json::to_value(Told { frame, crs, notes });
        Ok(Ground { dem, told: told.map_err(|e| Error::Recipe(e.to_string()))? })
    };
    let begun = std::time::Instant::now();
    let Computed { ground, filled, directions, accumulation } =
        match joint.work(prepare, &|what| report.begin(what), monitor)? {
            Outcome::Done(told) => return Ok(Err(told)),
            Outcome::Mine(computed) => *computed,
        };
    let Told { frame, crs, notes } = serde_json::from_value(ground.told)
        .map_err(|e| Error::Data(format!("what was told of the DEM cannot be read: {e}")))?;
    room.check(frame.cells() as u64)?;
    let seconds = begun.elapsed().as_secs_f64();
    let conditioned = Conditioned::by_filling(&ground.dem, filled, &frame, true, seconds)?;
    let routed = Routed { directions, accumulation, divided: None };
    Ok(Ok(Together { prepared: Prepared { dem: ground.dem, frame, crs, notes }, conditioned, routed }))
}
