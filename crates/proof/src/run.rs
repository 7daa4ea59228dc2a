//! From a storm to hydrographs at every nexus.

use std::collections::HashMap;

use bothros_core::runoff::{
    BROAD_CRESTED, Channel, LONGEST_STEP, Pool, StormShape, convolve, route_channel, runoff_mm,
    unit_hydrograph,
};
use bothros_core::scheme::NexusKind;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};

use crate::complaint::gathered;
use crate::package::SubbasinIn;
use crate::{Complaint, Error, Package, Result};

/// The storm and the run.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Settings {
    /// depth of the storm, millimetres
    pub rain_mm: f64,
    /// its duration, hours
    pub duration_h: f64,
    /// how it changes over time
    pub shape: StormShape,
    /// time step, minutes
    pub step_min: f64,
    /// length of the run, hours
    pub hours: f64,
    /// curve number of sub-basins that have none
    pub assumed_curve_number: f64,
}

impl Default for Settings {
    /// 60 mm in six hours, two days at five minutes: an example, no design value of any place.
    fn default() -> Self {
        Self {
            rain_mm: 60.0,
            duration_h: 6.0,
            shape: StormShape::default(),
            step_min: 5.0,
            hours: 48.0,
            assumed_curve_number: 75.0,
        }
    }
}

/// Time steps of a run at most.
const MOST_STEPS: f64 = 20_000.0;

impl Settings {
    fn check(&self) -> Result<()> {
        let above = |v: f64| v.is_finite() && v > 0.0;
        if ![self.rain_mm, self.duration_h, self.step_min, self.hours].into_iter().all(above) {
            return Err(Error::Settings("rain, duration, time step and length of the run must be above 0"));
        }
        if self.hours * 60.0 / self.step_min > MOST_STEPS {
            return Err(Error::Settings("the run would take more than 20 000 time steps: take longer ones"));
        }
        if !(1.0..=100.0).contains(&self.assumed_curve_number) {
            return Err(Error::Settings("the curve number to assume must lie between 1 and 100"));
        }
        Ok(())
    }
}

/// The flow at a nexus.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct NexusFlow {
    /// its number
    pub nexus_id: u32,
    /// its kind
    pub kind: NexusKind,
    /// its name
    pub name: Option<String>,
    /// area that drains through it, km²
    pub area_km2: f64,
    /// greatest flow, m³/s
    pub peak_m3s: f64,
    /// when it is reached, hours
    pub time_to_peak_h: f64,
    /// water that passed within the run, m³
    pub volume_m3: f64,
    /// mean flow over each time step, m³/s
    #[serde(skip)]
    pub flow_m3s: Vec<f64>,
}

/// Where the water has gone.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize)]
pub struct Balance {
    /// rain on all sub-basins, m³
    pub rain_m3: f64,
    /// of it what did not run off, m³
    pub loss_m3: f64,
    /// what left by final outlets within the run, m³
    pub outflow_m3: f64,
    /// what was still on its way at the end of the run, found by running on until it is dry, m³
    pub under_way_m3: f64,
    /// what storages hold above their crests in the end, m³
    pub stored_m3: f64,
}

impl Balance {
    /// What is missing or too much, as a share of the rain.
    pub fn error(&self) -> f64 {
        let left = self.rain_m3 - self.loss_m3 - self.outflow_m3 - self.under_way_m3 - self.stored_m3;
        left.abs() / self.rain_m3.max(1e-9)
    }
}

/// What a proof run found.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Proof {
    /// the storm and the run
    pub settings: Settings,
    /// flow at every nexus, in the order of the package
    pub nexuses: Vec<NexusFlow>,
    /// where the water has gone
    pub balance: Balance,
    /// what a model would complain about
    pub complaints: Vec<Complaint>,
}

/// The run goes on for so many times its length, to see all water out.
const RUN_ON: usize = 4;

