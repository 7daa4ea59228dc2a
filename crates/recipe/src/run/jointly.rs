//! Filling and routing that several processes share.

use std::borrow::Cow;

use bothros_core::conditioning::{Conditioned, Remark, Step, Unfilled, before_sinks};
use bothros_core::routing::{Division, MFD_EXPONENT};
use bothros_core::{Frame, Monitor, Part};
use bothros_formats::Crs;
use bothros_joint::{Computed, Ground, Joint, Outcome, Terms, conditioned_by_bands, left_to_bands, room_in};
use serde::{Deserialize, Serialize};

use super::Report;
use super::routing::Routed;
use crate::room::Room;
use crate::terrain::{self, Prepared};
use crate::{Conditioning, Error, PROGRAM, Recipe, Result, RoutingMethod, Sinks, difference, inputs};

/// What is known of a DEM beside its elevations, and what was done to it before its sinks are filled.
#[derive(Serialize, Deserialize)]
struct Told {
    frame: Frame,
    crs: Crs,
    notes: Vec<String>,
    /// whether the surface that flow is routed on is another than the ground surface
    own_surface: bool,
    fills_ground: bool,
    steps: Vec<Step>,
    remarks: Vec<Remark>,
}

/// What all processes computed, for the one that does the rest.
pub(super) struct Together {
    pub prepared: Prepared,
    pub conditioned: Conditioned,
    pub routed: Routed,
}

/// How flow is divided by the method of a recipe.
fn division(recipe: &Recipe) -> Option<Division> {
    let routing = recipe.routing.as_ref()?;
    match routing.method {
        RoutingMethod::D8 => None,
        RoutingMethod::Dinf => Some(Division::DInfinity),
        RoutingMethod::Mfd => Some(Division::Mfd { exponent: routing.exponent.unwrap_or(MFD_EXPONENT) }),
    }
}

/// Prepares a DEM and does to it what is not left to bands.
fn ground(recipe: &Recipe, room: &Room, monitor: &dyn Monitor) -> Result<Ground> {
    let Prepared { dem, frame, crs, mut notes } =
        terrain::prepare(recipe, room, &Part::new(monitor, 0.0, 0.5))?;
    let how = inputs::conditioning(recipe, &crs, &mut notes)?;
    let mut unfilled = before_sinks(&dem, &frame, &how, &Part::new(monitor, 0.5, 0.6))?;
    let last = Part::new(monitor, 0.6, 1.0);
    let (ways, breaching) = left_to_bands(&mut unfilled, &how, &frame, division(recipe), &last)?;
    let Unfilled { ground, routing, fills_ground, steps, remarks, .. } = unfilled;
    let told = Told { frame, crs, notes, own_surface: routing.is_some(), fills_ground, steps, remarks };
    let told = serde_json::to_value(told).map_err(|e| Error::Recipe(e.to_string()))?;
    let ground = match ground {
        Cow::Owned(ground) => Some(ground),
        Cow::Borrowed(_) => None,
    };
    // The DEM lies beside where it is not the surface itself, then the ground where it is neither.
    let (surface, beside) = match (routing, ground) {
        (Some(surface), ground) => (surface, std::iter::once(dem).chain(ground).collect()),
        (None, Some(ground)) => (ground, vec![dem]),
        (None, None) => (dem, Vec::new()),
    };
    Ok(Ground { surface, ways, breaching, beside, told })
}

/// What one process goes on with from what all computed.
fn together(told: Told, computed: Computed, seconds: f64, monitor: &dyn Monitor) -> Result<Together> {
    let Computed {
        surface, ways, beside, breached, filled, directions, accumulation, divided, angles, ..
    } = computed;
    let Told { frame, crs, notes, own_surface, fills_ground, steps, remarks } = told;
    let mut beside = beside.into_iter();
    let (dem, ground) = (beside.next(), beside.next());
    // Without a DEM beside it the surface is the DEM.
    let (dem, rest) = match dem {
        Some(dem) => (dem, Some(surface)),
        None => (surface, None),
    };
    let (ground, routing) = match (own_surface, rest) {
        (true, routing) => (ground.map_or(Cow::Borrowed(&dem), Cow::Owned), routing),
        (false, changed) => (changed.map_or(Cow::Borrowed(&dem), Cow::Owned), None),
    };
    let unfilled = Unfilled {
        ground,
        routing,
        open: ways.open,
        fills_ground,
        fills_routing: ways.fills,
        volumes_only: true,
        steps,
        remarks,
    };
    let conditioned = conditioned_by_bands(unfilled, breached, filled, seconds, &frame, monitor)?;
    let routed = Routed { directions, accumulation, divided, angles };
    Ok(Together { prepared: Prepared { dem, frame, crs, notes }, conditioned, routed })
}

/// Refuses a recipe whose surface keeps sinks that no bands can route.
pub(super) fn check(recipe: &Recipe) -> Result<()> {
    let fills = |how: &Conditioning| matches!(how.sinks, Sinks::Fill | Sinks::BreachThenFill);
    match recipe.conditioning.as_ref().is_some_and(fills) {
        true => Ok(()),
        false => {
            let what = "must be \"fill\" or \"breach_then_fill\" where several processes share a run: a DEM whose sinks are left \
                is routed by one, with --max-memory where it needs that";
            Err(Error::key("conditioning.sinks", what))
        }
    }
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
    let begun = std::time::Instant::now();
    let outcome = joint.work(
        |part: &dyn Monitor| ground(recipe, room, part),
        &|what| report.begin(what),
        &Part::new(monitor, 0.0, 0.95),
    )?;
    let computed = match outcome {
        Outcome::Done(told) => return Ok(Err(told)),
        Outcome::Mine(computed) => *computed,
    };
    let told: Told = serde_json::from_value(computed.told.clone())
        .map_err(|e| Error::Data(format!("what was told of the DEM cannot be read: {e}")))?;
    room.check(told.frame.cells() as u64)?;
    let seconds = begun.elapsed().as_secs_f64();
    together(told, computed, seconds, &Part::new(monitor, 0.95, 1.0)).map(Ok)
}
