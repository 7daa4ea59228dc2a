//! A study's chain of steps run as far as one of them: what is out of date is computed anew, in the order of the steps.

use bothros_core::Monitor as _;
use bothros_store::{JobHandle, JobKind, Kept, Record, Store, Versioned, kept};
use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::conditioning::route;
use crate::handover::package;
use crate::jobs::unless_cancelled;
use crate::{Error, Facts, GridCache, Result, boxed, conditioning_key, quantity};

/// A step that a study can be run to; those of a recipe's chain, by their keys.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum StepTo {
    /// the DEM is conditioned and flow is routed
    Routing,
    /// the network is drawn
    Network,
    /// rasters are computed from formulas
    Derived,
    /// sub-basins are delineated, and measured
    Catchments,
    /// the package is written
    Handover,
}

impl StepTo {
    /// The step of a key of the chain; none for those that are done when they are asked for.
    pub fn from_key(key: &str) -> Option<Self> {
        match key {
            "conditioning" | "routing" => Some(Self::Routing),
            "network" => Some(Self::Network),
            "derived" => Some(Self::Derived),
            "catchments" => Some(Self::Catchments),
            "handover" => Some(Self::Handover),
            _ => None,
        }
    }
}

#[derive(Serialize, Deserialize)]
struct Asked {
    to: StepTo,
}

impl Versioned for Asked {
    const WHAT: &'static str = "the step that a study is run to";
}

/// Asks for a study to be run as far as a step.
///
/// # Errors
/// [`Error::Refused`] before the DEM is prepared; [`bothros_store::Error::Busy`] where a job runs.
#[boxed]
pub async fn start_run_to(store: &Store, study: i64, to: StepTo) -> Result<()> {
    let change = store.change(study).await?;
    if Facts::of(change.study())?.terrain.is_none() {
        return Err(Error::not_ready());
    }
    change.commit(Record::job(JobKind::RunTo, Kept::of(&Asked { to })?)).await?;
    Ok(())
}

/// Runs a study as far as a step.
pub(crate) async fn run(
    store: &Store,
    grids: &GridCache,
    study: i64,
    request: &Value,
    handle: &JobHandle,
) -> Result<String> {
    let Asked { to } = kept::read(request.clone())?;
    let mut told = Vec::new();
    let facts = Facts::of(&store.study(study).await?)?;
    let done = facts.routing.as_ref().and_then(|r| r.conditioned.as_ref());
    let key = conditioning_key(store, &facts).await?;
    let current = done.is_some_and(|done| done.key == key);
    let routed_to = if to == StepTo::Routing { 1.0 } else { 0.5 };
    match current {
        true => told.push("Conditioning and routing were up to date".to_owned()),
        false => told.push(route::run(store, grids, study, &handle.part(0.0, routed_to)).await?),
    }
    let facts = Facts::of(&store.study(study).await?)?;
    if let Some(chosen) = facts.network.filter(|_| to >= StepTo::Network) {
        handle.say("drawing the network");
        let network = unless_cancelled(handle, grids.network(store, &facts, chosen.threshold)).await?;
        told.push(format!("{} drawn", quantity::count(network.reaches.len() as u64, "reach", "reaches")));
    }
    handle.progress(0.55);
    if to >= StepTo::Derived {
        let formulas: Vec<_> =
            facts.settings.rasters.iter().filter_map(|r| Some((&r.name, r.formula.as_ref()?))).collect();
        for (at, (name, formula)) in formulas.iter().enumerate() {
            handle.say(&format!("computing {name}"));
            unless_cancelled(handle, grids.derived(store, &facts, formula)).await?;
            handle.progress(0.55 + 0.1 * (at + 1) as f64 / formulas.len() as f64);
        }
        if !formulas.is_empty() {
            let rasters = quantity::count(formulas.len() as u64, "raster", "rasters");
            told.push(format!("{rasters} from formulas computed"));
        }
    }
    if to >= StepTo::Catchments && facts.network.is_some() {
        handle.say("measuring sub-basins");
        let measured = unless_cancelled(handle, grids.subbasin_measures(store, &facts)).await?;
        let parts = quantity::count(measured.len() as u64, "sub-basin", "sub-basins");
        told.push(format!("{parts} measured"));
    }
    handle.progress(0.7);
    if to >= StepTo::Handover {
        told.push(package::run(store, grids, study, &handle.part(0.7, 1.0)).await?);
    }
    Ok(told.join("; "))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn steps_stand_in_the_order_in_which_they_are_run() {
        let keys = ["conditioning", "routing", "network", "derived", "catchments", "handover"];
        let steps: Vec<StepTo> = keys.into_iter().filter_map(StepTo::from_key).collect();
        assert_eq!(steps.len(), keys.len());
        assert!(steps.is_sorted());
        assert_eq!(StepTo::from_key("terrain"), None);
    }
}