/// Routes a storm through a package.
///
/// # Errors
/// [`Error::Settings`]; [`Error::Scheme`] where the package's elements are not connected as a model must be.
pub fn prove(package: &Package, settings: &Settings) -> Result<Proof> {
    settings.check()?;
    let order = package.order()?;
    let step_s = settings.step_min * 60.0;
    let step_h = settings.step_min / 60.0;
    let steps = (settings.hours * 60.0 / settings.step_min).ceil() as usize;
    let all = steps * RUN_ON;
    let rain = settings.shape.cumulative_mm(settings.rain_mm, settings.duration_h, step_h, all);

    // Runoff of each sub-basin at its nexus.
    let of_subbasin = |s: &SubbasinIn| {
        let number = s.curve_number.unwrap_or(settings.assumed_curve_number);
        let impervious = s.impervious.unwrap_or(0.0);
        let runs_off = |depth: f64| impervious * depth + (1.0 - impervious) * runoff_mm(depth, number);
        let mut before = 0.0;
        let depths: Vec<f64> = rain
            .iter()
            .map(|&depth| {
                let now = runs_off(depth);
                let new = now - before;
                before = now;
                new
            })
            .collect();
        let last = depths.iter().rposition(|&d| d > 0.0).map_or(0, |at| at + 1);
        // Without a time of concentration runoff is at the nexus within the step that it arises in.
        let tc = s.tc_h.filter(|&tc| tc > 0.0).unwrap_or(step_h);
        (convolve(&depths[..last], &unit_hydrograph(s.area_km2, tc, step_h), all), before)
    };
    let runoff: Vec<(Vec<f64>, f64)> = package.subbasins.par_iter().map(of_subbasin).collect();

    let at: HashMap<u32, usize> = package.nexuses.iter().enumerate().map(|(at, n)| (n.id, at)).collect();
    let mut flow: Vec<Vec<f64>> = vec![vec![0.0; all]; package.nexuses.len()];
    let mut area_km2 = vec![0.0; package.nexuses.len()];
    let mut balance = Balance::default();
    for (s, (own, depth)) in package.subbasins.iter().zip(&runoff) {
        let nexus = at[&s.nexus];
        flow[nexus].iter_mut().zip(own).for_each(|(sum, q)| *sum += q);
        area_km2[nexus] += s.area_km2;
        balance.rain_m3 += settings.rain_mm / 1000.0 * s.area_km2 * 1e6;
        balance.loss_m3 += (settings.rain_mm - depth) / 1000.0 * s.area_km2 * 1e6;
    }
    let next: HashMap<u32, usize> =
        package.flowpaths.iter().enumerate().map(|(at, f)| (f.from, at)).collect();
    let (mut still, mut open) = (Vec::new(), Vec::new());
    for nexus in order {
        let told = &package.nexuses[nexus];
        if told.kind == NexusKind::Storage {
            let pool = told.pool_area_km2.zip(told.spill_width_m).map(|(area, width)| Pool {
                area_m2: area * 1e6,
                spill_width_m: width,
                coefficient: BROAD_CRESTED,
            });
            match pool.and_then(|pool| pool.route(&flow[nexus], step_s)) {
                Some((out, left)) => {
                    flow[nexus] = out;
                    balance.stored_m3 += left;
                }
                None => open.push(told.id),
            }
        }
        let Some(f) = next.get(&told.id).map(|&at| &package.flowpaths[at]) else { continue };
        let channel = Channel {
            length_m: f.length_m,
            slope: if f.length_m > 0.0 { f.drop_m / f.length_m } else { 0.0 },
            roughness: f.roughness,
            bottom_width_m: f.bottom_width_m,
            side_slope: f.side_slope,
        };
        let routed = route_channel(&channel, &flow[nexus], step_s).unwrap_or_else(|| {
            still.push(f.id);
            flow[nexus].clone()
        });
        let to = at[&f.to];
        flow[to].iter_mut().zip(&routed).for_each(|(sum, q)| *sum += q);
        area_km2[to] += area_km2[nexus];
    }
    let nexuses = package.nexuses.iter().zip(&flow).zip(&area_km2).map(|((told, flow), &area_km2)| {
        let within = &flow[..steps];
        let (peak_at, peak) = within
            .iter()
            .copied()
            .enumerate()
            .fold((0, 0.0), |best, (at, q)| if q > best.1 { (at, q) } else { best });
        NexusFlow {
            nexus_id: told.id,
            kind: told.kind,
            name: told.name.clone(),
            area_km2,
            peak_m3s: peak,
            // The middle of the step.
            time_to_peak_h: (peak_at as f64 + 0.5) * step_h,
            volume_m3: within.iter().sum::<f64>() * step_s,
            flow_m3s: within.to_vec(),
        }
    });
    let nexuses: Vec<NexusFlow> = nexuses.collect();
    for (told, flow) in package.nexuses.iter().zip(&flow).filter(|(n, _)| !next.contains_key(&n.id)) {
        debug_assert!(at.contains_key(&told.id));
        balance.outflow_m3 += flow[..steps].iter().sum::<f64>() * step_s;
        balance.under_way_m3 += flow[steps..].iter().sum::<f64>() * step_s;
    }
    Ok(Proof {
        settings: *settings,
        nexuses,
        balance,
        complaints: complaints(package, settings, &still, &open),
    })
}

fn complaints(package: &Package, settings: &Settings, still: &[u32], open: &[u32]) -> Vec<Complaint> {
    let of = |which: &dyn Fn(&SubbasinIn) -> bool| -> Vec<u32> {
        package.subbasins.iter().filter(|s| which(s)).map(|s| s.id).collect()
    };
    let step_h = settings.step_min / 60.0;
    let assumed = settings.assumed_curve_number;
    [
        gathered(format!("sub-basins without a curve number: {assumed} is assumed"), &of(&|s| s.curve_number.is_none())),
        gathered(
            "sub-basins without a time of concentration: their runoff is at the nexus at once",
            &of(&|s| s.tc_h.is_none_or(|tc| tc <= 0.0)),
        ),
        gathered(
            format!("sub-basins whose time of concentration is too short for the time step (above {LONGEST_STEP} of it): their peaks are blurred"),
            &of(&|s| s.tc_h.is_some_and(|tc| tc > 0.0 && step_h > LONGEST_STEP * tc)),
        ),
        gathered("sub-basins without an area", &of(&|s| s.area_km2 <= 0.0)),
        gathered("flowpaths that cannot be routed, as they do not fall or have no section: they pass water on unchanged", still),
        gathered("storages without a surface or a spillway: they pass water on unchanged", open),
    ]
    .into_iter()
    .flatten()
    .collect()
}
